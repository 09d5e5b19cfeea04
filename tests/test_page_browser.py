"""The page in a real Chromium, and over real sockets: the commands for any action of the browser."""

from __future__ import annotations

import json
import random
import re
import signal
import ssl
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack, suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pexpect
import pytest
from scipy.spatial.transform import Rotation

import tenuto
from browsers import CHROMIUM, PATIENCE, Cable, Fingers, PageDrive, RawPage, chromium, wait_for
from helpers import Hands, patient, run
from tenuto import Profile, Tick, load_profile, parse_profile
from tenuto.basics.errors import SourceError
from tenuto.data import shipped
from tenuto.driving.guard import State
from tenuto.links.page import PageServer, PageSettings
from tenuto.protocols.page import FromServer
from tenuto.sim.sources import stick_numbers
from tenuto.sinks.function import FunctionSink
from tenuto.sinks.page import PageSink

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Page

pytestmark = [pytest.mark.live, pytest.mark.port]
in_browser = pytest.mark.skipif(CHROMIUM is None, reason="chromium is not installed")

# A gamepad of the standard layout, as a page sees one.
GAMEPAD = """
window.pad = { index: 0, id: "orchard pad", connected: true, mapping: "standard", axes: [0, 0, 0, 0],
  buttons: Array.from({ length: 17 }, () => ({ pressed: false, value: 0 })) };
Object.defineProperty(navigator, "getGamepads", { value: () => [window.pad] });
"""
PUSH = "window.pad.buttons[4] = { pressed: true, value: 1 };"


@pytest.fixture
def profile(tmp_path: Path) -> Profile:
    return load_profile(patient(tmp_path))


@pytest.fixture
def drive(profile: Profile) -> Iterator[PageDrive]:
    with PageDrive(profile) as one:
        yield one


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with chromium() as one:
        yield one


def opened(browser: Browser, drive: PageDrive, script: str = "", **options: Any) -> Page:
    """Open the page, and take the driver's seat."""
    page = browser.new_context(viewport={"width": 360, "height": 640}, has_touch=True, **options).new_page()
    page.set_default_timeout(1000 * PATIENCE)
    if script:
        page.add_init_script(script)
    page.goto(drive.url)
    page.locator("#take:visible").click()
    page.locator("#widgets:visible").wait_for()
    return page


def driving(page: Page, drive: PageDrive) -> None:
    """Drive by keys, as on a laptop; if a busy machine stalls, the robot stops, and the keys are pressed again."""
    for _ in range(10):
        wait_for(lambda: "hold_not_pressed" in drive.codes(), f"not ready: {drive.ticks[-1].guard}")
        page.keyboard.down("Space")
        end = time.monotonic() + 3.0
        while drive.state != "driving" and time.monotonic() < end:
            time.sleep(0.01)
        if drive.state == "driving":
            break
        page.keyboard.up("Space")
    assert drive.state == "driving", drive.ticks[-1].guard
    page.keyboard.down("KeyW")
    drive.drives()


@in_browser
@pytest.mark.parametrize("lifted", [0, 1], ids=["hold", "stick"])
def test_two_fingers_drive_and_either_of_them_lifted_stops(browser: Browser, drive: PageDrive, lifted: int) -> None:
    page = opened(browser, drive)
    fingers = Fingers(page)
    hold, stick = fingers.middle_of("#hold"), fingers.middle_of(".stick")
    wait_for(lambda: drive.codes() == {"hold_not_pressed"}, f"not ready: {drive.ticks[-1].guard}")
    fingers.down(0, hold)
    wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
    # The finger lands away from the middle: nothing jumps.
    fingers.down(1, (stick[0] + 30, stick[1] + 20))
    drive.stands_for(0.1)
    fingers.move(1, (-20, -50))
    drive.drives()
    command = wait_for(lambda: drive.ticks[-1].command.yaw_rate > 0.1 and drive.ticks[-1].command, "no turn")
    assert command.vx > 0.0
    fingers.lift(lifted)
    drive.stops("hold_released" if lifted == 0 else "")
    wait_for(lambda: drive.state == ("not enabled", "driving")[lifted], f"it is {drive.state}")


@in_browser
@pytest.mark.parametrize("lifted", [0, 1], ids=["left", "right"])
def test_with_two_sticks_the_thumb_on_the_left_one_may_hold(browser: Browser, lifted: int) -> None:
    text = shipped("damson.toml").read_text().replace('link_timeout = "500 ms"', 'link_timeout = "3 s"')
    text += '\n[loop]\nstall_timeout = "2 s"\n'  # a busy machine stalls now and then
    with PageDrive(parse_profile(text)) as drive:
        page = opened(browser, drive)
        fingers = Fingers(page)
        left, right = (fingers.middle_of(f".stick-box:nth-child({number}) .stick") for number in (1, 2))
        wait_for(lambda: "hold_not_pressed" in drive.codes(), f"not ready: {drive.ticks[-1].guard}")
        fingers.down(0, left)
        drive.stands_for(0.3)
        assert drive.state == "not enabled", "a thumb on a stick holds only where that was asked for"
        fingers.lift(0)
        page.locator("#by-stick").click()
        fingers.down(0, (left[0] + 20, left[1]))
        wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
        assert not drive.moving, "a knob that trims is in its middle at first"
        fingers.down(1, right)
        fingers.move(1, (0, -40))
        drive.drives()
        assert wait_for(lambda: drive.ticks[-1].command.vz > 0.05, "it does not climb")
        fingers.lift(lifted)
        drive.stops("hold_released" if lifted == 0 else "")
        wait_for(lambda: drive.state == ("not enabled", "driving")[lifted], f"it is {drive.state}")


