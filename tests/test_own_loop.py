"""The user's own loop: numbers of a pad, buttons, events, and the guard for own values."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import examples
from tenuto import Frame, SimulatedClock
from tenuto.basics.frame import with_earlier
from tenuto.basics.layouts import ControlInfo
from tenuto.data import shipped
from tenuto.own_loop import Pad
from tenuto.sources import Source
from tenuto.sources.gamepad import GamepadOptions

Values = dict[str, float]


class Told(Source):
    """A gamepad that sends values, several frames for a list of them, and nothing for None; it ends after the last."""

    name = "told pad"

    def __init__(
        self, told: Sequence[Values | list[Values] | None], layout: tuple[ControlInfo, ...] = GamepadOptions.layout
    ) -> None:
        self._told, self._number, self._layout = told, 0, layout

    def controls(self) -> tuple[ControlInfo, ...]:
        return self._layout

    def poll(self, now: float) -> Frame | None:
        values = self._told[self._number]
        self._number += 1
        rest = {info.name: info.rest for info in self.controls()}
        frames = values if isinstance(values, list) else [values] if values is not None else []
        return with_earlier([Frame(now, rest | one) for one in frames])

    @property
    def finished(self) -> bool:
        return self._number >= len(self._told)


def rounds(told: list[Values | None], **more: float) -> list[Pad]:
    return list(tenuto.pads(Told(told), clock=SimulatedClock(), **more))  # type: ignore[arg-type]


def test_sticks_are_numbers_and_buttons_are_pressed_held_and_released() -> None:
    seen: list[tuple[object, ...]] = []
    told = [{}, {"left_y": -32768.0, "south": 1.0}, {"left_y": 16000.0, "south": 1.0}, {"right_x": -2000.0}, None, None]
    for pad in tenuto.pads(Told([*told]), rate=10, timeout=0.15, clock=SimulatedClock()):
        seen.append((round(pad.left.y, 3), round(pad.right.x, 3), pad.pressed("south"), pad.held("south"),
                     pad.released("south"), pad.held_for("south", 0.1), pad.heard))  # fmt: skip
    expected = -(16000 / 32767 - 0.1) / 0.9  # beyond a dead zone of 0.1
    assert seen[:6] == [
        (0.0, 0.0, False, False, False, False, True),
        (1.0, 0.0, True, True, False, False, True),
        (pytest.approx(expected, abs=1e-3), 0.0, False, True, False, True, True),
        (0.0, 0.0, False, False, True, False, True),
        (0.0, 0.0, False, False, False, False, True),
        (0.0, 0.0, False, False, False, False, False),
    ]


def test_a_pad_that_falls_silent_reads_as_at_rest() -> None:
    held = {"left_y": -32768.0, "south": 1.0}
    numbers = [(pad.left.y, pad.held("south")) for pad in tenuto.pads(
        Told([held, *[None] * 30]), rate=20, timeout=0.5, clock=SimulatedClock())]  # fmt: skip
    assert numbers[:10] == [(1.0, True)] * 10, "for as long as it may be silent"
    assert set(numbers[12:]) == {(0.0, False)}


def test_events_call_once_each_time_a_way_is_pushed() -> None:
    said: list[str] = []
    push, button = {"left_y": -32768.0}, {"east": 1.0}
    begun = False
    told = [{}, push, push, {}, push, button, {}, [button, {}, {}], push, *[None] * 40]
    for pad in tenuto.pads(Told(told), clock=SimulatedClock()):
        if not begun:
            tenuto.when(pad.left.up, lambda: said.append("up"), lambda: said.append("no longer up"))
            tenuto.when(pad.button("east"), lambda: said.append("east"))
        begun = True
        if pad.time == pytest.approx(0.14):
            assert (pad.pressed("east"), pad.released("east"), pad.held("east")) == (True, True, False)
    # A silent device is a release too.
    assert said == ["up", "no longer up", "up", "no longer up", "east", "east", "up", "no longer up"]


def test_a_recording_reads_as_its_profile_reads_it() -> None:
    """The same positions as those of a pipeline that is calibrated with the pad's own ends."""
    pads = tenuto.pads(f"recording:{shipped('orchard-row.csv')}", rate=50, dead_zone=0.0, clock=SimulatedClock())
    most = max(pad.left.y for pad in pads)
    ticks = tenuto.replay(shipped("medlar.toml"), shipped("orchard-row.csv")).to_frame()
    row = ticks["raw.drive"].to_numpy().argmin()
    assert most == pytest.approx(-ticks["raw.drive"].iloc[row] / 32768.0, abs=1e-3)


