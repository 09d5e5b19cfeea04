"""The same sticks through two profiles: the differences in curves, commands, paths and figures."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from tenuto.analysis.report import saturated
from tenuto.analysis.sticks import recorded_sticks
from tenuto.analysis.ticks import replay
from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import needs
from tenuto.basics.number import Array
from tenuto.driving.modes import ModePlan
from tenuto.driving.plan import Plan, Planned
from tenuto.driving.stopping import fastest, worst_stop
from tenuto.profile.prepare import prepare_profile
from tenuto.profile.profile import Profile
from tenuto.sim.worst import DrivenRobot, initial_mode
from tenuto.sinks.simulated import SimulatedSink
from tenuto.sticks.control import ControlPlan, Shaper
from tenuto.styles.base import Setting
from tenuto.vehicles.units import METRIC, Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

if TYPE_CHECKING:
    import pandas as pd

AXES = VelocityCommand._fields
# Fine control is the range up to this share of the top speed.
FINE = 0.2
# A reversal of the command by less than this share of the top speed is not counted.
_TURNED = 0.02
# Controls that move an axis by more than this share of the strongest one count as equal.
_ALIKE = 0.9
_POSITIONS = np.linspace(-1.0, 1.0, 401)
_LONGEST = 30.0


@dataclass(frozen=True)
class Comparison:
    """Two profiles driven with the same sticks.

    Attributes:
        names: of the two.
        figures: a row per figure: ``figure``, ``unit``, a column for each profile, ``difference``.
        commands: a row per tick: ``time``, and for each axis its command by each profile, ``vx NAME`` …, and ``vx
            difference`` …; m/s and rad/s.
        curves: a row per position of a stick: ``control``, ``position``, ``profile``, its ``speed`` alone
            in the initial mode, and its ``unit``, m/s or deg/s.
        paths: a row per tick: ``profile``, ``time``, ``x``, ``y``, ``heading``, of the simulated robot; m and rad.
        units: for people. Without measures the paths are unknown, and there are no distances.
    """

    names: tuple[str, str]
    figures: pd.DataFrame
    commands: pd.DataFrame
    curves: pd.DataFrame
    paths: pd.DataFrame
    units: Units = METRIC


def compare(
    sticks: str | Path,
    first: Planned | str | Path,
    second: Planned | str | Path,
    *,
    names: tuple[str, str] = ("A", "B"),
    made_with: Planned | None = None,
) -> Comparison:
    """Drive the same recorded sticks with two profiles.

    The sticks alone drive: other drivers, distance sensors, inhibits and measured speeds are left out.

    Args:
        sticks: a recording of sticks, or a log of a drive.
        first, second: the profiles or their files, or plans made in code. names: of the two in the tables.
        made_with: for a log: the profile that it was driven with. By default the one that was stored with it;
            ``first`` if there is none.

    Raises:
        ProfileError, CalibrationError: a profile, or its calibration, cannot be read.
        RecordingError: the sticks cannot be read.
        SourceError: they lack controls that a profile reads.
        TenutoError: only one of the two vehicles has measures.
    """
    needs("pandas")
    import pandas as pd

    tables, paths, figures = [], [], []
    both = [_prepared(one, sticks) for one in (first, second)]
    units = both[0].plan().chassis.units
    if both[1].plan().chassis.units != units:
        raise TenutoError(f"only one of them has dimensions, so {names[0]} and {names[1]} have no "
                          "unit in common")  # fmt: skip
    if names[0] == names[1]:
        names = (f"{names[0]} (A)", f"{names[1]} (B)")
    for planned, name in zip(both, names, strict=True):
        sink = SimulatedSink()
        table = replay(planned, recorded_sticks(sticks, both[0], made_with), [sink], alone=True).to_frame()
        tables.append(table)
        rows = [(name, point.time, point.x, point.y, point.heading) for point in sink.robot.path]
        paths.append(pd.DataFrame(rows, columns=["profile", "time", "x", "y", "heading"]))
        figures.append(driver_figures(planned.plan()) | _of_drive(table, planned.plan()))
    return Comparison(
        names,
        _figures_table(figures, names, _units_of(units)),
        _commands_table(tables, names),
        pd.concat([_curves(planned.plan(), name) for planned, name in zip(both, names, strict=True)]),
        pd.concat(paths, ignore_index=True),
        units,
    )


def _prepared(what: Planned | str | Path, sticks: str | Path) -> Planned:
    """Apply the calibration of the device that the sticks were recorded with to a profile, if one was stored."""
    return prepare_profile(what, log=sticks) if isinstance(what, (str, Path, Profile)) else what


def _units_of(figures: Units) -> dict[str, str]:
    """Return figure → unit; without measures there are no distances."""
    jerk = "m/s³" if figures.known else "%/s²"
    found = {
        "top speed": figures.speed.name, "top turning speed": figures.turn.name, "from stick to 90 % of speed": "s",
        "stopping distance": "m", "fine control": "% of travel", "reversals": "", "jerk": jerk, "saturated": "s",
        "distance": "m",
    }  # fmt: skip
    return {name: unit for name, unit in found.items() if figures.known or unit != "m"}


def driver_figures(plan: Plan) -> dict[str, float]:
    """Return the figures of a profile that need no drive; in its initial mode.

    ============================ ==================================================================================
    figure                       meaning
    ============================ ==================================================================================
    top speed                    the fastest along the ground in any mode, within the limits of the vehicle
    top turning speed            with the stick that turns at its end and the others at rest, or driving
    from stick to 90 % of speed  the driving stick is pushed to its end within one tick; driven, with all filters
    stopping distance            the longest from any velocity, after a release of hold-to-run; command only, no lag
    fine control                 the share of the stick's travel, beyond its dead zone, for up to 20 % of its top speed
    ============================ ==================================================================================

    The driving stick is the one that moves it ahead most; both sticks of a tank, which are pushed together.
    """
    mode, units = plan.mode, plan.chassis.units
    forward, turn = strongest(plan, mode, 0), strongest(plan, mode, 3)
    found = {"top speed": units.speed.scale * fastest(plan)}
    turning = abs(asked_alone(plan, mode, turn[0], 1.0).yaw_rate) if turn else 0.0
    found["top turning speed"] = units.turn.scale * turning
    if forward:
        found["from stick to 90 % of speed"] = _time_to_speed(plan, forward)
        speeds = np.array([abs(asked_together(plan, mode, forward, position).vx) for position in _POSITIONS[200:]])
        slow = (speeds > 0.0) & (speeds <= FINE * speeds.max())
        found["fine control"] = 100.0 * float(slow.mean())
    found["stopping distance"] = _stopping_distance(plan)
    return found


def strongest(plan: Plan, mode: ModePlan, axis: int) -> list[ControlPlan]:
    """Return the controls that move one axis most by themselves, such as both sticks of a tank; empty if none does.

    If none does with the others at rest, the first control of the style is put at its end.
    """
    driving = [control for control in plan.controls if control.name in mode.style.controls()]
    for first in (0.0, 1.0):
        ends = {one.name: [_asked(plan, mode, one, end, first)[axis] for end in (0.0, 1.0)] for one in driving}
        moved = {name: abs(end - rest) for name, (rest, end) in ends.items()}
        most = max(moved.values(), default=0.0)
        if most > 0.0:
            return [control for control in driving if moved[control.name] > _ALIKE * most]
    return []


def asked_alone(plan: Plan, mode: ModePlan, control: ControlPlan, position: float) -> VelocityCommand:
    """Return the demand of one control at a position while the others rest; if that is nothing, while driving."""
    asked = _asked(plan, mode, control, position, 0.0)
    return asked if asked != STANDSTILL else _asked(plan, mode, control, position, 1.0)


def asked_together(plan: Plan, mode: ModePlan, controls: list[ControlPlan], position: float) -> VelocityCommand:
    """Return the demand while controls that do the same, as both sticks of a tank, are pushed alike."""
    if len(controls) == 1:
        return asked_alone(plan, mode, controls[0], position)
    return _at(plan, mode, dict.fromkeys((control.name for control in controls), position))


def _asked(plan: Plan, mode: ModePlan, control: ControlPlan, position: float, first: float) -> VelocityCommand:
    """Return the demand of one control at a position, with the first of the style at another and the rest at rest."""
    return _at(plan, mode, {mode.style.controls()[0]: first, control.name: position})


def _at(plan: Plan, mode: ModePlan, pushed: dict[str, float]) -> VelocityCommand:
    """Return the demand of some controls at their positions, with the others at rest."""
    positions = {one.name: 0.0 for one in plan.controls} | pushed
    rates = mode.rates or plan.selection.rates.begin
    plain = tuple(_without_memory(one) for one in plan.controls)
    shaped = Shaper(plain, plan.sticks).step(positions, 1.0, rates)
    asked = mode.style.demand(mode.style.intent(shaped), mode.speeds, Setting(), shaped)
    return plan.within_reach(asked)


def _without_memory(control: ControlPlan) -> ControlPlan:
    return replace(control, hysteresis=0.0, smoothing=0.0, ramp_up=0.0, ramp_down=0.0, spike_filter=False)


def _time_to_speed(plan: Plan, sticks: list[ControlPlan]) -> float:
    """Push sticks to their ends within one tick; return the time to 90 % of the final speed, s.

    It is driven in the initial mode; NaN if it cannot be.
    """
    resting = DrivenRobot.driven(initial_mode(plan), {}, rolls=False)
    if resting is None or resting.tick is None:
        return math.nan
    way = {control.name: 1.0 for control in sticks}
    pushed, at_end = resting.copied(), resting.copied()
    if not at_end.turn(way) or at_end.tick is None:
        return math.nan
    pushed.way = way
    enough, seconds = 0.9 * abs(at_end.tick.command.vx), 0.0
    while seconds < _LONGEST:
        seconds += plan.period
        if abs(pushed.step().command.vx) >= enough:
            break
    return seconds


def _stopping_distance(plan: Plan) -> float:
    """Of a stop of the guard, from the velocity of any mode with the longest distance."""
    return worst_stop(plan).metres


def _of_drive(table: pd.DataFrame, plan: Plan) -> dict[str, float]:
    """Return the figures of one drive."""
    vx, dt = table["command.vx"].to_numpy(), plan.period
    speed = np.hypot(vx, table["command.vy"])
    jerk = np.diff(vx, 2) / dt**2
    return {
        "reversals": float(reversals(vx, _TURNED * max(fastest(plan), 1e-9))),
        "jerk": plan.chassis.units.speed.scale * float(np.sqrt(np.mean(jerk**2))) if len(jerk) else 0.0,
        "saturated": float(table["dt"].to_numpy()[saturated(table)].sum()),
        "distance": float((speed * table["dt"]).sum()),
    }


def reversals(values: Array, least: float) -> int:
    """Count the reversals by more than ``least``: from growing to shrinking, or back."""
    count, direction = 0, 0
    extreme = float(values[0]) if len(values) else 0.0
    for value in values:
        if (direction >= 0 and value > extreme) or (direction <= 0 and value < extreme):
            if direction == 0 and abs(value - extreme) >= least:
                direction = 1 if value > extreme else -1
            if direction != 0:
                extreme = float(value)
        elif direction != 0 and value != extreme and abs(value - extreme) >= least:
            count, direction, extreme = count + 1, -direction, float(value)
    return count


def _figures_table(figures: list[dict[str, float]], names: tuple[str, str], units: dict[str, str]) -> pd.DataFrame:
    import pandas as pd

    rows = []
    for figure, unit in units.items():
        both = [found.get(figure, math.nan) for found in figures]
        rows.append((figure, unit, *both, both[1] - both[0]))
    return pd.DataFrame(rows, columns=["figure", "unit", *names, "difference"])


def _commands_table(tables: list[pd.DataFrame], names: tuple[str, str]) -> pd.DataFrame:
    """Put the commands side by side, on the ticks of the first; the loop rates of the profiles may differ."""
    import pandas as pd

    time = tables[0]["time"].to_numpy()
    columns = {"time": time}
    for axis in AXES:
        both = [np.interp(time, table["time"], table[f"command.{axis}"]) for table in tables]
        columns |= {f"{axis} {name}": values for name, values in zip(names, both, strict=True)}
        columns[f"{axis} difference"] = both[1] - both[0]
    return pd.DataFrame(columns)


def _curves(plan: Plan, name: str) -> pd.DataFrame:
    """Return the demand of each driving control over its travel."""
    import pandas as pd

    mode, parts = plan.mode, []
    for control in plan.controls:
        if control.name not in mode.style.controls():
            continue
        asked = np.array([asked_alone(plan, mode, control, float(position)) for position in _POSITIONS])
        axis = int(np.ptp(asked, axis=0).argmax())
        unit, scale = plan.chassis.units.of(AXES[axis])
        parts.append(pd.DataFrame({
            "control": control.name, "position": _POSITIONS, "profile": name, "speed": scale * asked[:, axis],
            "unit": unit,
        }))  # fmt: skip
    return pd.concat(parts, ignore_index=True)
