"""What the tests of boards share: programs that are built, and the pins of a simulated chip."""

import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

import pytest

import tenuto
from tenuto.firmware.generate import Firmware, make_firmware

EXAMPLES = Path(__file__).parents[1] / "examples/boards"
BOARD = EXAMPLES / "medlar-board.toml"
FLAGS = ["-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic"]
SANITIZED = ["-O1", "-fsanitize=address,undefined", "-fno-sanitize-recover=all"]
needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="no gcc: apt-get install gcc")
needs_chip = pytest.mark.skipif(
    shutil.which("avr-gcc") is None or not Path("/usr/include/simavr").exists(),
    reason="no simulated chip: apt-get install gcc-avr avr-libc libsimavr-dev",
)
Pins = list[tuple[str, float, int, int]]


def built(made: Firmware, folder: Path, flags: Sequence[str] = SANITIZED, compiler: str = "gcc") -> Path:
    made.write(folder)
    program, sources = folder / "replay", [folder / "desktop/replay.c", *folder.glob("*.c")]
    subprocess.run([compiler, *FLAGS, *flags, *map(str, sources), "-o", str(program), "-lm"], check=True)
    return program


def pins_of(out: str) -> Pins:
    rows = [line.split() for line in out.splitlines() if line[:2] in ("P ", "D ")]
    return [(kind, float(at) / 1000.0, int(pin), int(level)) for kind, at, pin, level in rows]


def on_at(pins: Pins, ms: float) -> bool:
    """Whether anything drives at a time: a duty above 0."""
    last = {pin: level for kind, at, pin, level in pins if kind == "D" and at <= ms}
    return any(last.values())


def wired(kind: str) -> tenuto.Profile:
    """The board of Medlar with pulses in the place of bytes."""
    pins = {"ppm": "line = [4]", "pwm": "line = [4, 5, 6, 7, 8]"}[kind]
    text = BOARD.read_text().replace('kind = "sbus"', f'kind = "{kind}"\n{pins}')
    return tenuto.parse_profile(text.replace("port = ", "file = ").replace("/dev/ttyAMA0", "/dev/gpiochip0"))


MICROPYTHON = Path(__file__).parents[1] / "build/micropython/node_modules/@micropython/micropython-webassembly-pyscript"
RUNNER = """
import fs from "node:fs";
import { loadMicroPython } from "%s";
const [folder, offset] = process.argv.slice(2), out = [];
const board = await loadMicroPython({ stdout: (line) => out.push(line), linebuffer: true, heapsize: 4194304 });
for (const name of ["robot_board.py", "replay.py"])
    board.FS.writeFile("/" + name, fs.readFileSync(folder + "/" + name, "utf8"));
board.FS.writeFile("/in.csv", fs.readFileSync(0, "utf8"));
board.runPython("import sys; sys.path.append('/'); import replay; replay.main(iter(open('/in.csv')), " + offset + ")");
process.stdout.write(out.join("\\n") + "\\n");
"""


def in_python(profile: tenuto.Profile, folder: Path) -> list[list[str | Path]]:
    """Write a profile's code in MicroPython; return the commands that run it: this Python, and MicroPython itself."""
    make_firmware(profile, language="micropython").write(folder)
    commands: list[list[str | Path]] = [[sys.executable, folder / "replay.py"]]
    if shutil.which("node") is not None and MICROPYTHON.exists():
        runner = folder / "run.mjs"
        runner.write_text(RUNNER % (MICROPYTHON / "micropython.mjs").as_uri())
        commands.append(["node", runner, folder])
    return commands
