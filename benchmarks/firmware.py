"""Generated C against a loop written by hand in C for the same robot, on this computer: ``by_hand.c``.

Both compute the same numbers from the same sticks: their sums are compared. The one by hand has no modes, no texts,
and one reason to stop; the generated one has the whole guard.
"""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory

from tenuto import load_profile
from tenuto.data import shipped
from tenuto.firmware.generate import make_firmware

HERE = Path(__file__).parent
STEPS, ROUNDS = 2_000_000, 5


def main() -> None:
    """Print the ratio."""
    if shutil.which("gcc") is None:
        print("generated C: no gcc here")
        return
    with TemporaryDirectory() as folder:
        make_firmware(load_profile(shipped("medlar.toml"))).write(folder)
        # The flags of the generated desktop program.
        plain = ["gcc", "-O3", "-flto", "-std=c99", str(HERE / "by_hand.c")]
        subprocess.run([*plain, "-o", f"{folder}/hand", "-lm"], check=True)
        more = ["-DGENERATED", f"-I{folder}", f"{folder}/robot_board.c", "-o", f"{folder}/made", "-lm"]
        subprocess.run([*plain, *more], check=True)
        hand, made = ([_run(f"{folder}/{name}") for _ in range(ROUNDS)] for name in ("hand", "made"))
    assert {total for _, total in hand} == {total for _, total in made}, "they do not do the same"
    by_hand, generated = (min(seconds for seconds, _ in one) for one in (hand, made))
    print(f"generated C: {generated / by_hand:.1f} times a loop by hand, {1e9 * generated:.0f} ns a step")


def _run(program: str) -> tuple[float, str]:
    said = subprocess.run([program, str(STEPS)], capture_output=True, text=True, check=True).stdout.split()
    return float(said[0]), said[1]


if __name__ == "__main__":
    main()
