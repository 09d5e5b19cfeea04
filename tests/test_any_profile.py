"""Random valid profiles in stories of faults: what the guard promises holds for what a user may write."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import examples
from tenuto import Profile, testing


@pytest.mark.long
@examples(60)
@given(testing.any_profile(), st.integers(0, 10_000))
def test_the_guard_keeps_its_promises_whatever_the_profile(profile: Profile, seed: int) -> None:
    testing.profile_keeps_its_promises(profile, [seed])
