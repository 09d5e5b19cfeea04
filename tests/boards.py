"""Shared parts of the tests of boards: built programs, and the pins of a simulated chip."""

import ast
import random
import shutil
import subprocess
import sys
from collections.abc import Callable, Sequence
from operator import itemgetter
from pathlib import Path

import pytest

import tenuto
from tenuto.firmware.generate import Firmware, make_firmware
from tenuto.protocols.radio.sbus import encode_sbus

EXAMPLES = Path(__file__).parents[1] / "examples/boards"
BOARD = EXAMPLES / "medlar-board.toml"
FLAGS = ["-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic"]
SANITIZED = ["-O1", "-fsanitize=address,undefined", "-fno-sanitize-recover=all"]
needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="no gcc: apt-get install gcc")
needs_chip = pytest.mark.skipif(
    shutil.which("avr-gcc") is None or not Path("/usr/include/simavr").exists(),
    reason="no simulated chip: apt-get install gcc-avr avr-libc libsimavr-dev",
)
needs_arm = pytest.mark.skipif(
    shutil.which("arm-none-eabi-gcc") is None or shutil.which("qemu-system-arm") is None,
    reason="no Cortex-M: apt-get install gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm",
)
# (kind, at ms, pin, level): a pin of the AVR by its number, one of the Cortex-M by its port and bit.
Pins = list[tuple[str, float, int | str, int]]


def built(made: Firmware, folder: Path, flags: Sequence[str] = SANITIZED, compiler: str = "gcc") -> Path:
    made.write(folder)
    program, sources = folder / "replay", [folder / "desktop/replay.c", *folder.glob("*.c")]
    subprocess.run([compiler, *FLAGS, *flags, *map(str, sources), "-o", str(program), "-lm"], check=True)
    return program


def pins_of(out: str) -> Pins:
    rows = [line.split() for line in out.splitlines() if line[:2] in ("P ", "D ")]
    named = {pin: int(pin) if pin.isdigit() else pin for _, _, pin, _ in rows}
    return sorted(((kind, float(at) / 1e3, named[pin], int(level)) for kind, at, pin, level in rows), key=itemgetter(1))


def on_at(pins: Pins, ms: float) -> bool:
    """Return whether a motor is driven at a time: a duty above 0."""
    last = {pin: level for kind, at, pin, level in pins if kind == "D" and at <= ms}
    return any(last.values())


def on_cortex(made: Firmware, folder: Path, events: list[str], change: Callable[[str], str] = lambda text: text) -> str:
    """Build the complete program with a changed main.c, and run it on the simulated board; return its report."""
    made.write(folder)
    program = folder / "cortex-m/board"
    (program / "main.c").write_text(change((program / "main.c").read_text()))
    subprocess.run(["make", "-s", "-C", program, "main.elf"], check=True)
    command: list[str | Path] = [sys.executable, program / "bench.py", program / "main.elf"]
    return subprocess.run(command, input="\n".join(events), capture_output=True, text=True, check=True).stdout


def radio(parts: Sequence[tuple[float, float, float, bool]]) -> list[str]:
    """SBUS bytes, us: (from ms, to ms, the forward stick, held)."""
    events = []
    for since, until, forward, held in parts:
        at = since
        while at < until:
            data = encode_sbus(
                [1500.0, 1500.0 + 512.0 * forward, 1500.0, 1500.0, 2000.0 if held else 1000.0] + [1500.0] * 11
            )
            events += [f"U {1000.0 * at + 120.0 * number:.0f} {byte}" for number, byte in enumerate(data)]
            at += 14.0
    return events


BEGIN = ((20.0, 200.0, 0.0, False), (204.0, 400.0, 0.0, True), (404.0, 1000.0, 1.0, True))


def wired(kind: str) -> tenuto.Profile:
    """Return the board of Medlar with pulses instead of bytes."""
    pins = {"ppm": "line = [4]", "pwm": "line = [4, 5, 6, 7, 8]"}[kind]
    text = BOARD.read_text().replace('kind = "sbus"', f'kind = "{kind}"\n{pins}')
    return tenuto.parse_profile(text.replace("port = ", "file = ").replace("/dev/ttyAMA0", "/dev/gpiochip0"))


