"""Random valid profiles in stories of faults: what the guard promises holds for what a user may write."""

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from helpers import examples
from tenuto import Profile, parse_profile, testing
from tenuto.data import shipped
from tenuto.sim.truth import truth_table
from tenuto.sim.worst import worst_of


@pytest.mark.long
@examples(45)
@given(testing.any_profile(), st.integers(0, 10_000))
def test_the_guard_keeps_its_promises_whatever_the_profile(profile: Profile, seed: int) -> None:
    testing.profile_keeps_its_promises(profile, [seed])


@pytest.mark.long
@settings(examples(15), phases=[Phase.explicit, Phase.reuse, Phase.generate])  # to shrink one takes minutes
@given(testing.any_profile())
def test_no_stop_is_longer_than_is_promised(profile: Profile) -> None:
    """Every fault, closed loop, from the ways to hold the sticks from which a stop goes furthest."""
    for worst in worst_of(profile, 1):
        assert worst.seconds <= worst.promise.seconds + 1e-6, worst
        assert worst.metres <= worst.promise.metres + 1e-6, worst


@pytest.mark.long
@settings(examples(6), phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(testing.any_profile())
def test_a_truth_table_is_what_the_vehicle_does(profile: Profile) -> None:
    """Whatever the profile: what its actuators do makes the velocity that is said, and every stick stops it again."""
    plan, meaning = profile.plan(), truth_table(profile)
    for row in meaning.rows:
        if row.actuators:
            # What floats is compared by its forces: hardly any of them is needed where there is hardly any drag.
            drag = [min(one, 1.0) for one in plan.chassis.inertia().drag or (1.0,) * 4]
            made = zip(plan.chassis.forward(row.actuators), row.command, drag, strict=True)
            assert max(abs(does - said) * much for does, said, much in made) < 1e-5
            assert row.control in plan.driving_controls()
        else:
            assert row.outputs or row.does
    assert not [finding for finding in meaning.findings if finding.is_error]


MEDLAR, LIFT = shipped("medlar.toml").read_text(), shipped("medlar-lift.toml").read_text()
AHEAD = MEDLAR.replace("[controls.drive]", "[controls.forward]").replace('= "drive"', '= "forward"')
WAYS = {"forward": "north", "backward": "south", "left": "left_trigger", "right": "right_trigger"}
FOUR_WAY = MEDLAR.split("[controls.drive]")[0] + "".join(
    f'[controls.{name}]\nreads = "{reads}"\n' for name, reads in WAYS.items()
) + '[style]\nkind = "four_way"\nforward = "forward"\nbackward = "backward"\nleft = "left"\nright = "right"\n\n' + (
    MEDLAR[MEDLAR.index("[speeds]"):])  # fmt: skip
SIDEWAYS = 'kind = "any_direction"\nsideways = "side"'


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (MEDLAR, []),
        (AHEAD, []),
        (FOUR_WAY, []),
        (FOUR_WAY.replace('\nleft = "left"\nright = "right"', '\nleft = "right"\nright = "left"'),
         ["controls.right: right_trigger at 32767 goes against its name: turns left (", "controls.left: left_tr"]),
        (MEDLAR.replace('kind = "arcade"', SIDEWAYS) + '[controls.side]\nreads = "left_x"\n',
         ["controls.side: it moves nothing, in no mode"]),
        (MEDLAR.replace("[controls.steer]", "[controls.steer]\nramp_down = 90"), ["controls.steer: the robot still"]),
    ],
    ids=["as it ships", "well named", "four ways", "left and right changed over", "sideways", "slow to let go"],
)  # fmt: skip
def test_what_is_odd_about_a_truth_table(text: str, said: list[str]) -> None:
    found = [str(finding) for finding in truth_table(parse_profile(text)).findings]
    assert len(found) == len(said)
    assert all(line.startswith(start) for line, start in zip(found, said, strict=True))


def test_buttons_of_a_truth_table() -> None:
    does = {row.control: (dict(row.outputs), row.does) for row in truth_table(parse_profile(LIFT)).rows if not row.mode}
    assert does["left_stick"] == ({}, ("horn",))
    assert does["right_shoulder"] == ({"gripper": 1.0}, ())
    assert does["west"] == ({}, ("mode brisk", "rates full"))