@in_browser
def test_a_gamepad_through_the_standard_interface_drives_until_it_is_unplugged(
    browser: Browser, drive: PageDrive
) -> None:
    page = opened(browser, drive, GAMEPAD)
    wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
    page.evaluate(PUSH)
    wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
    page.evaluate("window.pad.axes = [0, -0.8, 0.3, 0]")
    drive.drives()
    wait_for(lambda: drive.ticks[-1].command.yaw_rate < -0.05, "the right stick to the right does not turn right")
    assert drive.ticks[-1].positions["drive"] == pytest.approx(0.8, abs=0.01)
    page.evaluate("window.pad = null")
    drive.stops("link_bad")
    page.evaluate(GAMEPAD.replace("Object.defineProperty", "0 && Object.defineProperty"))
    page.evaluate(PUSH + "window.pad.axes = [0, -0.8, 0, 0]")  # plugged in with the stick pushed and the button held
    drive.stands_for(0.4)


@in_browser
def test_a_gamepad_on_the_page_is_the_pad_that_the_profile_reads(browser: Browser, tmp_path: Path) -> None:
    text = patient(tmp_path).read_text().replace('reads = "right_x"', 'reads = "right_x"\nreverse = true')
    text = text.replace('hold_to_run = "left_shoulder"', 'hold_to_run = "right_trigger"\npressed_through = 0.9')
    (tmp_path / "turned.toml").write_text(text)
    profile = load_profile(tmp_path / "turned.toml")
    with PageDrive(profile) as drive:
        page = opened(browser, drive, GAMEPAD)
        wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
        press = "(at) => { window.pad.buttons[7] = { pressed: at > 0, value: at }; }"
        page.evaluate(press, 0.7)
        wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
        page.evaluate("window.pad.axes = [0, -0.5, 0.8, 0]")
        drive.drives()
        # Calculated from the pad's own numbers for these positions, with the profile and without a page.
        bare = profile.with_(**{f"controls.{name}.{key}": None for name in ("drive", "steer")
                                for key in ("low", "centre", "high")})  # fmt: skip
        frame = tenuto.Frame(0.02, {"left_y": -16384.0, "right_x": 0.8 * 32767, "right_trigger": 0.7 * 32767})
        pad = tenuto.Pipeline(bare).step(frame, 0.02).positions
        wait_for(
            lambda: drive.ticks[-1].positions["steer"] == pytest.approx(pad["steer"], abs=0.01), "another way round"
        )
        assert drive.ticks[-1].positions["drive"] == pytest.approx(pad["drive"], abs=0.01)
        page.evaluate(press, 1.0)  # pressed through by a cramped hand
        drive.stops("hold_released")


@in_browser
def test_an_enabling_button_that_stays_is_off_when_somebody_comes_back(browser: Browser, tmp_path: Path) -> None:
    text = patient(tmp_path).read_text().replace('hold_to_run = "left_shoulder"', 'enable = "ready"')
    switch = '\n[switches.ready]\nkind = "positions"\nreads = "south"\npositions = 2\n'
    (tmp_path / "ready.toml").write_text(text + switch)
    with PageDrive(load_profile(tmp_path / "ready.toml")) as drive:
        page = opened(browser, drive)
        ready = page.locator("#buttons button").first
        wait_for(lambda: "not_enabled" in drive.codes(), f"not ready: {drive.ticks[-1].guard}")
        ready.click()
        wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
        page.keyboard.down("KeyW")
        drive.drives()
        page.evaluate('window.dispatchEvent(new Event("blur"))')
        drive.stops("link_bad")
        page.evaluate('window.dispatchEvent(new Event("focus"))')
        page.keyboard.up("KeyW")
        drive.stands_for(0.6)
        assert drive.state == "not enabled"
        assert ready.get_attribute("aria-pressed") == "false"


HIDE = """Object.defineProperty(document, "hidden", { value: true, configurable: true });
document.dispatchEvent(new Event("visibilitychange"))"""
SHOW = """delete document.hidden; document.dispatchEvent(new Event("visibilitychange"))"""


