"""The programs of every target compile for any profile, or are refused with a reason."""

import shutil
import subprocess
from pathlib import Path

import pytest
import tomlkit
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st

import tenuto
from boards import FLAGS, SKETCHES, makers, needs_arm, needs_chip
from helpers import examples
from tenuto.firmware.generate import Firmware, make_firmware
from tenuto.profile.text import profile_text
from tenuto.testing.profiles import any_profile

pytestmark = [pytest.mark.long, needs_arm, needs_chip]
# Names that a template, a language or the board uses for other purposes.
_NAMES = st.sampled_from(["get", "items", "int", "vx", "Ä b", "robot", "lamp"])


@st.composite
def board_profile(draw: st.DrawFn) -> tenuto.Profile:
    """Draw a profile with a radio, or with potentiometers instead of the pad, and pins for all its parts."""
    drawn = draw(any_profile())
    bare = drawn.model_copy(update={key: {} for key in ("drivers", "distances", "inhibits", "measured")})
    tables = tomlkit.parse(profile_text(bare))
    if drawn.source.kind == "gamepad":
        columns, checksum = _measured(bare, tables["controls"]), draw(st.booleans())
        tables["source"] = {"kind": "lines", "port": "/dev/ttyACM0", "columns": columns, "checksum": checksum}
    forms = st.sampled_from(["duty", "pulse"])
    tables["actuators"] = {name: {"form": draw(forms), "full": 1.0} for name in bare.plan().chassis.bounds()}
    contact = {"kind": "contact", "control": next(iter(bare.controls))}
    tables.setdefault("outputs", {}).update({name: contact for name in draw(st.lists(_NAMES, max_size=3, unique=True))})
    try:
        return tenuto.parse_profile(tomlkit.dumps(tables))
    except tenuto.ProfileError:
        assume(False)
        raise


def _measured(profile: tenuto.Profile, controls: dict[str, dict[str, object]]) -> list[str]:
    """Set the ends of all controls as for pins that measure; return the columns."""
    columns = list(dict.fromkeys(name for control in profile.plan().controls for name in control.all_reads))
    named = {str(table.get("reads", name)): table for name, table in controls.items()}
    for name in columns:
        table = named.get(name) or controls.setdefault(name, {"reads": name})
        table |= {"low": 0, "high": 1023, "pull": "down"} | ({"centre": 512} if name.endswith(("_x", "_y")) else {})
    return columns


def compiles(made: Firmware, folder: Path) -> None:
    """Check the syntax and the warnings of the program of every target."""
    made.write(folder)
    (folder / "Sketch.h").write_text(SKETCHES)
    (folder / "Servo.h").write_text("")
    commands = [["gcc", *FLAGS, "robot_board.c"], ["gcc", *FLAGS, "desktop/replay.c"]]
    if "avr" not in made.misfits:
        # An int has 16 bits there, which warns of other conversions.
        avr = ["avr-gcc", "-mmcu=atmega328p", "-DF_CPU=16000000UL", "-Os", *FLAGS]
        commands += [[*avr, file] for file in ("avr/main.c", *(path.name for path in folder.glob("*.c")))]
    if "cortex-m/board" not in made.misfits:
        files = [f"cortex-m/board/{name}.c" for name in ("main", "chip")]
        commands.append(["arm-none-eabi-gcc", "-mcpu=cortex-m3", "-mthumb", *FLAGS, *files])
    if "sketch" not in made.misfits:
        sketch = ["-Wall", "-Wextra", "-Werror", "-include", "Sketch.h", "-I.", "-Isketch/src", "-x", "c++"]
        commands.append(["g++", "-std=c++11", *sketch, "sketch/examples/drive/drive.ino"])
    for command in commands:
        done = subprocess.run([*command, "-fsyntax-only"], cwd=folder, capture_output=True, text=True)
        assert done.returncode == 0, f"{' '.join(command)}\n{done.stderr}"


@settings(examples(6), suppress_health_check=list(HealthCheck), phases=[Phase.explicit, Phase.generate])
@given(board_profile(), st.sampled_from(["pins", "serial"]))
def test_every_program_of_any_profile_compiles(
    tmp_path_factory: pytest.TempPathFactory, profile: tenuto.Profile, lines: str
) -> None:
    lines = lines if profile.source.kind == "lines" else "pins"
    for part in ("whole", "sticks", "robot"):
        try:
            made = make_firmware(profile, part=part, lines=lines if part != "robot" else "pins", timed=False)
        except tenuto.TenutoError:
            continue
        python = make_firmware(profile, part=part, language="micropython", lines=lines if part != "robot" else "pins")
        assert all(compile(text, name, "exec") for name, text in python.files.items())
        assert makers(python.files["robot_board.py"]) == [], "a step takes no memory, except for its numbers"
        folder = tmp_path_factory.mktemp("board")
        compiles(made, folder)
        shutil.rmtree(folder)
