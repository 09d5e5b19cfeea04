"""Generated C against a loop written by hand in C for the same robot, on this computer: ``by_hand.c``.

Both compute the same numbers from the same sticks: their sums are compared. The one by hand has no modes, no texts,
and one reason to stop; the generated one has the whole guard.
"""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory

from tenuto import load_profile
from tenuto.data import shipped
from tenuto.firmware.generate import make_firmware

HERE = Path(__file__).parent
STEPS, ROUNDS = 1_000_000, 20


def main() -> None:
    """Print the ratio, and the sizes on a small chip."""
    on_the_avr()
    if shutil.which("gcc") is None:
        print("generated C: no gcc here")
        return
    with TemporaryDirectory() as folder:
        make_firmware(load_profile(shipped("medlar.toml"))).write(folder)
        flags = re.search(r"^CFLAGS \?= (.*)$", Path(folder, "desktop/Makefile").read_text(), re.MULTILINE)
        assert flags is not None, "the flags of the generated desktop program"
        plain = ["gcc", *flags[1].split(), "-std=c99", str(HERE / "by_hand.c")]
        subprocess.run([*plain, "-o", f"{folder}/hand", "-lm"], check=True)
        more = ["-DGENERATED", f"-I{folder}", f"{folder}/robot_board.c", "-o", f"{folder}/made", "-lm"]
        subprocess.run([*plain, *more], check=True)
        # In turns: the speed of a machine with other users changes within seconds.
        rounds = [(_run(f"{folder}/hand"), _run(f"{folder}/made")) for _ in range(ROUNDS)]
        hand, made = zip(*rounds, strict=True)
    assert {total for _, total in hand} == {total for _, total in made}, "they do not do the same"
    by_hand, generated = (min(seconds for seconds, _ in one) for one in (hand, made))
    print(f"generated C: {generated / by_hand:.2f} times a loop by hand, {1e9 * generated:.0f} ns a step")


# The board of Medlar, and the hand-held sender: the profile, its part, and the bytes of flash and RAM it may take.
_ON_THE_AVR = (
    ("medlar-board", "whole", 16384, 900),
    ("medlar-board", "robot", 10240, 500),
    ("sender", "sticks", 10240, 500),
)


def on_the_avr() -> None:
    """Print the size of the complete programs for an ATmega328P."""
    if shutil.which("avr-gcc") is None:
        print("ATmega328P: no avr-gcc here")
        return
    for name, part, flash, ram in _ON_THE_AVR:
        with TemporaryDirectory() as folder:
            make_firmware(load_profile(HERE.parent / f"examples/boards/{name}.toml"), part=part).write(folder)
            subprocess.run(["make", "-s", "-C", f"{folder}/avr", "main.elf"], check=True, capture_output=True)
            said = subprocess.run(["avr-size", f"{folder}/avr/main.elf"], capture_output=True, text=True, check=True)
        text, data, bss = map(int, said.stdout.splitlines()[1].split()[:3])
        print(f"ATmega328P, {name}, {part}: {text + data} bytes of flash of {flash}, {data + bss} of RAM of {ram}")


def _run(program: str) -> tuple[float, str]:
    said = subprocess.run([program, str(STEPS)], capture_output=True, text=True, check=True).stdout.split()
    return float(said[0]), said[1]


if __name__ == "__main__":
    main()