@pytest.mark.parametrize(
    ("ask", "said"),
    [
        (lambda pad: pad["left_z"], "told pad has no left_z; it has left_x"),
        (lambda pad: pad.held("sauth"), "told pad has no sauth"),
        (lambda pad: tenuto.guarded("south")(pad, [0.0] * 5), "expected up to 4 values, found 5"),
        (lambda pad: tenuto.guarded("south", ramp=0.0), "ramp: expected a time above 0 s, found 0"),
        (lambda pad: rounds([{}], rate=0.0), "rate: expected a frequency above 0"),
        (lambda pad: rounds([{}], timeout=float("inf")), "timeout: expected a time above 0, up to 10 s, found inf"),
        (lambda pad: rounds([{}], timeout=float("nan")), "timeout: expected a time above 0"),
        (lambda pad: rounds([{}], dead_zone=1.0), "dead_zone: expected a share"),
        (lambda pad: list(tenuto.pads("gampad")), "expected a kind of source"),
    ],
)
def test_what_is_wrong_is_said(ask: object, said: str) -> None:
    pad = rounds([{}])[0]
    with pytest.raises(tenuto.TenutoError, match=said):
        ask(pad)  # type: ignore[operator]


@given(st.floats(allow_nan=True, allow_infinity=True), st.floats(-3.0, 3.0), st.booleans())
def test_two_motors_never_get_more_than_all(forward: float, turn: float, keeps: bool) -> None:
    for left, right in (tenuto.arcade(forward, turn, "keep turn" if keeps else "free"), tenuto.tank(forward, turn)):
        assert -1.0 <= left <= 1.0
        assert -1.0 <= right <= 1.0
    with pytest.raises(ValueError, match="expected one of free"):
        tenuto.arcade(0.1, 0.2, "kep turn")


@examples(40)
@given(st.data())
def test_a_guarded_loop_drives_only_what_is_held_and_rises_by_its_ramp(data: st.DataObject) -> None:
    """For any demand of the loop, and any release or silence of the pad."""
    count, ramp, stop = data.draw(st.integers(1, 3)), data.draw(st.floats(0.1, 2.0)), data.draw(st.floats(0.1, 2.0))
    value = st.sampled_from([0.0, 0.0, 1.0, -1.0]) | st.floats(-1.5, 1.5) | st.just(math.nan)
    pieces = st.tuples(
        st.integers(1, 40),
        st.sampled_from(["held", "held", "let go", "silent"]),
        st.lists(value, min_size=3, max_size=3),
    )
    story = [(10, "let go", [0.0] * 3), (10, "held", [0.0] * 3), *data.draw(st.lists(pieces, max_size=8))]
    told = {"held": {"left_shoulder": 1.0}, "let go": {}, "silent": None}
    each = [(how, asked[:count]) for long, how, asked in story for _ in range(long)]
    safe, dt = tenuto.guarded("left_shoulder", ramp=ramp, stop=stop, timeout=0.2), 0.02
    given_out: list[tuple[float, ...]] = []
    for pad in tenuto.pads(Told([told[how] for how, _ in each]), rate=50, clock=SimulatedClock()):
        given_out.append(safe(pad, each[min(len(given_out), len(each) - 1)][1]))
    quickest = dt * max(1.0 / ramp, 1.0 / stop) + 1e-9
    assert not any(given_out[-1]) or stop > 0.5, "at the end it stands"
    for (before, now), (how, asked) in zip(pairwise(given_out), each[1:], strict=False):
        for was, does, wish in zip(before, now, asked, strict=True):
            assert abs(does - was) <= quickest, "no jump"
            if how == "let go":
                assert abs(does) <= abs(was), "let go, nothing rises"
            if abs(does) > abs(was) + 1e-9:
                assert abs(was) < abs(does) <= abs(wish) + 1e-9, "it rises to what was asked for"


