"""Profiles: their values, and errors that say what to do."""

import math
import os
import re
import tomllib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

import tenuto
from helpers import MEDLAR, run
from tenuto.data import shipped
from tenuto.kinds.quantities import DIMENSIONS, Dimension, parse_quantity
from tenuto.vehicles import Differential

TEXT = shipped("medlar.toml").read_text()


def cart(plan: tenuto.Plan) -> Differential:
    assert isinstance(plan.chassis, Differential)
    return plan.chassis


def test_medlar_in_si_units() -> None:
    plan = tenuto.parse_profile(TEXT).plan()
    assert plan.speeds.turn == pytest.approx(math.pi / 2)
    assert plan.guard.link_timeout == pytest.approx(0.3)
    assert cart(plan).max_wheel_speed == pytest.approx(120 * math.tau / 60)
    drive, _, hold = plan.controls
    # The number of a pad decreases as its stick goes forward; forward is nevertheless positive.
    assert [drive.travel.position(raw) for raw in (-30454.0, 983.0, 30454.0)] == [1.0, 0.0, -1.0]
    assert (hold.reads, hold.travel.position(1.0)) == ("left_shoulder", 1.0)


def test_what_is_left_out_has_a_safe_meaning() -> None:
    lean = "\n".join(
        line for line in TEXT.splitlines() if not line.startswith(("stop_", "max_", "low", "high", "centre"))
    )
    plan = tenuto.parse_profile(lean).plan()
    assert plan.guard.stop_deceleration == plan.limits.acceleration
    assert cart(plan).max_wheel_speed == math.inf
    assert (plan.controls[0].travel.low, plan.controls[0].travel.high) == (-32768.0, 32767.0)


ERRORS = [
    (
        "dead_zone = 0.08",
        "dead_zon = 0.08",
        "controls.drive.dead_zon",
        'an unknown key (did you mean "dead_zone"?)',
    ),
    (
        "expo = 0.35",
        "expo = 3",
        "controls.drive.expo",
        "expected a number from 0 (straight) to 1 (all cubic), found 3",
    ),
    ("expo = 0.35", "expo = nan", "controls.drive.expo", "found nan"),
    ('"1.2 m/s"', '"1.2 m"', "speeds.forward", 'found "1.2 m" (m is a length; a speed is needed)'),
    ('"1.2 m/s"', '"quick"', "speeds.forward", 'found "quick" (write it like "1.0 m/s")'),
    ('"1.2 m/s"', "-1", "speeds.forward", "it must be finite and above zero"),
    ('"left_y"', '"left_yy"', "controls.drive.reads", 'found "left_yy" (did you mean "left_y"?)'),
    ('forward = "drive"', 'forward = "driv"', "style.forward", 'did you mean "drive"?'),
    ('turn = "steer"', 'turn = "drive"', "style.turn", "expected another control than style.forward"),
    ('"arcade"', '"arkade"', "style.kind", 'did you mean "arcade"?'),
    ('"left_shoulder"', '"drive"', "guard.hold_to_run", "a control that does not drive"),
    ('"left_shoulder"', '"left_sholder"', "guard.hold_to_run", 'did you mean "left_shoulder"?'),
    ('"300 ms"', '"30 ms"', "guard.link_timeout", "at least two ticks of the loop (0.04 s), found 0.03 s"),
    ("centre = 983", "centre = -31000", "controls.drive", "expected low < centre < high"),
    ("high = 30454", "high = 99999", "controls.drive.high", "a raw number from -32768 to 32767, found 99999"),
    ('track = "0.62 m"', "", "chassis.track", "found nothing (add it)"),
    ("[limits]", "[limit]", "limits", "expected a table [limits], found nothing"),
    ("format = 1", "format = 2", "format", "the format this version reads, found 2"),
]