@in_browser
@pytest.mark.parametrize(
    ("away", "back", "code"),
    [
        ("key-up", "", "hold_released"),
        (HIDE, SHOW, "link_bad"),
        ('window.dispatchEvent(new Event("blur"))', 'window.dispatchEvent(new Event("focus"))', "link_bad"),
        ('document.dispatchEvent(new Event("freeze"))', "", "link_bad"),
        ('window.dispatchEvent(new Event("pagehide"))', 'window.dispatchEvent(new Event("pageshow"))', "link_bad"),
        ("const end = Date.now() + 2500; while (Date.now() < end);", "", "link_quiet"),  # like a dialog or a breakpoint
    ],
    ids=["key-up", "hidden", "blur", "frozen", "left", "main thread hangs"],
)
def test_it_stops_and_does_not_start_by_itself(
    browser: Browser, drive: PageDrive, away: str, back: str, code: str
) -> None:
    page = opened(browser, drive)
    driving(page, drive)
    if away == "key-up":
        page.keyboard.up("Space")
    else:
        page.evaluate(f"setTimeout(() => {{ {away} }}, 0)")
    drive.stops(code)
    if back:
        page.evaluate(back)
    # The keys are still down.
    drive.stands_for(0.5)
    for key in ("Space", "KeyW"):
        page.keyboard.up(key)
    if code != "link_quiet" and "freeze" not in away:
        driving(page, drive)


@in_browser
def test_emergency_stop_and_a_deliberate_reset(browser: Browser, drive: PageDrive) -> None:
    page = opened(browser, drive)
    driving(page, drive)
    page.get_by_role("button", name="emergency stop").click()
    wait_for(lambda: drive.state == "emergency stop", "no emergency stop")
    assert "laptop" in drive.ticks[-1].guard.reasons[0].text
    drive.stops()
    reset = page.locator("#reset:visible")
    reset.click()  # too short
    drive.stands_for(0.4)
    assert drive.state == "emergency stop"
    for key in ("Space", "KeyW"):
        page.keyboard.up(key)
    reset.hover()
    page.mouse.down()
    wait_for(lambda: drive.state != "emergency stop", "the reset is not heard")
    page.mouse.up()
    drive.stands_for(0.3)
    driving(page, drive)
    page.keyboard.press("x")
    wait_for(lambda: drive.state == "emergency stop", "the key X does nothing")


@in_browser
def test_a_cut_cable_and_a_reloaded_page(browser: Browser, drive: PageDrive) -> None:
    cable = Cable()
    page = opened(browser, drive, proxy={"server": cable.url, "bypass": "<-loopback>"})
    driving(page, drive)
    cable.cut = True
    drive.stops("link_quiet")
    time.sleep(1.0)
    cable.cut = False  # the delayed messages come now, and are old
    drive.stands_for(1.0)
    cable.close()
    page.close()
    page = opened(browser, drive)
    driving(page, drive)
    page.reload()
    drive.stops("link_bad")
    page.locator("#take:visible").wait_for()  # a reloaded page does not drive
    page.keyboard.down("Space")
    drive.stands_for(0.3)


UNNAMED = """[...document.querySelectorAll("button, [role=group], input")].filter((one) => one.offsetParent &&
  !(one.getAttribute("aria-label") || one.textContent.trim() || one.labels?.length)).length"""


@in_browser
@pytest.mark.parametrize("name", ["damson.toml", "quince.toml"])
def test_every_size_has_in_reach_what_must_be_with_names(browser: Browser, name: str) -> None:
    with PageDrive(load_profile(shipped(name))) as drive:
        page = opened(browser, drive)
        for size in ((360, 640), (640, 360), (1280, 800), (1920, 1080)):
            page.set_viewport_size({"width": size[0], "height": size[1]})
            page.evaluate("new Promise(requestAnimationFrame)")
            wanted = ["emergency stop", "hold to run", "stop driving"]
            boxes = [page.get_by_role("button", name=one).bounding_box() for one in wanted]
            boxes += [one.bounding_box() for one in (*page.locator(".stick").all(), page.locator("#state"))]
            for number, one in enumerate(boxes):
                assert one is not None
                right, low = one["x"] + one["width"], one["y"] + one["height"]
                assert min(one["x"], one["y"], size[0] - right, size[1] - low) >= 0.0, (one, size)
                # No touch control covers another one.
                for other in (box for box in boxes[number + 1 :] if box is not None):
                    apart = right <= other["x"] or other["x"] + other["width"] <= one["x"]
                    assert apart or low <= other["y"] or other["y"] + other["height"] <= one["y"], size
            assert page.evaluate(UNNAMED) == 0
            assert page.evaluate("document.documentElement.scrollWidth") <= size[0]


