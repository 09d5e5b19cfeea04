"""Measurements of synthetic sticks with a known truth, over many seeds; and stored calibrations."""

import dataclasses
import math
import os
import re
import shutil
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pexpect
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, Bench, examples, pad, run
from tenuto import State, testing
from tenuto.basics.errors import CalibrationError
from tenuto.basics.frame import Frame
from tenuto.basics.layouts import ControlInfo
from tenuto.calibration import (
    Calibration,
    ControlCalibration,
    ControlMeasurement,
    measure,
    recommended_dead_zone,
    switch_positions,
    travel_shape,
)
from tenuto.calibration.statistics import student_quantile
from tenuto.calibration.store import default_path
from tenuto.curves.base import Shape
from tenuto.curves.expo import Expo
from tenuto.data import shipped
from tenuto.driving.motions import motions_asked
from tenuto.driving.plan import rest_bands
from tenuto.profile.prepare import kept_with, prepare_profile
from tenuto.sim.sticks import StickTruth, measured_session
from tenuto.sim.worst import DrivenRobot
from tenuto.sources.gamepad import GamepadOptions
from tenuto.sources.recording import write_recording
from tenuto.sticks.resolution import resolution

SEEDS = 60
AXIS = GamepadOptions.control("axis_0")
UNKNOWN = ControlInfo("axis_0", -np.inf, np.inf, 0.0)
CLEAN = StickTruth(-32768, 0, 32767, noise=10, scatter=60)


def measured(truth: StickTruth, seed: int, info: ControlInfo | None = AXIS, **more: Any) -> ControlMeasurement:
    assert info is not None
    time, raw = measured_session(truth, np.random.default_rng(seed), **more)
    frames = [Frame(float(t), {info.name: float(r)}) for t, r in zip(time, raw, strict=True)]
    return measure(frames, [info]).controls[info.name]


STEPS = {f"{bits} bit": 65535 / (2**bits - 1) for bits in (5, 8, 10, 12, 16)}


