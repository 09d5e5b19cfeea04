"""Broken guards, with plausible errors. The fault campaign must detect each of them (test_soak.py)."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest

from tenuto.basics.reasons import Code, Reason
from tenuto.driving import distance as distance_module
from tenuto.driving import guard as guard_module
from tenuto.driving import inputs as inputs_module
from tenuto.driving import limits
from tenuto.driving import pipeline as pipeline_module
from tenuto.driving.changeover import Changeover
from tenuto.driving.distance import Distance
from tenuto.driving.driver import StickDriver
from tenuto.driving.guard import HAPPENS, TABLE, Event, GuardSettings, Memory, Row, Seen, State
from tenuto.driving.inhibits import Inhibit
from tenuto.driving.link_loss import LinkLoss
from tenuto.driving.measured import Measured
from tenuto.driving.one_way import OneWayClock
from tenuto.driving.pipeline import Pipeline
from tenuto.driving.ramps import CommandRamp
from tenuto.driving.ranks import Ranks
from tenuto.driving.vigilance import Attention, StartTest, StartWarning
from tenuto.driving.watchdog import CommandWatchdog
from tenuto.outputs.base import Output
from tenuto.profile.speeds import LimitsTable
from tenuto.sticks.reading import Reader
from tenuto.styles.speeds import Speeds
from tenuto.vehicles.velocity import STANDSTILL, VelocityCommand

Mutant = Callable[[pytest.MonkeyPatch], None]


def _table(changes: dict[tuple[State, Event], State | None]) -> Mutant:
    """Change rows of the guard's table; None removes one."""

    def apply(patch: pytest.MonkeyPatch) -> None:
        rows = {key: Row(after) for key, after in changes.items() if after is not None}
        patch.setattr(
            guard_module,
            "TABLE",
            {key: row for key, row in {**TABLE, **rows}.items() if changes.get(key, 0) is not None},
        )

    return apply


def _happens(event: Event, when: Callable[[Memory, Seen], bool]) -> Mutant:
    """Change when an event happens."""
    return lambda patch: patch.setattr(guard_module, "HAPPENS", {**HAPPENS, event: when})


def _advance(change: Callable[[Memory, Memory, Seen], Memory]) -> Mutant:
    """Change the guard's next memory: from before, after and the inputs."""

    def apply(patch: pytest.MonkeyPatch) -> None:
        def advance(memory: Memory, seen: Seen, *rest: Any) -> Any:
            after, followed = guard_module_advance(memory, seen, *rest)
            return change(memory, after, seen), followed

        guard_module_advance = guard_module.advance
        patch.setattr(guard_module, "advance", advance)

    return apply


