"""What the tests of boards share: programs that are built, and the pins of a simulated chip."""

import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

import tenuto
from tenuto.firmware.generate import Firmware

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