@pytest.mark.parametrize("bits", STEPS)
@pytest.mark.parametrize("truth", [CLEAN, StickTruth(-30000, 2500, 28000, noise=120, scatter=300, play=200)])
def test_estimates_are_within_their_error(truth: StickTruth, bits: str) -> None:
    step = STEPS[bits]
    truth = dataclasses.replace(truth, step=step)
    for seed in range(SEEDS // 4):
        found = measured(truth, seed)
        assert found.kind == "middle"
        assert len(found.places) >= (8 if step < 1000 else 6)
        assert found.low == pytest.approx(truth.low, abs=truth.noise + step)
        assert found.high == pytest.approx(truth.high, abs=truth.noise + step)
        # The mean of eight returns: their scatter and play by √8, four times over, and a step.
        error = 4.0 * (truth.scatter + truth.play) / np.sqrt(8) + step
        assert found.centre == pytest.approx(truth.centre, abs=error)
        assert found.noise <= max(2.0 * truth.noise, step)
        if truth.noise > step:
            assert found.noise == pytest.approx(truth.noise, rel=0.3)


def test_the_dead_zone_holds_for_returns_that_did_not_choose_it() -> None:
    kept = trials = 0
    for seed in range(400):
        rng = np.random.default_rng(seed)
        rests = 500.0 + 30.0 * rng.standard_normal(8)
        width = recommended_dead_zone(rests, noise=4.0, step=1.0, probability=0.99)
        fresh = 500.0 + 30.0 * rng.standard_normal(50)
        furthest = np.abs(fresh[:, None] + 4.0 * rng.standard_normal((50, 100)) - rests.mean()).max(axis=1)
        kept += int((furthest <= width).sum())
        trials += 50
    assert 0.99 <= kept / trials <= 0.9995  # 0.99 is promised, and the zone is not absurdly wide
    with pytest.raises(ValueError, match="at least three returns"):
        recommended_dead_zone(np.array([1.0, 2.0]), 1.0, 1.0)


@pytest.mark.xdist_group("scipy")
@pytest.mark.parametrize("degrees", [1, 2, 3, 4, 7, 12, 39])
@pytest.mark.parametrize("probability", [0.6, 0.9, 0.995, 0.9999])
def test_quantiles_are_those_of_scipy(probability: float, degrees: int) -> None:
    from scipy.stats import t

    assert student_quantile(probability, degrees) == pytest.approx(t.ppf(probability, degrees), rel=1e-7)


@pytest.mark.parametrize("noise", [0.0, 0.1])
@pytest.mark.parametrize("scatter", [0.05, 0.2, 0.4])
def test_the_dead_zone_holds_for_quiet_sticks_of_few_steps(scatter: float, noise: float) -> None:
    """A stick of 8 or 10 bits that returns within one step: its middle is anywhere between two numbers."""
    rng, inside = np.random.default_rng(4), []
    for _ in range(300):
        middle = rng.uniform(-0.5, 0.5)
        seen = np.round(middle + scatter * rng.standard_normal((8, 1)) + noise * rng.standard_normal((8, 40)))
        width = recommended_dead_zone(seen.mean(axis=1), float(seen.std(axis=1).mean()), step=1.0)
        fresh = np.round(middle + scatter * rng.standard_normal((40, 1)) + noise * rng.standard_normal((40, 100)))
        inside.append((np.abs(fresh - seen.mean()).max(axis=1) <= width).mean())
    assert np.mean(inside) >= 0.99


PLANTED: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "held": ({"offset": 5000}, {}),
    "drifts": ({"drift": 3000}, {}),
    "dirty": ({"spikes": 0.03}, {}),
    "coarse": ({"step": 2500}, {}),
    "noisy": ({"noise": 1800, "scatter": 0}, {}),
    "few_returns": ({}, {"returns": 3}),
    "end_unreached": ({}, {"returns": 2}),
    "moved_little": ({"low": -9000, "high": 9000}, {}),
    "short": ({"low": -25000, "high": 25000}, {}),
}


