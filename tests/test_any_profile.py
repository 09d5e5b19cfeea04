"""Random valid profiles in stories of faults: the guard keeps its promises for any profile."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

import tenuto
from helpers import examples
from mutants import MUTANTS
from tenuto import Frame, Pipeline, Profile, load_profile, parse_profile, testing
from tenuto.analysis.logs import ticks_of
from tenuto.data import shipped
from tenuto.driving.losses import bearable
from tenuto.profile.checks.advice import advise
from tenuto.profile.text import profile_text
from tenuto.sim.soak import make_story, play
from tenuto.sim.truth import truth_table
from tenuto.sim.worst import worst_of
from tenuto.testing.campaign import soak_any


@pytest.mark.long
@pytest.mark.parametrize("seed", [1, 2])
def test_the_guard_keeps_its_promises_whatever_the_profile(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """A hundred profiles each; `make campaign` does thousands."""
    # It checks its ticks itself.
    monkeypatch.setattr(tenuto.Pipeline, "_tick", tenuto.Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    driven: list[float] = []
    failed = soak_any(100, seed, lambda profile, outcome: driven.append(outcome.driven))
    assert failed is None, f"{failed[1].broken} in {failed[1].story} with\n{profile_text(failed[0])}"
    assert len(driven) == 100
    assert sum(driven) > 20.0


@pytest.mark.long
@settings(examples(10), phases=[Phase.explicit, Phase.reuse, Phase.generate])  # to shrink one takes minutes
@given(testing.any_profile())
def test_no_stop_is_longer_than_is_promised(profile: Profile) -> None:
    """Every fault in closed loop, from the stick positions with the longest stops."""
    for worst in worst_of(profile, 1):
        assert worst.seconds <= worst.promise.seconds + 1e-6, worst
        assert worst.metres <= worst.promise.metres + 1e-6, worst


@pytest.mark.long
@settings(examples(6), phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(testing.any_profile(), st.integers(0, 10**6), st.sampled_from(["csv", "jsonl", "parquet", "mcap"]))
def test_the_log_of_any_drive_is_read_and_explained(
    tmp_path_factory: pytest.TempPathFactory, profile: Profile, seed: int, form: str
) -> None:
    """Any driver, any fault, and any report of a far end, or none."""
    folder, ticks = tmp_path_factory.mktemp("logs"), list[tenuto.Tick]()
    with tenuto.open_sink(f"log:{folder / 'run'}.{form}") as log:
        log.start(profile.plan())

        def see(tick: tenuto.Tick) -> None:
            ticks.append(tick)
            log.write(tick)

        # One far end during the whole drive.
        story = [replace(scene, clock="steady", process="sound", far="well") for scene in make_story(seed, 3)]
        story.append(replace(story[0], far="unfit"))
        assert play(profile, story, see).broken == []
    files = sorted(folder.iterdir(), key=lambda file: (len(file.name), file.name))
    read = [tick for file in files for tick in ticks_of(tenuto.load_log(file))]
    assert len(read) == len(ticks)
    for was, now in zip(ticks, read, strict=True):
        assert (was.driver, was.guard.state, was.chosen.switches) == (now.driver, now.guard.state, now.chosen.switches)
        raw = {name: number if math.isfinite(number) else math.nan for name, number in was.raw.items()}
        for before, after in ((raw, now.raw), (was.positions, now.positions), (was.shaped, now.shaped)):
            assert after == pytest.approx(before, abs=1e-6, nan_ok=True)
        assert now.command == pytest.approx(was.command, abs=1e-6)
    for was, now in zip(ticks[::40], read[::40], strict=True):
        assert len(now.explain(profile).steps) == len(was.explain(profile).steps)
    if (tenuto.load_log(files[0])["guard.state"] == "driving").any():
        assert not tenuto.compare(files[0], profile, profile).figures["difference"].dropna().any()


@pytest.mark.long
@settings(examples(4), phases=[Phase.explicit, Phase.reuse, Phase.generate])
@given(testing.any_profile())
def test_a_truth_table_is_what_the_vehicle_does(profile: Profile) -> None:
    """For any profile, the actuators produce the stated velocity, and the release of any stick stops the robot."""
    plan, meaning = profile.plan(), truth_table(profile)
    for row in meaning.rows:
        if row.actuators:
            # Boats are compared by their forces, which are small if the drag is small.
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


@pytest.mark.long
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
        (MEDLAR.replace('"0.8 m/s^2"', '"400 m/s^2"'), ["limits.acceleration: the robot never uses more"]),
        (shipped("sorrel.toml").read_text().replace('y = "0.35 m"', 'y = "0.35 m"\nangle = "20 deg"'),
         ["controls.ahead: its end demands forward, and causes left, turns", "controls.steer: its end demands f"]),
    ],
    ids=["as it ships", "well named", "four ways", "left and right changed over", "sideways", "slow to let go",
         "too quick", "askew"],
)  # fmt: skip
def test_what_is_odd_about_a_truth_table(text: str, said: list[str]) -> None:
    found = [str(finding) for finding in truth_table(parse_profile(text)).findings]
    assert len(found) == len(said)
    assert all(line.startswith(start) for line, start in zip(found, said, strict=True))


@pytest.mark.long
def test_buttons_of_a_truth_table() -> None:
    rows = [row for row in truth_table(parse_profile(LIFT)).rows if not row.mode]
    does = {(row.control, row.how): (dict(row.outputs), row.does) for row in rows}
    assert does["left_stick", "pressed"] == ({}, ("horn",))
    assert does["right_shoulder", "pressed"] == ({"gripper": 1.0}, ())
    assert does["west", "pressed"] == ({}, ("mode brisk", "rates full"))
    assert does["west", "pressed twice"] == ({}, ("mode slow", "rates fine"))
    assert does["right_stick", "pressed twice at once"] == ({}, ("mark the spot",))
    every = truth_table(load_profile(shipped("damson.toml"))).rows
    assert [(row.how, row.does) for row in every if row.control == "channel_7"] == [("held for 1 s", ("take off",))]
    rows = [row for row in every if row.control == "channel_5"]
    assert [(row.position, row.how, row.does[0]) for row in rows] == [
        (0.0, "at position 2 of 3", "mode cruise"), (1.0, "at position 3 of 3", "mode along_row"),
    ]  # fmt: skip


@pytest.mark.long
def test_a_robot_enabled_by_a_gesture_is_driven_too_and_a_gesture_in_its_way_is_told() -> None:
    every = truth_table(load_profile(shipped("damson.toml"))).rows
    assert [row.does for row in every if row.control == "both_low_and_inward"] == [("set the home point",)]
    sticks = '[switches.sign]\nkind = "gesture"\ntime = 0.5\nsticks = {{ {} }}\n[guard]\nenable = "sign"\n'
    by = MEDLAR.replace('[guard]\nhold_to_run = "left_shoulder"\n', sticks.format('drive = "low"'))
    found = truth_table(parse_profile(by))
    moved = {(row.control, row.position): row.command for row in found.rows if row.actuators and row.second is None}
    assert moved["drive", 1.0].vx == pytest.approx(1.2)
    assert ("drive", -1.0) not in moved
    assert any(
        "controls.drive: held at its end it stops the robot: sign was done again" in str(one) for one in found.findings
    )
    apart = MEDLAR.replace('[guard]\nhold_to_run = "left_shoulder"\n', sticks.format('drive = "low", steer = "low"'))
    found = truth_table(parse_profile(apart))
    assert ("stands until it is re-enabled",) in [row.does for row in found.rows]
    assert {row.position for row in found.rows if row.control == "drive" and row.second is None} == {1.0, -1.0}
    values = {"left_y": 983.0, "right_x": 983.0, "left_shoulder": 0.0}
    said = Pipeline(parse_profile(apart).plan()).step(Frame(0.1, values), 0.1).guard.reasons
    assert "sign is not switched on: hold drive low and steer low for 0.5 s" in " ".join(one.text for one in said)


def test_a_speed_that_no_wheel_can_do_is_an_error() -> None:
    """Medlar's wheels do 12.566 rad/s · 0.11 m = 1.38 m/s, ahead as back, and 4.46 rad/s turning with 0.31 m a side."""
    for text, said in (
        (MEDLAR.replace('"0.5 m/s"', '"5 m/s"'), ["speeds.backward: the robot can do no more than 28 %"]),
        (MEDLAR.replace('"0.5 m/s"', '"1.3 m/s"'), []),
        (MEDLAR.replace('"1.2 m/s"', '"6 m/s"').replace('"90 deg/s"', '"6 rad/s"'),
         ["speeds.forward: the robot can do no more than 23 %", "speeds.turn: the robot can do no more than 74 %"]),
    ):  # fmt: skip
        found = [str(one) for one in advise(parse_profile(text)) if one.is_error]
        assert [line.split(" of it")[0] for line in found if line.startswith("speeds")] == said