def edges(kind: str, pins: Sequence[int | str], late: int = 0) -> list[str]:
    """The same as in `radio`, as pulses at pins: a frame every 20 ms, us late; after 1.9 s a wire is disconnected."""
    events = list[tuple[int, int | str, int]]()
    for ms in range(20, 1000, 20):
        at, pulses = 1000 * ms + late, [1500, 2012 if ms > 404 else 1500, 1500, 1500, 2000 if ms > 204 else 1000]
        for wire, pulse in enumerate(pulses):
            pin, long = (pins[wire], pulse) if kind == "pwm" else (pins[0], 300)
            events += [(at, pin, 1), (at + long, pin, 0)]
            at += pulse
        events += [(at, pins[0], 1), (at + 300, pins[0], 0)] if kind == "ppm" else []
    noise, at = random.Random(2), 1_900_000
    while at < 2_000_000:
        at += noise.randrange(10, 400)
        events.append((at, pins[0], noise.randrange(2)))
    return [f"I {at} {pin} {level}" for at, pin, level in events]


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


# Each result of a computation: an integer of a board has 30 bits and a sign, and a larger one takes memory.
SMALL = """
def _small(number):
    assert not isinstance(number, int) or -(2**30) <= number < 2**30, number
    return number
"""


class Checked(ast.NodeTransformer):
    """Checks each result of two operands."""

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        self.generic_visit(node)
        return ast.Call(ast.Name("_small", ast.Load()), [node], [])


def in_python(
    profile: tenuto.Profile, folder: Path, part: str = "whole", lines: str = "pins"
) -> list[list[str | Path]]:
    """Write a profile's code in MicroPython; return commands that run it: here, with checked integers, and there."""
    make_firmware(profile, language="micropython", part=part, lines=lines).write(folder)
    code = (folder / "robot_board.py").read_text()
    (folder / "here").mkdir()
    shutil.copy(folder / "replay.py", folder / "here")
    (folder / "here/robot_board.py").write_text(SMALL + ast.unparse(Checked().visit(ast.parse(code))))
    commands: list[list[str | Path]] = [[sys.executable, folder / "here/replay.py"]]
    if shutil.which("node") is not None and MICROPYTHON.exists():
        runner = folder / "run.mjs"
        runner.write_text(RUNNER % (MICROPYTHON / "micropython.mjs").as_uri())
        commands.append(["node", runner, folder])
    return commands


# What makes an object in a function of Python. Numbers and addresses of functions are left.
MAKERS = (
    ast.List, ast.Tuple, ast.Dict, ast.Set, ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp, ast.JoinedStr,
    ast.Slice, ast.Starred, ast.keyword, ast.Lambda, ast.Yield, ast.Await, ast.ClassDef, ast.Import, ast.With, ast.Try,
)  # fmt: skip
NUMBERS = {
    "abs",
    "int",
    "float",
    "len",
    "atan2",
    "cos",
    "exp",
    "floor",
    "isfinite",
    "isnan",
    "pow",
    "sin",
    "sqrt",
    "tan",
}


def makers(module: str) -> list[str]:
    """List what the functions of a module make besides numbers, and integers of more than 30 bits."""
    functions = [one for one in ast.parse(module).body if isinstance(one, ast.FunctionDef)]
    known, found = NUMBERS | {one.name for one in functions}, []
    for function in functions:
        nodes = list(ast.walk(function))[1:]
        loops = [node.iter for node in nodes if isinstance(node, ast.For)]  # a range of a loop is no object
        for node in nodes:
            wrong = isinstance(node, (*MAKERS, ast.FunctionDef)) or (
                isinstance(node, ast.Constant) and isinstance(node.value, int) and abs(node.value) >= 2**30
            )
            if isinstance(node, ast.Call):
                wrong = not isinstance(node.func, ast.Name) or node.func.id not in known
                wrong = wrong and not (node in loops and ast.unparse(node.func) == "range")
            found += [f"{function.name}: {ast.unparse(node)}"] if wrong else []
    return found


# The part of a C++ sketch environment that a sketch uses.
SKETCHES = """
#include <stddef.h>
#include <stdint.h>
#define HIGH 1
#define LOW 0
#define INPUT 0
#define OUTPUT 1
#define RISING 3
#define SERIAL_8E2 1
enum { A0 = 14, A1, A2, A3, A4, A5 };
unsigned long millis();
unsigned long micros();
int digitalPinToInterrupt(int);
void attachInterrupt(int, void (*)(), int);
void pinMode(int, int);
void digitalWrite(int, int);
void analogWrite(int, int);
int analogRead(int);
struct Port { void begin(long, int = 0); int available(); int read(); size_t write(const char *, size_t); };
struct Servo { void attach(int); void detach(); bool attached(); void writeMicroseconds(int); };
extern Port Serial, Serial1;
enum { SERIAL_8N1, SERIAL_8N2 };
"""