@pytest.mark.long
def test_findings_are_raised_where_planted_and_not_where_clean() -> None:
    clean = Counter(finding.code for seed in range(SEEDS) for finding in measured(CLEAN, seed).findings)
    lever = StickTruth(0, 0, 32767, noise=10)
    trigger = GamepadOptions.control("left_trigger")
    clean += Counter(finding.code for seed in range(SEEDS) for finding in measured(lever, seed, trigger).findings)
    assert clean == {}  # none in 120 clean ones
    for code, (truth, session) in PLANTED.items():
        raised = sum(
            code in [f.code for f in measured(dataclasses.replace(CLEAN, **truth), seed, **session).findings]
            for seed in range(SEEDS // 3)
        )
        assert raised == SEEDS // 3, code
    up = dataclasses.replace(lever, offset=3000)
    assert all("throttle_not_down" in [f.code for f in measured(up, seed, trigger).findings] for seed in range(20))


def test_spikes_stretch_nothing_and_unknown_ranges_are_measured_too() -> None:
    for seed in range(20):
        spiky = measured(dataclasses.replace(CLEAN, spikes=0.02), seed)
        assert spiky.low == pytest.approx(-32768, abs=60)
        assert spiky.high == pytest.approx(32767, abs=60)
        adc = measured(StickTruth(12, 530, 1010, noise=1.5, scatter=5), seed, UNKNOWN)
        assert (adc.kind, adc.verdict) == ("middle", "good")
        assert (adc.low, adc.high) == pytest.approx((12, 1010), abs=2)


def test_controls_that_move_together_and_one_that_never_moved() -> None:
    time, raw = measured_session(CLEAN, np.random.default_rng(1))
    infos = [info for name in ("left_x", "left_y", "right_x") if (info := GamepadOptions.control(name))]
    frames = [
        Frame(float(t), {"left_x": float(r), "left_y": float(-r), "right_x": 3.0})
        for t, r in zip(time, raw, strict=True)
    ]
    found = measure(frames, infos)
    assert [finding.code for finding in found.findings] == ["together", "together"]
    assert found.controls["right_x"].verdict == "not moved"
    assert not found.good
    assert list(found.calibration("id", "pad").controls) == ["left_x", "left_y"]


@given(st.sampled_from([2, 3, 6]), st.integers(0, 9), st.floats(0.0, 1.0))
def test_switches(count: int, seed: int, noise: float) -> None:
    rng = np.random.default_rng(seed)
    places = np.linspace(988, 2012, count)
    raw = np.repeat(rng.permutation(np.tile(places, 4)), 30) + noise * rng.standard_normal(120 * count)
    assert switch_positions(raw) == pytest.approx(places, abs=1.0)
    assert switch_positions(measured_session(CLEAN, rng)[1]) is None
    assert switch_positions(np.full(50, 3.0)) is None


@given(st.sets(st.integers(30, 190), max_size=5), st.integers(1, 4))
def test_a_button_was_pressed_however_shortly(presses: set[int], frames: int) -> None:
    info = GamepadOptions.control("south")
    assert info is not None
    down = {press + more for press in presses for more in range(frames)}
    found = measure([Frame(0.1 * n, {"south": float(n in down)}) for n in range(200)], [info]).controls["south"]
    assert (found.moved, found.kind if presses else "switch") == (bool(presses), "switch")
    assert found.positions == ((0.0, 1.0) if presses else ())


def test_the_shape_of_a_sticks_travel() -> None:
    turn = np.linspace(0, 4 * np.pi, 400)
    x, y = np.cos(turn), np.sin(turn)
    stretch = 1.0 / np.maximum(np.abs(x), np.abs(y))
    assert travel_shape(x, y) == "round"
    assert travel_shape(x * stretch, y * stretch) == "square"
    assert travel_shape(x * (1 + stretch) / 2, y * (1 + stretch) / 2) == "in between"
    assert travel_shape(x, np.zeros_like(y)) == "unknown"


def calibration(**changes: Any) -> Calibration:
    stick = dataclasses.replace(ControlCalibration("middle", -30000, 30000, 700, dead_zone=0.04), **changes)
    names = ("left_y", "right_x", "left_shoulder")
    return Calibration("pad-1", "A pad", {"left_y": stick, "right_x": stick}, names)


def test_what_is_kept_comes_back_and_the_one_before_stays(tmp_path: Path) -> None:
    path = tmp_path / "new" / "pad.toml"
    calibration().save(path)
    calibration(centre=900).save(path)
    assert Calibration.load(path) == calibration(centre=900)
    assert Calibration.load(path.with_name("pad.toml.before")) == calibration()
    assert sorted(file.name for file in path.parent.iterdir()) == ["pad.toml", "pad.toml.before"]


@pytest.mark.long
def test_an_interrupted_save_leaves_the_old_one(tmp_path: Path) -> None:
    path = tmp_path / "pad.toml"
    calibration().save(path)
    program = (
        "import os, signal; from pathlib import Path; import tenuto.calibration.store as store;"
        "os.replace = lambda *_: os.kill(os.getpid(), signal.SIGKILL);"
        f"store.write_atomically(Path({str(path)!r}), 'half a file')"
    )
    assert subprocess.run([sys.executable, "-c", program], check=False).returncode == -9
    assert Calibration.load(path) == calibration()
    (tmp_path / "file").write_text("")
    with pytest.raises(CalibrationError, match="cannot save the calibration there"):
        calibration().save(tmp_path / "file" / "pad.toml")


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("format = 1", "format = 2"), "format: expected 1"),
        (("low = -30000", "low = 40000"), "controls.left_y: expected low < centre < high, found 40000, 700"),
        (("low = -30000", 'low = "x"'), "controls.left_y.low"),
        (("kind", "kind_of"), "controls.left_y.kind"),
        (("[controls.left_y]", "[controls.left_y"), "invalid TOML"),
        (("dead_zone = 0.04", "dead_zone = nan"), "controls.left_y.dead_zone: expected a share of the travel"),
        (("noise = 0.0", "noise = -1.0"), "controls.left_y.noise: expected a number from 0 up, found -1.0"),
        (("high = 30000", "high = inf"), "controls.left_y.high: expected a finite number, found inf"),
    ],
)
def test_broken_calibrations_say_what_is_wrong(tmp_path: Path, change: tuple[str, str], said: str) -> None:
    calibration().save(tmp_path / "pad.toml")
    text = (tmp_path / "pad.toml").read_text()
    (tmp_path / "pad.toml").write_text(text.replace(change[0], change[1], 1).replace("-30000.0", "-30000"))
    with pytest.raises(CalibrationError, match=re.escape(said)):
        Calibration.load(tmp_path / "pad.toml")


