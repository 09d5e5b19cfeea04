"""What a control means: keys, push-buttons of unknown devices, units of settings, and the words of a stop."""

from __future__ import annotations

import pytest

import tenuto
from helpers import Bench
from tenuto.profile.checks.advice import advise
from tenuto.sources.keyboard import LEVELS

KEYS = """
format = 1
name = "Keys"
source = { kind = "keyboard" }
style = { kind = "arcade", forward = "forward", turn = "turn" }
speeds = { forward = 1.0, turn = 2.0 }
limits = { acceleration = 50.0, turn_acceleration = 50.0 }
guard = { hold_to_run = "enable", link_timeout = "300 ms" }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 40.0 }
"""
COLUMNS = """
format = 1
name = "Columns"
source = { kind = "lines", port = "/dev/ttyACM0", columns = ["stick", "side", "start"] }
controls.stick = { reads = "stick", low = 100, centre = 500, high = 900, dead_zone = 0.1 }
controls.side = { reads = "side", low = 100, centre = 500, high = 900, dead_zone = 0.1 }
controls.start.reads = "start"
controls.start.low = 0
controls.start.high = 1
style = { kind = "arcade", forward = "stick", turn = "side" }
speeds = { forward = 1.0, turn = 2.0 }
limits = { acceleration = 1.0, turn_acceleration = 5.0 }
guard = { enable = "start", link_timeout = "300 ms" }
chassis = { kind = "differential", track = 0.5, wheel_radius = 0.1, max_wheel_speed = 40.0 }
"""


@pytest.mark.parametrize("level", range(1, LEVELS + 1))
def test_a_step_of_the_keys_is_that_share_of_the_speed(level: int) -> None:
    rest = {"forward": 0.0, "turn": 0.0, "enable": 0.0}
    bench = Bench(tenuto.parse_profile(KEYS))
    bench.run(0.2, rest)
    bench.run(0.2, rest | {"enable": 1.0})
    tick = bench.run(1.0, rest | {"enable": 1.0, "forward": level / LEVELS})
    assert tick.command.vx == pytest.approx(level / LEVELS)
    zoned = tenuto.parse_profile(KEYS + "controls.forward.dead_zone = 0.08\n")
    assert any("takes away its first steps" in str(one) for one in advise(zoned))


def columns(spring: bool | None) -> Bench:
    """Return a robot whose enabling control is a column: nobody but the builder knows whether it springs back."""
    known = "controls.start.high = 1\n"
    said = "" if spring is None else f"controls.start.push_button = {str(spring).lower()}\n"
    bench = Bench(tenuto.parse_profile(COLUMNS.replace(known, known + said)))
    for start in (0.0, 1.0, 1.0):
        bench.run(0.2, {"stick": 500.0, "side": 500.0, "start": start})
    return bench


@pytest.mark.parametrize("spring", [None, True, False])
def test_a_column_is_a_switch_that_stays_until_the_profile_says_that_it_springs_back(spring: bool | None) -> None:
    bench = columns(spring)
    pushed = {"stick": 900.0, "side": 500.0}
    assert bench.run(0.5, pushed | {"start": 1.0}).command.vx > 0.4
    released = bench.run(1.5, pushed | {"start": 0.0})
    assert (released.command.vx > 0.9) is (spring is True)
    if spring is True:
        bench.run(0.2, pushed | {"start": 1.0})
        assert bench.run(1.5, pushed | {"start": 0.0}).command.vx == 0.0, "the second press ends it"


def test_drivers_whose_enabling_controls_differ_in_kind_are_refused() -> None:
    second = """
[drivers.second]
alone = true
controls.start.reads = "start"
controls.start.push_button = true
controls.start.low = 0
controls.start.high = 1
source = { kind = "lines", port = "/dev/ttyACM1", columns = ["stick", "side", "start"] }
"""
    with pytest.raises(tenuto.ProfileError, match=r"keeps its position.*as the first driver.*springs back"):
        tenuto.parse_profile(COLUMNS + second)
    assert tenuto.parse_profile(COLUMNS + second.replace("push_button = true", "push_button = false"))
