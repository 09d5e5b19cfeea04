"""For your own loop: the sticks as numbers, buttons that are pressed and released, and the guard in one line.

::

    import tenuto

    for pad in tenuto.pads("gamepad", rate=20):
        left, right = tenuto.tank(pad.left.y, pad.right.y)

A pad is any device with sticks: a gamepad, a radio receiver, lines of a microcontroller, a recording. Numbers are
calibrated if the device was (``tenuto calibrate``); forward, left and up are positive, −1…1. A device that is silent
reads as at rest, so a loop without its own check stops with its link. See docs/own-loop.md.
"""

from __future__ import annotations

import json
import math
import signal
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from types import FrameType

from tenuto.basics.errors import SourceError, TenutoError
from tenuto.basics.frame import Frame, frames_in, real
from tenuto.basics.layouts import DEAD_ZONE
from tenuto.clock import REAL, Timer
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.tick import Tick
from tenuto.profile.controls import ControlTable
from tenuto.profile.load import parse_profile
from tenuto.profile.prepare import find_calibration
from tenuto.sources import Source, known_infos, open_source
from tenuto.sources.recording import Recording
from tenuto.sticks.shaping import dead_zone as without_dead_zone
from tenuto.sticks.travel import Travel
from tenuto.styles.mixing import in_corner

# The thresholds of a press and of a release, for a button or a direction.
_ON, _OFF = 0.6, 0.4
# How long everything reads as at rest before a loop ends, s.
_SETTLES = 0.5
# The longest silence of a device that a loop may drive through, s.
_LONGEST = 10.0
# The demand of the caller's loop may stay constant: that is no fault, s.
_NEVER = 1e6
# The names of the values of a guarded loop, and so their greatest number; and the axes of the command that carry them.
_NAMES = ("value_1", "value_2", "value_3", "value_4")
_AXES = ("forward", "turn", "up", "sideways")
# A round that comes later than this number of rounds is a stall, unless the timeout is longer.
_LATE = 3.0


class Way:
    """One direction of a stick, or a button: its deflection, 0…1, and whether it is pushed.

    Attributes:
        pad: to which it belongs. name: in words.
    """

    def __init__(self, pad: Pad, name: str, control: str, sign: float = 1.0) -> None:
        self.pad, self.name = pad, name
        self._control, self._sign = control, sign

    @property
    def share(self) -> float:
        """Its deflection, 0…1."""
        return max(0.0, self._sign * self.pad[self._control])

    def __bool__(self) -> bool:
        return self.share > _ON

    def __repr__(self) -> str:
        return f"{self.name} {self.share:.2f}"


class Stick:
    """A stick with two axes, −1…1: ``y`` is positive ahead, ``x`` is positive to the left."""

    def __init__(self, pad: Pad, side: str) -> None:
        self._pad, self._side = pad, side

    @property
    def x(self) -> float:
        """Its axis to the left; left is positive."""
        return self._pad[f"{self._side}_x"]

    @property
    def y(self) -> float:
        """Its axis ahead; ahead is positive."""
        return self._pad[f"{self._side}_y"]

    def _way(self, name: str, axis: str, sign: float) -> Way:
        return Way(self._pad, f"{self._side} stick {name}", f"{self._side}_{axis}", sign)

    @property
    def up(self) -> Way:
        """Its direction ahead."""
        return self._way("up", "y", 1.0)

    @property
    def down(self) -> Way:
        """Its direction back."""
        return self._way("down", "y", -1.0)

    @property
    def left(self) -> Way:
        """Its direction to the left."""
        return self._way("left", "x", 1.0)

    @property
    def right(self) -> Way:
        """Its direction to the right."""
        return self._way("right", "x", -1.0)


