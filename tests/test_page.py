"""The page without a browser: its frames, who drives, who is admitted, and its content."""

import asyncio
import json
import math
import socket
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

import tenuto
from helpers import MEDLAR, examples, run
from tenuto import Frame, Pipeline, load_profile
from tenuto.analysis.why import explain_at
from tenuto.data import shipped
from tenuto.driving.plan import Plan
from tenuto.page import door
from tenuto.page.class_here import RobotHere
from tenuto.page.curves import Curves
from tenuto.page.devices import Code, Devices
from tenuto.page.facts import robot_facts, tick_facts
from tenuto.page.hub import Client, Hub
from tenuto.page.open_pages import OpenPage
from tenuto.page.player import Player
from tenuto.profile.load import parse_profile
from tenuto.protocols.page import (
    LONGEST_MESSAGE,
    MOST_AGE,
    SEAT_KEPT_FOR,
    PageAsk,
    PageFrame,
    Seat,
    infos_for,
    read_page,
)  # fmt: skip
from tenuto.protocols.page_rights import RIGHTS, Role, Shown
from tenuto.sources import source_options
from tenuto.sources.gamepad import GamepadOptions
from tenuto.sources.page import PageOptions
from tenuto.sticks.control import ControlPlan
from tenuto.sticks.travel import Travel
from tenuto.testing import any_profile
from tenuto.views.scene import scene_of

PLANS = any_profile().map(lambda profile: profile.plan())


def seat_of(plan: Plan) -> Seat:
    seat = Seat()
    seat.stand_in(plan)
    return seat


@examples(60)
@given(PLANS, st.data())
def test_the_page_stands_in_for_the_device_of_any_profile(plan: Plan, data: st.DataObject) -> None:
    seat, wanted = seat_of(plan), {}
    reads = [name for control in plan.controls for name in control.all_reads]
    for control in plan.controls:
        if all(reads.count(name) == 1 for name in control.all_reads):
            wanted[control.name] = data.draw(st.floats(0.0 if control.one_way else -1.0, 1.0), control.name)
    frame = seat.take("00000001", PageFrame(number=1, heard=0.0, values=wanted), 0.01)
    assert frame is not None
    assert {info.name for info in infos_for(plan)} == set(reads)
    tick = Pipeline(plan).step(frame, 0.01)
    codes = {reason.code for reason in tick.guard.reasons}
    assert not codes & {"value_out_of_range", "value_not_finite", "control_missing"}
    for name, position in wanted.items():
        assert tick.positions[name] == pytest.approx(position, abs=1e-9)


@examples(40)
@given(PLANS, st.data())
def test_several_controls_of_one_stick_rest_together_and_the_one_that_is_moved_counts(
    plan: Plan, data: st.DataObject
) -> None:
    driving = [one for one in plan.controls if one.name in plan.driving_controls() and one.minus is None]
    one = data.draw(st.sampled_from(driving)) if driving else plan.controls[0]
    twin = replace(one, name="twin", centre_at_start=False)
    both = replace(plan, controls=(*plan.controls, twin))
    seat = seat_of(both)
    at = data.draw(st.floats(0.0 if one.one_way else -1.0, 1.0))
    for said in ({}, {one.name: at}, {"twin": at}):
        tick = Pipeline(both).step(Frame(0.02, seat.raw(said)), 0.02)
        wanted = at if said else 0.0
        assert tick.positions[one.name] == pytest.approx(wanted, abs=1e-9)
        assert tick.positions["twin"] == pytest.approx(wanted, abs=1e-9)


@given(st.floats(-2000, 2000), st.floats(1, 3000), st.floats(1, 3000), st.booleans(), st.booleans(), st.floats(-1, 1))
def test_a_raw_number_and_its_position_are_the_same_place(
    centre: float, below: float, above: float, middle: bool, reverse: bool, at: float
) -> None:
    travel = Travel(centre - below, centre if middle else None, centre + above, reverse)
    at = at if middle else abs(at)
    assert travel.position(travel.raw(at)) == pytest.approx(at, abs=1e-9)
    assert travel.low <= travel.raw(5.0) <= travel.high


