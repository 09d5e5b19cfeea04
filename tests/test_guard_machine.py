"""The guard as one finite machine: every reachable state, with every possible input."""

from collections import deque
from itertools import product

import pytest

from tenuto.driving.guard import HAPPENS, TABLE, Categories, Event, Memory, Row, State
from tenuto.testing.guard import Way, explore

ALL = [Categories(*categories) for categories in product((0, 1, 2), (0, 1, 2), (0, 1))]
# The required events in sequence since the last permission.
STOOD, RELEASED, PRESSED = 1, 2, 3


def progress_after(progress: int, way: Way) -> int:
    """Follow the progress towards driving from outside; it knows only the state of the guard."""
    seen = way.seen
    if way.before.state is State.DRIVING:
        return STOOD if seen.standing and way.after.state is not State.DRIVING else 0
    if seen.faulty or seen.emergency or way.before.state is State.EMERGENCY_STOP:
        return STOOD if seen.standing else 0
    if progress < STOOD and seen.standing:
        progress = STOOD
    if progress == STOOD and seen.held is False:
        progress = RELEASED
    if progress == RELEASED and seen.held:
        progress = PRESSED
    if progress == PRESSED and seen.held is False:
        progress = RELEASED
    return progress


def judge_driving(all_ways: list[Way], categories: Categories) -> None:
    """There is only one way to driving."""
    ways: dict[Memory, list[Way]] = {}
    for way in all_ways:
        ways.setdefault(way.before, []).append(way)
    begin = (categories.begin(), STOOD)
    reached, waiting, drives = {begin}, deque([begin]), 0
    while waiting:
        memory, progress = waiting.popleft()
        for way in ways[memory]:
            far = progress_after(progress, way)
            if way.after.state is State.DRIVING and memory.state is not State.DRIVING:
                drives += 1
                assert far == PRESSED, way
                assert way.seen.at_rest, way
                assert (way.seen.faulty, way.seen.missing, way.seen.emergency) == (False, False, False), way
                assert way.seen.warned, way
            if (step := (way.after, far)) not in reached:
                reached.add(step)
                waiting.append(step)
    assert drives > 0


def judge_each(ways: list[Way], _: Categories) -> None:
    """What no transition does."""
    for way in ways:
        before, seen, end, after = way
        if before.state is State.EMERGENCY_STOP and after.state is not State.EMERGENCY_STOP:
            assert seen.reset, way
            assert seen.standing, way
            assert not seen.emergency, way
        if seen.emergency:
            assert after.state is State.EMERGENCY_STOP, way
        if before.state is State.DRIVING and seen.held and not (seen.faulty or seen.emergency or end or before.ended):
            assert after == before, way  # `Guard.drives_on` assumes this
        if seen.faulty or end or before.ended or seen.held is False:
            assert after.state is not State.DRIVING, way
        if after.powered and not before.powered:
            assert seen.held, way
            assert before.release_seen, way
            assert after.state in (State.WAITING_FOR_REST, State.DRIVING), way
        if after.powered and after.state not in (State.DRIVING, State.WAITING_FOR_REST):
            assert after.category == 2 or (after.category == 1 and not seen.standing), way


def judge_categories(ways: list[Way], categories: Categories) -> None:
    """The category of a stop."""
    stops = (State.STOPPING, State.FAULT, State.EMERGENCY_STOP)
    for way in ways:
        before, seen, _, after = way
        if before.state in stops and after.state in stops and not seen.reset:
            assert after.category <= before.category, way  # a later cause makes no stop less severe
        if before.state is State.DRIVING and after.state in stops:
            asked = {categories.emergency} if seen.emergency else set()
            if seen.faulty:
                asked |= {categories.fault if seen.category is None else seen.category}
            assert after.category == min(asked or {categories.released}), way  # after any earlier stop
        if seen.faulty and after.state is not before.state:
            wanted = categories.fault if seen.category is None else seen.category
            assert after.category <= wanted, way
        if seen.faulty and seen.category == 0:
            assert not after.powered, way


@pytest.mark.parametrize("categories", ALL)
def test_no_way_leads_where_none_may(categories: Categories) -> None:
    ways = explore(categories)
    for judge in (judge_driving, judge_each, judge_categories):
        judge(ways, categories)


@pytest.mark.long
def test_every_row_is_followed_somewhere_and_a_broken_row_is_seen(monkeypatch: pytest.MonkeyPatch) -> None:
    ways = explore(Categories())
    assert {way.before.state for way in ways} == set(State)
    into = {(way.before.state, way.after.state) for way in ways}
    for (state, _), row in TABLE.items():
        assert (state, row.after) in into
    for key, row, judge in (
        ((State.FAULT, Event.RESTED), Row(State.DRIVING), judge_driving),
        ((State.NOT_ENABLED, Event.RESTED), Row(State.WAITING_FOR_REST), judge_driving),
        ((State.EMERGENCY_STOP, Event.STANDS), Row(State.NOT_ENABLED), judge_each),
    ):
        monkeypatch.setattr("tenuto.driving.guard.TABLE", {**TABLE, key: row})
        with pytest.raises(AssertionError):
            judge(explore(Categories()), Categories())
        monkeypatch.undo()
    early = {**HAPPENS, Event.RESET: lambda memory, seen: seen.reset and not seen.emergency}
    monkeypatch.setattr("tenuto.driving.guard.HAPPENS", early)  # a reset during the stop
    with pytest.raises(AssertionError):
        judge_each(explore(Categories(emergency=1)), Categories(emergency=1))


@pytest.mark.long
def test_the_figure_has_an_arrow_for_every_way_of_the_table() -> None:
    from matplotlib.figure import Figure

    from tenuto.figures.guard import plot_guard

    ax = Figure().add_subplot()
    plot_guard(ax)
    said = " ".join(text.get_text().replace("\n", " ") for text in ax.texts)
    ways = {(state, row.after) for (state, event), row in TABLE.items() if row.after is not state}
    assert sum(getattr(text, "arrow_patch", None) is not None for text in ax.texts) == len(
        [way for way in ways if way[1] is not State.EMERGENCY_STOP]
    )
    assert all(event in said for (state, event), row in TABLE.items() if row.after is not state)