class Pad:
    """The state of a device with sticks in one round of a loop.

    Attributes:
        left, right: the sticks of a gamepad. time: of this round, s. frame: the newest, with the device's raw numbers.
    """

    def __init__(
        self,
        source: Source,
        clock: Timer,
        *,
        rate: float,
        dead_zone: float,
        timeout: float,
        ends: Mapping[str, tuple[float, float]],
    ) -> None:
        """Take an open source; see `pads`."""
        if not 0.0 < rate <= 1000.0:
            raise TenutoError(f"rate: expected a frequency above 0, up to 1000 Hz, found {rate:g}")
        if not 0.0 <= dead_zone < 1.0:
            raise TenutoError(f"dead_zone: expected a share from 0 to less than 1, found {dead_zone:g}")
        if not 0.0 < timeout <= _LONGEST:
            raise TenutoError(f"timeout: expected a time above 0, up to {_LONGEST:g} s, found {timeout:g}")
        self._source, self._clock, self._period, self._timeout = source, clock, 1.0 / rate, timeout
        infos = known_infos(source) if isinstance(source, Recording) else source.controls()
        self._controls = {info.name: info for info in infos}
        found = find_calibration(None, source)
        measured = found[0].controls if found is not None else {}
        self._travels: dict[str, Travel] = {}
        self._zones: dict[str, float] = {}
        for name, info in self._controls.items():
            table = ControlTable.model_validate({"reads": name, **_said(ends.get(name))})
            if name in measured:
                table = table.measured(measured[name])
            if info.travel is not None or table.low is not None:
                self._travels[name] = table.travel(info)
                loose = info.kind == "stick" and not info.exact
                self._zones[name] = max(dead_zone, table.dead_zone) if loose else 0.0
        self.left, self.right = Stick(self, "left"), Stick(self, "right")
        self.time, self._ended = 0.0, False
        self.frame: Frame | None = None
        self._values: dict[str, float] = {}
        self._on = dict.fromkeys(self._controls, False)
        self._changed: dict[str, float] = {}
        # The controls that were pressed, released and off in some frame since the last round.
        self._pressed, self._released, self._off = set[str](), set[str](), set[str]()
        self._events: list[_Event] = []

    def __getitem__(self, name: str) -> float:
        """Return a control by the device's name: −1…1 for a stick, 0…1 for everything else; 0 at rest.

        Raises:
            SourceError: it has no control of that name, or the range of that control is unknown.
        """
        if name not in self._controls:
            raise SourceError(f"{self._source.name} has no {name}; it has {', '.join(self._controls)}")
        if name not in self._travels:
            raise SourceError(f"{name}: its range is not known: pass ends, or run tenuto calibrate {self._source.name}")
        return self._values.get(name, 0.0)

    @property
    def heard(self) -> bool:
        """Whether a frame arrived within the timeout, and its link is good."""
        frame = self.frame
        fresh = frame is not None and frame.link_good and self.time - frame.time <= self._timeout
        return fresh and not self._ended

    def button(self, name: str) -> Way:
        """Return a button or any other control as a direction, for `when`."""
        self[name]
        return Way(self, name, name)

    def held(self, name: str) -> bool:
        """Return whether a control is pressed."""
        self[name]
        return self._on[name]

    def pressed(self, name: str) -> bool:
        """Return whether a control was pressed since the last round."""
        self[name]
        return name in self._pressed

    def released(self, name: str) -> bool:
        """Return whether a control was released since the last round."""
        self[name]
        return name in self._released

    def stays_held(self, name: str) -> bool:
        """Return whether a control is pressed, and was so in every frame since the last round."""
        return self.held(name) and name not in self._off

    @property
    def period(self) -> float:
        """The time from round to round, s."""
        return self._period

    def held_for(self, name: str, seconds: float) -> bool:
        """Return whether a control has been held for this time, s."""
        return self.held(name) and self.time - self._changed.get(name, math.inf) >= seconds

    def rumble(self, strength: float, seconds: float = 0.3) -> bool:
        """Rumble with a strength of 0…1; False if the device cannot."""
        return self._source.rumble(min(max(strength, 0.0), 1.0), seconds)

    def names(self) -> tuple[str, ...]:
        """Name every control."""
        return tuple(self._controls)

    def __str__(self) -> str:
        """Write every known control with its number."""
        heard = "" if self.heard else "nothing heard: "
        return heard + " ".join(f"{name}={self._values.get(name, 0.0):+z.2f}" for name in self._travels)

    def rounds(self) -> Iterator[Pad]:
        """Yield the pad in every round, until the source ends (a recording ends, a pad does not) or Ctrl-C.

        After the end everything reads as at rest for a moment, so that the last command of a loop is standstill.
        """
        start, number, last = self._clock.now(), 0, math.inf
        with _ctrl_c(self._clock) as asked:
            while (now := self._clock.now() - start) < last:
                if last == math.inf and (asked or self._source.finished):
                    self._ended, last = True, now + _SETTLES
                self._look(now)
                yield self
                number = max(number + 1, math.ceil((self._clock.now() - start) / self._period - 0.5))
                self._clock.sleep_until(start + number * self._period)

    def _look(self, now: float) -> None:
        """Read the device: each frame since the last round, in its order, and at least the state of now."""
        self.time = now
        for seen in (self._pressed, self._released, self._off):
            seen.clear()
        came = self._source.poll(now) if not self._ended else None
        for frame in frames_in(came)[:-1] if came is not None else ():
            self._take(frame.values if frame.link_good else {}, now)
        self.frame = came or self.frame
        self._take(self.frame.values if self.frame is not None and self.heard else {}, now)

    def _take(self, values: Mapping[str, float], now: float) -> None:
        """Take the numbers of one frame; those that are missing read as at rest."""
        for name, travel in self._travels.items():
            raw = real(values.get(name, math.nan))
            position = travel.position(raw) if math.isfinite(raw) else 0.0
            value = self._values[name] = float(without_dead_zone(position, self._zones[name]))
            on = value > (_OFF if self._on[name] else _ON)
            if not on:
                self._off.add(name)
            if on != self._on[name]:
                self._on[name], self._changed[name] = on, now
                (self._pressed if on else self._released).add(name)
        for event in tuple(self._events):
            event.step()

    def watch(self, way: Way, call: Callable[[], object], released: Callable[[], object] | None) -> None:
        """Call functions each time a direction is pushed, and no longer pushed; see `when`."""
        self._events.append(_Event(way, call, released))


