"""Every kind keeps the promises of `tenuto.testing`; the docs are made from the kinds; a package can add kinds."""

import os
import re
import runpy
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import strategies as st

from tenuto import testing
from tenuto.curves.base import CURVES
from tenuto.outputs.base import OUTPUTS
from tenuto.protocols.radio.base import RADIOS
from tenuto.styles.base import STYLES
from tenuto.switches.base import SWITCHES
from tenuto.testing.promises import vehicle_can_do
from tenuto.vehicles import Drag, Thruster, Thrusters, four_wheel_steer
from tenuto.vehicles.base import VEHICLES
from tenuto.vehicles.velocity import VelocityCommand

ROOT = Path(__file__).parents[1]
BOAT = Thrusters((Thruster("left", -0.5, 0.3), Thruster("right", -0.5, -0.3)), Drag(18.0, 36.0, 36.0, 6.0))
# The vehicles for styles that do not fit every vehicle.
FITS: dict[str, dict[str, Any]] = {
    "four_wheel": {"chassis": four_wheel_steer(1.2, 0.8, 0.2, 0.5, 20.0)},
    "thrusters": {"chassis": BOAT, "each": {"left": "a", "right": "b"}},
}


@pytest.mark.parametrize("name", RADIOS.all)
def test_radio_protocols_keep_their_promises(name: str) -> None:
    testing.radio_keeps_its_promises(RADIOS.all[name])


@pytest.mark.parametrize("name", VEHICLES.all)
def test_vehicles_keep_their_promises(name: str) -> None:
    testing.vehicle_keeps_its_promises(VEHICLES.all[name])


def test_a_craft_of_little_drag_keeps_them_too() -> None:
    light = Thrusters((Thruster("left", 0.0, 0.004, most=1.0, most_back=0.0),), Drag(0.004, 0.008, 0.008, 1.0))
    asked = VelocityCommand(vx=0.00390625)
    vehicle_can_do(light, asked)
    assert light.within_reach(asked)[0].yaw_rate < 0.0, "its thruster beside the middle turns it"
    # The end of a ramp to a stop: a residual of 1e-9 rad/s would need the one thruster that pushes back.
    front, left, right = (Thruster("front", 2.149, 0.0, most=125.737, most_back=0.0),
                          Thruster("left", -3.0, 2.511, tilt=1.2, most=30.216, most_back=0.0),
                          Thruster("right", 0.0, -0.77, most=116.973, most_back=179.087))  # fmt: skip
    lighter = Thrusters((front, left, right), Drag(0.001, 0.002, 0.002, 43.385))
    assert lighter.fits(VelocityCommand(-5.634732848236228e-05, 0.0, -2.0010209926513495e-16, 1.35e-16))


@pytest.mark.parametrize("name", STYLES.all)
def test_styles_keep_their_promises(name: str) -> None:
    testing.style_keeps_its_promises(STYLES.all[name], **FITS.get(name, {}))


@pytest.mark.parametrize("name", SWITCHES.all)
def test_switches_keep_their_promises(name: str) -> None:
    testing.switch_keeps_its_promises(SWITCHES.all[name])


@pytest.mark.parametrize("name", OUTPUTS.all)
def test_outputs_keep_their_promises(name: str) -> None:
    testing.output_keeps_its_promises(OUTPUTS.all[name])


places = st.lists(st.floats(0.01, 0.99), min_size=1, max_size=4, unique=True).map(sorted)
CURVE_VALUES = {
    "expo": st.floats(0, 1) | st.lists(st.floats(0, 1), min_size=2, max_size=2),
    "power": st.floats(1, 5) | st.lists(st.floats(1, 5), min_size=2, max_size=2),
    "curve": st.tuples(places, places).map(lambda two: [[0, 0], *map(list, zip(*two, strict=False)), [1, 1]]),
}


@pytest.mark.parametrize("name", CURVES.all)
def test_curves_keep_their_promises(name: str) -> None:
    testing.curve_keeps_its_promises(CURVES.all[name], CURVE_VALUES[name])


@pytest.mark.long
def test_the_docs_have_what_the_kinds_and_the_reasons_say() -> None:
    for path, text in runpy.run_path(str(ROOT / "scripts/make_tables.py"))["pages"]().items():
        assert path.read_text() == text, f"{path.name} is not what the code says: make tables"


def test_a_reason_has_a_code_of_the_list() -> None:
    for file in (ROOT / "src/tenuto").rglob("*.py"):
        assert re.search(r"\b(Reason|Condition)\(\s*\"", file.read_text()) is None, file.name


ALL_AT_ONCE = """
import sys
import pytest
from tenuto.cli import main
from tenuto.clock import SimulatedClock
for line in sys.stdin.read().splitlines():
    try:
        main(line.split(), SimulatedClock())
    except SystemExit as end:
        print("ended", end.code)
sys.exit(pytest.main(sys.argv[1:]))
"""


@pytest.mark.long
def test_a_package_adds_kinds_by_being_installed(tmp_path: Path) -> None:
    target, example = str(tmp_path / "installed"), ROOT / "examples/wheelbarrow"
    install = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-build-isolation", "--no-index"]
    subprocess.run([*install, "--target", target, str(example)], check=True, timeout=120)
    profile = example / "medlar-barrow.toml"
    commands = f"check {profile}\ndrive {profile} --source simulated:nine --seconds 3"
    tests = ["-q", "-n", "0", "-p", "no:cacheprovider", str(example / "tests")]
    done = subprocess.run(
        [sys.executable, "-c", ALL_AT_ONCE, *tests], cwd=tmp_path, env=dict(os.environ, PYTHONPATH=target),
        input=commands, capture_output=True, text=True, timeout=240, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert done.stdout.count("ended 0") == 2
    assert "0 errors" in done.stdout
    assert "simulated nine receiver" in done.stdout
