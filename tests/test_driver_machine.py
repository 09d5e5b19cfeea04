"""Guard, ranks, categories, power and stops as one finite machine: every transition of a robot with two drivers."""

from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import pytest

import tenuto
from tenuto import State, parse_profile
from tenuto.driving.plan import Plan
from tenuto.driving.ranks import Ranks
from tenuto.driving.selection import SelectionPlan
from tenuto.testing.machine import Explorer, Move, Values
from tenuto.vehicles.velocity import STANDSTILL

TEXT = """
format = 1
name = "a robot with two drivers, whose ramps and links take a tick or two"
source = { kind = "gamepad", driver = "instructor" }
controls.drive.reads = "left_y"
controls.steer.reads = "right_x"
style = { kind = "arcade", forward = "drive", turn = "steer" }
speeds = { forward = 1.0, turn = 1.0 }
limits = { acceleration = 80.0, turn_acceleration = 80.0 }
drivers.learner = { source.kind = "gamepad", link_timeout = "40 ms", LEARNER }
chassis = { kind = "differential", track = 0.6, wheel_radius = 0.1 }
[guard]
hold_to_run = "left_shoulder"
emergency_stop = "east"
emergency_category = 1
fault_category = 0
reset = "start"
link_timeout = "40 ms"
stop_deceleration = 12.0
stop_turn_deceleration = 12.0
"""
REST = dict.fromkeys(("left_y", "right_x", "left_shoulder", "east", "start", "north"), 0.0)


def robot(learner: str) -> Plan:
    """Return the plan; its buttons count at once."""
    plan = parse_profile(TEXT.replace("LEARNER", learner)).plan()

    def at_once(chosen: SelectionPlan) -> SelectionPlan:
        quick = [replace(switch, debounce=0.0, at_start=True) for switch in chosen.switches]
        return replace(chosen, switches=tuple(quick))

    below = tuple(replace(lower, selection=at_once(lower.selection)) for lower in plan.below)
    return replace(plan, selection=at_once(plan.selection), below=below)


def sends(*pressed: str, moved: bool = False) -> Values:
    return {**REST, **dict.fromkeys(pressed, 1.0), "left_y": -30000.0 * moved}


HOLD = "left_shoulder"
HANDS: list[Values | None] = [None, sends(), sends(HOLD), sends(HOLD, moved=True)]
STOPS = [sends("east"), sends("start")]
GIVEN, PERMITTED = 'given_by = "north"', 'permit = "north", alone = true'


def on(values: Values | None, name: str) -> bool:
    return values is not None and values[name] > 0.5


class Known(NamedTuple):
    """The knowledge of an observer: the progress of each driver towards driving since the last stop.

    It stood: 1, then was released: 2, then was pressed again: 3.
    """

    far: tuple[int, int] = (0, 0)
    # The emergency stop is on in the newest frame of each.
    emergency: tuple[bool, bool] = (False, False)


def follow(known: Known | None, move: Move) -> Known:
    known = known or Known()
    begins = move.before.guard.state in (State.DRIVING, State.STOPPING, State.EMERGENCY_STOP)
    far = []
    for one, so_far in zip((move.first, move.second), known.far, strict=True):
        so_far = max(0 if begins else so_far, int(move.before.command == STANDSTILL))
        if one is not None and so_far:
            so_far = (3 if so_far >= 2 else 1) if on(one, HOLD) else 2
        far.append(so_far)
    first, second = pressed(known, move)
    return Known((far[0], far[1]), (first, second))


def pressed(known: Known, move: Move) -> list[bool]:
    both = zip((move.first, move.second), known.emergency, strict=True)
    return [was if one is None else on(one, "east") for one, was in both]


def at_rest(values: Values | None) -> bool:
    return values is not None and values["left_y"] == 0.0


def judge(known: Known, move: Move, alone: bool) -> None:
    """Check one move; it knows the guard and the ranks only from ticks."""
    before, tick = move.before, move.tick
    drives, drove = tick.guard.state is State.DRIVING, before.guard.state is State.DRIVING
    hands = {"instructor": move.first, "learner": move.second}
    rank = ["instructor", "learner"].index(tick.driver)
    if drives:
        needed = [tick.driver] if alone else ["instructor", tick.driver]
        assert all(on(hands[name], HOLD) for name in needed), "exactly one drives, and is heard and holds"
        if tick.driver == "learner" and alone:
            assert on(move.first, "north"), "no longer than the permit is on"
    if drives and not drove:
        assert follow(known, move).far[rank] == 3, "it has stood, and was let go, and was pressed again"
        assert at_rest(hands[tick.driver])
        assert alone or tick.driver == "instructor"
    if drives and drove and tick.driver != before.driver:
        if tick.driver == "learner":
            assert on(move.first, "north")
            assert at_rest(move.first)
            assert at_rest(move.second)
        else:
            assert not at_rest(move.first) or move.second is None or not on(move.first, "north")
    if any(pressed(known, move)):
        assert tick.guard.state is State.EMERGENCY_STOP
    if before.guard.state is State.EMERGENCY_STOP and tick.guard.state is not State.EMERGENCY_STOP:
        assert on(move.first, "start")
        assert before.command == STANDSTILL
    if not drives:
        assert all(abs(new) <= abs(old) for new, old in zip(tick.command, before.command, strict=True))
    if tick.power and not before.power:
        assert tick.guard.state in (State.WAITING_FOR_REST, State.DRIVING)
        assert on(hands[tick.driver], HOLD)


@pytest.fixture(autouse=True)
def _unwatched(monkeypatch: pytest.MonkeyPatch) -> None:
    """It checks its ticks itself."""
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]


def explore(learner: str, alone: bool) -> Explorer:
    """Check every transition; for a learner who may drive alone without the stops, which are the same."""
    firsts = [*HANDS, sends(HOLD, "north"), *([] if alone else STOPS)]
    explorer, drivers = Explorer(robot(learner), firsts, HANDS[: 3 if alone else 4]), set()
    for known, move in explorer.explore(follow):
        judge(known or Known(), move, alone)
        drivers |= {move.tick.driver} if move.tick.guard.state is State.DRIVING else set()
    assert drivers == {"instructor", "learner"}
    return explorer


@pytest.mark.long
@pytest.mark.parametrize(("learner", "alone"), [(GIVEN, False), (PERMITTED, True)])
def test_no_way_leads_where_none_may(learner: str, alone: bool) -> None:
    explorer = explore(learner, alone)
    said = f"{explorer.states} states and {explorer.moves} transitions"
    assert said in " ".join((Path(__file__).parents[1] / "docs/guard.md").read_text().split())


BROKEN: dict[str, tuple[str, Any]] = {
    "gives the robot to whom it likes": ("_not_given", lambda *_: []),
    "does not look at the permit": ("_kept", lambda self: self.current),
    "lets nobody take over, and nobody keep it": ("_may", lambda self, one: True),
    "knows of every release": ("_see_releases", lambda self, _: self._released.update(instructor=True, learner=True)),
    "lets the learner drive alone": ("held", property(lambda self: self.current.held)),
}


@pytest.mark.long
@pytest.mark.parametrize("name", BROKEN)
def test_broken_ranks_are_seen(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Ranks, *BROKEN[name])
    with pytest.raises(AssertionError):
        explore(*((PERMITTED, True) if "permit" in name or "release" in name or "over" in name else (GIVEN, False)))
