"""The promises of every kind, tested with random options and any input."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from itertools import pairwise
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tenuto.curves.base import Curve
from tenuto.driving.plan import Planned
from tenuto.kinds.options import Role, named
from tenuto.outputs.base import Output, OutputOptions
from tenuto.protocols.radio.base import CHANNEL_HIGH, CHANNEL_LOW, RadioProtocol
from tenuto.protocols.radio.decoder import ChannelFrame, Decoder
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel
from tenuto.styles.base import Setting, StyleOptions
from tenuto.styles.speeds import Speeds
from tenuto.switches.base import ContactPlan, SwitchOptions
from tenuto.switches.momentary import MomentaryPlan
from tenuto.testing.anything import any_options, any_velocity
from tenuto.vehicles.base import Arcs, Chassis, VehicleOptions
from tenuto.vehicles.priority import settle, takes_priority
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

_EXAMPLES = 40
# The interval at which a switch is read, s.
_FINE = 0.005
_FULL = VelocityCommand(1.2, 0.8, 0.6, 1.5)
_SPEEDS = Speeds(forward=1.2, backward=0.7, turn=1.5, sideways=0.8, up=0.6, down=0.5)


def _tried(strategy: st.SearchStrategy[Any], test: Callable[[Any], None], examples: int = _EXAMPLES) -> None:
    """Run a test on values of a strategy; the smallest failing one is shown."""
    settings(max_examples=examples, deadline=None)(given(strategy)(test))()


def radio_keeps_its_promises(radio: type[RadioProtocol]) -> None:
    """Check a radio protocol: decoding inverts encoding, no bytes raise, and it finds frames again after garbage."""
    names = [info.name for info in radio.layout()]
    assert len(set(names)) == radio.channels + radio.switches, "a name for each channel"
    pulse = st.floats(CHANNEL_LOW, CHANNEL_HIGH)
    channels = st.lists(pulse, min_size=radio.channels, max_size=radio.channels)

    def found_by(decoder: Decoder, sent: list[float], times: int) -> list[ChannelFrame]:
        frames = decoder.feed(radio.encode(sent) * times)
        if not frames:  # identical frames may fit at two positions: moving sticks distinguish them
            decoder.feed(radio.encode([1500.0] * radio.channels) * times)
            frames = decoder.feed(radio.encode(sent) * times)
        return frames

    def round_trip(sent: list[float]) -> None:
        frames = found_by(radio.decoder(), sent, 4)
        assert frames, "four frames in a row are enough to find one, once a stick has moved"
        assert np.allclose(frames[-1].channels, sent, atol=1.0), "within a microsecond"
        assert (frames[-1].lost, frames[-1].failsafe) == (False, False)

    def garbage(drawn: tuple[list[bytes], list[float]]) -> None:
        pieces, sent = drawn
        whole, cut = radio.decoder(), radio.decoder()
        found = [frame for piece in pieces for frame in cut.feed(piece)]
        assert whole.feed(b"".join(pieces)) == found, "how bytes are cut into pieces changes nothing"
        again = found_by(cut, sent, 12)
        assert again, "after any garbage a dozen frames are enough, once a stick has moved"
        assert np.allclose(again[-1].channels, sent, atol=1.0)

    ambiguous = [2000.0, 1560.5, *[988.0] * radio.channels][
        : radio.channels
    ]  # under SBUS a frame fits at two positions
    garbage(([], ambiguous))
    _tried(channels, round_trip)
    _tried(st.tuples(st.lists(st.binary(max_size=80), max_size=6), channels), garbage)


def vehicle_keeps_its_promises(kind: type[VehicleOptions], **said: Any) -> None:
    """Check a kind of vehicle over random measures: its kinematics, the same arc under limits, and standstill.

    Args:
        kind: its options. said: options with fixed values.
    """

    def check(drawn: tuple[VehicleOptions, VelocityCommand]) -> None:
        options, asked = drawn
        if any(options.errors()):
            return
        vehicle_can_do(options.chassis(_FULL), asked)

    _tried(st.tuples(any_options(kind, **said), any_velocity()), check)


def vehicle_can_do(chassis: Chassis, asked: VelocityCommand) -> None:
    """Check one vehicle with one velocity; see `vehicle_keeps_its_promises`."""
    kept, share = chassis.within_reach(asked)
    assert 0.0 <= share <= 1.0
    assert all(map(math.isfinite, kept))
    assert chassis.fits(kept), "what is within reach can be done"
    possible = chassis.possible(*asked)
    # 1e-7 m/s and rad/s: too little to be measured on a robot.
    assert np.allclose(kept, [share * axis for axis in possible], atol=1e-7), "the same arc, only slower"
    if 1e-3 < share < 1.0 - 1e-6:
        beyond, bounds = chassis.inverse(*possible), chassis.bounds()
        outside = any(not low <= beyond[name] <= high for name, (low, high, _) in bounds.items())
        outside |= any(math.hypot(*(beyond[name] for name in names)) > most for names, most in chassis.shared_limits())
        cannot = not np.allclose(chassis.forward(beyond), possible, rtol=1e-9, atol=1e-9)
        assert outside or cannot, "what is slowed down could not be done"
    if not isinstance(chassis.ramp_way, Arcs):
        other, _ = chassis.within_reach(VelocityCommand(-asked.vy, asked.yaw_rate, -asked.vz, asked.vx))
        half = VelocityCommand(*(0.5 * (a + b) for a, b in zip(kept, other, strict=True)))
        assert chassis.fits(half), "halfway between two that it can do it can do too: what it can do is convex"
    if chassis.lessens:
        for axis in range(4):
            less = [0.5 * part if number == axis else part for number, part in enumerate(kept)]
            assert chassis.fits(VelocityCommand(*less)), "less along one axis can be done too"
    does = chassis.actuators(kept)
    bounds = chassis.bounds()
    assert list(does) == list(bounds), "an actuator for each of the bounds, in their order"
    for name, value in does.items():
        low, high, _ = bounds[name]
        assert low == -math.inf or value >= low - 1e-9 - 1e-6 * abs(low), f"{name} within its bounds"
        assert high == math.inf or value <= high + 1e-9 + 1e-6 * abs(high), f"{name} within its bounds"
    assert np.allclose(chassis.forward(chassis.inverse(*kept)), kept, atol=2e-3), "there and back"
    columns, both = [np.array([axis, 0.0]) for axis in kept], "a float and an array give the same"
    table, plain = chassis.inverse(*columns), chassis.inverse(*kept)
    assert all(math.isclose(float(np.ravel(table[name])[0]), plain[name], abs_tol=1e-9) for name in plain), both
    loads = np.broadcast_to(chassis.load(*columns), 2)
    assert math.isclose(float(loads[0]), chassis.load(*kept), rel_tol=1e-9, abs_tol=1e-12), both
    rows = chassis.possible(*(np.array([axis, 0.0]) for axis in asked))
    assert np.allclose([np.broadcast_to(row, 2)[0] for row in rows], possible, atol=1e-9), both
    assert np.allclose(kept, Chassis.within_reach(chassis, asked)[0], atol=1e-6), "the short way is the long one"
    for part, axes in (("forward", (0, 1)), ("turn", (3,)), ("up", (2,))):
        if takes_priority(chassis, part):
            alone, _ = chassis.within_reach(VelocityCommand(*(asked[n] if n in axes else 0.0 for n in range(4))))
            first = settle(chassis, asked, part)
            assert chassis.fits(first), "what goes first leaves the rest what fits beside it"
            assert all(abs(first[n]) >= abs(alone[n]) - 1e-6 for n in axes), "it is as fast as alone"
            assert all(abs(a) <= abs(b) + 1e-9 and a * b >= 0.0 for a, b in zip(first, possible, strict=True))
    still = chassis.actuators(STANDSTILL, does, 0.02)
    driven = [value for name, value in still.items() if bounds[name].quantity.drives]
    assert np.allclose(chassis.forward(still), STANDSTILL, atol=1e-9), "standstill is standstill"
    assert all(map(math.isfinite, driven))
    assert all(math.isfinite(part.x + part.y + part.angle) for part in chassis.drawing().parts)


def style_keeps_its_promises(kind: type[StyleOptions], chassis: Chassis | None = None, **said: Any) -> None:
    """Check a style: no demand with sticks at rest, otherwise a finite one, and it reads the controls that it names.

    Args:
        kind: its options. chassis: a vehicle that it fits; by default a cart with two driven wheels.
        said: options with fixed values.
    """
    from tenuto.vehicles.differential import Differential

    vehicle = chassis if chassis is not None else Differential(0.6, 0.1, 30.0)

    def check(drawn: tuple[StyleOptions, list[float], float]) -> None:
        options, positions, level = drawn
        if options.misfit(vehicle) is not None:
            return
        style = options.style(vehicle)
        assert set(style.controls()) == set(options.driving().values()), "what drives is what the options say"
        heard = [name for _, name in named(options, Role.DRIVES, Role.READS)]
        setting = Setting(level=level)
        rest = dict.fromkeys(heard, 0.0)
        assert style.demand(style.intent(rest), _SPEEDS, setting, rest) == STANDSTILL, "at rest it asks for nothing"
        shaped = dict(zip(heard, positions, strict=False))
        asked = style.demand(style.intent(shaped), _SPEEDS, setting, shaped)
        assert all(map(math.isfinite, asked)), "whatever the sticks say, it asks for numbers"

    position = st.floats(-1.0, 1.0)
    _tried(st.tuples(any_options(kind, **said), st.lists(position, min_size=16, max_size=16), st.floats(0, 1)), check)


class _Facts:
    """A profile in which every control is a lever or a stick."""

    def control(self, name: str) -> ControlPlan:
        return ControlPlan(name=name, reads=name, travel=Travel(-1.0, 0.0, 1.0, reverse=False), believable=(-1.0, 1.0))

    def measured_positions(self, name: str) -> tuple[float, ...]:
        return ()

    def positions_used(self, switch: str) -> int:
        return 3


def switch_keeps_its_promises(kind: type[SwitchOptions], **said: Any) -> None:
    """Check a kind of switch: its position exists, and its position at start-up presses nothing.

    Args:
        kind: its options. said: options with fixed values.
    """

    def check(drawn: tuple[SwitchOptions, list[float]]) -> None:
        options, readings = drawn
        if any(options.errors()):
            return
        plan = options.plan("switch", _Facts())
        switch = plan.make()
        read = [name for _, name in options.controls()]
        for number, reading in enumerate(readings):
            switch.step(dict.fromkeys(read, reading), 0.05 * number)
            assert 0 <= switch.position < plan.count, "a position that it has"
            assert not (number == 0 and switch.pressed and not plan.at_start), "a start presses nothing"
        operated, sticks = plan.make(), plan.held_at() or {plan.reads: 1.0}
        pressed = False
        for number, on in enumerate([False, *plan.operated().ticks(_FINE)]):
            operated.step(sticks if on else dict.fromkeys(sticks, 0.0), _FINE * number)
            pressed = pressed or operated.position > 0
        # `tenuto check` refuses these: a release below 0 if 0 is rest, and positions beyond the travel.
        never = isinstance(plan, ContactPlan) and plan.off_below <= 0.0
        never = never or any(any(plan.errors(_Facts().control(name))) for name in read)
        assert pressed or never, f"{plan.operated().how}, it is on"

    reading = st.floats(-1.0, 1.0) | st.sampled_from([-1.0, 0.0, 1.0])
    _tried(st.tuples(any_options(kind, **said), st.lists(reading, min_size=1, max_size=60)), check)


def output_keeps_its_promises(kind: type[OutputOptions], **said: Any) -> None:
    """Check a kind of output: its level is −1…1, and it does not move by itself while the robot is not driven.

    Args:
        kind: its options. said: options with fixed values.
    """

    def check(drawn: tuple[OutputOptions, list[tuple[bool, float]]]) -> None:
        options, steps = drawn
        controls = [name for _, name in named(options, Role.READS)]
        if any(options.errors(controls)):
            return
        output = Output(options.plan("output"))
        names = [name for _, name in named(options, Role.PRESSED)]
        switches = {name: MomentaryPlan(name=name, reads=name, debounce=0.0).make() for name in names}
        before = output.level
        for number, (driving, reading) in enumerate(steps):
            for switch in switches.values():
                switch.step(dict.fromkeys(names, reading), 0.1 * number)
            level = output.step(driving, switches, dict.fromkeys(controls, reading))
            assert -1.0 <= level <= 1.0, "a level is −1…1"
            still = level in (before, output.plan.idle)
            assert driving or still or output.plan.by_guard, "it stays or goes to rest while nobody drives"
            before = level

    step = st.tuples(st.booleans(), st.floats(-1.0, 1.0))
    _tried(st.tuples(any_options(kind, **said), st.lists(step, max_size=40)), check)


def profile_keeps_its_promises(profile: Planned, seeds: Iterable[int] = range(10)) -> None:
    """Play stories of faults with a profile, and check the promises of the guard at every tick.

    Args:
        profile: one that uses the kind. seeds: of the stories, see ``tenuto soak``.
    """
    from tenuto.sim.soak import soak

    for outcome in soak(profile, seeds):
        assert outcome.broken == [], f"{outcome.broken} in {outcome.story}"


def curve_keeps_its_promises(kind: type[Curve], values: st.SearchStrategy[Any]) -> None:
    """Check a kind of curve: it rises, keeps its ends and its middle, and is the same for a float and an array.

    Args:
        kind: the curve. values: permitted values of its key in a profile.
    """

    def check(drawn: tuple[Any, list[float]]) -> None:
        value, positions = drawn
        curve = kind.made(kind.checked(value))
        assert np.allclose([curve(-1.0), curve(0.0), curve(1.0)], [-1.0, 0.0, 1.0], atol=1e-9)
        places = sorted(positions)
        outputs = [curve(place) for place in places]
        assert all(low <= high + 1e-9 for low, high in pairwise(outputs)), "it never falls"
        assert np.allclose(curve(np.array(places)), outputs, atol=1e-9), "a float and an array give the same"
        direct = curve.direct()
        assert np.allclose([direct(place) for place in places], outputs, atol=1e-9), "the shortest way is the same"
        assert curve.words()

    _tried(st.tuples(values, st.lists(st.floats(-1.0, 1.0), min_size=1, max_size=20)), check)