def test_what_a_page_cannot_send_is_refused_before_the_drive(tmp_path: Path) -> None:
    control = MEDLAR.plan().controls[0]
    many = [replace(control, name=f"control_{number}") for number in range(70)]
    long = [replace(control, name="x" * 41)]
    wide = [replace(control, name=f"{number}" + "\u65e5" * 38) for number in range(30)]
    for more in (many, long, wide):
        plan = replace(MEDLAR.plan(), controls=(*MEDLAR.plan().controls, *more))
        with pytest.raises(tenuto.SourceError, match="a page sends"):
            infos_for(plan)
    # The largest accepted number of controls fits into a message at any positions.
    names = [f"{number:02}" + "n" * 38 for number in range(64)]
    fits = next(k for k in range(64, 0, -1) if _fits([replace(control, name=name) for name in names[:k]]))
    frame = {"type": "frame", "number": 4294967295, "heard": 3999999.9999, "good": False, "note": "n" * 120,
             "values": dict.fromkeys(names[:fits], -0.1234)}  # fmt: skip
    data = json.dumps(frame, separators=(",", ":")).encode()
    assert len(data) <= LONGEST_MESSAGE
    assert read_page(data) is not None


def _fits(controls: list[ControlPlan]) -> bool:
    try:
        infos_for(replace(MEDLAR.plan(), controls=tuple(controls)))
    except tenuto.SourceError:
        return False
    return True


@given(
    st.lists(
        st.tuples(st.sampled_from("ab"), st.integers(0, 30), st.floats(-0.6, 0.1), st.booleans()),
        min_size=1,
        max_size=40,
    )
)
def test_a_frame_counts_once_in_order_and_not_when_it_is_old(sent: list[tuple[str, int, float, bool]]) -> None:
    seat, newest = seat_of(MEDLAR.plan()), ("", -1)
    oldest = min(MOST_AGE, MEDLAR.guard.link_timeout)
    for step, (who, number, ahead, good) in enumerate(sent):
        now = 10.0 + 0.02 * step
        frame = PageFrame(number=number, heard=now + ahead, good=good, values={"drive": 1.0})
        if who != newest[0]:
            newest = (who, 0)
        counts = number > newest[1] and (not good or -oldest <= (now + ahead) - now <= 0.0)
        taken = seat.take(who, frame, now)
        assert (taken is not None) == counts, seat.why_not
        if taken is not None:
            newest = (who, number)
            assert taken.link_good == good


@given(
    st.binary(max_size=80)
    | st.recursive(st.none() | st.floats() | st.text(), st.lists).map(lambda x: json.dumps(x).encode())
)
def test_whatever_a_page_sends_is_read_or_is_none(data: bytes) -> None:
    found = read_page(data)
    assert found is None or found.type in {"frame", "take", "let_go", "give", "emergency", "reset", "mark", "name"}


class Browsers:
    """Several pages at one hub, with the messages to the loop and to each page."""

    def __init__(self, shown: Shown = Shown.SEAT, *, moves: bool = False) -> None:
        self.loop: list[dict[str, Any]] = []
        self.told: dict[str, list[dict[str, Any]]] = {}
        self.more: list[PageAsk] = []
        self.hub = Hub(self.loop.append, shown=shown, moves=lambda: moves, more=lambda _, ask: self.more.append(ask))
        self.now = 0.0

    def open(self, name: str, *, may_drive: bool = True) -> Client:
        told = self.told[name] = []
        client = Client(name, may_drive, told.append)
        assert self.hub.join(client) == ""
        return client

    def say(self, client: Client, **message: Any) -> str:
        self.now += 0.02
        return self.hub.hear(client, json.dumps(message).encode(), self.now)

    def frame(self, client: Client, number: int, *, good: bool = True) -> str:
        return self.say(client, type="frame", number=number, heard=0.0, good=good, values={"drive": 0.5})


@given(
    st.lists(
        st.tuples(
            st.integers(0, 3), st.sampled_from(("take", "let_go", "frame", "bad", "give", "leave", "wait", "reset"))
        ),
        max_size=60,
    )
)
def test_one_page_drives_and_another_only_after_word_that_it_has_gone(story: list[tuple[int, str]]) -> None:
    at = Browsers()
    pages = [at.open(str(number), may_drive=number < 3) for number in range(4)]
    for who, what in story:
        page = pages[who]
        if page.id not in at.hub.clients:
            continue
        if what == "leave":
            at.hub.leave(page, "closed")
        elif what == "wait":
            at.now += SEAT_KEPT_FOR + 0.1
        elif what in ("frame", "bad"):
            at.frame(page, 1, good=what == "frame")
        else:
            at.say(page, type=what, **({"to": pages[(who + 1) % 4].id} if what == "give" else {}))
    driver = ""
    for said in at.loop:
        if said["kind"] == "gone":
            driver = ""
        elif said["kind"] == "frame":
            assert driver in ("", said["client"])
            driver = said["client"]
            assert driver != pages[3].id  # it may only watch
    for name, told in at.told.items():
        heard = [one for one in told if one["type"] == "who"]
        there = pages[int(name)].id in at.hub.clients
        assert not there or heard[-1]["driver"] == (at.hub.driver.id if at.hub.driver else "")