def _clips_instead_of_ramping(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(pipeline_module, "ramp_to_stop", lambda *_: STANDSTILL)


def _stops_too_slowly(patch: pytest.MonkeyPatch) -> None:
    stop = limits.ramp_to_stop
    patch.setattr(pipeline_module, "ramp_to_stop", lambda before, dt, *rest: stop(before, 0.1 * dt, *rest))
    patch.setattr(Pipeline, "_overdue", lambda *_: None)


def _speeds_up_without_limit(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(CommandRamp, "step", lambda self, before, target, *rest: target)


def _never_hears_silence(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(StickDriver, "link_faults", lambda self, now: ())


def _believes_every_number(patch: pytest.MonkeyPatch) -> None:
    take = Reader.take

    def believing(self: Reader, frame: Any, now: float) -> Any:
        good = {
            name: value if isinstance(value, float) and abs(value) < 1e6 else 0.0
            for name, value in frame.values.items()
        }
        return take(self, frame._replace(values=good), now)

    patch.setattr(Reader, "take", believing)


def _trusts_every_clock(patch: pytest.MonkeyPatch) -> None:
    step = OneWayClock.step
    patch.setattr(OneWayClock, "step", lambda self, given: (step(self, given)[0], ()))


def _forgets_the_jump(patch: pytest.MonkeyPatch) -> None:
    step = OneWayClock.step

    def forgetting(self: OneWayClock, given: float) -> Any:
        dt, faults = step(self, given)
        return dt, tuple(fault for fault in faults if fault.code != Code.TIME_BACKWARDS)

    patch.setattr(OneWayClock, "step", forgetting)


def _believes_a_bad_link(patch: pytest.MonkeyPatch) -> None:
    take = Reader.take
    patch.setattr(Reader, "take", lambda self, frame, now: take(self, frame._replace(link_good=True), now))


def _outputs_go_on(patch: pytest.MonkeyPatch) -> None:
    step = Output.step
    patch.setattr(Output, "step", lambda self, permitted, *rest: step(self, True, *rest))


def _lets_the_learner_drive_alone(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(Ranks, "held", property(lambda self: self.current.held))


def _does_not_see_a_blocked_sink(patch: pytest.MonkeyPatch) -> None:
    step = Pipeline.step
    patch.setattr(Pipeline, "step", lambda self, *known, **more: step(self, *known, **{**more, "faults": ()}))


def _changes_the_profile_without_a_stop(patch: pytest.MonkeyPatch) -> None:
    def change(self: Changeover, plan: Any) -> None:
        self._next, self._standing = plan, True

    patch.setattr(Changeover, "change", change)


def _inhibits(change: Callable[[Inhibit, Reason | None, float], Reason | None]) -> Mutant:
    """Change why an input inhibits."""

    def apply(patch: pytest.MonkeyPatch) -> None:
        reason = Inhibit.reason
        patch.setattr(Inhibit, "reason", lambda self, now: change(self, reason(self, now), now))

    return apply


def _measured(which: str, change: Callable[[Reason], Reason | None]) -> Mutant:
    """Change the verdict on a measured speed."""

    def apply(patch: pytest.MonkeyPatch) -> None:
        reason = Measured.reason

        def say(self: Measured, now: float) -> Reason | None:
            said = reason(self, now)
            return change(said) if said is not None and said.code == f"speed_{which}" else said

        patch.setattr(Measured, "reason", say)

    return apply


def _second_emergency_is_not_heard(patch: pytest.MonkeyPatch) -> None:
    on = Ranks.on
    patch.setattr(Ranks, "on", lambda self, name: None if name == self._plan.guard.emergency_stop_2 else on(self, name))
    patch.setattr(StickDriver, "_stops_on_in", lambda self, frame: ())


def _plans(**changes: Callable[[Any], Any]) -> Mutant:
    """Misread keys of the guard on the way from the file to the plan."""

    def apply(patch: pytest.MonkeyPatch) -> None:
        def misread(**keys: Any) -> GuardSettings:
            changed = {name: change(keys[name]) for name, change in changes.items() if keys[name] is not None}
            return GuardSettings(**{**keys, **changed})

        patch.setattr("tenuto.profile.build.GuardSettings", misread)

    return apply


def _forgives_forever(patch: pytest.MonkeyPatch) -> None:
    bear = LinkLoss.bear
    patch.setattr(LinkLoss, "bear", lambda self, faults, state, now, dt: bear(self, faults, state, 0.0, 0.0))


def _drives_faster(patch: pytest.MonkeyPatch) -> None:
    demand = Speeds.demand
    patch.setattr(Speeds, "demand", lambda self, intent, share=1.0: demand(self, intent, 3.0 * share))


def _accelerates_harder(patch: pytest.MonkeyPatch) -> None:
    limits_of = LimitsTable.limits

    def harder(table: LimitsTable) -> Any:
        made = limits_of(table)
        return replace(made, acceleration=3.0 * made.acceleration)

    patch.setattr(LimitsTable, "limits", harder)


def _horn_is_silent(patch: pytest.MonkeyPatch) -> None:
    step = Output.step
    patch.setattr(Output, "step", lambda self, *known: step(self, *known[:4]))


def _keeps_presses(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(Ranks, "disable", lambda self: None)
    patch.setattr(Ranks, "forget_releases", lambda self: None)


def _power_by_reset(before: Memory, after: Memory, seen: Seen) -> Memory:
    left = before.state is State.EMERGENCY_STOP and after.state is not State.EMERGENCY_STOP
    return after._replace(powered=True) if left else after


def _reacts_at_once(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(
        distance_module, "speed_to_stop_within", lambda far, slows, reaction: math.sqrt(max(2 * slows * far, 0))
    )


def _latches_nothing(patch: pytest.MonkeyPatch) -> None:
    def feed(self: CommandWatchdog, now: float, valid_for: float, standstill: bool) -> None:
        self._latched, self._until, self._newest = False, now + valid_for, now

    patch.setattr(CommandWatchdog, "feed", feed)


S, E = State, Event


MUTANTS: dict[str, Mutant] = {
    "drives on through a fault": _table({(S.DRIVING, E.FAULT): None}),
    "drives on when hold-to-run is released": _table({(S.DRIVING, E.RELEASED): None}),
    "does not wait for rest": _happens(E.RESTED, lambda memory, seen: not seen.faulty and not memory.ended),
    "does not want a release": _happens(
        E.ENABLED, lambda memory, seen: bool(seen.held) and not (seen.missing or seen.faulty or memory.ended)
    ),
    "takes any press after a fault": _table({(S.FAULT, E.RESTED): S.DRIVING}),
    "restarts when the link returns": _advance(
        lambda before, after, seen: (
            after._replace(state=S.DRIVING) if before.state is S.FAULT and seen.held and not seen.faulty else after
        )
    ),
    "forgets the emergency stop": _table({(S.DRIVING, E.EMERGENCY): None}),
    "leaves the emergency stop by itself": _table({(S.EMERGENCY_STOP, E.RELEASED): S.NOT_ENABLED}),
    "a reset starts it": _table({(S.EMERGENCY_STOP, E.RESET): S.DRIVING}),
    "clips instead of ramping": _clips_instead_of_ramping,
    "stops too slowly, and does not notice": _stops_too_slowly,
    "speeds up without a limit": _speeds_up_without_limit,
    "never hears silence": _never_hears_silence,
    "believes every number": _believes_every_number,
    "believes a bad link": _believes_a_bad_link,
    "trusts every clock": _trusts_every_clock,
    "lets outputs go on": _outputs_go_on,
    "keeps the power on": _advance(lambda before, after, seen: after._replace(powered=True)),
    "gives the robot to hands that are moved": lambda patch: patch.setattr(Ranks, "_not_given", lambda *_: []),
    "lets nobody take over": lambda patch: patch.setattr(Ranks, "_taken", lambda _: None),
    "does not look at the permit": lambda patch: patch.setattr(Ranks, "_kept", lambda self: self.current),
    "lets the learner drive alone": _lets_the_learner_drive_alone,
    "does not see a blocked sink": _does_not_see_a_blocked_sink,
    "changes the profile without a stop": _changes_the_profile_without_a_stop,
    "sees no inhibit": _inhibits(lambda one, reason, now: None),
    "takes a silent inhibit for a good one": _inhibits(
        lambda one, reason, now: None if reason is not None and "silent" in reason.text else reason
    ),
    "knows no category of an inhibit": lambda patch: patch.setattr(
        inputs_module,
        "Inhibit",
        lambda plan: Inhibit(replace(plan, category=None if plan.category is None else 2)),
    ),
    "does not slow down for an inhibit": lambda patch: patch.setattr(
        inputs_module, "Inhibit", lambda plan: Inhibit(replace(plan, share=1.0))
    ),
    "compares no measured speed": _measured("wrong", lambda reason: None),
    "takes a silent measured speed for a good one": _measured("unknown", lambda reason: None),
    "leaves a runaway robot its power": _measured("wrong", lambda reason: reason._replace(code=Code.SPEED_UNKNOWN)),
    "takes a silent sensor for a free way": lambda patch: patch.setattr(Distance, "_is_heard", lambda self, now: True),
    "wants no attention": lambda patch: patch.setattr(Attention, "step", lambda *_: (None, None)),
    "wants no test at start": lambda patch: patch.setattr(StartTest, "step", lambda *_: ()),
    "does not wait for the start warning": lambda patch: patch.setattr(StartWarning, "step", lambda *_: None),
    "warns with a silent horn": _horn_is_silent,
    "does not see the stop switch": lambda patch: patch.setattr(Pipeline, "_stop_switch", lambda _: ()),
    "does not hear the second emergency stop": _second_emergency_is_not_heard,
    "loses an emergency stop in a bad frame": lambda patch: patch.setattr(StickDriver, "_stops_on_in", lambda *_: ()),
    "takes the newest frame only": lambda patch: patch.setattr(StickDriver, "_catch_up", lambda *_: ()),
    "sees a release in a good frame only": lambda patch: patch.setattr(StickDriver, "_lets_go_in", lambda *_: False),
    "sees a contact in the newest frame only": lambda patch: patch.setattr(
        inputs_module, "frames_in", lambda frame: (frame,)
    ),
    "forgives a lost link forever": _forgives_forever,
    "drives faster than the file says": _drives_faster,
    "accelerates harder than the file says": _accelerates_harder,
    "reads a longer timeout than the file says": _plans(link_timeout=lambda seconds: 5.0 * seconds),
    "reads a longer grace than the file says": _plans(grace=lambda seconds: 5.0 * seconds),
    "reads another button for hold-to-run": _plans(hold_to_run=lambda name: "west"),
    "reads a harder stop than the file says": _plans(stop_deceleration=lambda limit: 3.0 * limit),
    "does not stop for a clock that goes back": _forgets_the_jump,
    "descends the ranks at once": lambda patch: patch.setattr(Ranks, "_may", lambda self, one: True),
    "drives on when it is asked to end": lambda patch: patch.setattr(Changeover, "end", lambda self, reason: None),
    "ends with a jump": lambda patch: patch.setattr(
        pipeline_module, "ramp_to_stop", lambda before, dt, *rest: VelocityCommand(*(0.5 * axis for axis in before))
    ),
    "reads a shorter start warning than the file says": _plans(start_warning=lambda seconds: 0.3 * seconds),
    "reads a longer attention than the file says": _plans(attention=lambda seconds: 5.0 * seconds),
    "takes a stop of category 0 for one of category 1": _plans(emergency_category=lambda number: 1),
    "keeps presses through a stop": _keeps_presses,
    "gives power back by a reset": _advance(_power_by_reset),
    "does not count what was driven since a number came": lambda patch: patch.setattr(
        Distance, "_since", lambda *_: 0.0
    ),
    "counts on a robot that reacts at once": _reacts_at_once,
    "lets a robot go on by itself after a silence": _latches_nothing,
}

# The first drive that detects each of them: the profile, and the seed of the drive.
SEEN_BY: dict[str, tuple[str, int]] = {
    "drives on through a fault": ("medlar", 0),
    "drives on when hold-to-run is released": ("medlar", 5),
    "does not wait for rest": ("medlar-lift", 2),
    "does not want a release": ("medlar-lesson", 0),
    "takes any press after a fault": ("medlar", 0),
    "restarts when the link returns": ("medlar", 0),
    "forgets the emergency stop": ("medlar-lesson", 5),
    "leaves the emergency stop by itself": ("medlar-lesson", 3),
    "a reset starts it": ("medlar-lesson", 12),
    "clips instead of ramping": ("medlar", 2),
    "stops too slowly, and does not notice": ("quince", 4),
    "speeds up without a limit": ("medlar", 2),
    "never hears silence": ("medlar", 5),
    "believes every number": ("medlar", 0),
    "believes a bad link": ("medlar", 1),
    "trusts every clock": ("medlar", 4),
    "lets outputs go on": ("medlar-lift", 1),
    "keeps the power on": ("medlar-lesson", 0),
    "gives the robot to hands that are moved": ("medlar-lesson", 11),
    "lets nobody take over": ("medlar-lesson", 38),
    "does not look at the permit": ("medlar-lesson", 11),
    "lets the learner drive alone": ("medlar-lesson", 46),
    "does not see a blocked sink": ("medlar", 2),
    "changes the profile without a stop": ("medlar", 25),
    "sees no inhibit": ("all of it", 0),
    "takes a silent inhibit for a good one": ("all of it", 7),
    "knows no category of an inhibit": ("all of it", 0),
    "does not slow down for an inhibit": ("all of it", 7),
    "compares no measured speed": ("careful", 28),
    "takes a silent measured speed for a good one": ("careful", 13),
    "leaves a runaway robot its power": ("careful", 28),
    "takes a silent sensor for a free way": ("all of it", 0),
    "wants no attention": ("all of it", 23),
    "wants no test at start": ("careful", 0),
    "does not wait for the start warning": ("all of it", 0),
    "warns with a silent horn": ("all of it", 0),
    "does not see the stop switch": ("all of it", 24),
    "does not hear the second emergency stop": ("all of it", 0),
    "loses an emergency stop in a bad frame": ("medlar-lesson", 0),
    "takes the newest frame only": ("medlar", 0),
    "sees a release in a good frame only": ("all of it", 0),
    "sees a contact in the newest frame only": ("all of it", 0),
    "forgives a lost link forever": ("all of it", 4),
    "drives faster than the file says": ("all of it", 7),
    "accelerates harder than the file says": ("all of it", 0),
    "reads a longer timeout than the file says": ("all of it", 4),
    "reads a longer grace than the file says": ("all of it", 4),
    "reads another button for hold-to-run": ("all of it", 0),
    "reads a harder stop than the file says": ("medlar-lift", 2),
    "reads a shorter start warning than the file says": ("all of it", 0),
    "reads a longer attention than the file says": ("all of it", 23),
    "takes a stop of category 0 for one of category 1": ("all of it", 5),
    "keeps presses through a stop": ("medlar-lesson", 9),
    "gives power back by a reset": ("all of it", 4),
    "does not stop for a clock that goes back": ("all of it", 4),
    "descends the ranks at once": ("medlar-lesson", 11),
    "drives on when it is asked to end": ("medlar", 27),
    "ends with a jump": ("all of it", 2),
    "does not count what was driven since a number came": ("medlar-lesson", 28),
    "counts on a robot that reacts at once": ("all of it", 8),
    "lets a robot go on by itself after a silence": ("all of it", 38),
}
