from tenuto import load_profile, testing
from wheelbarrow.nine import Nine
from wheelbarrow.nudge import NudgeOptions

PROFILE = __file__.rsplit("/", 2)[0] + "/medlar-barrow.toml"


def test_nudge() -> None:
    testing.style_keeps_its_promises(NudgeOptions)


def test_nine() -> None:
    testing.radio_keeps_its_promises(Nine)


def test_the_profile_in_stories_of_faults() -> None:
    testing.profile_keeps_its_promises(load_profile(PROFILE), range(8))