def test_garbage_and_floods_close_one_page_and_touch_no_other() -> None:
    at = Browsers()
    driver, hostile, quick = at.open("driver"), at.open("hostile"), at.open("quick")
    at.say(driver, type="take")
    closed = [at.hub.hear(hostile, b"\x00" * 50, at.now) for _ in range(10_000)]
    assert "too many invalid messages" in closed[:30]
    mark = b'{"type": "mark"}'
    assert "too many messages" in [at.hub.hear(quick, mark, at.now) for _ in range(400)]
    assert at.frame(driver, 1) == ""
    assert [said["kind"] for said in at.loop if said["client"] != quick.id] == ["frame"]
    assert at.hub.hear(driver, b'{"type":"mark","text":"' + b"a" * 9000 + b'"}', at.now) == ""
    assert at.loop[-1]["kind"] != "mark" or at.loop[-1]["client"] != driver.id


def test_a_page_has_a_name_that_no_other_has_and_a_device_keeps_its_own() -> None:
    at = Browsers()
    one, two, watcher = at.open("a"), at.open("b"), at.open("c", may_drive=False)
    phone = Client("my phone", True, at.told.setdefault("phone", []).append, named=True)
    at.hub.join(phone)
    for page in (one, two, watcher, phone):
        at.say(page, type="name", text="laptop")
    assert [page.name for page in (one, two, watcher, phone)] == ["laptop", "laptop 2", "c", "my phone"]


def test_who_may_look_on_only_stops_nothing_and_resets_nothing() -> None:
    at = Browsers()
    watcher, driver, other = at.open("watcher", may_drive=False), at.open("driver"), at.open("other")
    for what in ("take", "emergency", "reset", "mark"):
        at.say(watcher, type=what)
    assert at.loop == []
    assert at.hub.driver is None
    at.say(driver, type="take")
    at.say(other, type="reset")
    assert at.loop == []
    at.say(other, type="emergency")
    at.say(driver, type="reset")
    assert [said["kind"] for said in at.loop] == ["emergency", "reset"]
    # A page that shows a drive with other sticks has no driver's seat, and every page may reset.
    shows = Browsers(Shown.DRIVE)
    page = shows.open("page")
    shows.say(page, type="take")
    shows.say(page, type="reset")
    assert [said["kind"] for said in shows.loop] == ["reset"]


SENT: dict[str, dict[str, Any]] = {
    "frame": {"number": 7, "heard": 0.0, "values": {"drive": 0.5}},
    "curve": {"text": "drive", "numbers": {"expo": 0.5}},
    "save": {"text": "drive", "numbers": {"expo": 0.5}},
    "at": {"time": 1.0, "text": "drive", "numbers": {"expo": 0.9}},
    "name": {"text": "somebody else"},
}


def documented() -> dict[str, tuple[set[str], set[str], bool]]:
    """Read the table of docs/page.md: message → from whom, on which pages, only while the robot stands."""
    text = (Path(__file__).parents[1] / "docs/page.md").read_text().split("<!-- rights -->")[1]
    rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in text.splitlines() if line.startswith("| `")]
    return {
        name.strip("`"): (set(roles.split(", ")), set(shown.split(", ")), when != "always")
        for name, roles, shown, when in rows
    }


