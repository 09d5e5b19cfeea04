"""From a plan to the code of a microcontroller."""

from __future__ import annotations

import math
import re
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from tenuto.basics.errors import ProfileError, TenutoError
from tenuto.basics.reasons import Code
from tenuto.data import shipped_code
from tenuto.driving.follow import CLEAR, EMERGENCY, line_plan
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.selection import SelectionPlan
from tenuto.files import MOST_TOML, UnreadableError, read_bytes, write_atomically
from tenuto.firmware.boards import board_of, misfits, no_main
from tenuto.firmware.c_text import MASKS, UnknownCodeError
from tenuto.firmware.cortex import cortex_misfit, cortex_of
from tenuto.firmware.facts import facts_of, what_is_read
from tenuto.firmware.hearing import hearing_of, wrong_hearing
from tenuto.firmware.naming import Names, quoted
from tenuto.firmware.numbers import NEVER_MS, SMALL_NEVER_MS, literal, ms_above, ms_below
from tenuto.firmware.pieces import environment, late
from tenuto.firmware.refusals import refusals, too_many_outputs
from tenuto.firmware.step_time import longest_step
from tenuto.firmware.to_python import to_python
from tenuto.profile.profile import Profile

_CORTEX = "cortex-m/board"
# Beside the library, for each target: its folder, and the templates of its files.
TARGETS = {
    "desktop": ("replay.c", "Makefile"),
    "avr": ("main.c", "bench.c", "Makefile"),
    "cortex-m": ("start.c", "board.ld", "Makefile"),
    _CORTEX: ("main.c", "chip.h", "chip.c", "chip.ld", "bench.py", "Makefile"),
    "sketch": ("library.properties", "drive.ino"),
}
# The mark of every generated file; no file written by hand has it.
_MADE = "ade by tenuto firmware from"
# The reader of velocity lines, shipped for those who write the rest by hand.
_LINE_FILES = ("velocity_line.h", "velocity_line.c")


@dataclass(frozen=True)
class Firmware:
    """The code of a board.

    Attributes:
        files: path below the folder → text. digest: of the plan.
        inputs, outputs: what is set before a step, and what can be read after it, in the order of the header.
        misfits: target → why there is no program for it.
        longest_step: how long a step takes at most on an ATmega328P at 16 MHz, s; NaN if it was not computed.
    """

    files: dict[str, str]
    digest: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    misfits: dict[str, str]
    longest_step: float = math.nan

    def write(self, folder: str | Path) -> list[Path]:
        """Write all files below a folder; return their paths.

        Programs for a target that this profile does not fit, made there before, are removed: they belong to
        another profile than the code beside them.

        Raises:
            OSError: the folder cannot be written.
        """
        for name in self.misfits:
            for path in (Path(folder) / name).glob("**/*"):
                with suppress(UnreadableError):  # it is none of ours
                    if _MADE.encode() in read_bytes(path, MOST_TOML):
                        path.unlink()
        written = []
        for name, text in self.files.items():
            path = Path(folder) / name
            path.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(path, text)
            written.append(path)
        return written


