"""The promises of every kind, as tests for kinds of your own.

Needs hypothesis: ``pip install 'tenuto[testing]'``. In a test::

    from tenuto import testing
    from wheelbarrow.nudge import NudgeOptions

    def test_nudge() -> None:
        testing.style_keeps_its_promises(NudgeOptions)
"""

from tenuto.testing.anything import any_options, any_velocity
from tenuto.testing.profiles import any_profile
from tenuto.testing.promises import (
    curve_keeps_its_promises,
    output_keeps_its_promises,
    profile_keeps_its_promises,
    radio_keeps_its_promises,
    style_keeps_its_promises,
    switch_keeps_its_promises,
    vehicle_keeps_its_promises,
)

__all__ = [
    "any_options",
    "any_profile",
    "any_velocity",
    "curve_keeps_its_promises",
    "output_keeps_its_promises",
    "profile_keeps_its_promises",
    "radio_keeps_its_promises",
    "style_keeps_its_promises",
    "switch_keeps_its_promises",
    "vehicle_keeps_its_promises",
]
