"""From a plan to the code of a microcontroller."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from tenuto.basics.errors import ProfileError
from tenuto.basics.reasons import Code
from tenuto.driving.guard import TABLE, Event, State
from tenuto.driving.limits import within_speeds
from tenuto.driving.plan import Plan, rest_bands
from tenuto.firmware.boards import avr_board, avr_misfit
from tenuto.firmware.naming import Names, quoted
from tenuto.firmware.numbers import literal, ms_above, ms_below
from tenuto.firmware.pieces import environment, piece_file
from tenuto.firmware.refusals import refusals, steps_averaged
from tenuto.profile.profile import Profile
from tenuto.protocols.radio.base import RADIOS
from tenuto.styles.base import Style
from tenuto.vehicles.actuators import Wire
from tenuto.vehicles.base import Arcs, Chassis, Sides
from tenuto.vehicles.velocity import VelocityCommand

AXES = ("VX", "VY", "VZ", "YAW")
# Beside the library, for each target: its folder, and the templates that make its files.
TARGETS = {"desktop": ("replay.c", "Makefile"), "avr": ("main.c", "bench.c", "Makefile")}


@dataclass(frozen=True)
class Firmware:
    """The code of a board.

    Attributes:
        files: path below the folder → text. digest: of the profile that it was made from.
        outputs: what may be read after a step, in the order of the header.
        misfits: target → why there is no program for it.
    """

    files: dict[str, str]
    digest: str
    outputs: tuple[str, ...]
    misfits: dict[str, str]

    def write(self, folder: str | Path) -> list[Path]:
        """Write all files below a folder; return their paths.

        Raises:
            OSError: the folder cannot be written.
        """
        written = []
        for name, text in self.files.items():
            path = Path(folder) / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
            written.append(path)
        return written


def make_firmware(profile: Profile, plan: Plan | None = None, *, real: str = "float") -> Firmware:
    """Make the code of a profile.

    Args:
        profile: what to make it from. plan: the same with what was measured and trimmed; that of the profile if none.
        real: the type that is reckoned in, "float" or "double".

    Raises:
        ProfileError: it has what cannot go to a microcontroller; with the key of each.
        MissingPackageError: Jinja2 is not installed.
    """
    plan = profile.plan() if plan is None else plan
    where = str(profile.file or profile.name)
    wrong = refusals(profile, plan)
    if wrong:
        raise ProfileError(where, wrong)
    made = environment()
    digest = digest_of(plan)
    context = _context(profile, plan, real) | {"digest": digest, "file": quoted(Path(where).name)}
    _add_filters(made, context, real)
    misfits = {name: why for name, why in (("avr", avr_misfit(profile, plan)),) if why}
    if "avr" not in misfits:
        context |= avr_board(profile, plan)
    names = ["robot.h", "robot.c"]
    names += [f"{target}/{file}" for target, files in TARGETS.items() if target not in misfits for file in files]
    files = {name: tidied(made.get_template(f"firmware/c/{name}.j2").render(context)) for name in names}
    return Firmware(files, digest, tuple(context["outputs"]), misfits)


def digest_of(plan: Plan) -> str:
    """Return the digest of a plan: what code that was made from it says of itself."""
    return hashlib.sha256(repr(plan).encode()).hexdigest()[:8]


def tidied(text: str) -> str:
    """Take out spaces at ends of lines, and more than one empty line."""
    lines: list[str] = []
    for line in text.splitlines():
        line = line.rstrip()
        if line or (lines and lines[-1]):
            lines.append(line)
    return "\n".join(lines).rstrip() + "\n"


def axes_of(chassis: Chassis) -> list[str]:
    """Return the axes of a velocity that a vehicle has; ahead and turning are always there."""
    dice = np.random.default_rng(1)
    tries = [chassis.possible(*map(float, dice.normal(size=4))) for _ in range(8)]
    return [
        axis for number, axis in enumerate(AXES) if axis in ("VX", "YAW") or any(abs(one[number]) > 1e-12 for one in tries)
    ]


def _way(way: object) -> str:
    if isinstance(way, Sides):
        return "sides"
    return "arcs" if isinstance(way, Arcs) else str(way)


def _context(profile: Profile, plan: Plan, real: str) -> dict[str, Any]:
    """Gather what the templates need to know, beside the plan itself."""
    g, selection, chassis = plan.guard, plan.selection, plan.chassis
    actuators, axes = list(chassis.bounds()), axes_of(chassis)
    modes = plan.modes
    rates = list(dict.fromkeys(name for control in plan.controls for name in control.rates))
    rates = list(dict.fromkeys([*selection.rates.order, *rates])) if rates else [selection.rates.begin]
    begin_rates = plan.mode.rates if plan.mode.rates is not None else selection.rates.begin
    zoned = {name for stick in plan.sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
    shapes = [shape for control in plan.controls for shape in (control.shape, *control.rates.values())]
    curves = list(dict.fromkeys(s.curve for s in shapes if s.curve is not None and not s.curve.straight))
    shaped_controls = [c.name for c in plan.controls if not all(c.plain_for(name) for name in [*rates, begin_rates]) or c.name in zoned]
    ways = [_way(mode.style.way(mode.speeds) or chassis.ramp_way) for mode in modes]
    chassis_way = _way(chassis.ramp_way)
    if chassis_way in ("straight", "arcs"):
        ways = [chassis_way] * len(modes)
    averaged = steps_averaged(plan)
    plain = all(mode.limits.plain for mode in modes)
    output_plans: dict[str, list[Any]] = {}
    for mode in modes:
        for output in mode.outputs:
            plans = output_plans.setdefault(output.name, [])
            if output in plans:
                plans.remove(output)  # the last one said is the one to begin with
            plans.append(output)
    steering = any(getattr(mode.style, "steering", "") is None or getattr(mode.style, "steering", "") == "counter" for mode in modes)
    getters = list(_getters(plan, axes, actuators, output_plans))
    styles: list[Style] = []
    for mode in modes:
        if mode.style not in styles:
            styles.append(mode.style)
    inputs = list(dict.fromkeys(reads for control in plan.controls for reads in control.all_reads))
    travels = [t for c in plan.controls for t in (c.travel, *([c.minus.travel] if c.minus is not None else []))]
    arrivals = math.ceil(g.least_frame_rate)
    paired = bool((g.hold_to_run and g.hold_to_run_2) or (g.emergency_stop and g.emergency_stop_2))
    return {
        "profile": profile, "plan": plan, "g": g, "real": real, "robot": quoted(profile.name), **_receiver(profile, inputs),
        "inputs": inputs,
        "readers": {
            reads: quoted(", ".join(c.name for c in plan.controls if reads in c.all_reads)) for reads in inputs
        },
        "outputs": [name for name, _ in getters], "getters": getters,
        "units": "m/s and rad/s" if chassis.units.known else "shares of full",
        "states": list(State), "codes": list(Code), "events": list(Event), "table": TABLE,
        "axes": axes, "level_axes": [axis for axis in axes if axis in ("VX", "VY")], "actuators": actuators,
        "many_modes": len(modes) > 1, "rates": rates, "begin_rates": begin_rates,
        "zoned": zoned, "curves": curves, "shaped_controls": shaped_controls, "styles": styles,
        "uses_zone": any((c.dead_zone or c.outer_dead_zone) and c.name not in zoned for c in plan.controls),
        "uses_centre": any(t.centre is not None for t in travels), "uses_end": any(t.centre is None for t in travels),
        "uses_rate_limit": not plain or "sides" in ways or chassis_way == "arcs"
        or any(c.ramp_up or c.ramp_down for c in plan.controls),
        "uses_steering": steering,
        "steering_kinds": ["front", "rear", "counter", "crab"],
        "ways": ways, "arcs": chassis_way == "arcs", "straight": chassis_way == "straight",
        "follows": type(chassis).follows is not Chassis.follows,
        "at_once": type(chassis).actuators is Chassis.actuators,
        "steps_averaged": averaged, "within_speeds": within_speeds, "way_of": _way,
        "output_plans": output_plans, "wires": plan.actuators, "bands": rest_bands(plan),
        "arrivals": arrivals, "paired": paired,
        "stops": [name for name in dict.fromkeys((g.stop, g.emergency_stop, g.emergency_stop_2)) if name],
        "centred": [c for c in plan.controls if c.centre_at_start],
        "centre_numbers": max(12, math.ceil(1.0 / plan.period) + 12),
        "noisy": [c for c in plan.controls if c.noise > 0.0] if math.isfinite(g.frozen_after) else [],
        "at_start_switches": {s.name for s in selection.switches if s.at_start},
        "control_names": {c.name for c in plan.controls},
        "state_texts": [(f"ROBOT_{state.value.upper().replace(' ', '_')}", state.value) for state in State],
        "reason_texts": [(f"ROBOT_WHY_{code.value.upper()}", code.value) for code in Code],
        "axes_of": lambda one: axes, "shares_of": _shares_of, "rows_of": _rows_of,
    }  # fmt: skip


def _receiver(profile: Profile, inputs: list[str]) -> dict[str, Any]:
    """Say which receiver is read, where one is: its protocol, its line, and which of its channels are read."""
    radio = RADIOS.find(profile.source.kind)
    if radio is None or piece_file(radio) is None:
        return {"receiver": "", "radio": None, "channels": []}
    line = f"{radio.baud} baud, 8{radio.parity}{radio.stop_bits}"
    numbers = [(int(name.removeprefix("channel_")), name) for name in inputs]
    return {"receiver": radio.kind, "radio": radio(), "serial_words": line, "channels_read": numbers}


def _getters(plan: Plan, axes: list[str], actuators: list[str], outputs: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """List what may be read after a step: its name, and where it is kept; filled in by `_add_filters`."""
    for field, axis in zip(VelocityCommand._fields, AXES, strict=True):
        yield field, f"command.at[{axis}]" if axis in axes else "0"
    taken = {*VelocityCommand._fields}
    for name in actuators:
        yield (f"actuators.{name}" if name in taken else name), f"actuator[{{actuator:{name}}}]"
    taken.update(actuators)
    for name in outputs:
        yield (f"outputs.{name}" if name in taken else name), f"level_of_{{id:{name}}}"
    for name in Wire(plan.actuators).step(dict.fromkeys((*actuators, *outputs), 0.0)) if plan.actuators else ():
        yield name, f"wire_{{id:{name}}}"


def _shares_of(output: Any, chassis: Any) -> list[float]:
    return [share / full for share, full in zip(output.shares, chassis.full, strict=True)]


def _rows_of(chassis: Any) -> list[list[float]]:
    full = chassis.full
    return [[full[i] * cell / full[j] for j, cell in enumerate(row)] for i, row in enumerate(chassis._projection)]


def _add_filters(made: Any, context: dict[str, Any], real: str) -> None:
    """Add what makes names and numbers of C."""
    names: dict[str, Names] = {}

    def identifier(name: str, of: str = "") -> str:
        return names.setdefault(of, Names()).identifier(name)

    def prefixed(name: str, prefix: str) -> str:
        return f"{prefix}_{identifier(name or 'none', prefix).upper()}"

    made.filters |= {
        "id": identifier,
        "word": lambda word: str(word).upper().replace(" ", "_"),
        "output": lambda name: prefixed(name, "ROBOT_OUT"),
        "action": lambda name: prefixed(name, "ROBOT_DO"),
        "control": lambda name: prefixed(name, "CONTROL"),
        "input": lambda name: prefixed(name, "ROBOT_IN"),
        "switch": lambda name: prefixed(name, "SWITCH"),
        "at": lambda name: f"AT_{prefixed(name, 'SWITCH')}",
        "mode": lambda name: prefixed(name, "MODE"),
        "actuator": lambda name: prefixed(name, "ACTUATOR"),
        "prefixed": prefixed,
        "quoted": quoted,
        "num": lambda value: literal(value, real),
        "num_or_none": lambda value: "" if value is None else literal(value, real),
        "ms_above": ms_above, "ms_below": ms_below, "finite": math.isfinite,
        "module": lambda name: made.get_template(name.replace("firmware/../", "")).module,
    }  # fmt: skip
    made.globals |= {key: context[key] for key in ("axes_of", "shares_of", "rows_of")}

    def filled(where: str) -> str:
        for kind, function in (("actuator", made.filters["actuator"]), ("id", identifier)):
            mark = f"{{{kind}:"
            if mark in where:
                before, _, rest = where.partition(mark)
                name, _, after = rest.rpartition("}")
                return f"{before}{function(name)}{after}"
        return where

    context["getters"] = [(name, filled(where)) for name, where in context["getters"]]
    context["channels"] = [(number, made.filters["input"](name)) for number, name in context.get("channels_read", ())]
    context["output_texts"] = [
        (prefixed(name, "ROBOT_OUT"), quoted(name)) for name in context["outputs"]
    ]