def make_firmware(
    profile: Profile,
    plan: Plan | None = None,
    *,
    language: str = "c",
    part: str = "whole",
    real: str = "float",
    lines: str = "pins",
    timed: bool = True,
) -> Firmware:
    """Make the code of a profile.

    Args:
        profile: of the robot. plan: with what was measured and trimmed; by default that of the profile.
        language: "c" or "micropython".
        part: "whole", sticks to wheels on one board; "sticks", a sender that writes velocity lines to another board;
            "robot", the board that hears them.
        real: the type of the computation, "float" or "double"; of C only, as MicroPython has that of its board.
        lines: for a source of the kind "lines": "pins", whose voltages are its columns, or "serial", which reads lines.
        timed: compute the longest step, and refuse the programs for an AVR if it does not fit into a period. It takes
            some seconds.

    Raises:
        ProfileError: it has settings that cannot go to a microcontroller; with the key of each.
        TenutoError: MicroPython has no choice of type.
        MissingPackageError: Jinja2 is not installed, or pycparser.
    """
    plan = own = profile.plan() if plan is None else plan
    line_outputs = plan.output_names()
    where = str(profile.file or profile.name)
    if language == "micropython" and real != "float":
        raise TenutoError(f"{where}: MicroPython has the float of its board: leave out --real, or make it in C")
    if part == "robot":
        plan = line_plan(plan)
    wrong = [
        *refusals(profile, plan, real, own),
        *wrong_hearing(profile, plan, part, lines),
        *(too_many_outputs(line_outputs) if part != "whole" else ()),
    ]
    if wrong:
        raise ProfileError(where, wrong)
    digest = plan.digest()
    if part == "robot":
        plan = _without_stops(plan)
    import tenuto  # not above: it imports everything

    hearing = hearing_of(profile, plan, part, lines)
    context = facts_of(profile, plan, hearing) | {
        "line_outputs": line_outputs,
        # The controls of a line that are numbers on both sides of 0.
        "numbers": [one for one in plan.controls if one.travel.centre == 0.0] if part == "robot" else [],
        "line_size": 40 if part == "robot" else 47 + 6 * len(line_outputs),
        "language": language,
        # An older time counts as this old; the next look at all times is a minute later.
        "long_ago": SMALL_NEVER_MS - 2**20 if language == "micropython" else 2**30,
        "time_mask": MASKS["uint32_t"],
        "time_half": hex(SMALL_NEVER_MS),
        "real": real,
        "part": part,
        "digest": digest,
        "version": tenuto.__version__.partition(".dev")[0],
        "file": quoted(Path(where).name),
        "profile_lines": [line.replace("*/", "* /") for line in profile.text().splitlines()],
    }
    made = environment()
    # A board in MicroPython may have either; the rounding of a float is accepted.
    words = _Words("double", SMALL_NEVER_MS) if language == "micropython" else _Words(real)
    made.filters |= {name: late(one) for name, one in words.filters().items()}
    made.filters["module"] = late(lambda name: made.get_template(name).module)
    made.globals |= {key: context[key] for key in ("axes_of", "shares_of", "rows_of", "n")}
    context |= words.texts(plan, context)
    wrong_for = _misfits(profile, plan, part, hearing)
    longest, context["too_long"] = math.nan, ""
    if timed and language != "micropython" and not {"avr", "sketch"} <= wrong_for.keys():
        longest = _longest(made, context, plan)
        if longest > plan.period:
            context["too_long"] = _too_long(longest, plan.period)
            wrong_for.setdefault("avr", context["too_long"])
    context |= _pins(profile, plan, part, hearing, wrong_for)
    names = ["robot_board.h", "robot_board.c"]
    names += [f"{target}/{file}" for target, files in TARGETS.items() if target not in wrong_for for file in files]
    if language == "micropython":
        why = no_main(profile, plan, part, hearing)
        files = _in_python(made, context, "" if why else "main.py")
        return Firmware(
            files, digest, tuple(context["inputs"]), tuple(context["outputs"]), {"main.py": why} if why else {}
        )
    files = {name: tidied(made.get_template(f"firmware/c/{name}.j2").render(context)) for name in names}
    files["robot_board.c"] = without_unused_times(files["robot_board.c"])
    if part == "robot":
        files |= {name: shipped_code(name).read_text(encoding="utf-8") for name in _LINE_FILES}
    if "sketch" not in wrong_for:
        files = as_library(files)
    return Firmware(files, digest, tuple(context["inputs"]), tuple(context["outputs"]), wrong_for, longest)


def _longest(made: Any, context: dict[str, Any], plan: Plan) -> float:
    """Return how long a step takes at most on an ATmega328P, s; NaN if its C cannot be translated to be driven."""
    outputs = context["outputs"]
    wires = [outputs.index(name) for name in context["wire_names"]]
    try:
        module = _in_python(made, context, "")["robot_board.py"]
    except UnknownCodeError:  # a kind of the builder's own may have any C
        return math.nan
    return longest_step(module, plan, list(context["inputs"]), wires, context["part"])


def _too_long(longest: float, period: float) -> str:
    return (
        f"loop.rate: a step takes up to {1000.0 * longest:.1f} ms on an ATmega328P at 16 MHz, and the period is "
        f"{1000.0 * period:g} ms: {math.floor(1.0 / longest)} Hz at most"
    )


def _without_stops(plan: Plan) -> Plan:
    """Leave out the emergency stop and the reset of a plan for a link: a velocity line carries neither."""
    return replace(
        plan,
        controls=tuple(control for control in plan.controls if control.name not in (EMERGENCY, CLEAR)),
        guard=replace(plan.guard, emergency_stop=None, reset=None),
        selection=SelectionPlan(),
    )


def _pins(profile: Profile, plan: Plan, part: str, hearing: Any, wrong_for: dict[str, str]) -> dict[str, Any]:
    """Describe the pins of the boards that this profile fits."""
    context: dict[str, Any] = {}
    if _CORTEX not in wrong_for:
        context |= cortex_of(profile, plan, part, hearing)
    if not {"avr", "sketch"} <= wrong_for.keys() or not no_main(profile, plan, part, hearing):
        context |= board_of(profile, plan, part, hearing)
    return context


def _misfits(profile: Profile, plan: Plan, part: str, hearing: Any) -> dict[str, str]:
    """Describe the targets for which a profile has no program, and why: target → reason."""
    wrong = cortex_misfit(profile, plan, part, hearing)
    return misfits(profile, plan, part, hearing) | ({_CORTEX: wrong} if wrong else {})


