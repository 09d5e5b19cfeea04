"""First and second stage for each control: its plan, its position from a frame, and its shaping."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from tenuto.basics.layouts import Keys
from tenuto.curves.base import STRAIGHT, Shape
from tenuto.sticks import shaping, smoothing
from tenuto.sticks.travel import Travel


@dataclass(frozen=True, slots=True, kw_only=True)
class Opposite:
    """A second control of the device that forms one axis with the first: its position is subtracted."""

    reads: str
    travel: Travel
    believable: tuple[float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class ControlPlan:
    """How one control is read and shaped.

    Attributes:
        name: the builder's own name for it.
        reads: the device's name for it.
        travel: its measured ends.
        believable: the lowest and highest raw number that it can send; anything else is a fault.
        dead_zone, outer_dead_zone: shares of its travel. hysteresis: see `shaping.leaves_dead_zone`.
        shape: its curve and scale, after the dead zone.
        rates: name of a set of rates → the shape that it has then.
        spike_filter: a single spike is removed by the median of three.
        smoothing: time constant of a first-order low pass, s; 0 for none.
        ramp_up, ramp_down: its greatest increase and decrease, in shares of its travel a second; 0 for no limit.
        noise: its measured standard deviation at rest, in raw numbers; 0 if it has none, or was not measured.
        rest_band: the measured distance from its middle at which it may come to rest; None if it was not measured.
        centre_at_start: its centre is measured at start, while it is still.
        minus: the control of the opposite direction, if two triggers or buttons form one axis.
        keys: those that set it, if it is not held.
    """

    name: str
    reads: str
    travel: Travel
    believable: tuple[float, float]
    dead_zone: float = 0.0
    outer_dead_zone: float = 0.0
    hysteresis: float = 0.0
    shape: Shape = STRAIGHT
    rates: Mapping[str, Shape] = field(default_factory=dict)
    spike_filter: bool = False
    smoothing: float = 0.0
    ramp_up: float = 0.0
    ramp_down: float = 0.0
    rest_band: float | None = None
    centre_at_start: bool = False
    minus: Opposite | None = None
    noise: float = 0.0
    keys: Keys | None = None

    @property
    def raw_names(self) -> tuple[str, ...]:
        """Name its raw numbers as in ticks and logs: one, or two if it is made of two controls of the device."""
        return (self.name,) if self.minus is None else (self.name, f"{self.name}.minus")

    @property
    def all_reads(self) -> tuple[str, ...]:
        """The names of all controls of the device that it reads."""
        return (self.reads,) if self.minus is None else (self.reads, self.minus.reads)

    @property
    def one_way(self) -> bool:
        """Whether it goes from 0 to 1, not from −1 to 1."""
        return self.travel.centre is None and self.minus is None

    def plain_for(self, rates: str) -> bool:
        """Whether its position is unchanged under a set of rates."""
        return not self.remembers and self.dead_zone == self.outer_dead_zone == 0.0 and self.shape_for(rates).straight

    def shape_for(self, rates: str) -> Shape:
        """Return its shape under a set of rates."""
        return self.rates.get(rates, self.shape)

    def raw_at(self, position: float) -> dict[str, float]:
        """Return the raw numbers at a position: of one control of the device, or of two.

        Args:
            position: −1…1, or 0…1 for one that rests at its end; it is clipped to this range.
        """
        both_ways = self.travel.centre is not None
        found = {self.reads: self.travel.raw(position if both_ways else max(position, 0.0))}
        if self.minus is not None:
            # A stick has both directions; of two one-way controls, the second has the opposite direction.
            other = 0.0 if both_ways or self.minus.travel.centre is not None else max(-position, 0.0)
            found[self.minus.reads] = self.minus.travel.raw(other)
        return found

    @property
    def remembers(self) -> bool:
        """Whether its shaping depends on earlier positions."""
        return bool(self.hysteresis or self.spike_filter or self.smoothing or self.ramp_up or self.ramp_down)


def is_stretched_first(travel: str, zone: str) -> bool:
    """Return whether a stick's circle is stretched to the square before its dead zone: one that belongs to the axes."""
    return travel == "round to square" and zone in ("square", "straight")


@dataclass(frozen=True, slots=True, kw_only=True)
class StickPlan:
    """Two controls that are the axes of one stick, and share a dead zone or a travel.

    Attributes:
        x, y: their names.
        zone: "round", "square", "straight", or "axes" if each axis has its own dead zone.
        dead_zone, outer_dead_zone, hysteresis: as for a control, for both. growth: of a straight dead zone.
        travel: "round to square", "square to round", or "" for no change.
    """

    x: str
    y: str
    zone: str = "axes"
    dead_zone: float = 0.0
    outer_dead_zone: float = 0.0
    hysteresis: float = 0.0
    growth: float = 0.0
    travel: str = ""

    @property
    def stretched_first(self) -> bool:
        """Whether its circle is stretched to the square before its dead zone."""
        return is_stretched_first(self.travel, self.zone)