class _Event:
    """Calls a function when a direction is pushed, and another one when it is no longer pushed."""

    def __init__(self, way: Way, call: Callable[[], object], released: Callable[[], object] | None) -> None:
        self._way, self._call, self._released = way, call, released
        self._on = bool(way)

    def step(self) -> None:
        """Compare with the reading before."""
        on = self._way.share > (_OFF if self._on else _ON)
        was, self._on = self._on, on
        if on and not was:
            self._call()
        elif was and not on and self._released is not None:
            self._released()


@contextmanager
def _ctrl_c(clock: Timer) -> Iterator[list[int]]:
    """Record Ctrl-C in a list, once; a second one interrupts. Outside the main thread Ctrl-C interrupts at once."""
    asked: list[int] = []
    if clock is not REAL or threading.current_thread() is not threading.main_thread():
        yield asked
        return
    before = signal.getsignal(signal.SIGINT)

    def note(number: int, _: FrameType | None) -> None:
        asked.append(number)
        signal.signal(signal.SIGINT, before)

    signal.signal(signal.SIGINT, note)
    try:
        yield asked
    finally:
        signal.signal(signal.SIGINT, before)


def _said(ends: tuple[float, float] | None) -> dict[str, float]:
    return {} if ends is None else {"low": ends[0], "high": ends[1], "centre": (ends[0] + ends[1]) / 2.0}


