"""A complete measurement: from the frames of a person who released all, went to the ends, and released again."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, TypeAlias

import numpy as np

from tenuto.basics.findings import WARNING, Finding, Severity
from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.basics.number import Array
from tenuto.calibration.statistics import (
    count_visits,
    dirty_spots,
    end_by_dwell,
    recommended_dead_zone,
    rest_statistics,
    resting_kind,
    returns,
    smallest_step,
    smoothed,
    switch_positions,
    travel_shape,
)
from tenuto.calibration.store import Calibration, ControlCalibration

# The measurement begins with hands off for this time, s.
REST_SECONDS = 2.0
FEWEST_RETURNS, FEWEST_VISITS, FEWEST_STEPS = 4, 2, 50
WIDEST_DEAD_ZONE = 0.12
# Where the zero of a control is that stays where it is left.
Zero: TypeAlias = Literal["low", "middle"]


@dataclass(slots=True)
class ControlMeasurement:
    """The measurement of one control; raw numbers unless said otherwise.

    Attributes:
        moved: whether it was moved at all; the other values are meaningless if not.
        kind: "middle", "end", "elsewhere" (where it rests) or "switch".
        low, centre, high: its ends, and its rest.
        steps: number of different values of its travel.
        noise, peak_to_peak, drift: at rest, see `RestStatistics`.
        places: its rest after each release.
        scatter: their standard deviation.
        dead_zone: recommended half-width as a share of the travel; NaN if it cannot be determined.
        visits: how often its low and its high end were reached.
        positions: of a switch.
        spring: whether it returns by itself, as far as is known; not if somebody said where its zero is.
        findings: errors and warnings.
    """

    info: ControlInfo
    moved: bool = False
    kind: str = "middle"
    low: float = math.nan
    centre: float = math.nan
    high: float = math.nan
    steps: int = 0
    noise: float = 0.0
    peak_to_peak: float = 0.0
    drift: float = 0.0
    places: Array = field(default_factory=lambda: np.array([]))
    scatter: float = 0.0
    dead_zone: float = math.nan
    visits: tuple[int, int] = (0, 0)
    positions: tuple[float, ...] = ()
    spring: bool = True
    findings: list[Finding] = field(default_factory=list)

    @property
    def undecided(self) -> bool:
        """Whether nobody but a person can say where its zero is: a stick of two directions that stays at its low end.

        For a throttle of one direction it is the zero. A throttle without a spring that drives both ways stays there
        too, and has its zero in the middle.
        """
        two = self.info.kind == "stick" and self.info.travel is not None
        return self.moved and self.kind == "end" and self.spring and two

    @property
    def verdict(self) -> str:
        """ "not moved", "not good", "usable" or "good"."""
        if not self.moved:
            return "not moved"
        if any(finding.is_error for finding in self.findings):
            return "not good"
        return "usable" if self.findings else "good"

    def add(self, code: str, text: str, severity: Severity = Severity.ERROR) -> None:
        """Add a finding."""
        self.findings.append(Finding(self.info.name, severity, text, code=code))

    def calibration(self) -> ControlCalibration:
        """Return the part that is stored."""
        return ControlCalibration(
            kind=self.kind, low=round(self.low, 3), high=round(self.high, 3),
            centre=round(self.centre, 3) if self.kind == "middle" else None,
            noise=round(self.noise, 3), scatter=round(self.scatter, 3),
            dead_zone=0.0 if math.isnan(self.dead_zone) else round(self.dead_zone, 4),
            steps=self.steps,
            positions=tuple(round(position, 3) for position in self.positions),
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Measurement:
    """The measurement of a device.

    Attributes:
        controls: name → its measurement, in the order of the source.
        shapes: stick → shape of its travel, for controls named ``…_x`` and ``…_y``.
    """

    controls: dict[str, ControlMeasurement]
    shapes: dict[str, str]

    @property
    def findings(self) -> list[Finding]:
        """All findings, control by control."""
        return [finding for control in self.controls.values() for finding in control.findings]

    @property
    def good(self) -> bool:
        """Whether it may be stored: something was moved, and nothing that was moved has an error."""
        moved = [control for control in self.controls.values() if control.moved]
        return bool(moved) and all(control.verdict != "not good" for control in moved)

    def calibration(self, device: str, name: str) -> Calibration:
        """Return the part that is stored: the controls that were moved."""
        kept = {key: one.calibration() for key, one in self.controls.items() if one.moved}
        return Calibration(device, name, kept, tuple(self.controls))


def measure(
    frames: Sequence[Frame], infos: Sequence[ControlInfo], zeros: Mapping[str, Zero] | None = None
) -> Measurement:
    """Measure every control of a device.

    The frames are those of a person who keeps the hands off for `REST_SECONDS`, moves everything to its ends a few
    times, and releases each stick a few times; the order of the last two does not matter.

    Args:
        frames: in the order of time; those whose link is not good are left out.
        infos: the descriptions of the controls.
        zeros: name → where the zero of a control without a spring is; otherwise it is where the control rests.
    """
    zeros = zeros or {}
    heard = [frame for frame in frames if frame.link_good]
    time = np.array([frame.time for frame in heard])
    controls: dict[str, ControlMeasurement] = {}
    columns: dict[str, Array] = {}
    for info in infos:
        columns[info.name] = np.array([frame.values.get(info.name, math.nan) for frame in heard])
        controls[info.name] = _measure_control(info, time, columns[info.name], zeros.get(info.name))
    _look_for_twins(controls, columns)
    return Measurement(controls, dict(_shapes(controls, columns)))


def _measure_control(info: ControlInfo, time: Array, raw: Array, zero: Zero | None) -> ControlMeasurement:
    found = ControlMeasurement(info)
    resting = raw[time <= time[0] + REST_SECONDS] if len(time) else raw
    if len(resting) < 10 or not np.isfinite(raw).all():
        found.add("no_rest", f"too few frames in the first {REST_SECONDS:g} s: hands off, and start again")
        return found
    at_rest = rest_statistics(resting)
    found.noise, found.peak_to_peak, found.drift = at_rest.noise, at_rest.peak_to_peak, at_rest.drift
    if info.kind == "button":
        return _with_positions(found, (info.low, info.high), at_rest.centre) if np.ptp(raw) > 0.0 else found
    step, span = smallest_step(raw), float(np.ptp(smoothed(raw)))
    # One step to and fro is not a movement; nor is less than a twentieth of the device's range.
    least = 1.5 * step if info.travel is None else 0.05 * (info.travel[1] - info.travel[0])
    found.moved = span > max(10.0 * at_rest.noise, least)
    if not found.moved:
        return found
    found.low, found.high = (end_by_dwell(raw, at_rest.noise, high=high) for high in (False, True))
    found.steps = round(span / step) + 1
    positions = switch_positions(raw)
    if positions is not None:
        return _with_positions(found, positions, at_rest.centre)
    low, high = info.travel or (found.low, found.high)
    found.kind, found.centre = resting_kind(at_rest.centre, low, high), at_rest.centre
    if zero is not None:
        found.kind, found.spring = "middle" if zero == "middle" else "end", False
    if found.kind == "end":
        found.dead_zone = (4.0 * at_rest.noise + step / 2.0) / span
        found.centre = found.low
    elif zero == "middle":
        found.centre = (found.low + found.high) / 2.0
    else:
        _measure_returns(found, time, raw, step)
    found.visits = count_visits(raw, found.low, found.high)
    _judge(found, raw, at_rest.centre)
    return found


def _with_positions(found: ControlMeasurement, places: Iterable[float], rest: float) -> ControlMeasurement:
    """Set the positions of a switch. A button was pressed, however shortly: two numbers have no spikes."""
    found.moved, found.kind, found.positions = True, "switch", tuple(float(place) for place in places)
    found.low, found.high, found.centre = found.positions[0], found.positions[-1], rest
    found.steps, found.dead_zone = len(found.positions), 0.0
    return found


def _measure_returns(found: ControlMeasurement, time: Array, raw: Array, step: float) -> None:
    if not found.low < found.centre < found.high:
        return
    found.places = returns(time, raw, found.centre, found.low, found.high, found.noise)
    if len(found.places) < 3:
        return
    found.centre = float(np.mean(found.places))
    found.scatter = float(np.std(found.places, ddof=1))
    half = min(found.high - found.centre, found.centre - found.low)
    found.dead_zone = recommended_dead_zone(found.places, found.noise, step) / half if half > 0.0 else math.nan


def _judge(found: ControlMeasurement, raw: Array, rest: float) -> None:
    """Add the findings about a stick or lever."""
    span = found.high - found.low
    _judge_travel(found, raw, span)
    if found.peak_to_peak > 0.1 * span:
        found.add("not_still", f"it moved by {found.peak_to_peak:g} during hands off: start again without touching it")
    elif found.kind == "elsewhere":
        share = 100.0 * (rest - found.low) / span
        found.add(
            "held", f"it rests at {share:.0f} % of its travel: was it held? is its trim off centre? is a lever up?"
        )
    elif found.kind == "middle" and len(found.places) >= 3:
        allowed = max(6.0 * math.hypot(found.scatter, found.noise), 0.03 * span)
        if abs(rest - found.centre) > allowed:
            where = f"it rested at {rest:g} during hands off, but comes back to {found.centre:.6g}"
            found.add("held", f"{where}: was it held, or is its trim off centre?")
    elif found.kind == "end" and rest > found.low + max(6.0 * found.noise, 0.03 * span):
        found.add(
            "throttle_not_down", f"it was at {rest:g} during hands off, above its low end {found.low:g}: pull it down"
        )
    _judge_quality(found, span)


def _judge_quality(found: ControlMeasurement, span: float) -> None:
    """Add the warnings that are not errors, and too few returns."""
    if abs(found.drift) > max(4.0 * found.noise, 0.015 * span):
        found.add(
            "drifts",
            f"at rest it drifts by {found.drift:g} in {REST_SECONDS:g} s: let it warm up",
            WARNING,
        )
    if found.kind == "middle" and found.dead_zone > WIDEST_DEAD_ZONE:
        text = f"worn: it needs a dead zone of {100 * found.dead_zone:.0f} %; replace it, or drive with that"
        found.add("loose", text, WARNING)
    if found.noise > 0.02 * span:
        share = 100.0 * found.noise / span
        found.add(
            "noisy",
            f"at rest its noise is {share:.1f} % of its travel: check cable and supply",
            WARNING,
        )
    if found.steps < FEWEST_STEPS:
        found.add("coarse", f"its whole travel has {found.steps} steps: slow speeds will be uneven", WARNING)
    if found.undecided:
        said = f"--zero {found.info.name}=low, or =middle"
        found.add("zero_unsaid", f"it stays at its low end: is its zero there, or in its middle? Say {said}", WARNING)
    if found.kind == "middle" and found.spring and len(found.places) < FEWEST_RETURNS:
        released = counted_times("released", len(found.places))
        found.add("few_returns", f"{released}; release it at least {FEWEST_RETURNS} times")


def counted_times(done: str, number: int) -> str:
    """Describe a count: "never released", "released once", "released 3 times"."""
    if not number:
        return f"never {done}"
    return f"{done} {'once' if number == 1 else 'twice' if number == 2 else f'{number} times'}"


def _judge_travel(found: ControlMeasurement, raw: Array, span: float) -> None:
    usual = found.info.travel
    if usual is not None:
        share = span / (usual[1] - usual[0])
        if share < 0.4:
            found.add("moved_little", f"it moved over {100 * share:.0f} % of what it can send: push it to both ends")
        elif share < 0.9:
            text = f"it reaches {100 * share:.0f} % of what it can send: usable, once calibrated"
            found.add("short", text, WARNING)
    for end, visits, place in zip(("low", "high"), found.visits, (found.low, found.high), strict=True):
        if found.kind == "middle" and abs(place - found.centre) < 0.1 * span:
            found.add("end_unreached", f"it was never pushed from its middle to its {end} end: push it there too")
        elif visits < FEWEST_VISITS:
            text = f"its {end} end was {counted_times('reached', visits)}; push it there at least twice"
            found.add("end_unreached", text)
    jumps = dirty_spots(raw)
    if len(jumps) >= 3:
        where = float(np.median(jumps))
        found.add("dirty", f"it {counted_times('jumped', len(jumps))}, mostly near {where:g}: clean or replace it")


def _look_for_twins(controls: dict[str, ControlMeasurement], columns: dict[str, Array]) -> None:
    """Add findings about controls that move together: their changes are the same but for scale and sign."""
    names = [name for name, one in controls.items() if one.moved and one.kind != "switch"]
    changes = {name: np.diff(smoothed(columns[name])) for name in names}
    for number, first in enumerate(names):
        for second in names[number + 1 :]:
            if abs(float(np.corrcoef(changes[first], changes[second])[0, 1])) > 0.95:
                for one, other in ((first, second), (second, first)):
                    controls[one].add("together", f"it moves together with {other}: one of them must not be used")


def _shapes(controls: dict[str, ControlMeasurement], columns: dict[str, Array]) -> Iterator[tuple[str, str]]:
    for name, x in controls.items():
        stick = name.removesuffix("_x")
        y = controls.get(f"{stick}_y")
        if stick == name or y is None or not (x.moved and y.moved) or "switch" in (x.kind, y.kind):
            continue
        x_position, y_position = (
            2.0 * (smoothed(columns[axis]) - one.low) / (one.high - one.low) - 1.0
            for axis, one in ((name, x), (f"{stick}_y", y))
        )
        yield stick, travel_shape(x_position, y_position)
