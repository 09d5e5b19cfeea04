"""Pictures of the page for the docs: a film of a laptop that drives, a phone, and a log. Needs Chromium."""

from __future__ import annotations

import sys
import threading
import time
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from PIL import Image
from playwright.sync_api import Browser, Page

import tenuto
from browsers import Fingers, PageDrive, chromium, wait_for
from helpers import run
from tenuto import load_profile
from tenuto.data import shipped
from tenuto.links.page import PageSettings
from tenuto.page.player import Player
from tenuto.page.server import serve
from tenuto.page.visitors import LogPage

# The shortest time from one picture of a film to the next, s.
_FRAME_SECONDS = 0.3
SCREENSHOTS = Path(__file__).parents[1] / "docs/screenshots"


def main() -> None:
    """Draw all three."""
    with chromium() as browser:
        _laptop(browser)
        _phone(browser)
        _log(browser)


def _laptop(browser: Browser) -> None:
    """Film a drive: waiting, held, ahead, to the left, released. Without animation the turn to the left is shown."""
    with PageDrive(load_profile(shipped("quince.toml")), robot="simulated") as drive:
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(drive.url)
        page.locator("#take:visible").click()
        wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
        for key in "+++++":
            page.keyboard.press(key)
        frames = _filmed(page, 1.2)
        page.keyboard.down("Space")
        wait_for(lambda: drive.state == "driving", "not enabled")
        frames += _filmed(page, 0.8)
        page.keyboard.down("KeyW")
        frames += _filmed(page, 3.0)
        page.keyboard.down("KeyA")
        frames += _filmed(page, 4.0)
        still = frames[-1]
        page.keyboard.up("Space")
        frames += _filmed(page, 2.0)
    _save_film(SCREENSHOTS / "page.png", still.picture, frames)


class _Frame(NamedTuple):
    picture: Image.Image
    seconds: float


def _filmed(page: Page, seconds: float) -> list[_Frame]:
    """Take pictures for this time, as many as the computer can."""
    frames, end = list[_Frame](), time.monotonic() + seconds
    while (begun := time.monotonic()) < end:
        picture = Image.open(BytesIO(page.screenshot()))
        time.sleep(max(0.0, begun + _FRAME_SECONDS - time.monotonic()))
        frames.append(_Frame(picture, time.monotonic() - begun))
    return frames


def _save_film(path: Path, still: Image.Image, frames: list[_Frame]) -> None:
    """Write an animated PNG that repeats for ever, in few colours."""
    states = [frames[0].picture, still, frames[-1].picture]
    all_of_them = Image.new("RGB", (still.width, 3 * still.height))
    for place, picture in enumerate(states):
        all_of_them.paste(picture, (0, place * still.height))
    colours = all_of_them.quantize(128, dither=Image.Dither.NONE)
    first, *few = (
        one.convert("RGB").quantize(palette=colours, dither=Image.Dither.NONE)
        for one in (still, *(frame.picture for frame in frames))
    )
    first.save(
        path, save_all=True, append_images=few, default_image=True, loop=0, optimize=True,
        duration=[round(1000 * one.seconds) for one in frames],
    )  # fmt: skip


def _phone(browser: Browser) -> None:
    with PageDrive(load_profile(shipped("damson.toml")), robot="simulated") as drive:
        page = browser.new_context(
            viewport={"width": 360, "height": 640}, has_touch=True, device_scale_factor=2
        ).new_page()
        page.goto(drive.url)
        page.locator("#take:visible").click()
        page.locator("#hold:visible").wait_for()
        fingers = Fingers(page)
        wait_for(lambda: "hold_not_pressed" in drive.codes(), "not ready")
        fingers.down(0, fingers.middle_of("#hold"))
        wait_for(lambda: drive.state == "driving", "not enabled")
        fingers.down(1, fingers.middle_of(".stick >> nth=0"))
        fingers.move(1, (0.0, -45.0))
        time.sleep(3.0)
        fingers.down(2, fingers.middle_of(".stick >> nth=1"))
        fingers.move(2, (-30.0, 0.0))
        time.sleep(4.0)
        page.screenshot(path=str(SCREENSHOTS / "page-phone.png"))


def _log(browser: Browser) -> None:
    with TemporaryDirectory() as folder:
        words = ("--recording", str(shipped("orchard-row.csv")), "--to", "simulated", "--to", "log:run.csv", "--plain")
        assert run("drive", str(shipped("medlar.toml")), *words, cwd=Path(folder)).returncode == 0
        table, profile = tenuto.load_log(Path(folder) / "run.csv"), load_profile(shipped("medlar.toml"))
    places = list[str]()
    player = Player(table, profile, profile.name, "log run.csv")

    def serve_it() -> None:
        serve(PageSettings(port=0), lambda said, at: LogPage(said, at, player, print),
              lambda page, url, fingerprint: places.append(url))  # fmt: skip

    threading.Thread(target=serve_it, daemon=True).start()
    wait_for(lambda: places, "it is not served")
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    page.goto(places[0])
    page.locator("#player:visible").wait_for()
    page.evaluate(
        "{ const when = document.getElementById('when'); when.value = 26.6; when.dispatchEvent(new Event('input')); }"
    )
    wait_for(lambda: page.locator("#state").get_attribute("data-word") == "stopping", "another moment is shown")
    time.sleep(0.5)
    page.screenshot(path=str(SCREENSHOTS / "page-log.png"))


if __name__ == "__main__":
    main()