@pytest.mark.parametrize("moves", [False, True])
@pytest.mark.parametrize("shown", list(Shown))
@pytest.mark.parametrize("role", list(Role))
def test_every_message_in_every_role_and_state_does_what_the_docs_say(role: Role, shown: Shown, moves: bool) -> None:
    table = documented()
    assert table.keys() == RIGHTS.keys()
    for sent in (*table, "admit", "shutdown", "__class__", "", "Save", "at "):
        at = Browsers(shown, moves=moves)
        other, page = at.open("other"), at.open("page", may_drive=role is not Role.WATCHER)
        if role is Role.DRIVER:
            if shown is not Shown.SEAT:
                continue  # nobody can be the driver there
            at.say(page, type="take")
        elif shown is Shown.SEAT and sent != "take":
            at.say(other, type="take")
        before = (at.hub.driver, page.name, len(at.loop), len(at.more))
        at.say(page, **({"to": other.id} if sent == "give" else {}), **SENT.get(sent, {}), type=sent)
        acted = before != (at.hub.driver, page.name, len(at.loop), len(at.more))
        roles, pages, standing = table.get(sent, (set(), set(), False))
        # Where there is no seat, each device is what the driver is elsewhere.
        mine = {role.value} | ({"driver"} if role is Role.DEVICE and shown is not Shown.SEAT else set())
        admitted = bool(roles & mine) and shown.value in pages and not (standing and moves)
        if sent == "take" and role is Role.DRIVER:
            admitted = False  # who drives already takes nothing
        assert acted is admitted, (sent, role, shown, moves)


@pytest.mark.parametrize("linked", [False, True])
@pytest.mark.parametrize("mode", [0o644, 0o600, 0o664])
def test_a_saved_profile_keeps_its_permissions_and_a_link_to_it(tmp_path: Path, mode: int, linked: bool) -> None:
    real, file = tmp_path / "real.toml", tmp_path / "link.toml"
    real.write_text(shipped("medlar.toml").read_text())
    real.chmod(mode)
    if linked:
        file.symlink_to(real.name)
    else:
        file = real
    assert "saved" in Curves(str(file)).save("drive", {"expo": 0.55})
    assert file.is_symlink() is linked
    assert real.stat().st_mode & 0o777 == mode
    assert "expo = 0.55" in real.read_text()