def stick_zone(stick: StickPlan, x: float, y: float) -> tuple[float, float]:
    """Apply a stick's dead zone, and map its travel; without hysteresis.

    A circle is stretched to the square before a zone that belongs to the axes: after it, its rim would no longer be the
    circle's, and the corners out of reach. The zone is stretched too, and as wide on the stick as it is stated.
    """
    inner, travel = stick.dead_zone, stick.travel
    if stick.stretched_first:
        wider = shaping.to_square(x, y)
        x, y, inner, travel = x * wider, y * wider, inner * wider, ""
    if stick.zone == "round":
        x, y = shaping.round_dead_zone(x, y, inner, stick.outer_dead_zone)
    elif stick.zone == "square":
        x, y = shaping.square_dead_zone(x, y, inner, stick.outer_dead_zone)
    elif stick.zone == "straight":
        x, y = shaping.straight_dead_zone(x, y, inner, stick.growth, stick.outer_dead_zone)
    if travel == "round to square":
        return shaping.round_to_square(x, y)
    return shaping.square_to_round(x, y) if travel else (x, y)


# For a set of rates: the controls without a memory (name, dead zone and shape), and the others.
_Ways = tuple[
    tuple[tuple[str, Callable[[float], float]], ...],
    tuple[tuple[str, Callable[[float, float], float]], ...],
]


class Shaper:
    """Shapes the positions of all controls, and keeps the state of each."""

    def __init__(self, controls: tuple[ControlPlan, ...], sticks: tuple[StickPlan, ...] = ()) -> None:
        self._controls = controls
        self._sticks = sticks
        self._spiked = tuple(control.name for control in controls if control.spike_filter)
        self._history: dict[str, tuple[float, float]] = {}
        self._away: dict[str, bool] = {}
        self._last: dict[str, float] = {}
        self._ways: dict[str, _Ways] = {}

    def step(self, positions: Mapping[str, float], dt: float, rates: str = "") -> dict[str, float]:
        """Return the shaped positions.

        Args:
            positions: of all controls, −1…1 or 0…1.
            dt: seconds since the frame before.
            rates: the chosen set of rates.
        """
        shaped = dict(positions)
        for name in self._spiked:
            shaped[name] = self._without_spike(name, positions[name])
        for stick in self._sticks:
            shaped[stick.x], shaped[stick.y] = self._of_stick(stick, shaped[stick.x], shaped[stick.y])
        simple, others = self._ways.get(rates) or self._compile(rates)
        for name, shape in simple:
            shaped[name] = shape(shaped[name])
        for name, follow in others:
            shaped[name] = follow(shaped[name], dt)
        return shaped

    def _compile(self, rates: str) -> _Ways:
        """List the controls that are shaped, with their shapes; once for each set of rates."""
        in_zone = {name for stick in self._sticks if stick.zone != "axes" for name in (stick.x, stick.y)}
        simple: list[tuple[str, Callable[[float], float]]] = []
        others: list[tuple[str, Callable[[float, float], float]]] = []
        for control in self._controls:
            shape = control.shape_for(rates).direct()
            if control.remembers:
                others.append((control.name, self._with_memory(control, shape, control.name not in in_zone)))
            elif not control.plain_for(rates) or control.name in in_zone:
                zone = (0.0, 0.0) if control.name in in_zone else (control.dead_zone, control.outer_dead_zone)
                simple.append((control.name, shaping.direct(*zone, shape)))
        self._ways[rates] = (tuple(simple), tuple(others))
        return self._ways[rates]

    def _with_memory(
        self, control: ControlPlan, shape: Callable[[float], float], own_zone: bool
    ) -> Callable[[float, float], float]:
        """Return the shaping function of a control with a memory: of its position and the seconds since the last."""
        name, inner, hysteresis, last = control.name, control.dead_zone, control.hysteresis, self._last
        smooth, ramps = control.smoothing, bool(control.ramp_up or control.ramp_down)
        up, down = control.ramp_up or 1e9, control.ramp_down or 1e9
        in_zone = shaping.direct(inner, control.outer_dead_zone, shape) if own_zone else shape

        def follow(value: float, dt: float) -> float:
            if own_zone and hysteresis and not self._leaves(name, abs(value), inner, hysteresis):
                value = 0.0
            value = in_zone(value)
            before = last.get(name, 0.0)  # it begins at rest, as the robot does
            if smooth:
                value = smoothing.low_pass(before, value, dt, smooth)
            if ramps:
                value = smoothing.rate_limited(before, value, dt, up, down)
            last[name] = value
            return value

        return follow

    def _without_spike(self, name: str, position: float) -> float:
        oldest, before = self._history.get(name, (position, position))
        self._history[name] = (before, position)
        return smoothing.median_of_three(oldest, before, position)

    def _leaves(self, name: str, size: float, inner: float, hysteresis: float) -> bool:
        away = shaping.leaves_dead_zone(size, inner, hysteresis, self._away.get(name, False))
        self._away[name] = away
        return away

    def _of_stick(self, stick: StickPlan, x: float, y: float) -> tuple[float, float]:
        if stick.hysteresis and stick.zone != "axes":
            size = (x * x + y * y) ** 0.5 if stick.zone == "round" else max(abs(x), abs(y))
            if not self._leaves(f"{stick.x} {stick.y}", size, stick.dead_zone, stick.hysteresis):
                return 0.0, 0.0
        return stick_zone(stick, x, y)
