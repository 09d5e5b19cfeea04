"""Random valid profiles in stories of faults: what the guard promises holds for what a user may write."""

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from helpers import examples
from tenuto import Profile, testing
from tenuto.sim.worst import worst_of


@pytest.mark.long
@examples(60)
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
