"""First stage for a whole frame: the plausibility of its numbers, and the position of every control."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace

from tenuto.basics.frame import ROUNDING_TIME, Frame, real
from tenuto.basics.reasons import Code, Condition, Reason
from tenuto.sticks.centring import StartCentre
from tenuto.sticks.control import ControlPlan, Opposite


class Reader:
    """Reads all controls from one frame after another.

    Attributes:
        good: the newest good frame; None before the first, and after the clock jumped.
        raw: control → raw number of the newest frame, good or bad; NaN if it has none.
        positions: control → position in the newest good frame; 0 before the first.
    """

    def __init__(self, controls: tuple[ControlPlan, ...], period: float, frozen_after: float = math.inf) -> None:
        """Begin to read.

        Args:
            controls: what to read.
            period: how far in the future the time of a frame may be, s.
            frozen_after: controls that were measured to be noisy cannot all send the same numbers for this long, s.
        """
        self._noisy = tuple(
            (control.reads, control.travel.low, control.travel.high) for control in controls if control.noise > 0.0
        )
        self._frozen_after = frozen_after if self._noisy else math.inf
        self._same: tuple[tuple[float, ...], float] = ((), 0.0)
        self._plans = {control.name: control for control in controls}
        self._controls = tuple(map(_entry, controls))
        self._period = period
        self._centring = {control.name: StartCentre(control.travel) for control in controls if control.centre_at_start}
        self.good: Frame | None = None
        self.raw: Mapping[str, float] = dict.fromkeys(
            (name for control in controls for name in control.raw_names), math.nan
        )
        self._at_rest = dict.fromkeys((control.name for control in controls), 0.0)
        self.positions: Mapping[str, float] = self._at_rest

    def take(self, frame: Frame, now: float) -> tuple[Reason, ...]:
        """Read a frame; an implausible one changes only ``raw``, and its faults are returned."""
        raw: dict[str, float] = {}
        positions = self._at_rest.copy()
        before = self.good
        sound = frame.link_good and frame.time <= now and (before is None or frame.time >= before.time)
        faults = () if sound else self._frame_faults(frame, now)
        values, nan = frame.values, math.nan
        get = values.get
        for name, reads, lowest, highest, rest, position_at, opposed in self._controls:
            value = raw[name] = get(reads, nan)
            kind = type(value)
            if (kind is float or kind is int) and value == rest:
                continue  # most buttons, most of the time
            # Written so that NaN fails it too; nearly all values are floats, and this test is the fastest.
            if (kind is float or isinstance(value, (int, float))) and lowest <= value <= highest:
                positions[name] = position_at(value)
                if opposed is not None:
                    faults += self._take_away(opposed, values, raw, positions)
            else:
                raw[name] = real(value)
                faults += self._unbelieved(name, frame, raw)
        self.raw = raw
        if not faults and self._frozen_after < math.inf:
            faults = self._frozen(frame)
        if faults:
            return faults
        self.good = frame
        if self._centring:
            self._take_centres(frame)
        self.positions = positions
        return ()

    def _unbelieved(self, name: str, frame: Frame, raw: dict[str, float]) -> tuple[Reason, ...]:
        """Return the fault of the number of a control, and store that of its opposite."""
        control, values = self._plans[name], frame.values
        if control.minus is not None:
            raw[control.raw_names[-1]] = real(values.get(control.minus.reads, math.nan))
        value = values.get(control.reads, math.nan)
        if frame.note and value != value and control.reads in values:  # the source says why it does not know it
            unknown = f"{control.reads} is not known: {frame.note}"
            return (Condition(Code.VALUE_NOT_FINITE, unknown, f"{control.reads} was not known: {frame.note}"),)
        return (_unbelievable(name, control, value, control.reads in values),)

    @staticmethod
    def _take_away(
        control: ControlPlan, values: Mapping[str, float], raw: dict[str, float], positions: dict[str, float]
    ) -> tuple[Reason, ...]:
        """Subtract the position of the opposite from that of a control; return its fault."""
        opposite = control.minus
        assert opposite is not None
        (lowest, highest), value = opposite.believable, values.get(opposite.reads, math.nan)
        raw[control.raw_names[-1]] = real(value)
        if not (isinstance(value, (int, float)) and lowest <= value <= highest):
            return (_unbelievable(control.name, opposite, value, opposite.reads in values),)
        positions[control.name] -= opposite.travel.position(value)
        return ()

    def position(self, frame: Frame, name: str) -> float:
        """Return the position of one control in any frame, whatever is wrong with the others; NaN if it is unknown."""
        for control, reads, lowest, highest, _, position_at, opposed in self._controls:
            if control == name:
                value = real(frame.values.get(reads, math.nan))
                positions = {name: position_at(value)} if lowest <= value <= highest else {name: math.nan}
                if opposed is not None and self._take_away(opposed, frame.values, {}, positions):
                    return math.nan
                return positions[name]
        return math.nan

    def _frozen(self, frame: Frame) -> tuple[Reason, ...]:
        """Return whether the numbers of noisy controls stand still; at its end any control may."""
        now = tuple(frame.values[name] for name, _, _ in self._noisy)
        at_ends = all(not low < value < high for value, (_, low, high) in zip(now, self._noisy, strict=True))
        if at_ends or now != self._same[0] or frame.time < self._same[1]:
            self._same = (now, frame.time)
            return ()
        still = frame.time - self._same[1]
        if still <= self._frozen_after + ROUNDING_TIME:
            return ()
        names = ", ".join(name for name, _, _ in self._noisy[:3])
        text = f"{names} have not changed by a single step for {still:.1f} s, and they are never so still: frozen"
        return (Condition(Code.VALUES_FROZEN, text, f"{names} were frozen for {still:.1f} s"),)

    def missing(self) -> tuple[Reason, ...]:
        """Return the missing conditions for a start."""
        if not self._centring:
            return ()
        return tuple(
            Reason(Code.CENTRE_NOT_TAKEN, f"{name}: {waiting.problem}") for name, waiting in self._centring.items()
        )

    def _frame_faults(self, frame: Frame, now: float) -> tuple[Reason, ...]:
        """Return the faults of a frame as a whole: its link and its time."""
        faults: tuple[Reason, ...] = ()
        if not frame.link_good:
            note = frame.note or "the source says that its link is not good"
            faults += (Condition(Code.LINK_BAD, note, f"the link was not good ({note})"),)
        if math.isnan(frame.time):
            faults += (Reason(Code.FRAME_TIME, "a frame has no time, or one that cannot be"),)
        elif not frame.time <= now + self._period + ROUNDING_TIME:
            faults += (
                Reason(Code.FRAME_TIME, f"a frame has the time {frame.time:.3f} s, but it was taken at {now:.3f} s"),
            )
        elif self.good is not None and frame.time < self.good.time:
            back = f"a frame of {frame.time:.3f} s came after one of {self.good.time:.3f} s"
            faults += (Reason(Code.TIME_BACKWARDS, back),)
        return faults

    def _take_centres(self, frame: Frame) -> None:
        """Measure the centres at start, each as soon as its control has been still."""
        for name, waiting in tuple(self._centring.items()):
            control = self._plans[name]
            travel = waiting.feed(frame.time, frame.values[control.reads])
            if travel is not None:
                del self._centring[name]
                self._plans[name] = replace(control, travel=travel, centre_at_start=False)
                self._controls = tuple(map(_entry, self._plans.values()))


# For each control at every tick: both names, the range of its numbers, the number at which its position is known to be
# 0 (NaN if there is none), the function for its other positions, and its plan if another control is subtracted
# from it.
_Entry = tuple[str, str, float, float, float, Callable[[float], float], ControlPlan | None]


def _entry(control: ControlPlan) -> _Entry:
    travel = control.travel
    position_at, rest = travel.direct(), travel.low if travel.centre is None else travel.centre
    lowest, highest = control.believable
    opposed = control if control.minus is not None else None
    if position_at(rest) != 0.0 or opposed is not None or not lowest <= rest <= highest:
        rest = math.nan  # such as one that rests at its high end
    return (control.name, control.reads, lowest, highest, rest, position_at, opposed)


def _unbelievable(name: str, control: ControlPlan | Opposite, value: object, present: bool) -> Reason:
    """Explain why a raw number cannot be used."""
    reads, (lowest, highest) = control.reads, control.believable
    number, shown = real(value), str(value)[:20] if not isinstance(value, int) else "a whole number without end"
    if not present:
        return Condition(
            Code.CONTROL_MISSING,
            f"the source sends no {reads}, which {name} reads",
            f"the source sent no {reads}, which {name} reads",
        )
    if not math.isfinite(number):
        return Condition(
            Code.VALUE_NOT_FINITE,
            f"{reads} is {shown}, which is not a number that a control can send",
            f"{reads} was {shown}, which is not a number that a control can send",
        )
    return Condition(
        Code.VALUE_OUT_OF_RANGE,
        f"{reads} is {number:g}, but it can only send {lowest:g} to {highest:g}: "
        "is it the right device, and is its profile right?",
        f"{reads} was {number:g}, but it can only send {lowest:g} to {highest:g}",
    )
