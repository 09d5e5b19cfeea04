"""Reports, comparisons, measurements and proposals, compared with known truths and independent sums."""

import dataclasses
import json
import math
import re
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import CENTRE, MEDLAR, PERIOD, TANK, Bench, examples, pad, run
from tenuto.analysis.advice import changes_after_measuring, wheel_measures
from tenuto.analysis.compare import reversals
from tenuto.analysis.measure import Value, measure
from tenuto.analysis.odometry import load_odometry
from tenuto.analysis.report import events, facts, path_of
from tenuto.analysis.sticks import recorded_sticks
from tenuto.analysis.tune import Wish, tune
from tenuto.basics.errors import RecordingError
from tenuto.basics.frame import LinkCounts
from tenuto.data import shipped
from tenuto.profile.patch import changed_text
from tenuto.sim.odometry import Truth, simulated_odometry

PLAN = MEDLAR.plan()
TABLE = tenuto.replay(MEDLAR, shipped("orchard-row.csv")).to_frame()
TEXT = shipped("medlar.toml").read_text()
GENTLE = tenuto.parse_profile(TEXT.replace("expo = 0.35", "expo = 0.7").replace('"1.2 m/s"', '"0.9 m/s"'))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("analysis")
    assert run("demo", "--out", ".", cwd=made).returncode == 0
    return made


def measured(truth: Truth, tmp_path: Path, *, clock: float = 0.0, seed: int = 1) -> dict[str, Value | float | bool]:
    file = tmp_path / "odometry.csv"
    simulated_odometry(TABLE, truth, rate=30.0, clock=clock, seed=seed).to_csv(file, index=False)
    found = measure(TABLE, load_odometry(file))
    turning = found.responses["yaw_rate"]
    result: dict[str, Value | float | bool] = dict(wheel_measures(found, MEDLAR))
    if turning.delay is not None:
        result["delay"] = turning.delay
    return result | {"motor_lag": turning.time_constant, "clock": found.clock_offset, "one": found.one_clock}