def pads(
    source: str | Source = "gamepad",
    *,
    rate: float = 50.0,
    dead_zone: float = DEAD_ZONE,
    timeout: float = 0.5,
    ends: Mapping[str, tuple[float, float]] | None = None,
    clock: Timer = REAL,
) -> Iterator[Pad]:
    """Return a loop over the state of a device: ``for pad in tenuto.pads("gamepad", rate=20): …``

    Ctrl-C ends it, as does the end of a recording; during the last half second everything reads as at rest.

    Args:
        source: a text for `tenuto.open_source`, or an open source, which stays open.
        rate: rounds per second. dead_zone: of each stick, a share; a larger measured one is used instead; keys have 0.
        timeout: after this time without a frame everything reads as at rest, s; up to 10.
        ends: control → its lowest and highest raw number, if the device does not report them, as for columns of lines.
        clock: by default real time.

    Raises:
        SourceError: there is no such device. CalibrationError: its calibration cannot be read.
        TenutoError: a rate or a dead zone is invalid.
    """
    said: dict[str, float] = {"rate": rate, "dead_zone": dead_zone, "timeout": timeout}
    if isinstance(source, Source):
        yield from Pad(source, clock, ends=ends or {}, **said).rounds()
        return
    with open_source(source, clock=clock) as opened:
        yield from Pad(opened, clock, ends=ends or {}, **said).rounds()


def when(way: Way, call: Callable[[], object], released: Callable[[], object] | None = None) -> None:
    """Call a function each time a stick is pushed that way, or a button is pressed.

    ``tenuto.when(pad.left.up, start, stop)`` starts a motor and stops it. A silent device and the end of the loop are a
    release too. Without a second function nothing is called then: whatever the first one has started goes on.

    Args:
        way: such as ``pad.left.up`` or ``pad.button("south")``.
        call: when it is pushed. released: when it is no longer pushed.
    """
    way.pad.watch(way, call, released)


def tank(left: float, right: float) -> tuple[float, float]:
    """Return the shares of the left and the right motor, −1…1, for one stick per side."""
    return _share(left), _share(right)


def arcade(forward: float, turn: float, corner: str = "scale") -> tuple[float, float]:
    """Return the shares of the left and the right motor, −1…1, of one stick that drives and one that turns left.

    Args:
        forward, turn: −1…1. corner: what is reduced if both together are too much, see `tenuto.stages.in_corner`.

    Raises:
        ValueError: the corner is unknown.
    """
    forward, turn = in_corner(_share(forward), _share(turn), "clip" if corner == "free" else corner)
    return _share(forward - turn), _share(forward + turn)


def _share(value: float) -> float:
    """Return a share within −1…1; 0 for NaN."""
    return min(max(float(value), -1.0), 1.0) if math.isfinite(value) else 0.0


_GUARDED = """
format = 1
name = "own loop"
source = {{ kind = "lines", port = "-", columns = [{columns}, {hold}] }}
style = {{ kind = "flight", forward = "value_1", turn = "value_2", climb = "value_3", sideways = "value_4" }}
speeds = {{ forward = "100 %", sideways = "100 %", up = "100 %", down = "100 %", turn = "100 %" }}
limits = {{ acceleration = {ramp}, turn_acceleration = {ramp}, vertical_acceleration = {ramp} }}
guard.hold_to_run = {hold}
guard.link_timeout = {timeout}
guard.frozen_after = {never}
guard.stop_deceleration = {stop}
guard.stop_turn_deceleration = {stop}
guard.stop_vertical_deceleration = {stop}
chassis = {{ kind = "motors", mix = {{ {mix} }} }}
controls.{hold} = {{ reads = {hold}, low = 0, high = 1, rests = "end" }}
"""


