"""The fault campaign over random valid profiles: each drive with another robot; a failure is reduced in both parts."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace

from hypothesis import HealthCheck, Phase, given, seed, settings

from tenuto.profile.profile import Profile
from tenuto.sim.hands import Hands
from tenuto.sim.soak import Episode, Outcome, make_story, play, shrink
from tenuto.testing.profiles import any_profile

# The faults of each story; before them, the robot is enabled and driven as required.
EPISODES = 2
# The shortest time of driving, s.
_DRIVEN = 0.5
_WELL = Episode(1.5, "careful", "good", "steady", "there", 0, True)


def soak_any(runs: int, first_seed: int, seen: Callable[[Profile, Outcome], None]) -> tuple[Profile, Outcome] | None:
    """Play one story of faults with each of many random profiles.

    Args:
        runs: number of profiles. first_seed: the same one gives the same profiles and stories.
        seen: is called with every drive while none has failed.

    Returns:
        The smallest profile with the shortest story that breaks a promise; None if none was broken.
    """
    failed: list[tuple[Profile, Outcome]] = []
    dice = random.Random(first_seed)
    number = 0

    def drive(profile: Profile) -> None:
        # Each profile has its own story, until one fails: then the profile is reduced. Stories are
        # not drawn with the profiles, because large whole numbers are drawn small, and few stories would be repeated.
        nonlocal number
        number = number if failed else dice.randrange(2**31)
        plan = profile.plan()
        seconds = max(_WELL.seconds, Hands(plan).begins * plan.period + _DRIVEN)
        outcome = play(profile, [replace(_WELL, seed=number, seconds=seconds), *make_story(number, EPISODES)])
        if not failed:
            seen(profile, outcome)
        if outcome.broken:
            failed.append((profile, outcome))
            raise AssertionError("; ".join(outcome.broken))

    tried = settings(
        max_examples=runs, deadline=None, database=None, phases=[Phase.generate, Phase.shrink],
        suppress_health_check=list(HealthCheck), print_blob=False, report_multiple_bugs=False,
    )  # fmt: skip
    try:
        seed(first_seed)(tried(given(any_profile())(drive)))()
    except AssertionError:
        profile, outcome = failed[-1]  # the last failing one is the smallest that was found
        story = shrink(profile, outcome.story)
        return profile, play(profile, story)
    return None