@in_browser
def test_a_curve_is_dragged_tried_and_saved_once_the_robot_stands(browser: Browser, drive: PageDrive) -> None:
    page = opened(browser, drive)
    page.set_viewport_size({"width": 1280, "height": 1400})
    wait_for(lambda: page.evaluate("innerWidth") == 1280, "the page keeps its size")
    file = Path(str(drive.profile.file))  # type: ignore[attr-defined]
    curve, made = page.locator("#curves svg").first, page.locator("#curves path.made").first
    expo, before, box = (
        page.locator("#curves label", has_text="expo").first,
        made.get_attribute("d"),
        curve.bounding_box(),
    )
    assert box is not None
    assert "0.35" in expo.inner_text()
    # Only a drag beside the middle bends the curve. Each hover waits until the layout of the page is final.
    curve.hover(position={"x": 0.8 * box["width"], "y": 0.3 * box["height"]})
    page.mouse.down()
    curve.hover(position={"x": 0.75 * box["width"], "y": 0.42 * box["height"]})
    page.mouse.up()
    assert "0.35" not in expo.inner_text()
    wait_for(lambda: made.get_attribute("d") != before, "it is not bent")
    page.locator("#curves input").first.click()  # a touched slider takes no key of the driver

    def refused() -> bool:
        driving(page, drive)
        # The page's server decides by the state that the page shows, which arrives a moment after the robot's.
        band = page.locator("#state")
        wait_for(lambda: drive.state != "driving" or band.get_attribute("data-word") == "driving", "it is not shown")
        page.evaluate("document.getElementById('toast').textContent = ''")
        begin = len(drive.ticks) - 1
        page.get_by_role("button", name="Save in the profile").click()
        said = wait_for(lambda: page.inner_text("#toast"), "no answer")
        # If a busy machine stalls, the robot stops, and it may be saved.
        assert "release first" in said or any(tick.guard.state is not State.DRIVING for tick in drive.ticks[begin:])
        for key in ("Space", "KeyW"):
            page.keyboard.up(key)
        return "release first" in said

    wait_for(refused, "the robot always stopped by itself")
    drive.stops()
    wait_for(lambda: drive.state == "not enabled", "it does not come to a stand")

    def saved() -> bool:
        # The page's server shows the standstill a moment later.
        page.get_by_role("button", name="Save in the profile").click()
        time.sleep(0.3)
        return "saved in medlar.toml" in page.inner_text("#toast")

    wait_for(saved, "it is not saved")
    text = file.read_text()
    assert "# a name of your own" in text
    assert text.count("expo = 0.35") == 1  # that of the other stick
    load_profile(file)


@in_browser
def test_a_log_is_scrubbed_on_the_page(browser: Browser, tmp_path: Path) -> None:
    drive = run("drive", str(shipped("medlar.toml")), "--recording", str(shipped("orchard-row.csv")), "--plain",
                "--to", "log:run.csv", cwd=tmp_path)  # fmt: skip
    assert drive.returncode == 0, drive.stderr
    words = [sys.executable, "-m", "tenuto", "page", "--log", "run.csv", "--port", "0"]
    with subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.PIPE, text=True) as process, ExitStack() as stack:
        stack.callback(process.kill)
        assert process.stderr is not None
        url = process.stderr.readline().split()[1]
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(url)
        page.locator("#player:visible").wait_for()
        move = """(at) => { const one = document.getElementById("when"); one.value = at;
            one.dispatchEvent(new Event("input")); }"""

        def shows(at: float, state: str) -> bool:
            band = page.locator("#state").get_attribute("data-word")
            return f"{at:.2f} s of" in page.inner_text("#when-text") and band == state

        for at, state, said in ((5.0, "driving", "it goes"), (26.6, "stopping", "no good frame"), (28.0, "fault", "")):
            page.evaluate(move, at)
            wait_for(partial(shows, at, state), f"{at} s is not shown")
            wait_for(partial(lambda text: text in page.inner_text("#answer"), said), "another answer")
            assert page.locator("#steps tr").count() > 5
        assert page.locator("#states i").count() >= 5
        assert not page.locator("#emergency").is_visible()
        page.get_by_role("button", name="Play").click()
        wait_for(lambda: float(page.inner_text("#when-text").split()[0]) > 28.3, "it does not play")
        process.send_signal(signal.SIGINT)
        assert process.wait(PATIENCE) == 0