def test_a_foreign_calibration_is_refused_with_the_reason(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    profile = tmp_path / "medlar.toml"
    shutil.copy(shipped("medlar.toml"), profile)
    assert prepare_profile(profile, Pad("pad-1")).calibration is None
    calibration().save(default_path("pad-1"))
    found = prepare_profile(profile, Pad("pad-1"))
    assert found.calibration == calibration()
    assert tmp_path / "data" in found.files[0].parents
    assert prepare_profile(profile).calibration is None, "a recording does not say which device it was"
    calibration().save(tmp_path / "medlar.calibration.toml")
    with pytest.raises(CalibrationError, match="made for A pad \\(pad-1\\), and this is pad-2"):
        prepare_profile(profile, Pad("pad-2"))
    with pytest.raises(CalibrationError, match="A pad has other controls now: axis_0"):
        prepare_profile(profile, Pad("pad-1", "axis_0"))
    with pytest.raises(CalibrationError, match=r"controls\.left_y\.dead_zone: expected a share"):
        MEDLAR.calibrated(calibration(dead_zone=math.nan)).plan()


class Pad(tenuto.Source):
    """A device with an identity."""

    def __init__(self, identity: str, *more: str) -> None:
        self.identity, self.name, self._names = identity, "a pad", ("left_y", "right_x", "left_shoulder", *more)

    def controls(self) -> tuple[ControlInfo, ...]:
        return tuple(ControlInfo(name, -32768.0, 32767.0, 0.0) for name in self._names)

    def poll(self, now: float) -> Frame | None:
        return None


@pytest.mark.long
def test_one_rule_finds_the_calibration_for_all_that_drive_and_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    profile, elsewhere = tmp_path / "pad.toml", tmp_path / "elsewhere"
    text = shipped("medlar.toml").read_text(encoding="utf-8")
    profile.write_text(re.sub(r"^(low|high|centre|dead_zone) = .*\n", "", text, flags=re.M), encoding="utf-8")
    device = tenuto.open_source("simulated:sticks")
    # This travel is half of the pad's: the stick reaches its end after half the push.
    half = ControlCalibration("middle", -16000.0, 16000.0, 0.0, dead_zone=0.05)
    names = tuple(info.name for info in device.controls())
    measured = Calibration(device.identity, "a pad", {"left_y": half, "right_x": half}, names)
    measured.save(default_path(device.identity))
    tenuto.drive(
        profile, "simulated:sticks", [f"log:{tmp_path / 'run.csv'}"], clock=tenuto.SimulatedClock(),
        on_tick=lambda tick: "enough" if tick.time > 12.0 else None,
    )  # fmt: skip
    default_path(device.identity).unlink()  # as on another machine
    elsewhere.mkdir()
    for file in tmp_path.glob("run.csv*"):
        shutil.move(file, elsewhere)
    log = elsewhere / "run.csv"
    driven = tenuto.load_log(log)
    assert driven["command.vx"].abs().max() > 0.3
    found = tenuto.compare(log, profile, kept_with(log)).commands
    for name in ("vx A", "vx B"):
        assert np.allclose(np.interp(driven["time"], found["time"], found[name]), driven["command.vx"], atol=0.02), name
    row = int(driven["shaped.drive"].abs().to_numpy().argmax())
    words = run("why", "run.csv", "--at", str(driven["time"].iloc[row] + 0.001), cwd=elsewhere).stdout
    assert f"{driven['shaped.drive'].iloc[row]:+.2f}" in words
    assert kept_with(log).with_suffix(".calibration.toml").exists()
    tenuto.drive(profile, "simulated:sticks", [f"log:{log}"], clock=tenuto.SimulatedClock(), on_tick=lambda _: "enough")
    assert not kept_with(log).with_suffix(".calibration.toml").exists(), "this one was driven without any"
    measured.save(profile.with_suffix(".calibration.toml"))
    assert prepare_profile(profile).calibration == measured
    assert prepare_profile(profile, log=log).calibration is None, "what is calibrated after a drive did not drive it"


def lean_profile(**control: object) -> tenuto.Profile:
    """Medlar without measured numbers of its own."""
    nothing = {"low": None, "centre": None, "high": None, **control}
    tables = {name: table.model_copy(update=nothing) for name, table in MEDLAR.controls.items()}
    return MEDLAR.model_copy(update={"controls": tables})


def test_a_calibrated_drive_wants_the_rest_that_was_measured() -> None:
    profile = lean_profile().calibrated(calibration())
    drive = profile.plan().controls[0]
    assert (drive.travel.low, drive.travel.centre, drive.rest_band) == (-30000, 700, 0.04)
    assert drive.dead_zone == 0.08  # it is set in the profile
    bench = Bench(profile)
    bench.run(0.1, {"left_y": 700.0, "right_x": 700.0, "left_shoulder": 0.0})
    moved = {"left_y": 700.0 - 0.06 * 30700, "right_x": 700.0, "left_shoulder": 1.0}
    tick = bench.run(0.5, moved)  # inside the dead zone, but outside the measured rest
    assert tick.guard.state is State.WAITING_FOR_REST
    assert tick.guard.reasons[0].text == "drive is at +0.06, not at rest (within 0.04): release it"
    assert bench.run(0.1, moved | {"left_y": 700.0}).guard.state is State.DRIVING


def test_a_throttle_without_a_spring_has_the_zero_that_was_said(tmp_path: Path) -> None:
    """It stays at its low end. Whether that is its zero is asked, and a motion that no stick asks for is an error."""
    session, damson = str(shipped("clean-transmitter.csv")), shipped("damson.toml").read_text()
    measured = run("calibrate", "--from", session, "--out", "low.toml", cwd=tmp_path)
    assert (
        "channel_3: it stays at its low end: is its zero there, or in its middle? Say --zero channel_3=low"
        in measured.stdout
    )
    asked = pexpect.spawn(
        sys.executable, ["-m", "tenuto", "calibrate", "--from", session, "--out", "middle.toml"], cwd=str(tmp_path),
        encoding="utf-8", timeout=60, env={**os.environ, "TERM": "xterm"},
    )  # fmt: skip
    asked.expect("channel_3 stays at its low end. Where does it demand nothing?")
    asked.expect("Number")
    asked.sendline("2")
    asked.expect(pexpect.EOF)
    asked.close()
    assert asked.exitstatus == 0, asked.before
    wrong = run("calibrate", "--from", session, "--zero", "channel_3=top", cwd=tmp_path)
    unknown = run("calibrate", "--from", session, "--zero", "channel_33=low", cwd=tmp_path)
    assert (wrong.returncode, unknown.returncode) == (2, 2)
    # What was measured at its low end says nothing of its middle: the profile does, or nothing drives.
    low, middle = (Calibration.load(tmp_path / f"{name}.toml") for name in ("low", "middle"))
    (tmp_path / "d.toml").write_text(damson)
    refused = run("check", "d.toml", "--calibration", "low.toml", cwd=tmp_path)
    assert (refused.returncode, "low.toml: calibration: channel_3 rested" in refused.stderr) == (1, True), refused
    said = [damson.replace('"channel_3"', f'"channel_3"\nrests = "{rests}"') for rests in ("middle", "end")]
    for profile, kept in ((tenuto.parse_profile(damson), middle), (tenuto.parse_profile(said[0]), low)):
        plan = profile.calibrated(kept).plan()
        climbs = next(one for one in plan.controls if one.name == "climb")
        assert [climbs.travel.position(raw) for raw in (988.125, 1500.0, 2011.875)] == [-1.0, 0.0, 1.0]
        assert rest_bands(plan)["climb"] == 0.08  # a hand sets it: its noise is not how well it returns
        for position, asked in ((-1.0, -0.25), (0.0, 0.0), (1.0, 0.4)):  # at low rates
            driven = DrivenRobot.driven(plan, {"climb": position})
            assert driven is not None
            assert driven.tick is not None
            assert driven.tick.command.vz == pytest.approx(asked, abs=1e-3)
    (tmp_path / "d.toml").write_text(said[1])
    one_way = run("check", "d.toml", "--calibration", "low.toml", cwd=tmp_path)
    assert (
        one_way.returncode,
        "speeds.down: error: no stick asks for down, and one does for up" in one_way.stdout,
    ) == (1, True)


@settings(examples(30))
@given(testing.any_profile(), st.floats(-0.9, -0.3), st.floats(0.3, 0.9))
def test_no_calibration_takes_a_direction_away(profile: tenuto.Profile, low: float, high: float) -> None:
    """A stick that was left at its low end: refused, or with the same motions if the profile says where its zero is."""
    plan, driving = profile.plan(), profile.plan().driving_controls()
    infos = {one.name: profile.source.control(one.reads) for one in plan.controls if one.name in driving}
    sticks = {name: info for name, info in infos.items() if info is not None and info.kind == "stick"}
    two = [name for name, info in sticks.items() if profile.controls[name].minus is None]
    assume(two and all((profile.controls[name].rests, profile.controls[name].low) == (None, None) for name in two))
    for name in two:
        info = sticks[name]
        ends = [round(info.rest + share * (info.high - info.rest)) for share in (low, high)]
        kept = Calibration("", "device", {info.name: ControlCalibration("end", ends[0], ends[1], dead_zone=0.001)})
        said = profile
        if profile.controls[name].centre is None:
            with pytest.raises(CalibrationError, match=f"controls.{name} would have one direction only"):
                profile.plan(kept)
            said = profile.with_(**{f"controls.{name}.rests": "middle"})
        for mode, before in zip(said.plan(kept).modes, plan.modes, strict=True):
            assert motions_asked(said.plan(kept), mode) == motions_asked(plan, before)


def test_what_cannot_be_saved_where_it_should_be_is_not_lost(tmp_path: Path) -> None:
    (tmp_path / "full").write_text("a file where a folder should be")
    done = run("calibrate", "--from", str(shipped("clean-transmitter.csv")), "--out", "full/c.toml", cwd=tmp_path)
    words = " ".join(done.stderr.split())
    assert (done.returncode, "cannot save the calibration there" in words) == (1, True)
    rescued = Path(words.split("It is saved in ")[1].split(" instead")[0])
    assert len(Calibration.load(rescued).controls) > 3
    rescued.unlink()


def test_a_stick_pushed_one_way_only_is_not_measured() -> None:
    time, raw = measured_session(CLEAN, np.random.default_rng(2))
    assert AXIS is not None
    frames = [Frame(float(t), {"axis_0": max(float(r), 0.0)}) for t, r in zip(time, raw, strict=True)]
    found = measure(frames, [AXIS]).controls["axis_0"]
    assert found.verdict == "not good"
    assert any("never pushed from its middle to its low end" in finding.text for finding in found.findings)


def test_a_centre_taken_at_start_is_taken_from_still_hands_only() -> None:
    bench = Bench(lean_profile(centre="at start"))
    off = {"left_y": 2500.0, "right_x": -1200.0, "left_shoulder": 0.0}
    for step in range(100):  # the stick is moved
        tick = bench.step(off | {"left_y": 8000.0 * (step % 20) - 80000.0 * (step % 20 > 9)})
    assert "drive: it moves: hands off, its centre is being measured" in [text for _, text in tick.guard.reasons]
    tick = bench.run(1.5, off | {"left_y": 20000.0})
    assert any("too far from the middle" in text for _, text in tick.guard.reasons)
    bench.run(0.2, off | {"left_shoulder": 1.0})
    assert bench.ticks[-1].guard.state is State.NOT_ENABLED
    tick = bench.run(1.5, off)
    assert [code for code, _ in tick.guard.reasons] == ["hold_not_pressed"]
    assert tick.positions["drive"] == 0.0
    assert bench.run(0.1, off | {"left_shoulder": 1.0}).guard.state is State.DRIVING


def test_a_stop_switch_stops_everything_while_it_is_on() -> None:
    profile = MEDLAR.model_copy(update={"guard": MEDLAR.guard.model_copy(update={"stop": "east"})})
    bench = Bench(profile)
    for values in (pad(), pad(held=True)):
        bench.run(0.1, values | {"east": 0.0})
    assert bench.run(1.0, pad(1.0, held=True) | {"east": 0.0}).command.vx > 0.5
    tick = bench.step(pad(1.0, held=True) | {"east": 1.0})
    assert (tick.guard.state, tick.guard.reasons[0].code) == (State.STOPPING, "stop_switch")
    for values in (pad(), pad(held=True), pad(1.0, held=True)):
        tick = bench.run(1.0, values | {"east": 1.0})
    assert (tick.guard.state, tick.command.vx) == (State.FAULT, 0.0)


@pytest.mark.long
def test_calibrate_from_the_shipped_sessions(tmp_path: Path) -> None:
    worn = run("calibrate", "--from", str(shipped("worn-pad.csv")), "--figure", "worn.png", cwd=tmp_path)
    assert worn.returncode == 1
    assert "right_y: it jumped 3" in worn.stdout
    assert "left: its travel is round" in worn.stdout
    assert "Not saved" in worn.stdout
    lost = ("--out", "kept.toml", "--force", "--figure", "no/such.png")
    nowhere = run("calibrate", "--from", str(shipped("worn-pad.csv")), *lost, cwd=tmp_path)
    assert Calibration.load(tmp_path / "kept.toml").controls
    assert (nowhere.returncode, "no/such.png: cannot write the figure" in nowhere.stderr) == (1, True)
    picture = (tmp_path / "worn.png").read_bytes()
    assert [int.from_bytes(picture[at : at + 4], "big") for at in (16, 20)] == [1280, 800]
    clean = run("calibrate", "--from", str(shipped("clean-transmitter.csv")), "--out", "c.toml", cwd=tmp_path)
    assert clean.returncode == 0, clean.stderr
    kept = Calibration.load(tmp_path / "c.toml")
    assert [control.kind for control in kept.controls.values()] == ["middle", "middle", "end", "middle"]
    assert kept.controls["channel_1"].centre == pytest.approx(1500, abs=2)
    assert 0.005 < kept.controls["channel_4"].dead_zone < 0.03


# The stick goes to both ends three times, is then pushed eight times, and returns to one side of its middle.
HAND = """
import sys
import numpy as np
from tenuto.cli import main
from tenuto.clock import SimulatedClock
from tenuto.sim.receiver import SimulatedReceiver
moves = [(3.5 + 0.6 * n, pulse) for n, pulse in enumerate((988.0, 2012.0) * 3)] + [(7.2, 1500.0)]
for n in range(8):
    side = 1.0 - 2.0 * (n % 2)
    moves += [(9.5 + 1.6 * n, 1500.0 + 512.0 * side), (10.0 + 1.6 * n, 1501.0 + side)]
knots = [(0.0, 1500.0)]
for at, pulse in moves:
    knots += [(at, knots[-1][1]), (at + 0.2, pulse)]
times, pulses = zip(*knots)
clock = SimulatedClock()
device = SimulatedReceiver(
    "ibus", motion=lambda t: [float(np.interp(t, times, pulses))] + [1500.0] * 15, clock=clock, link="radio"
)
main(sys.argv[1:], clock)
"""


@pytest.mark.long
def test_the_guided_flow_in_a_terminal(tmp_path: Path) -> None:
    """A real terminal and a real line; the 24 s of the session are simulated."""
    arguments = ["-c", HAND, "calibrate", "ibus:radio", "--ends", "6", "--returns", "16", "--out", "c.toml"]
    guide = pexpect.spawn(
        sys.executable, [*arguments, "--record", "c.csv"], cwd=str(tmp_path), encoding="utf-8", timeout=60,
        dimensions=(40, 120), env={**os.environ, "TERM": "xterm"},
    )  # fmt: skip
    for said in ("hands off", "2 of 3: move every stick", "✓ both ends", "3 of 3: push each stick out",
                 "measured: ibus receiver", pexpect.EOF):  # fmt: skip
        guide.expect(said)
    guide.close()
    assert guide.exitstatus == 0, guide.before
    live = Calibration.load(tmp_path / "c.toml")
    assert live.controls["channel_1"].centre == pytest.approx(1501, abs=1.0)
    assert (live.controls["channel_1"].low, live.controls["channel_1"].high) == (988, 2012)
    again = run("calibrate", "--from", "c.csv", "--out", "again.toml", cwd=tmp_path)  # the same from the recording
    assert again.returncode == 0, again.stdout
    assert Calibration.load(tmp_path / "again.toml").controls == live.controls


def test_the_guided_flow_on_a_virtual_joystick(tmp_path: Path) -> None:
    truth = StickTruth(-30000, 900, 30000, noise=100, scatter=300, step=257)
    time, raw = measured_session(truth, np.random.default_rng(3), returns=10, start=4.0)
    write_recording(
        tmp_path / "hand.csv", (Frame(float(t), {"left_y": float(r)}) for t, r in zip(time, raw, strict=True))
    )
    command = ["calibrate", f"simulated:gamepad,recording={tmp_path / 'hand.csv'}"]
    done = run(*command, "--ends", "8", "--returns", "9", "--out", "pad.toml", cwd=tmp_path)
    assert done.returncode == 0, done.stdout
    assert "1 of 3: hands off" in done.stdout
    kept = Calibration.load(tmp_path / "pad.toml")
    assert kept.name == "Virtual gamepad"
    assert list(kept.controls) == ["left_y"]
    assert kept.controls["left_y"].centre == pytest.approx(900, abs=400)
    assert kept.controls["left_y"].low == pytest.approx(-30000, abs=357)


def test_expo_leaves_more_slow_speeds() -> None:
    def slow_speeds(steps: int, dead_zone: float, expo: float) -> int:
        return resolution(steps, Shape(Expo(expo, expo)), dead_zone).slow

    assert slow_speeds(32, 0.1, 0.0) == 2  # by hand: 31 gaps of 2/31; above 0.1, up to 0.28: 0.161, 0.226
    assert slow_speeds(32, 0.1, 0.8) > 4
    assert slow_speeds(65536, 0.1, 0.0) > 1000
