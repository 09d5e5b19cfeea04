"""Ticks and summaries in words, for a terminal."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import TYPE_CHECKING

import typer

from tenuto.basics.frame import Signal
from tenuto.driving.guard import State
from tenuto.driving.selection import Chosen
from tenuto.driving.tick import Tick
from tenuto.vehicles.base import Quantity
from tenuto.vehicles.units import Units
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

if TYPE_CHECKING:
    from tenuto.analysis.stops import Stop
    from tenuto.analysis.summary import DriveSummary
    from tenuto.kinds.quantities import Dimension
    from tenuto.runtime import DriveReport
    from tenuto.sim.truth_rows import TruthRow
    from tenuto.vehicles.base import Chassis


def command_in_words(command: VelocityCommand, units: Units) -> str:
    """Describe a command: ``0.84 m/s forward, 12 deg/s to the left``; parts that round to 0 are left out."""
    if command == STANDSTILL:
        return "standing still"
    vx, vy, vz, yaw_rate = command
    x, y, z = (units.speed.shown(abs(axis)) for axis in command[:3])
    turn, way = units.turn.shown(abs(yaw_rate), ".0f"), "left" if yaw_rate > 0 else "right"
    parts = [
        (f"{x} {'forward' if vx > 0 else 'backward'}", abs(vx) >= 0.005),
        (f"{y} sideways to the {'left' if vy > 0 else 'right'}", abs(vy) >= 0.005),
        (f"{'climbing' if vz > 0 else 'sinking'} at {z}", abs(vz) >= 0.005),
        (f"{turn} to the {way}" if units.known else f"turning {turn} to the {way}",
         abs(yaw_rate * units.turn.scale) >= 0.5),
    ]  # fmt: skip
    return ", ".join(words for words, counts in parts if counts) or "barely moving"


def chosen_in_words(chosen: Chosen) -> str:
    """Describe the selection, if there is a choice: ``[slow, fine, 50 %] ``."""
    words = [word for word in (chosen.mode, chosen.rates) if word]
    if chosen.level != 1.0:
        words.append(f"{100 * chosen.level:.0f} %")
    return f"[{', '.join(words)}] " if words else ""


def signal_in_words(signal: Signal) -> str:
    """Describe the quality of the link: ``link 97 %, −63 dBm``."""
    return f"link {signal.quality:.0f} %, {signal.rssi:.0f} dBm"


def tick_in_words(tick: Tick, units: Units) -> str:
    """Describe what moves, or why nothing does, in one line; the status of the source is in brackets."""
    state, frame = tick.guard.state, tick.frame
    aside = [tick.driver] if tick.hands else []
    aside += [command_in_words(tick.command, units)] if state is State.STOPPING else []
    if frame is not None:
        aside += [frame.note] if frame.note and frame.link_good else []
        aside += [signal_in_words(frame.signal)] if frame.signal is not None else []
    head = f"{tick.state} ({'; '.join(aside)})" if aside else tick.state
    head = f"{chosen_in_words(tick.chosen)}{head}"
    if state is State.DRIVING:
        told = [*(f"{name}!" for name in tick.actions), *(notice.text for notice in tick.notices)]
        return "; ".join([f"{head}: {command_in_words(tick.command, units)}", *told])
    told = [*(f"{name}!" for name in tick.actions), *(reason.text for reason in (*tick.guard.reasons, *tick.notices))]
    return f"{head}: {'; '.join(told)}"


def stop_in_words(stop: Stop, seconds: float, metres: float) -> str:
    """Describe one stop of the guard in one line, with the seconds and metres until the robot stood."""
    if not stop.was_moving:
        return f"at {stop.time:.2f} s, standing: {stop.reasons}"
    then = "never enabled again" if stop.until is None else f"re-enabled at {stop.until:.2f} s"
    return f"at {stop.time:.2f} s: {stop.reasons}; stood {seconds:.2f} s and {metres:.2f} m later, {then}"


def summary_as_json(summary: DriveSummary) -> dict[str, object]:
    """Return a summary as plain data; SI units, and the stops with their titles."""
    data = asdict(summary)
    data["stops"] = [{**asdict(stop), "title": stop.title} for stop in summary.stops]
    return data


def report_in_words(report: DriveReport) -> str:
    """Describe the statistics of the loop."""
    slow = f", {report.over_budget_ticks} took longer than their period" if report.over_budget_ticks else ""
    return (
        f"Stopped: {report.ended}. {report.ticks} ticks in {report.seconds:.1f} s, {report.late_ticks} late, "
        f"{report.skipped_ticks} skipped{slow}; at most {report.worst_lateness * 1000:.1f} ms late, "
        f"the longest took {report.worst_tick * 1000:.1f} ms."
    )


def quantity_of(text: str | None, dimension: Dimension, option: str) -> float | None:
    """Read a quantity with its unit, above 0. Raises `typer.BadParameter`."""
    from tenuto.kinds.quantities import parse_quantity

    if text is None:
        return None
    try:
        return parse_quantity(text, dimension)
    except ValueError as error:
        raise typer.BadParameter(f'{error}; found "{text}"', param_hint=option) from None


def named_texts(texts: list[str], option: str) -> dict[str, str]:
    """Read ``NAME=SOURCE``, given several times. Raises `typer.BadParameter`, naming the option."""
    pairs = [text.partition("=") for text in texts]
    for text, (name, _, source) in zip(texts, pairs, strict=True):
        if not name or not source:
            raise typer.BadParameter(f'expected NAME=SOURCE, found "{text}"', param_hint=option)
    return {name: source for name, _, source in pairs}


def truth_in_words(row: TruthRow, chassis: Chassis) -> tuple[str, str, str, str]:
    """Describe a row of a truth table: mode, control, position, and the motion of the robot and its parts.

    Wheels that all do the same are described once, and parts that stand are left out.
    """
    name = row.reads if row.control == row.reads else f"{row.control} ({row.reads})"
    where = f"{name}, {row.how}" if row.how else f"{name} at {row.raw:g}"
    if row.second is not None:
        where = f"{row.control} at {row.raw:g}, {row.second.control} at {row.second.raw:g}"
    robot = command_in_words(row.command, chassis.units) if row.actuators else ", ".join(row.does)
    bounds, groups = chassis.bounds(), dict[Quantity, dict[str, float]]()
    for actuator, value in row.actuators.items():
        groups.setdefault(bounds[actuator].quantity, {})[actuator] = value
    parts = [_actuators_in_words(quantity, values) for quantity, values in groups.items()]
    parts += [f"{output} {level:g}" for output, level in row.outputs.items()]
    return row.mode, where, robot, "; ".join(part for part in parts if part)


def _actuators_in_words(quantity: Quantity, values: Mapping[str, float]) -> str:
    if quantity in (Quantity.SPEED, Quantity.TURN_SPEED):
        return ""  # the robot's own velocity
    shown = quantity.shown
    digits = 2 if quantity is Quantity.SHARE else 1 if quantity.unit != "rad/s" else None
    rounded = {name: round(value * shown.scale, digits) + 0.0 for name, value in values.items()}
    unit = f" {shown.name}".rstrip()
    if not any(rounded.values()):
        return ""
    if len(set(rounded.values())) == 1 and len(rounded) > 1:
        return f"all {quantity.group} {next(iter(rounded.values())):+g}{unit}"
    return ", ".join(f"{name} {value:+g}" if value else f"{name} 0" for name, value in rounded.items()) + unit