def test_a_report_counts_what_the_receiver_lost() -> None:
    bench = Bench()
    for step in range(100):
        bench.step(pad(), counts=LinkCounts(3 + step, 2 + step // 50, 5 + step // 10))
    found = {fact.name: fact.value for fact in facts(pd.DataFrame(tick.as_row() for tick in bench.ticks), PLAN, [])}
    assert (found["broken frames"], found["frames that the receiver lost"]) == (1.0, 9.0)
    assert "broken frames" not in {fact.name for fact in facts(TABLE, PLAN, [])}


@pytest.mark.long
def test_the_stated_uncertainty_is_honest(tmp_path: Path) -> None:
    """For many carts with other wheels, tracks, delays and lags, about 95 of 100 must be in the stated interval."""
    random, hits, widths = np.random.default_rng(5), [], []
    for seed in range(8):
        radius, track, delay, lag = random.uniform((0.100, 0.50, 0.0, 0.05), (0.125, 0.75, 0.2, 0.3)).tolist()
        truth = Truth(radius, track, delay, lag, noise=0.003, heading_noise=0.003)
        found = measured(truth, tmp_path, seed=seed)
        for name in ("wheel_radius", "track", "delay", "motor_lag"):
            value = found[name]
            assert isinstance(value, Value)
            hits.append(abs(value.value - getattr(truth, name)) <= value.plus_minus)
            widths.append(value.plus_minus / getattr(truth, name) if name in ("wheel_radius", "track") else 0.0)
            assert value.seconds > 10.0
    assert np.mean(hits) >= 0.9
    assert max(widths) < 0.02  # the interval is narrow enough to be useful


@pytest.mark.long
def test_poses_that_are_stamped_on_receipt_do_not_make_a_wheel_larger(tmp_path: Path) -> None:
    """Each row arrives late by a time of its own, or five together: a speed from row to row is too high on average."""
    file, random, hits = tmp_path / "odometry.csv", np.random.default_rng(7), []
    for seed in range(8):
        radius, track = random.uniform((0.105, 0.58), (0.115, 0.66)).tolist()
        truth = Truth(radius, track, 0.06, noise=0.002, heading_noise=0.002)
        rows = simulated_odometry(TABLE, truth, rate=30.0, seed=seed)
        late = rows["time"].to_numpy() + 0.01 + random.exponential(0.008, len(rows))
        if seed % 4 == 3:
            late = np.repeat(rows["time"].to_numpy()[4::5], 5)[: len(rows)]  # a line that is read five rows at a time
            rows = rows[: len(late)]
        rows.assign(time=np.maximum.accumulate(late) + 1e-7 * np.arange(len(rows))).to_csv(file, index=False)
        found = wheel_measures(measure(TABLE, load_odometry(file)), MEDLAR)
        hits += [abs(found[name].value - getattr(truth, name)) <= found[name].plus_minus for name in found]
    assert (len(hits), np.mean(hits) >= 0.9) == (16, True)


@pytest.mark.long
def test_a_pure_delay_is_no_lag(tmp_path: Path) -> None:
    for noise in (0.0005, 0.002):
        found = measured(Truth(0.11, 0.62, 0.06, motor_lag=0.0, noise=noise, heading_noise=noise), tmp_path)
        delay, lag = found["delay"], found["motor_lag"]
        assert isinstance(delay, Value)
        assert isinstance(lag, Value)
        assert abs(delay.value - 0.06) <= delay.plus_minus < 0.06
        assert lag.value <= lag.plus_minus


def driven_exactly(commands: np.ndarray, times: np.ndarray, lag: float, at: np.ndarray) -> np.ndarray:
    """The distance of a first-order lag with commands that hold from tick to tick, in closed form for each step."""
    speed, way, found = 0.0, 0.0, np.zeros(len(at))
    for command, begin, end in zip(commands, times, [*times[1:], math.inf], strict=True):
        inside = (at >= begin) & (at < end)
        after = at[inside] - begin
        found[inside] = way + command * after + (speed - command) * lag * (1.0 - np.exp(-after / lag))
        if math.isfinite(end):
            kept = math.exp(-(end - begin) / lag)
            way += command * (end - begin) + (speed - command) * lag * (1.0 - kept)
            speed = command + (speed - command) * kept
    return found


@pytest.mark.long
def test_no_delay_is_biased_by_a_grid(tmp_path: Path) -> None:
    """Uneven ticks, with odometry between them: the delay is within the stated interval."""
    file, errors, stated = tmp_path / "odometry.csv", [], []
    for seed in range(6):
        dice = np.random.default_rng(seed)
        times = 5.0 + np.cumsum(0.02 + dice.uniform(-0.003, 0.003, 1500))
        steps = np.repeat(dice.uniform(-1.0, 1.0, (2, 30)), 50, axis=1)
        steps[:, :50] = steps[:, -50:] = 0.0
        delay, lag = dice.uniform((0.0, 0.05), (0.2, 0.3)).tolist()
        at = np.arange(times[0] + dice.uniform(0.0, 0.03), times[-1], 1.0 / 30.0)
        way, heading = (driven_exactly(axis, times + delay, lag, at) for axis in steps)
        middle = np.append(0.0, (heading[1:] + heading[:-1]) / 2.0)
        x, y = (np.cumsum(np.diff(way, prepend=0.0) * part) for part in (np.cos(middle), np.sin(middle)))
        places = {"time": at, "x": x, "y": y, "heading": heading}
        noisy = {name: values + dice.normal(0.0, 0.003, len(at)) for name, values in places.items() if name != "time"}
        pd.DataFrame(places | noisy).to_csv(file, index=False)
        table = pd.DataFrame({"time": times, "command.vx": steps[0], "command.yaw_rate": steps[1]})
        found = measure(table, load_odometry(file)).responses["yaw_rate"].delay
        assert found is not None
        errors.append(found.value - delay)
        stated.append(found.plus_minus)
    assert abs(np.mean(errors)) < 0.002
    assert np.mean(np.abs(errors) <= stated) >= 0.8


@pytest.mark.long
def test_another_clock_is_found_and_slip_is_a_smaller_wheel(tmp_path: Path) -> None:
    truth = Truth(0.11, 0.62, slip=0.1, noise=0.002, heading_noise=0.002)
    found = measured(truth, tmp_path, clock=1234.5)
    assert found["clock"] == pytest.approx(1234.5 + 0.16, abs=0.15)  # the lag cannot be distinguished from the clocks
    assert found["one"] is False
    assert "delay" not in found
    radius = found["wheel_radius"]
    assert isinstance(radius, Value)
    assert radius.value == pytest.approx(0.9 * 0.11, rel=0.01)


@pytest.mark.long
@pytest.mark.parametrize("clock", [0.0, 1234.5])
def test_measure_prints_json_whether_log_and_odometry_have_one_clock_or_two(clock: float, folder: Path) -> None:
    file = folder / "other.csv"
    simulated_odometry(tenuto.load_log(folder / "drive.csv"), Truth(0.11, 0.62), rate=30.0, clock=clock).to_csv(file)
    done = run("measure", "drive.csv", "--odometry", file.name, "--profile", "medlar.toml", "--json", cwd=folder)
    assert json.loads(done.stdout)["one_clock"] is (clock == 0.0), done.stderr


def test_measure_says_what_it_cannot_tell(tmp_path: Path) -> None:
    whole = simulated_odometry(TABLE, Truth(0.11, 0.62), rate=30.0)
    straight, file = TABLE[TABLE["time"] < 9.0], tmp_path / "odometry.parquet"
    for log, motion, said in (
        (straight, whole, "turning: it was commanded for 0.0 s only, and 4 s are needed"),
        (TABLE, whole.assign(x=0.0, y=0.0, heading=0.0), "commands and motion do not match"),
        (TABLE, whole.assign(vx=0.1)[["time", "vx"]], "turning: not measured"),
    ):
        motion.to_parquet(file)
        assert any(said in warning for warning in measure(log, load_odometry(file)).warnings)
    other = TABLE.assign(**{name: np.roll(TABLE[name], 400) for name in TABLE.columns if name.startswith("actuators.")})
    half = pd.concat([TABLE[:1200], other[1200:]])
    simulated_odometry(half, Truth(0.11, 0.62), rate=30.0).to_parquet(file)
    found = measure(TABLE, load_odometry(file))
    assert not all(one.explained for one in found.responses.values()), "half of it is of another drive"
    assert changes_after_measuring(MEDLAR, found) == []
    for broken, said in (
        (whole.drop(columns="time"), "expected columns time"), (whole.iloc[:5], "at least 20 rows, found 5"),
        (whole.iloc[::-1], "does not increase"), (whole.assign(x=math.nan), "row 2 has a value that is not a number"),
    ):  # fmt: skip
        broken.to_csv(tmp_path / "broken.csv", index=False)
        with pytest.raises(RecordingError, match=re.escape(said)):
            load_odometry(tmp_path / "broken.csv")


@pytest.mark.long
def test_what_was_measured_goes_into_the_profile(folder: Path) -> None:
    command = ("measure", "drive.csv", "--odometry", "medlar-odometry.csv", "--profile", "medlar.toml")
    said = json.loads(run(*command, "--json", "--figure", "measured.png", cwd=folder).stdout)
    # As scripts/make_odometry.py made it.
    assert abs(said["measures"]["wheel_radius"]["value"] - 0.1135) <= said["measures"]["wheel_radius"]["plus_minus"]
    assert abs(said["measures"]["track"]["value"] - 0.655) <= said["measures"]["track"]["plus_minus"]
    assert (folder / "measured.png").stat().st_size > 20_000
    before = (folder / "medlar.toml").read_text()
    done = run(*command, "--apply", cwd=folder)
    assert "chassis.wheel_radius, chassis.track" in " ".join(done.stdout.split())
    after = (folder / "medlar.toml").read_text()
    (folder / "medlar.toml").write_text(before)
    assert tenuto.parse_profile(after).plan().chassis != PLAN.chassis
    changed = [pair for pair in zip(before.splitlines(), after.splitlines(), strict=True) if pair[0] != pair[1]]
    assert [line.split(" =")[0] for line, _ in changed] == ["track", "wheel_radius"]  # and nothing else


RING = re.sub(
    r"\[chassis\].*?\n\n", '[chassis]\nkind = "omni"\ncount = 3\nradius = "0.2 m"\nwheel_radius = "0.05 m"\n\n', TEXT,
    flags=re.DOTALL,
)  # fmt: skip


@pytest.mark.long
@pytest.mark.parametrize(
    ("text", "course", "turns"),
    [(RING, "orchard-row", {"radius": 0.22}), (shipped("quince.toml").read_text(), "quince-course", {})],
)
def test_wheels_of_other_robots_are_measured_too(
    text: str, course: str, turns: dict[str, float], tmp_path: Path
) -> None:
    profile = tenuto.parse_profile(text)
    table = tenuto.replay(profile, shipped(f"{course}.csv")).to_frame()
    true = {"wheel_radius": profile.chassis.wheel_radius * 1.06, **turns}  # type: ignore[attr-defined]
    real = dataclasses.replace(profile.chassis, **true)
    truth = Truth(0.0, 0.0, delay=0.05, noise=0.003, heading_noise=0.003)
    chassis = profile.model_copy(update={"chassis": real}).plan().chassis
    simulated_odometry(table, truth, chassis=chassis, rate=30.0).to_csv(tmp_path / "odometry.csv", index=False)
    found = wheel_measures(measure(table, load_odometry(tmp_path / "odometry.csv")), profile)
    assert set(found) == set(true)
    assert all(abs(found[key].value - value) <= found[key].plus_minus < 0.03 * value for key, value in true.items())


@given(st.lists(st.floats(-1.0, 1.0), min_size=1, max_size=30))
def test_reversals_are_those_that_are_counted_by_hand(values: list[float]) -> None:
    found = reversals(np.array(values), 0.0)
    steps = [b - a for a, b in pairwise(values) if b != a]
    assert found == sum((a > 0) != (b > 0) for a, b in pairwise(steps))
    assert reversals(np.array(values), 3.0) == 0


@pytest.mark.long
def test_a_comparison_adds_up(folder: Path) -> None:
    found = tenuto.compare(shipped("orchard-row.csv"), MEDLAR, GENTLE, names=("as is", "gentle"))
    figures = found.figures.set_index("figure")
    assert list(figures.loc["top speed"][["as is", "gentle"]]) == pytest.approx([1.2, 0.9])
    # v²/2a at 1.5 m/s², and 0.9 v at 0.8 m/s².
    assert figures.loc["stopping distance", "as is"] == pytest.approx(1.2**2 / 3.0)
    assert figures.loc["from stick to 90 % of speed", "as is"] == pytest.approx(0.9 * 1.2 / 0.8, abs=0.021)
    # The share of the travel with (1 − e)·x + e·x³ up to a fifth, beyond a dead zone of 0.08.
    for name, expo in (("as is", 0.35), ("gentle", 0.7)):
        x = np.linspace(0.0, 1.0, 100_001)
        fine = 100.0 * 0.92 * float(x[((1 - expo) * x + expo * x**3) <= 0.2].max())
        assert figures.loc["fine control", name] == pytest.approx(fine, abs=0.6)
    commands = found.commands
    assert (commands["vx gentle"] - commands["vx as is"] - commands["vx difference"]).abs().max() < 1e-12
    assert commands["vx as is"].to_numpy() == pytest.approx(TABLE["command.vx"].to_numpy(), abs=1e-9)
    ends = found.paths.groupby("profile")[["x", "y"]].last().to_numpy()
    assert math.dist(*ends.tolist()) > 1.0
    # And from a log of the drive, whose columns have other names.
    (folder / "gentle.toml").write_text(TEXT.replace("expo = 0.35", "expo = 0.7").replace('"1.2 m/s"', '"0.9 m/s"'))
    names = ("medlar.toml", "gentle.toml")
    done = run("compare", "drive.csv", *names, "--json", "--figure", "compared.png", cwd=folder)
    rows = {row["figure"]: row for row in json.loads(done.stdout)["figures"]}
    assert rows["top speed"]["difference"] == pytest.approx(-0.3)
    assert rows["distance"]["second"] == pytest.approx(figures.loc["distance", "gentle"], rel=0.01)
    assert (folder / "compared.png").stat().st_size > 20_000
    assert run("compare", "drive.csv", "medlar.toml", "damson.toml", cwd=folder).returncode == 1


@pytest.mark.long
@examples(8)
@given(st.floats(0.5, 1.5), st.floats(0.5, 2.0), st.floats(0.02, 0.2))
def test_proposals_keep_what_they_promise(top: float, within: float, finest: float) -> None:
    top, within, finest = round(top, 2), round(within, 2), round(finest, 3)
    wish = Wish(top, within, finest, noise=0.01)
    if top * (0.3 + PERIOD) >= within:
        with pytest.raises(RecordingError, match="before the loss of a link is detected"):
            tune(MEDLAR, shipped("orchard-row.csv"), wish)
        return
    changes = tune(MEDLAR, shipped("orchard-row.csv"), wish)
    plan = changed_text(TEXT, changes)[1].plan()
    speed, stop = plan.speeds.forward, plan.guard.stop_deceleration
    assert speed == pytest.approx(top, rel=0.005)
    for left in (0.0, 1.0):  # straight, and in the tightest turn: it is driven, and the link goes quiet
        bench = Bench(changed_text(TEXT, changes)[1])
        bench.drive(3.0, 1.0, left)
        bench.run(4.0, None)
        way = sum(tick.dt * abs(tick.command.vx) for tick in bench.ticks if tick.time > 3.2 + 1e-6)
        assert bench.ticks[-1].command.vx == 0.0
        assert way <= within + 1e-6
    assert stop >= PLAN.guard.stop_deceleration
    assert plan.limits.acceleration <= stop
    fine = speed * float(plan.controls[0].shape(0.1))
    # An expo of 0 to 0.9 gives a tenth of the way a share of 0.1 to 0.0109.
    assert fine == pytest.approx(min(max(finest, 0.0109 * speed), 0.1 * speed), abs=0.002)
    assert all(change.why for change in changes)


@pytest.mark.parametrize(
    ("text", "sticks", "names"),
    [
        (TANK, "orchard-row.csv", {"left", "right"}),
        (shipped("sorrel.toml").read_text(), "sorrel-course.csv", {"ahead"}),
        (shipped("quince.toml").read_text(), "quince-course.csv", {"throttle"}),
    ],
)
def test_the_finest_speed_is_that_of_every_stick_that_drives(text: str, sticks: str, names: set[str]) -> None:
    changes = tune(tenuto.parse_profile(text), shipped(sticks), Wish(finest=0.02))
    assert {change.key[1] for change in changes if change.key[-1] == "expo"} == names


class Page(HTMLParser):
    """Counts the parts of a report, and finds links to other files."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.images, self.outside, self.rows = 0, list[str](), 0
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.rows += tag == "tr"
        self.images += tag == "img"
        for name, value in attrs:
            if name in ("src", "href") and not (value or "").startswith("data:"):
                self.outside.append(value or "")


def kept_log(robot: str, course: str, folder: Path) -> pd.DataFrame:
    table = tenuto.replay(tenuto.load_profile(shipped(f"{robot}.toml")), shipped(f"{course}.csv")).to_frame()
    table.to_csv(folder / f"{robot}.csv", index=False)
    return table


@pytest.mark.long
@pytest.mark.parametrize(
    ("robot", "course"), [("medlar", "orchard-row"), ("damson", "damson-flight"), ("sorrel", "sorrel-course")]
)
def test_a_report_tells_what_the_log_holds(robot: str, course: str, folder: Path) -> None:
    table = kept_log(robot, course, folder)
    plan, loaded = tenuto.load_profile(folder / f"{robot}.toml").plan(), tenuto.load_log(folder / f"{robot}.csv")
    told = {fact.name: fact.value for fact in facts(loaded, plan, path_of(loaded, plan).robot.path)}
    assert told["time"] == pytest.approx(table["time"].iloc[-1] - table["time"].iloc[0])
    assert told["top speed"] == pytest.approx(np.hypot(table["command.vx"], table["command.vy"]).max())
    came = (table["time"] - table["frame_age"])[table["new_frame"] == 1]
    assert told["longest silence"] == pytest.approx(came.diff().max())
    assert len(events(loaded)) == (table["guard.state"] != table["guard.state"].shift()).sum()


@pytest.mark.long
@pytest.mark.figure
def test_a_report_is_one_page_that_needs_no_other(folder: Path) -> None:
    table = kept_log("damson", "damson-flight", folder)
    done = run("report", "damson.csv", "--profile", "damson.toml", "--pngs", "pictures", "--json", cwd=folder)
    assert done.returncode == 0, done.stderr
    told = {row["name"]: row["value"] for row in json.loads(done.stdout)["facts"]}
    assert told["time"] == pytest.approx(table["time"].iloc[-1] - table["time"].iloc[0])
    page = Page((folder / "damson.csv.html").read_text())
    changes = (table["guard.state"] != table["guard.state"].shift()).sum()
    assert (page.images, page.outside, page.rows) == (5, [], changes + 1)
    pictures = {file.name: file.read_bytes() for file in (folder / "pictures").iterdir()}
    assert set(pictures) == {"drive.png", "sticks.png", "actuators.png", "link.png", "loop.png"}
    assert all(png.startswith(b"\x89PNG") and len(png) > 10_000 for png in pictures.values())
    assert run("report", "damson.csv", "--profile", "quince.toml", cwd=folder).returncode == 1


@pytest.mark.parametrize(("zone", "value"), [("round", 0.13), ("square", 0.1), ("straight", 0.1)])
def test_the_shared_dead_zone_of_a_stick_comes_from_both_axes(zone: str, value: float, tmp_path: Path) -> None:
    stick = f'\n[sticks.left]\nx = "steer"\ny = "drive"\nzone = "{zone}"\ndead_zone = 0.05\n'
    profile = tenuto.parse_profile(TEXT.replace("dead_zone = 0.08\n", "") + stick)
    rows = [pad(0.06, 0.08)] * 100 + [pad(0.9, -0.7, held=True)] * 50 + [pad(-0.06, -0.08)] * 100  # 0.1 away
    pd.DataFrame(rows, index=pd.Index(np.arange(250) / 50.0, name="time")).to_csv(tmp_path / "sticks.csv")
    changes = {change.key: change for change in tune(profile, tmp_path / "sticks.csv", Wish())}
    assert changes["sticks", "left", "dead_zone"].value == value
    _, changed = changed_text(TEXT.replace("dead_zone = 0.08\n", "") + stick, list(changes.values()))
    assert changed.plan().sticks[0].dead_zone == value


@pytest.mark.long
def test_the_log_of_an_axis_of_two_triggers_is_driven_by_once_more(tmp_path: Path) -> None:
    old = TEXT[TEXT.index("[controls.drive]") : TEXT.index("[controls.steer]")]
    triggers = '[controls.drive]\nreads = "right_trigger"\nminus = "left_trigger"\ndead_zone = 0.05\n'
    (tmp_path / "mine.toml").write_text(TEXT.replace(old, triggers))
    profile = tenuto.load_profile(tmp_path / "mine.toml")
    held = {"right_x": CENTRE, "left_shoulder": 1.0}
    rows = [{"right_trigger": 0.0, "left_trigger": 0.0} | held | {"left_shoulder": 0.0}] * 20
    rows += [{"right_trigger": 0.0, "left_trigger": 0.0} | held] * 20
    for right, left in ((32767.0, 0.0), (0.0, 0.0), (300.0, 20000.0)):
        rows += [{"right_trigger": right, "left_trigger": left} | held] * 100
    pd.DataFrame(rows, index=pd.Index(np.arange(len(rows)) / 50.0, name="time")).to_csv(tmp_path / "sticks.csv")
    first = tenuto.replay(profile, tmp_path / "sticks.csv").to_frame()
    assert first["command.vx"].min() < -0.2 < 1.1 < first["command.vx"].max()
    first.to_csv(tmp_path / "run.csv", index=False)
    frames = recorded_sticks(tmp_path / "run.csv", profile).frames
    assert [dict(frame.values) for frame in frames] == rows
    assert run("compare", "run.csv", "mine.toml", "mine.toml", cwd=tmp_path).returncode == 0
    # The errors of a log do not speak of a recording.
    first.iloc[[*range(9, 30), *range(9)]].to_csv(tmp_path / "run.csv", index=False)
    said = run("compare", "run.csv", "mine.toml", "mine.toml", cwd=tmp_path)
    assert (said.returncode, "expected times that do not go back" in said.stderr) == (1, True)


@pytest.mark.long
def test_tune_from_the_command_line(folder: Path) -> None:
    wish = ("--top-speed", "0.9 m/s", "--stop-within", "0.5 m", "--finest", "0.04 m/s")
    done = run("tune", "orchard-row.csv", "medlar.toml", *wish, "--out", "patch.toml", "--figure", "t.png", cwd=folder)
    assert done.returncode == 0, done.stderr
    patch = (folder / "patch.toml").read_text()
    assert '[speeds]\n# as wished (now 1.2 m/s)\nforward = "0.9 m/s"' in patch
    for arguments, code, said in (
        (("--stop-within", "0.2 m"), 1, "or a shorter link_timeout"),
        (("--top-speed", "3 s"), 2, "s is a time; a speed is needed"),
        (("--noise", "7"), 2, "--noise"),
    ):
        done = run("tune", "orchard-row.csv", "medlar.toml", *arguments, cwd=folder)
        assert done.returncode == code
        assert said in " ".join((done.stdout + done.stderr).replace("│", " ").split())
