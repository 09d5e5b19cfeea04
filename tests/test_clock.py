"""A clock that goes back is one fault: nothing that is kept changes its age, in any state of any profile."""

import math
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import examples
from tenuto import Frame, Pipeline, Profile, Tick, testing
from tenuto.basics.reasons import Code, Reason
from tenuto.data import shipped
from tenuto.driving.telemetry import Telemetry
from tenuto.sim.hands import DRIVERS, Hands

SAYS = frozenset(Telemetry._fields)
BACK = (Reason(Code.TIME_BACKWARDS, "the same fault"),)


def seen(tick: Tick) -> tuple[object, ...]:
    """Return what a tick decides; the texts of reasons have times in them."""
    numbers = {**tick.command._asdict(), **tick.actuators, **tick.outputs, **tick.wire}
    return (
        tick.guard.state, [one.code for one in tick.guard.reasons], tick.power, tick.send, tick.actions, tick.chosen,
        [one.code for one in tick.notices if one.code != Code.ENABLE_OFFERED], tick.driver,
        {name: pytest.approx(value, abs=1e-6, nan_ok=True) for name, value in numbers.items()},
    )  # fmt: skip


@examples(25)
@given(testing.any_profile(), st.integers(0, 10**6), st.floats(1e-3, 5000.0), st.data())
def test_after_the_clock_has_gone_back_everything_is_as_old_as_before(
    profile: Profile, seed: int, back: float, data: st.DataObject
) -> None:
    """The same drive, with the clock going back in one, and with a fault from outside at that tick in the other."""
    plan, dice = profile.plan(), random.Random(seed)
    jumping, steady, hands, now, gone = Pipeline(plan), Pipeline(plan), Hands(plan), 6000.0, 0.0
    jumps = {hands.begins + data.draw(st.integers(0, 150)) for _ in range(data.draw(st.integers(1, 2)))}
    silent = hands.begins + data.draw(st.integers(0, 150))
    lasts, driver = data.draw(st.integers(0, 60)), data.draw(st.sampled_from(sorted(DRIVERS)))
    far = Telemetry(says=SAYS, follows=True, armed=True, height=1.0, x=0.0, y=0.0, charge=1.0, voltage=12.0)
    heard = now
    for number in range(hands.begins + 220):
        now += plan.period
        hands.act(driver, dice, plan.period, number)
        quiet = silent <= number < silent + lasts
        heard = heard if quiet else now
        gone += back + plan.period if number in jumps else 0.0
        both = list[Tick]()
        for pipeline, behind in ((steady, 0.0), (jumping, gone)):
            moment = now - behind
            others = {one.heard_from or "": Frame(moment, {one.reads: 1.0}) for one in plan.inputs if not quiet}
            frame = None if quiet else Frame(moment, hands.values())
            both.append(
                pipeline.step(
                    frame, moment, others=others, far={"robot": far._replace(time=heard - behind)},
                    faults=BACK if pipeline is steady and number in jumps else (),
                )
            )  # fmt: skip
        assert seen(both[1]) == seen(both[0]), f"tick {number}, jumps at {jumps}"
        assert not math.isnan(both[1].command.vx)


def test_a_descent_ends_in_time_though_the_clock_goes_back() -> None:
    plan = tenuto.load_profile(shipped("damson.toml")).plan()
    hands, dice, pipeline, now = Hands(plan), random.Random(1), Pipeline(plan), 1000.0
    for number in range(hands.begins + 100):
        now += plan.period
        hands.act("careful", dice, plan.period, number)
        pipeline.step(Frame(now, hands.values()), now)
    now -= 995.0
    sinking = 0
    for _ in range(round(60.0 / plan.period)):
        now += plan.period
        sinking += pipeline.step(None, now).command.vz < 0.0
    assert sinking * plan.period <= plan.guard.descend_for + 1.0