def _in_python(made: Any, context: dict[str, Any], main: str) -> dict[str, str]:
    """Return the files of MicroPython: the C, translated to that language."""
    context = context | {"real": "double"}
    header, code = (made.get_template(f"firmware/c/robot_board.{end}.j2").render(context) for end in ("h", "c"))
    if context["part"] == "robot":
        line_header, line_code = (shipped_code(name).read_text(encoding="utf-8") for name in _LINE_FILES)
        code = f"{line_header}\n{code}\n{line_code}"
    context["body"] = to_python(header, without_unused_times(code))
    names = ["robot_board.py", "replay.py", *([main] if main else [])]
    return {name: tidied(made.get_template(f"firmware/micropython/{name}.j2").render(context), 2) for name in names}


def as_library(files: dict[str, str]) -> dict[str, str]:
    """Put a copy of the code into the library of a sketch, and its sketch into the examples."""
    moved = {"sketch/drive.ino": "sketch/examples/drive/drive.ino"}
    copied = {f"sketch/src/{name}": text for name, text in files.items() if "/" not in name}
    return {moved.get(name, name): text for name, text in files.items()} | copied


def without_unused_times(code: str) -> str:
    """Remove the times that nothing in the code of a profile uses: each takes four bytes of RAM."""
    used = Counter(re.findall(r"\bAT_\w+", code))
    return re.sub(r"^ *(AT_\w+),\n", lambda line: line[0] if used[line[1]] > 1 else "", code, flags=re.MULTILINE)


def tidied(text: str, empty: int = 1) -> str:
    """Remove spaces at ends of lines, and surplus empty lines; a Makefile keeps its tabs."""
    lines: list[str] = []
    for line in text.splitlines():
        line = line.rstrip()
        if line or (lines and any(lines[-empty:])):
            lines.append(line)
    return "\n".join(lines).rstrip() + "\n"


class _Words:
    """Names and numbers of C: one set of each, so that the same name is the same everywhere."""

    def __init__(self, real: str, never: int = NEVER_MS) -> None:
        self._real, self._never, self._names = real, never, dict[str, Names]()

    def identifier(self, name: str, of: str = "") -> str:
        """Return the identifier of a name, among those of one kind."""
        return self._names.setdefault(of, Names()).identifier(name)

    def prefixed(self, name: str, prefix: str) -> str:
        """Return an enumerator."""
        return f"{prefix}_{self.identifier(name or 'none', prefix).upper()}"

    def filters(self) -> dict[str, Any]:
        """Return the filters of the templates for names and numbers."""

        def enumerator(prefix: str) -> Any:
            return lambda name: self.prefixed(name, prefix)

        prefixes = {"control": "CONTROL", "switch": "SWITCH", "mode": "MODE", "actuator": "ACTUATOR", "wire": "WIRE",
                    "input": "ROBOT_IN", "output": "ROBOT_OUT", "action": "ROBOT_DO"}  # fmt: skip
        return {kind: enumerator(prefix) for kind, prefix in prefixes.items()} | {
            "id": self.identifier, "prefixed": self.prefixed,
            "at": lambda name: f"AT_{self.prefixed(name, 'SWITCH')}",
            "word": _word, "quoted": quoted, "finite": math.isfinite,
            "num": lambda value: literal(value, self._real),
            "num_or_none": lambda value: "" if value is None else literal(value, self._real),
            "ms_above": lambda seconds: ms_above(seconds, self._never),
            "ms_below": lambda seconds: ms_below(seconds, self._never),
        }  # fmt: skip

    def texts(self, plan: Plan, context: dict[str, Any]) -> dict[str, Any]:
        """Return the outputs with their places, the texts in flash, and the channels of a receiver."""
        kept = {
            "command": lambda name: f"command.at[{name}]" if name else "0",
            "level": lambda name: f"level_of_{self.identifier(name)}",
        }
        read = list(what_is_read(plan, context["axes"], context["output_plans"]))
        return {
            "outputs": [name for name, _, _ in read],
            "getters": [(name, kept[kind](there)) for name, kind, there in read if kind in kept],
            "first_actuator": next(name for name, kind, _ in read if kind == "actuator"),
            "wire_names": [name for name, kind, _ in read if kind == "wire"],
            "output_texts": [(self.prefixed(name, "ROBOT_OUT"), quoted(name)) for name, _, _ in read],
            "state_texts": [(f"ROBOT_{_word(state)}", state.value) for state in State],
            "reason_texts": [(f"ROBOT_WHY_{_word(code)}", code.value) for code in Code],
            "channels": [(number, self.prefixed(name, "ROBOT_IN")) for number, name in context["channels"]],
        }


def _word(word: str) -> str:
    return str(word).upper().replace(" ", "_")