def test_a_guarded_loop_says_why_it_does_not_drive(tmp_path: Path) -> None:
    safe, said = tenuto.guarded("left_shoulder"), []
    for pad in tenuto.pads(Told([{}, {"left_shoulder": 1.0}, {"left_shoulder": 1.0}]), clock=SimulatedClock()):
        safe(pad, (1.0, 0.0))
        said.append(safe.why)
    assert said[0].startswith("left_shoulder is not held")
    assert "not at rest" in said[1]


def test_two_motors_reach_what_is_asked_for_each_in_its_own_time() -> None:
    safe, told = tenuto.guarded("left_shoulder", ramp=0.5), {"left_shoulder": 1.0}
    out: list[tuple[float, ...]] = []
    for pad in tenuto.pads(Told([{}, *[told] * 60]), rate=50, clock=SimulatedClock()):
        out.append(safe(pad, (0.0, 0.0) if pad.time < 0.2 else (1.0, -0.25)))
    begins = next(number for number, values in enumerate(out) if any(values))
    rising = out[begins - 1 : begins + 25]
    assert [left for left, _ in rising] == pytest.approx([0.04 * number for number in range(26)])
    assert [right for _, right in rising[:7]] == pytest.approx([-0.04 * number for number in range(7)])
    assert {right for _, right in rising[7:]} == {-0.25}
    assert out[-1] == (0.0, 0.0)


def guarded_drive(told: list[Values | list[Values] | None], pauses: dict[int, float], **more: float) -> list[float]:
    """Return what a guarded motor gets in each round; in some rounds the loop takes its time."""
    safe, clock, out = tenuto.guarded("left_shoulder", ramp=0.5, **more), SimulatedClock(), list[float]()
    for pad in tenuto.pads(Told(told), rate=50, clock=clock):
        asked = (0.0,) if pad.time < 0.2 else (1.0,)
        assert safe(pad, asked) == safe(pad, asked), "a second call in a round changes nothing"
        out.append(safe(pad, asked)[0])
        if len(out) == 2:
            with pytest.raises(tenuto.TenutoError, match="called twice in a round with other values"):
                safe(pad, (0.5, 0.5))
        clock.sleep_until(clock.now() + pauses.get(len(out), 0.0))
    return out


def test_a_guarded_loop_that_hangs_stands_after_it_and_one_that_is_late_does_not() -> None:
    held: Values = {"left_shoulder": 1.0}
    assert max(guarded_drive([{}, *[held] * 100], {60: 0.2})[61:90]) == 1.0
    assert set(guarded_drive([{}, *[held] * 100], {60: 20.0})[60:]) == {0.0}


def test_a_release_between_two_rounds_stops_a_guarded_loop() -> None:
    held: Values = {"left_shoulder": 1.0}
    out = guarded_drive([{}, *[held] * 60, [held, {}, held], *[held] * 60], {})
    assert out[60] == 1.0 > out[61] > out[62]
    assert set(out[90:]) == {0.0}


@pytest.mark.parametrize("kind", ["switch of a radio", "column of lines"])
def test_a_guarded_loop_is_held_by_whatever_the_device_has(kind: str) -> None:
    radio = kind == "switch of a radio"
    info = ControlInfo("channel_5", 988.0, 2012.0, 1500.0) if radio else ControlInfo("key", -math.inf, math.inf, 0.0)
    off, on = (1000.0, 2000.0) if radio else (0.0, 1.0)
    ends = {} if radio else {"key": (0.0, 1.0)}
    told: list[Values] = [*[{info.name: off}] * 5, *[{info.name: on}] * 60, *[{info.name: off}] * 40]
    safe, out, why = tenuto.guarded(info.name), list[float](), list[str]()
    for pad in tenuto.pads(Told(told, (info,)), rate=50, clock=SimulatedClock(), ends=ends):
        out += safe(pad, (float(pad.time > 0.2),))
        why.append(safe.why)
    assert why[0].startswith(f"{info.name} is not held")
    assert (out[62], out[100]) == (1.0, 0.0)