@pytest.mark.long
def test_corners_and_the_link_of_a_truth_table() -> None:
    """Medlar's wheels turn 12.566 rad/s: of 1.2 m/s and 90 deg/s with 0.31 m to each side 82 % are left."""
    rows = truth_table(parse_profile(MEDLAR)).rows
    corners = {(row.position, row.second.position): row for row in rows if row.second is not None}
    assert len(corners) == 4
    share = 12.5664 * 0.11 / (1.2 + 0.31 * math.pi / 2.0)
    assert corners[1.0, -1.0].command == pytest.approx((1.2 * share, 0.0, 0.0, -share * math.pi / 2.0), rel=1e-4)
    assert [row.differs for row in corners.values()] == [True, True, False, False]  # there is room for 0.5 m/s back
    lost, back, again = (row.does[0] for row in rows if row.control == "link")
    # 0.3 s of silence and the tick that detects it, then 1.5 m/s².
    assert lost == f"stands after {0.3 + 0.8:.2f} s and {1.2 * 0.30 + 1.2**2 / 3.0 + 0.012:.2f} m"
    (held,) = (row for row in rows if row.control == "left_shoulder")
    assert (held.raw, held.how) == (0.0, "off at full speed")
    assert held.does == (f"stands after 0.80 s and {1.2**2 / 3.0 + 0.012:.2f} m",)
    assert (back, again) == ("stands until it is re-enabled", "drives")
    lift = [row for row in truth_table(parse_profile(LIFT)).rows if row.control == "link"]
    assert [row.mode for row in lift] == ["brisk"] * 3  # the fastest mode, although another one is the initial mode
    assert lift[0].does == (lost,)


def test_a_robot_that_starts_by_itself_is_found(monkeypatch: pytest.MonkeyPatch) -> None:
    MUTANTS["restarts when the link returns"](monkeypatch)
    monkeypatch.setattr(Pipeline, "_tick", Pipeline._tick.__wrapped__)  # type: ignore[attr-defined]
    found = [str(finding) for finding in truth_table(parse_profile(MEDLAR)).findings]
    assert any("guard: it moves by itself when a lost link is restored" in line for line in found)


def test_the_share_of_lost_frames_is_one_that_stops_it_so_often() -> None:
    """A simulation with random numbers: 20 frames a second, 200 ms of silence, a stop every 20 s."""
    lost = np.random.default_rng(1).random(2_000_000) < bearable(20.0, 0.2, 20.0)
    run = stops = 0
    for one in lost.tolist():
        run = run + 1 if one else 0
        if run == 4:  # 4 are lost: the fifth comes 250 ms after the last
            run, stops = 0, stops + 1
    assert len(lost) / 20.0 / stops == pytest.approx(20.0, rel=0.05)
    assert bearable(20.0, 0.04) == 0.0