class Guarded:
    """The guard for your own values, such as the shares of two motors; it returns the permitted values.

    As in any profile, a drive needs hold-to-run, then values at rest. Each value increases by its ramp. After a
    release, a silence, an invalid number or a stall of the loop, all values ramp to 0, and stay there until they
    were at rest and it is held again.

    Attributes:
        tick: the newest, with every number and every reason.
    """

    def __init__(self, hold: str, *, ramp: float = 0.4, stop: float = 0.3, timeout: float = 0.3) -> None:
        """Guard up to four values.

        Args:
            hold: the control that must be held, by the device's name: a button, a switch of a radio, a column of lines.
            ramp, stop: the times from standstill to full, and to standstill, s.
            timeout: the longest tolerated silence of the device, and pause of the loop (or three of its rounds), s.

        Raises:
            TenutoError: a time is not above 0.
        """
        for name, value in (("ramp", ramp), ("stop", stop), ("timeout", timeout)):
            if not 0.0 < value < math.inf:
                raise TenutoError(f"{name}: expected a time above 0 s, found {value:g}")
        quoted = json.dumps(hold)
        text = _GUARDED.format(
            columns=", ".join(f'"{name}"' for name in _NAMES), ramp=1.0 / ramp, stop=1.0 / stop, timeout=timeout,
            never=_NEVER, hold=quoted,
            mix=", ".join(f"{name} = {{ {axis} = 1.0 }}" for name, axis in zip(_NAMES, _AXES, strict=True)),
        )  # fmt: skip
        for name in _NAMES:
            text += f'controls.{name} = {{ reads = "{name}", low = -1, centre = 0, high = 1 }}\n'
        self._hold, self._timeout = hold, timeout
        self._plan = parse_profile(text).plan()
        self._pipeline: Pipeline | None = None
        self._asked: tuple[float, tuple[float, ...]] | None = None
        self.tick: Tick | None = None

    def __call__(self, pad: Pad, values: Sequence[float]) -> tuple[float, ...]:
        """Return the permitted values for this round of a pad.

        Raises:
            SourceError: the pad has no such control. TenutoError: there are more than four values, or it was called
                with others in this round.
        """
        if len(values) > len(_NAMES):
            raise TenutoError(f"expected up to {len(_NAMES)} values, found {len(values)}")
        asked = tuple(real(value) for value in values)
        held = pad.stays_held(self._hold)
        if self._asked is None or self._asked[0] != pad.time:
            self._asked = (pad.time, asked)
            self._step(pad, held, asked)
        elif repr(self._asked[1]) != repr(asked):  # NaN is equal to itself here
            raise TenutoError(
                "called twice in a round with other values: pass all of them in one call, or use two guards"
            )
        does = self.tick.actuators if self.tick is not None and self.tick.power else {}
        return tuple(does.get(name, 0.0) for name in _NAMES[: len(values)])

    def _step(self, pad: Pad, held: bool, asked: Sequence[float]) -> None:
        """Make the tick of a round."""
        if self._pipeline is None:
            self._pipeline = Pipeline(replace(self._plan, stall_timeout=max(self._timeout, _LATE * pad.period)))
        wanted = dict.fromkeys(_NAMES, 0.0) | {
            name: min(max(value, -1.0), 1.0) if math.isfinite(value) else value
            for name, value in zip(_NAMES, asked, strict=False)
        }
        frame = None
        if pad.frame is not None:
            frame = Frame(pad.frame.time, {**wanted, self._hold: float(held)}, pad.heard)
        self.tick = self._pipeline.step(frame, pad.time)

    @property
    def why(self) -> str:
        """The reason why it does not drive, in words; empty while it does."""
        return (
            "; ".join(reason.text for reason in self.tick.guard.reasons) if self.tick is not None else "not called yet"
        )


def guarded(hold: str, *, ramp: float = 0.4, stop: float = 0.3, timeout: float = 0.3) -> Guarded:
    """Return the guard for your own loop; see `Guarded` for the arguments.

    ::

        safe = tenuto.guarded("left_shoulder")
        for pad in tenuto.pads("gamepad"):
            left, right = safe(pad, tenuto.tank(pad.left.y, pad.right.y))
    """
    return Guarded(hold, ramp=ramp, stop=stop, timeout=timeout)