@in_browser
def test_a_class_on_one_machine_is_seen_and_stopped_without_a_broker(
    browser: Browser, profile: Profile, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    words = [sys.executable, "-m", "tenuto", "page", "--class", "here", "--port", "0"]
    with ExitStack() as stack:
        one = stack.enter_context(PageDrive(profile))
        stack.enter_context(tenuto.open_source("page:0"))  # a page without a robot
        process = stack.enter_context(subprocess.Popen(words, stderr=subprocess.PIPE, text=True))
        stack.callback(process.kill)
        assert process.stderr is not None
        teacher = browser.new_page()
        teacher.goto(process.stderr.readline().split()[1])
        cards = teacher.locator("article")
        with PageDrive(profile, ",lan=true") as admitted:
            driving(opened(browser, one), one)
            wait_for(lambda: cards.count() == 2, "there is no card for each robot")
            here = cards.filter(has_text=f"port {one.port}")
            there = cards.filter(has_text=f"port {admitted.port}")
            wait_for(lambda: "driving\ndriven by laptop" in here.inner_text().lower(), "its card says something else")
            assert here.get_by_role("link").get_attribute("href") == one.url
            there.get_by_role("button").click()
            wait_for(lambda: admitted.state == "emergency stop", "it is not stopped")
            assert one.state == "driving"
            teacher.get_by_role("button", name="emergency stop of all robots").click()
            one.stops("emergency_stop")
            assert "teacher" in one.ticks[-1].guard.reasons[0].text
            wait_for(lambda: "EMERGENCY STOP" in here.inner_text().upper(), "its card does not say so")
        wait_for(lambda: "GONE" in there.inner_text().upper(), "its card does not say that it is gone")
        one.source.server._process.kill()
        wait_for(lambda: "GONE" in here.inner_text().upper(), "its card does not say that it is gone")
        assert cards.count() == 2
        process.terminate()
        process.wait(PATIENCE)
    assert json.loads((tmp_path / "data" / "tenuto" / "page-devices.json").read_text()) == {}


def test_a_second_page_looks_on_asks_and_gets_the_seat(drive: PageDrive) -> None:
    first, second = RawPage(drive.url), RawPage(drive.url)
    drive.begun_by(first, drive=0.6)
    second.say(type="take")
    second.frame(drive=1.0, left_shoulder=1.0)
    first.drive_on(0.2, left_shoulder=1.0, drive=0.6)
    assert second.who["driver"] == first.who["you"]
    assert drive.state == "driving"
    first.say(type="give", to=second.who["you"])
    # The other page holds already, which does not continue the drive.
    second.drive_on(0.5, drive=0.6, left_shoulder=1.0)
    drive.stops("link_bad")
    second.drive_on(0.3, drive=0.6, left_shoulder=1.0)
    drive.stands_for(0.2)
    drive.begun_by(second, drive=0.6)
    second.line.close()
    drive.stops("link_bad")
    assert "its page was closed" in " ".join(reason.text for reason in drive.ticks[-1].guard.reasons)


def test_old_frames_garbage_and_strangers_move_nothing(drive: PageDrive) -> None:
    from websockets.exceptions import InvalidStatus

    for origin in ("http://orchard.example", f"http://127.0.0.1:{drive.port + 1}", "null", None):
        with pytest.raises(InvalidStatus):
            RawPage(drive.url, origin=origin)
    host = {"Host": f"orchard.example:{drive.port}"}
    with pytest.raises(urllib.error.HTTPError, match="403"):
        urllib.request.urlopen(urllib.request.Request(drive.url, headers=host))
    with urllib.request.urlopen(drive.url) as answer:
        assert "default-src 'none'" in answer.headers["Content-Security-Policy"]
    page, hostile = RawPage(drive.url), RawPage(drive.url)
    page.begin()
    # A delayed frame does not move it, even if it is otherwise valid.
    for _ in range(10):
        page.frame(old=2.0, drive=1.0, left_shoulder=1.0)
    drive.stands_for(0.2)
    drive.begun_by(page, drive=0.6)
    begin = len(drive.ticks)
    for number in range(10_000):
        with suppress(Exception):
            if hostile.over:
                hostile = RawPage(drive.url)
            hostile.line.send(b"\x00\xff" * (number % 400) if number % 2 else json.dumps({"type": "frame"}))
        if number % 50 == 0:
            page.frame(left_shoulder=1.0, drive=0.6)
    # A slow machine may send so late that the link is lost; nothing else stops the robot, and its seat is not taken.
    stops = {str(reason.code) for tick in drive.ticks[begin:] for reason in tick.guard.reasons}
    assert stops <= {"link_quiet", "hold_not_released", "not_at_rest"}
    assert hostile.who["driver"] != hostile.who["you"]
    page.drive_on(0.1)
    drive.stops()
    drive.begun_by(page, drive=0.6)


def test_the_robot_stops_when_the_server_is_killed(drive: PageDrive) -> None:
    page = RawPage(drive.url)
    drive.begun_by(page, drive=0.6)
    drive.source.server._process.kill()
    drive.stops("link_bad")
    assert "start the drive again" in drive.ticks[-1].guard.reasons[0].text


def answer_of(url: str, body: dict[str, str] | None = None, **headers: str) -> tuple[int, str]:
    """Return the status and the text of a server's answer, with any certificate."""
    data = json.dumps(body).encode() if body is not None else None
    asked = urllib.request.Request(url, data, headers)
    try:
        with urllib.request.urlopen(asked, context=ssl._create_unverified_context()) as answer:
            return answer.status, answer.read().decode()
    except urllib.error.HTTPError as error:
        with error:
            return error.code, error.read().decode()


@in_browser
def test_in_the_network_a_device_shows_the_code_once_and_others_get_nothing(
    browser: Browser, profile: Profile, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    with PageDrive(profile, ",lan=true") as drive:
        server, said = drive.source.server, list[str]()
        server.said = said.append
        own = server.url.rstrip("/")
        assert own.startswith("https://")
        # A device without the code gets only the page that asks for it, and no data of the robot.
        assert "Medlar" not in answer_of(own + "/")[1]
        assert [answer_of(f"{own}/static/{name}")[0] for name in ("main.js", "index.html", "pair.js")] == [
            403,
            403,
            200,
        ]
        assert answer_of(own + "/pair", {"code": server.code})[0] == 403  # without an origin, so not from our own page
        assert answer_of(own + "/pair", {"code": "00000000x"}, Origin=own)[0] == 403
        page = browser.new_context(ignore_https_errors=True).new_page()
        page.goto(f"{own}/#code=12345678")
        time.sleep(1.2)  # after a wrong code no attempt is accepted for a second
        page.get_by_role("button", name="Admit this device").click()
        wait_for(lambda: "not the code" in page.inner_text("#said"), "a wrong code is taken")
        time.sleep(1.2)
        page.fill("#code", server.code)
        page.fill("#name", "my phone")
        page.get_by_role("button", name="Admit this device").click()
        page.locator("#take:visible").click()
        driving(page, drive)
        wait_for(lambda: said, "nobody is told the next code")
        assert server.code not in said[0]
        assert page.evaluate("document.cookie") == ""
        assert answer_of(own + "/pair", {"code": server.code}, Origin=own)[0] == 403  # it was valid for one device
        ended = run("page", "--devices", "--json", cwd=tmp_path)
        assert [one["name"] for one in json.loads(ended.stdout)["devices"]] == ["my phone"]
        assert run("page", "--forget", "no phone", cwd=tmp_path).returncode == 1
        assert run("page", "--forget", "my phone", cwd=tmp_path).returncode == 0
        drive.stops("link_bad")
        page.reload()
        assert page.locator("#code").is_visible()
        assert (tmp_path / "data/tenuto/page/key.pem").stat().st_mode & 0o077 == 0
    with PageDrive(profile, ",lan=true,watchers=true") as drive:
        assert drive.source.server.fingerprint == server.fingerprint
        page = browser.new_context(ignore_https_errors=True).new_page()
        page.goto(drive.source.server.url)
        wait_for(lambda: "Medlar" in page.inner_text("#title"), "whoever may watch sees nothing")
        assert not page.locator("#take").is_visible()
        page.get_by_role("button", name="emergency stop").click()
        drive.stands_for(0.3)
        assert drive.state != "emergency stop"


def test_a_page_that_only_shows_stops_the_robot_all_the_same(profile: Profile) -> None:
    shown, ticks, handle = tenuto.open_sink("page:0"), list[Tick](), tenuto.DriveHandle()
    assert isinstance(shown, PageSink)
    hands, sinks = Hands(), [shown, FunctionSink("robot", ticks.append)]
    thread = threading.Thread(target=lambda: tenuto.drive(profile, hands, sinks, handle=handle))
    with shown:
        thread.start()
        page = RawPage(shown.server.url)
        wait_for(lambda: ticks and ticks[-1].command.vx > 0.1, "the hands do not drive")
        wait_for(lambda: page.tick.get("state") == "driving", "the page does not show it")
        page.say(type="take")
        page.say(type="mark", text="here")
        page.say(type="emergency")
        wait_for(lambda: str(ticks[-1].guard.state) == "emergency stop", "no emergency stop")
        wait_for(lambda: page.tick["guard"] == "emergency stop", "the page does not show it")
        assert page.who["driver"] == ""
        page.say(type="reset")
        wait_for(lambda: str(ticks[-1].guard.state) != "emergency stop", "the reset is not heard")
        handle.end("the test is over")
        thread.join(PATIENCE)
    assert any("here" in notice.text for tick in ticks for notice in tick.notices)


@pytest.mark.parametrize("words", [("watch", "--for", "3"), ("calibrate", "--ends", "1", "--returns", "1")])
def test_what_a_device_sends_is_shown_on_a_page(tmp_path: Path, words: tuple[str, ...]) -> None:
    command, *more = words
    call = [sys.executable, "-m", "tenuto", command, "simulated:sticks", "--page", "0", *more]
    with subprocess.Popen(call, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:
        assert process.stderr is not None
        page = RawPage(process.stderr.readline().split()[1])
        wait_for(lambda: page.tick.get("watch"), "nothing is shown")
        wait_for(lambda: page.tick["watch"]["moved"] in stick_numbers(0.0), "nothing has moved")
        assert set(page.tick["watch"]["controls"]) == set(stick_numbers(0.0))
        if command == "calibrate":
            wait_for(lambda: page.tick["watch"]["step"] == 2, "it does not lead")
            assert "to all its ends" in page.tick["watch"]["prompt"]
            found = wait_for(
                lambda: page.tick["watch"]["step"] == 0 and page.tick["watch"], "it does not say what it found"
            )
            assert "not good" in found["verdicts"].values(), "a second is not enough for a stick"
            assert ("with errors" in found["prompt"]) == ("not good" in found["verdicts"].values())
            assert all(": " in finding for finding in found["findings"])
        assert process.wait(PATIENCE) in (0, 1)


def test_a_page_s_own_sticks_are_watched(tmp_path: Path) -> None:
    call = [sys.executable, "-m", "tenuto", "watch", "page:0", "--for", "4", "--json"]
    with subprocess.Popen(call, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        assert process.stderr is not None
        assert process.stdout is not None
        page = RawPage(process.stderr.readline().split()[1])
        page.take()
        page.drive_on(1.0, left_y=1.0, left_trigger=0.5)
        found = json.loads(process.stdout.read())
    assert found["controls"]["left_y"]["low"] == -32768
    assert found["controls"]["left_trigger"]["high"] == pytest.approx(0.5 * 32767.0)


def test_begin_asks_on_the_page_for_each_stick(tmp_path: Path) -> None:
    words = ["begin", "x.toml", "--source", "page:0", "--vehicle", "differential", "--style", "arcade", "--to",
             "simulated", "--yes", "--wait", "5"]  # fmt: skip
    call = [sys.executable, "-m", "tenuto", *words]
    with subprocess.Popen(call, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:
        assert process.stderr is not None
        page = RawPage(process.stderr.readline().split()[1])
        page.take()
        pushes = {"FORWARD": "left_y", "turn LEFT": "right_x", "HELD": "left_shoulder"}
        before, end = "", time.monotonic() + 3 * PATIENCE
        while process.poll() is None and not page.over and time.monotonic() < end:
            asked = page.tick.get("watch", {}).get("prompt", "")
            push = next((control for word, control in pushes.items() if word in asked), "")
            with suppress(Exception):  # it ends after all answers
                page.drive_on(0.6 if asked != before else 0.1)
                page.drive_on(0.6, **({push: 1.0} if push and asked != before else {}))
            before = asked
        assert process.wait(PATIENCE) == 0
    made = load_profile(tmp_path / "x.toml")
    assert {name: control.reads for name, control in made.controls.items()} == {"drive": "left_y", "steer": "right_x"}
    assert made.guard.hold_to_run == "left_shoulder"
    assert made.source.kind == "page"


def test_only_the_question_that_is_asked_now_is_answered_and_only_once() -> None:
    said = list[FromServer]()
    with PageServer(PageSettings(port=0), SourceError, lambda at, one: said.append(one)) as server:
        page = RawPage(server.url)
        page.take()
        numbers = []
        for question in ("Write the profile?", "Measure?"):
            server.ask(question, [("yes", ""), ("no", "")])
            wait_for(partial(lambda text: page.tick.get("watch", {}).get("prompt") == text, question), "not asked")
            numbers.append(page.tick["watch"]["question"])
        # A page that still shows the first question, one with an invented answer, and one that is late.
        for text, number in (("yes", numbers[0]), ("maybe", numbers[1]), ("no", numbers[1]), ("yes", numbers[1])):
            page.say(type="choice", text=text, question=number)
        page.frame()
        wait_for(lambda: said, "no frame has come")
        assert server.chosen == "no"
        server.answered("Measure? no")
        page.say(type="choice", text="yes", question=numbers[1])
        page.frame()
        wait_for(lambda: len(said) == 2, "no frame has come")
        assert server.chosen == ""


@in_browser
def test_begin_asks_its_numbered_questions_on_the_page_too(browser: Browser, tmp_path: Path) -> None:
    """The vehicle is chosen on the page, the style in the terminal, the sink on the page."""
    sticks = ("drive=left_y", "steer=right_x", "hold=left_shoulder")
    words = ["-m", "tenuto", "begin", "x.toml", "--source", "simulated:gamepad", "--page", "0", "--wait", "1",
             *(part for stick in sticks for part in ("--control", stick))]  # fmt: skip
    child = pexpect.spawn(sys.executable, words, cwd=tmp_path, encoding="utf-8", timeout=PATIENCE, dimensions=(50, 100))
    child.expect(r"Open (http\S+) in a browser")
    page = browser.new_page()
    page.goto(child.match[1])
    choices = page.locator("#choices button")
    choices.filter(has_text=re.compile("^differential")).click()
    child.expect("differential.*How do you steer it")
    wait_for(lambda: "steer" in page.inner_text("#prompt"), "the next question is there")
    child.sendline("arcade")
    child.expect("press the control that STOPS")
    child.sendline("")
    child.expect("press the control that should change")
    child.sendline("")
    choices.filter(has_text=re.compile("^simulated")).click()
    choices.filter(has_text=re.compile("^yes")).click()
    child.expect(r"Write x.toml\? \[Y/n\]: yes")
    wait_for(lambda: "Measure the sticks now" in page.inner_text("#prompt"), "it asks whether to measure")
    choices.filter(has_text=re.compile("^no")).click()
    for asked in ("Turn each", "Drive now"):
        child.expect(asked)
        child.sendline("n")
    child.expect(pexpect.EOF)
    made = load_profile(tmp_path / "x.toml")
    assert (made.chassis.kind, made.style.kind, [one.kind for one in made.sinks.values()]) == (
        "differential", "arcade", ["simulated"],
    )  # fmt: skip


@in_browser
def test_the_tilt_of_a_phone_steers_until_it_is_silent(browser: Browser, drive: PageDrive) -> None:
    page = opened(browser, drive)
    tilt = (
        "([beta, gamma]) => dispatchEvent(new DeviceOrientationEvent('deviceorientation', { beta, gamma, alpha: 0 }))"
    )
    page.get_by_role("button", name="steer by tilt").click()
    page.evaluate(tilt, [40, 0])  # the present tilt is its middle
    hold = Fingers(page)
    end = time.monotonic() + PATIENCE
    while "hold_not_pressed" not in drive.codes():
        page.evaluate(tilt, [40, 0])
        time.sleep(0.02)  # a phone reports it some fifty times a second
        assert time.monotonic() < end, drive.ticks[-1].guard
    hold.down(0, hold.middle_of("#hold"))
    while not drive.moving:
        page.evaluate(tilt, [25, -15] if drive.state == "driving" else [40, 0])
        time.sleep(0.02)
        assert time.monotonic() < end, drive.ticks[-1].guard
    assert drive.ticks[-1].command.vx > 0.0
    page.evaluate(tilt, [25, 0])
    wait_for(lambda: drive.ticks[-1].positions["drive"] == pytest.approx(0.5, abs=0.01), "another tilt")
    # Past vertical it does not come back from the other side: everything is released.
    steps = [[beta, 0] for beta in range(25, -130, -5)]
    page.evaluate(f"(all) => all.forEach({tilt})", steps)
    drive.stops("link_bad")
    assert any("tilted too far" in reason.text for tick in drive.ticks[-200:] for reason in tick.guard.reasons)
    assert min(tick.command.vx for tick in drive.ticks) >= 0.0


@in_browser
def test_the_tilt_of_a_phone_is_that_of_gravity_in_any_attitude(browser: Browser, drive: PageDrive) -> None:
    """Against rotation matrices, for every rotation of the picture."""
    dice = random.Random(5)
    asked: list[Any] = [
        [[dice.uniform(-60, 60), dice.uniform(-60, 60)], [dice.uniform(-180, 180), dice.uniform(-90, 90)], turned]
        for turned in (0, 90, 180, 270) for _ in range(100)
    ]  # fmt: skip
    script = """async (all) => {
      const { tiltFrom, upOf } = await import("/static/tilt.js");
      return all.map(([zero, now, screen]) => {
        const [a, b] = [upOf(...zero, screen), upOf(...now, screen)];
        return [a, b, tiltFrom(a, b).front, tiltFrom(a, b).left];
      });
    }"""
    found = opened(browser, drive).evaluate(script, asked)
    for ((beta, gamma), now, turned), (first, second, front, left) in zip(asked, found, strict=True):
        ups = []
        for b, g in ((beta, gamma), now):
            phone = Rotation.from_euler("ZXY", [0.0, b, g], degrees=True)
            picture = phone * Rotation.from_euler("Z", -turned, degrees=True)
            ups.append(picture.inv().apply([0.0, 0.0, 1.0]))
        assert first == pytest.approx(list(ups[0]), abs=1e-9)
        assert second == pytest.approx(list(ups[1]), abs=1e-9)
        axis = np.cross(ups[0], [0.0, 0.0, 1.0])
        turn = Rotation.from_rotvec(axis / np.linalg.norm(axis) * np.arccos(ups[0][2]))
        x, y, z = turn.apply(ups[1])
        size, angle = np.hypot(x, y), np.degrees(np.arccos(np.clip(z, -1.0, 1.0)))
        assert (left, front) == pytest.approx((angle * x / size, -angle * y / size), abs=1e-5)


@in_browser
@pytest.mark.parametrize("key", ["x", "Escape"])
def test_a_stop_key_works_while_a_slider_has_the_focus_and_space_holds(
    browser: Browser, tmp_path: Path, key: str
) -> None:
    text = patient(tmp_path).read_text() + (
        '\n[switches.knob]\nkind = "positions"\nreads = "right_trigger"\npositions = 3\n'
        '[outputs.lamp]\nkind = "levels"\nswitch = "knob"\nlevels = [0.0, 0.5, 1.0]\n'
    )
    (tmp_path / "knob.toml").write_text(text)
    with PageDrive(load_profile(tmp_path / "knob.toml")) as drive:
        page = opened(browser, drive)
        wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
        page.locator("input[type=range]").first.focus()
        page.keyboard.down("Space")
        wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
        page.keyboard.press(key)
        wait_for(lambda: drive.state == "emergency stop", f"it is {drive.state}")


@in_browser
def test_only_the_pad_that_was_touched_drives_and_none_of_an_unknown_layout(browser: Browser, drive: PageDrive) -> None:
    several = (
        GAMEPAD
        + """
    window.pads = [{ ...window.pad, id: "shelf pad" }, { ...window.pad, index: 1, id: "odd pad", mapping: "" },
      { ...window.pad, index: 2, id: "pad in the hand" }];
    """
    )
    page = opened(browser, drive, several.replace("value: () => [window.pad]", "value: () => window.pads"))
    press = (
        "(n) => { window.pads[n] = { ...window.pads[n], buttons: window.pads[n].buttons.map((one, at) => "
        "at === 4 ? { pressed: true, value: 1 } : one), axes: [0, -0.5, 0, 0] }; }"
    )
    wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
    page.evaluate(press, 1)
    page.get_by_text("does not know the layout of odd pad").wait_for()
    drive.stands_for(0.3)
    page.evaluate("window.pads[1].axes = [0, 0, 0, 0]; window.pads[1].buttons = window.pads[0].buttons")
    page.evaluate(press.replace("-0.5", "0"), 2)
    wait_for(lambda: drive.state == "driving", f"not enabled: {drive.ticks[-1].guard}")
    page.evaluate(press, 2)
    drive.drives()