@pytest.mark.live
@pytest.mark.port
def test_silent_strangers_do_not_keep_a_device_out(monkeypatch: pytest.MonkeyPatch) -> None:
    """From many addresses of this machine: a bounded share of the connections, and none for long."""
    monkeypatch.setattr(door, "SILENT_FOR", 2.0)
    listening = socket.create_server(("127.0.0.1", 0))
    port = listening.getsockname()[1]

    class Answers(asyncio.Protocol):
        def connection_made(self, transport: asyncio.BaseTransport) -> None:
            self.transport = cast(asyncio.Transport, transport)

        def data_received(self, data: bytes) -> None:
            self.transport.write(b"yes")

    async def closed(reader: asyncio.StreamReader, seconds: float) -> bool:
        try:
            return await asyncio.wait_for(reader.read(1), seconds) == b""
        except (TimeoutError, ConnectionResetError) as error:
            return isinstance(error, ConnectionResetError)

    async def attack() -> None:
        serving = asyncio.create_task(door.Door(listening, Answers, None, lambda one: one == "127.0.9.9").serve())
        strangers = [
            await asyncio.open_connection("127.0.0.1", port, local_addr=(f"127.0.{number % 5}.1", 0))
            for number in range(250)
        ]
        refused = await asyncio.gather(*(closed(reader, 0.5) for reader, _ in strangers))
        assert 250 - sum(refused) == door.MOST_STRANGERS, "a share of all, whatever their addresses"
        reader, writer = await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.9.9", 0))
        writer.write(b"may I?")
        assert await asyncio.wait_for(reader.read(3), 10.0) == b"yes", "a device has its place"
        ended = await asyncio.gather(*(closed(one, 20.0) for one, _ in strangers))
        assert all(ended), "who says nothing goes"
        many = [await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.7.7", 0)) for _ in range(60)]
        left = 60 - sum(await asyncio.gather(*(closed(one, 0.5) for one, _ in many)))
        assert left == door.MOST_OF_ONE
        for _, one in (*strangers, *many, (reader, writer)):
            one.close()
        await asyncio.gather(*(one.wait_closed() for _, one in (*strangers, *many)), return_exceptions=True)
        serving.cancel()
        with suppress(asyncio.CancelledError):
            await serving

    asyncio.run(attack())


def test_devices_have_reserved_places_among_watchers() -> None:
    at = Browsers()
    for number in range(20):
        at.open(f"watcher {number}", may_drive=False)
    assert "watching already" in at.hub.join(Client("one more", False, at.loop.append))
    for number in range(20):
        at.open(f"device {number}")
    assert "40 pages" in at.hub.join(Client("one more", True, at.loop.append))


def test_a_code_lets_one_device_in_and_a_device_is_forgotten(tmp_path: Path) -> None:
    code = Code(0.0)
    right = code.text
    wrong = "x" + right[1:]
    assert all(code.why_not(wrong, float(second), "10.0.0.7") for second in range(4))
    assert code.why_not(right, 3.5, "10.0.0.7")  # no attempt is accepted within a second after a wrong one
    assert code.why_not(right, 5.0, "10.0.0.7") == ""
    assert code.why_not(right, 5.0, "10.0.0.7")  # used up
    late = code.text
    assert code.why_not(late, 700.0)
    # Five attempts of an address, however long and fast they are made; they delay no other one.
    assert sum("not the code" in code.why_not("00000000x", 700.0 + number, "fe80::1:2") for number in range(100)) == 5
    assert code.why_not(code.text, 800.0, "fe80::1:3"), "the same network"
    assert code.why_not(code.text, 800.0, "::ffff:10.0.0.8") == ""
    # Fifty of all, with the ten before, whatever code they were for.
    tried = sum("not the code" in code.why_not("00000000x", 801.0, f"10.0.{number}.1") for number in range(250))
    assert (tried, code.text) == (50 - 10, "")
    assert "tenuto page --permit" in code.why_not("", 9e9)
    code.permit(9e9)
    assert code.why_not(code.text, 9e9, "10.0.0.7") == ""

    devices, file = Devices(tmp_path / "devices.json"), tmp_path / "devices.json"
    phone, tablet = devices.add("my phone", "2026-11-27"), devices.add("tab\x1b[2Jlet", "2026-11-27")
    assert file.stat().st_mode & 0o077 == 0
    assert phone.partition(".")[2] not in file.read_text()
    elsewhere = Devices(file)
    found = elsewhere.known(phone)
    assert found is not None
    assert found.name == "my phone"
    assert elsewhere.known(phone[:-1] + "x") is elsewhere.known("") is elsewhere.known("a.b") is None
    assert Devices(file).forget("my phone") == 1
    elsewhere.look(5.0)
    assert elsewhere.known(phone) is None
    kept = elsewhere.known(tablet)
    assert kept is not None
    assert "\x1b" not in kept.name
    file.write_text("{broken")
    assert Devices(file).known(tablet) is None


@examples(60)
@given(PLANS)
def test_the_page_has_something_for_every_control_and_shows_what_the_tick_says(plan: Plan) -> None:
    facts = robot_facts(plan, "robot", "here → there")
    names = [name for stick in facts["sticks"] for name in (stick["x"], stick["y"]) if name] + facts["holds"]
    names += [one["name"] for one in (*facts["sliders"], *facts["buttons"])]
    assert sorted(names) == sorted(control.name for control in plan.controls)
    seat, pipeline = seat_of(plan), Pipeline(plan)
    for number in range(1, 4):
        tick = pipeline.step(Frame(0.02 * number, seat.at_rest()), 0.02 * number)
        said = json.loads(json.dumps(tick_facts(scene_of(plan, "robot", ""), tick, False), allow_nan=False))
        assert said["state"] == tick.state
        assert [one["text"] for one in said["reasons"]] == [reason.text for reason in tick.guard.reasons]
        assert all(one["todo"] for one in said["reasons"])
        assert said["command"].keys() == tick.command._asdict().keys()
        assert set(said["actuators"]) <= set(facts["ends"])
    json.dumps(facts, allow_nan=False)


@given(PLANS, st.floats(0.0, 100.0))
def test_a_robot_of_a_class_that_does_not_answer_is_not_shown_as_stopped(plan: Plan, later: float) -> None:
    robot = RobotHere(OpenPage(8601, False, 1))
    scene, tick = scene_of(plan, "robot", ""), Pipeline(plan).step(Frame(0.0, seat_of(plan).at_rest()), 0.0)
    robot.take({"type": "robot", **robot_facts(plan, "robot", "")}, 0.0)
    robot.take({"type": "tick", **tick_facts(scene, tick, False)}, 0.0)
    assert (robot.shown, robot.card(0.5).state) == (True, str(tick.guard.state))
    robot.take({"type": "tick", **tick_facts(scene, tick, False), "guard": "emergency stop"}, 0.0)
    robot.asked_since = 0.0
    assert not robot.wants_a_stop(later)  # nothing was sent, and an earlier stop confirms nothing
    robot.take({"type": "tick", **tick_facts(scene, tick, False)}, 0.0)
    shown = robot.card(later)
    assert shown.state == (str(tick.guard.state) if later <= 1.0 else "silent")
    assert ("stop it at the robot" in shown.asked) == (later > 10.0)
    assert shown.asked
    robot.asked_since, robot.socket = later, cast(Any, object())
    assert [robot.wants_a_stop(later + after) for after in (0.0, 0.1, 0.6)] == [True, False, True]
    later += 0.7
    robot.take({"type": "tick", **tick_facts(scene, tick, False), "guard": "emergency stop"}, later)
    assert not robot.wants_a_stop(later)
    assert (robot.card(later).state, robot.card(later).asked) == ("emergency stop", "")


@given(st.data())
def test_a_short_text_says_yes_and_no_and_whole_numbers(data: st.DataObject) -> None:
    lan, watchers, port = data.draw(st.booleans()), data.draw(st.booleans()), data.draw(st.integers(0, 65535))
    found = source_options(f"page:{port},lan={str(lan).lower()},watchers={str(watchers).lower()}")
    assert found == PageOptions(port=port, lan=lan, watchers=watchers)


def test_bad_words_are_refused_before_anything_is_served(tmp_path: Path) -> None:
    (tmp_path / "medlar.toml").write_text((Path(str(MEDLAR.file))).read_text())
    for words, said in (
        (("--source", "page:x"), 'port: expected a TCP port from 0 to 65535, found "x"'),
        (("--source", "page:70000"), 'found "70000"'),
        (("--source", "page:0,lan=maybe"), "lan: expected true or false"),
        (("--source", "page:0,watchers=true"), "watchers: expected false, unless lan = true"),
        (("--source", "simulated:sticks", "--to", "page:-1"), "port: expected"),
    ):
        ended = run("drive", "medlar.toml", *words, cwd=tmp_path)
        assert (ended.returncode, "Traceback" in ended.stderr) == (1, False)
        assert said in ended.stderr.replace("\n", " ")
    for line in ("page", "page medlar.toml --key medlar.toml", "page --log x.csv --to simulated",
                 "page --devices --lan",
                 "page --class 127.0.0.1:9 --anyway", "page --class here --key x.csv",
                 "calibrate --from medlar.toml --page 0"):  # fmt: skip
        (tmp_path / "x.csv").touch()
        assert run(*line.split(), cwd=tmp_path).returncode == 2, line
    for table in ('[source]\nkind = "page"\nwatchers = true', '[sinks.see]\nkind = "page"\nwatchers = true'):
        text = Path(str(MEDLAR.file)).read_text()
        text = text.replace('[source]\nkind = "gamepad"', table) if "[source]" in table else f"{text}\n{table}\n"
        (tmp_path / "bad.toml").write_text(text)
        checked = run("check", "bad.toml", cwd=tmp_path)
        assert (checked.returncode, "watchers: " in checked.stdout + checked.stderr) == (1, True)
    assert run("page", "medlar.toml", "--watchers", cwd=tmp_path).returncode == 2


@given(st.floats(0.0, 0.5), st.floats(0.0, 1.0), st.floats(-1.0, 1.0))
def test_a_curve_that_is_tried_is_what_the_pipeline_makes_and_is_saved_with_its_comments(
    tmp_path_factory: pytest.TempPathFactory, zone: float, expo: float, at: float
) -> None:
    file = tmp_path_factory.mktemp("curves") / "medlar.toml"
    file.write_text(Path(str(MEDLAR.file)).read_text())
    curves, numbers = Curves(str(file)), {"dead_zone": zone, "expo": expo}
    tried = curves.tried("drive", numbers)
    assert [one["control"] for one in curves.all()] == ["drive", "steer"]
    assert "saved" in curves.save("drive", numbers)
    assert tried["settings"]["expo"]["value"] == pytest.approx(round(expo, 3))
    profile = load_profile(file)
    seat, pipeline = seat_of(profile.plan()), Pipeline(profile)
    number = min(range(len(tried["x"])), key=lambda one: abs(tried["x"][one] - at))
    tick = pipeline.step(Frame(0.02, seat.raw({"drive": tried["x"][number]})), 0.02)
    assert tick.shaped["drive"] == pytest.approx(tried["y"][number], abs=2e-4)
    before, after = Path(str(MEDLAR.file)).read_text(), file.read_text()
    assert [line for line in after.splitlines() if "#" in line] == [line for line in before.splitlines() if "#" in line]


def test_what_a_profile_would_not_take_is_not_saved(tmp_path: Path) -> None:
    file = tmp_path / "medlar.toml"
    file.write_text(Path(str(MEDLAR.file)).read_text())
    curves, before = Curves(str(file)), file.read_text()
    for control, numbers in (("drive", {"speed": 0.5}), ("drive", {"expo": -0.5}), ("none", {"expo": 0.5})):
        assert "not saved" in curves.save(control, numbers)
        assert curves.tried(control, numbers)["why"]
    file.write_text("broken")
    assert curves.all() == []
    assert "not saved" in curves.save("drive", {"expo": 0.2})
    assert "not saved" in Curves("").save("drive", {"expo": 0.2})
    file.write_text(before)
    at = Browsers()
    asked = list[str]()
    at.hub._more = lambda client, ask: asked.append(f"{client.name} {ask.type}")
    watcher, owner = at.open("watcher", may_drive=False), at.open("owner")
    for page in (watcher, owner):
        for what in ("curve", "save"):
            at.say(page, type=what, text="drive", numbers={"expo": 0.5})
    assert asked == ["owner curve", "owner save"]


@pytest.fixture(scope="module")
def player(tmp_path_factory: pytest.TempPathFactory) -> tuple[Any, Any]:
    log = tmp_path_factory.mktemp("log") / "run.csv"
    with tenuto.open_sink(f"log:{log}") as sink:
        tenuto.replay(MEDLAR, shipped("orchard-row.csv"), [sink])
    table = tenuto.load_log(log)
    return table, Player(table, MEDLAR, "Medlar", "run.csv")


@pytest.mark.long
@given(time=st.floats(-1.0, 50.0))
def test_a_log_is_shown_as_it_was_at_any_moment(player: tuple[Any, Any], time: float) -> None:
    table, shown = player
    rows = table[table["time"] <= max(time, table["time"].iloc[0])]
    row = rows.iloc[-1]
    found = shown.at(time)
    assert (found["guard"], found["t"]) == (row["guard.state"], round(row["time"], 3))
    assert found["command"]["vx"] == pytest.approx(row["command.vx"], abs=1e-4)
    assert found["answer"] == explain_at(table, MEDLAR, float(row["time"])).answer
    # Its position is the integral of its simulated wheels, from which the path continues.
    x, y, heading = found["pose"]
    later = shown.at(found["t"] + 0.1)["pose"]
    assert math.hypot(later[0] - x, later[1] - y) <= 1.2 * 0.16
    assert abs(later[2] - heading) <= math.radians(90.0) * 0.16
    json.dumps(found, allow_nan=False)


@pytest.mark.long
def test_the_bar_of_a_log_has_its_states(player: tuple[Any, Any]) -> None:
    table, shown = player
    bar = shown.overview()
    at = dict(bar["states"])
    changes = (table["guard.state"] != table["guard.state"].shift()).to_numpy()
    assert list(at.values()) == table["guard.state"][changes].tolist()
    assert (bar["begin"], bar["end"]) == (table["time"].iloc[0], table["time"].iloc[-1])
    assert len(bar["path"]) == len(bar["times"]) == len(bar["speed"])


def test_the_page_s_own_controls_are_a_gamepad_s() -> None:
    pad = {info.name: info for info in GamepadOptions.layout}
    assert all(pad[info.name] == info for info in PageOptions.layout)
    seat = Seat()
    ends = seat.raw({"left_y": 1.0, "right_x": -1.0, "left_trigger": 1.0, "south": 1.0})
    assert (ends["left_y"], ends["right_x"], ends["left_trigger"], ends["south"]) == (-32768.0, 32767.0, 32767.0, 1.0)
    text = Path(str(MEDLAR.file)).read_text().replace('kind = "gamepad"', 'kind = "page"')
    assert parse_profile(text, "page.toml").plan().controls == MEDLAR.plan().controls