@pytest.mark.parametrize(("old", "new", "key", "said"), ERRORS)
def test_errors_name_file_key_expected_and_found(tmp_path: Path, old: str, new: str, key: str, said: str) -> None:
    assert old in TEXT
    file = tmp_path / "broken.toml"
    file.write_text(TEXT.replace(old, new, 1))
    with pytest.raises(tenuto.ProfileError) as caught:
        tenuto.load_profile(file)
    assert f"{file}: {key}: expected " in str(caught.value)
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda text: text.replace("[limits]", "[limits"), "line 36: invalid TOML: "),
        (lambda text: text.replace('"300 ms"', "300 ms # why"), 'needs quotes: write link_timeout = "300 ms"'),
        (lambda text: text.replace('"300 ms"', '"300"'), "its unit is missing: one of s, ms"),
        (lambda text: text.replace('"300 ms"', "9" * 4000), "link_timeout: expected the longest silence"),
        (lambda text: f"{text}\nx = {'9' * 5000}", "invalid TOML: a whole number has thousands of digits"),
        (lambda text: f"x = {'[' * 50_000}", "invalid TOML: tables or lists are nested too deeply"),
        (lambda text: f"x = {'{x=' * 3000}1", "invalid TOML: tables or lists are nested too deeply"),
        (lambda text: f"{text}\n[controls.{'.'.join('a' * 3000)}]\nb = 1", "controls.a.a: expected one of reads"),
        (lambda text: text.replace('"gamepad"', '"game\\u001b[31mpad"'), 'found "game\ufffd[31mpad"'),
        (lambda text: text.encode("utf-16"), "found UTF-16: save it as UTF-8"),
        (lambda text: b"\n" + text.encode() + b"\xff", "line 55: expected text in UTF-8, found byte 0xff"),
        (lambda text: "#" * 2_000_000, "expected a file of at most 1000000 bytes, found 2000000"),
        (lambda text: shipped("round-the-tree.toml").read_text(), "expected a profile, found a script of motion"),
        (lambda text: 'device = "x"\n[controls.left_y]\nlow = 1', "found a calibration: it is used with --calibration"),
    ],
)  # fmt: skip
def test_files_that_are_no_profile_say_so(tmp_path: Path, change: Callable[[str], str | bytes], said: str) -> None:
    written, file = change(TEXT), tmp_path / "broken.toml"
    file.write_bytes(written.encode() if isinstance(written, str) else written)
    with pytest.raises(tenuto.ProfileError, match=re.escape(said)) as caught:
        tenuto.load_profile(file)
    assert "\x1b" not in str(caught.value)
    assert max(map(len, str(caught.value).splitlines())) < 900
    done = run("check", "broken.toml", cwd=tmp_path)
    assert (done.returncode, said.partition(": ")[2] in done.stdout) == (1, True), done.stdout


def test_what_others_write_into_a_file_does_no_harm(tmp_path: Path) -> None:
    for written in (b"\xef\xbb\xbf" + TEXT.encode(), TEXT.replace("\n", "\r\n").encode()):
        (tmp_path / "m.toml").write_bytes(written)
        assert tenuto.load_profile(tmp_path / "m.toml").name == "Medlar, the crate cart"
    os.mkfifo(tmp_path / "pipe.toml")
    with pytest.raises(tenuto.ProfileError, match="expected a file, found a pipe"):
        tenuto.load_profile(tmp_path / "pipe.toml")


def test_files_that_cannot_be_read(tmp_path: Path) -> None:
    with pytest.raises(tenuto.ProfileError, match="No such file"):
        tenuto.load_profile(tmp_path / "none.toml")
    (tmp_path / "bytes.toml").write_bytes(b"name = \xff")
    with pytest.raises(tenuto.ProfileError, match="byte 0xff"):
        tenuto.load_profile(tmp_path / "bytes.toml")


@given(st.sampled_from(DIMENSIONS), st.floats(1e-6, 1e6), st.data())
def test_quantities_take_every_unit_of_their_dimension_and_no_other(
    dimension: Dimension, number: float, data: st.DataObject
) -> None:
    unit, factor = data.draw(st.sampled_from(sorted(dimension.units().items())))
    assert parse_quantity(f"{number!r} {unit}", dimension) == pytest.approx(number * factor)
    assert parse_quantity(number, dimension) == number
    other = data.draw(st.sampled_from([other for other in DIMENSIONS if other is not dimension]))
    with pytest.raises(ValueError, match="is needed"):
        parse_quantity(f"{number!r} {unit}", other)


def test_nothing_invalid_is_driven_by_wherever_it_comes_from() -> None:
    wild = MEDLAR.model_copy(update={"limits": MEDLAR.limits.model_copy(update={"acceleration": -5.0})})
    with pytest.raises(tenuto.PlanError, match=r"limits\.acceleration: expected a number above 0, found -5"):
        tenuto.Pipeline(wild)
    elsewhere = MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update={"hold_to_run": "nowhere"})})
    with pytest.raises(tenuto.ProfileError, match=r"guard\.hold_to_run: .*found \"nowhere\""):
        tenuto.Pipeline(elsewhere)
    tables = tomllib.loads(shipped("medlar.toml").read_text())
    tables["style"]["turn"] = "nowhere"
    with pytest.raises(ValidationError, match=r"style\.turn: .*found \"nowhere\""):
        tenuto.Profile(**tables)
    plan = MEDLAR.plan()
    for change, said in (
        ({"period": 0.0}, "period"), ({"modes": ()}, "exactly one fallback mode"), ({"controls": ()}, "mode.style"),
        ({"guard": replace(plan.guard, link_timeout=math.nan)}, "guard.link_timeout"),
        ({"guard": replace(plan.guard, hold_to_run=None)}, "no control must be held"),
    ):  # fmt: skip
        with pytest.raises(tenuto.PlanError, match=said):
            tenuto.Pipeline(replace(plan, **change))
