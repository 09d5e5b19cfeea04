"""The sentences of the docs, each with the test that fails if it is not true (claims.toml); and the tests of some."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import pytest

import tenuto
from helpers import MEDLAR, Bench, pad
from tenuto import State
from tenuto.basics.reasons import Code, Kind, Reason
from tenuto.data import shipped
from tenuto.driving.cues import Cues
from tenuto.driving.telemetry import Telemetry
from tenuto.firmware.boards import misfits, no_main
from tenuto.firmware.hearing import hearing_of
from tenuto.firmware.refusals import passed_over
from test_ranks import SOLO, Lesson

TESTS = Path(__file__).parent
CLAIMS: dict[str, dict[str, str]] = tomllib.loads((TESTS / "claims.toml").read_text())
# Where the claims of a page end, and the record of what was tried begins.
ENDS = {"guard": "`tenuto soak` composes", "page": "## Performance", "firmware": "## How large and how fast"}


def sentences(text: str) -> Iterator[str]:
    """Split the text of a page; tables that are generated, examples and headings are left out."""
    text = re.sub(r"<!-- (table|reasons|rights) -->.*?<!-- end of \1 -->", "", text, flags=re.DOTALL)
    text = re.sub(r"```.*?```", "", text, flags=re.DOTALL)
    text = re.sub(r"^(#.*|!\[.*|\|[-|]+\|| {4,}tenuto .*)$", "", text, flags=re.MULTILINE)
    for block in re.split(r"\n\s*\n|\n(?=- |\| )", text):
        said = " ".join(block.split()).removeprefix("- ")
        yield from filter(None, re.split(r"(?<=[.:;])\s+(?=[A-Z`\[*])", said))


@pytest.mark.parametrize("page", sorted(CLAIMS))
def test_every_sentence_has_its_test(page: str) -> None:
    text = (TESTS.parent / f"docs/{page}.md").read_text()
    assert ENDS[page] in text
    written, claims = list(sentences(text.split(ENDS[page])[0])), CLAIMS[page]
    begun = {sentence: [key for key in claims if sentence.startswith(key)] for sentence in written}
    assert [sentence for sentence, keys in begun.items() if not keys] == [], "a new sentence: which test proves it?"
    used = {max(keys, key=len) for keys in begun.values()}
    assert sorted(set(claims) - used) == [], "a sentence that is no more"
    files = {file.stem: file.read_text() for file in TESTS.glob("test_*.py")}
    for proof in set(claims.values()) - {"", "open"}:
        file, name = proof.split(".")
        assert f"def {name}(" in files[file], proof


def test_attention_is_not_asked_of_a_driver_whom_a_planner_replaces() -> None:
    text = shipped("medlar-lesson.toml").read_text().replace("[guard]\n", '[guard]\nattention = "1 s"\n', 1)
    lesson = Lesson(tenuto.parse_profile(text))
    lesson.planner = (0.3, 0.0)
    permit = SOLO | {"pressed": "right_trigger"}
    lesson.run(20, permit)
    lesson.enable()
    lesson.run(50, permit)
    ticks = [lesson.step(permit) for _ in range(200)]
    assert {(tick.guard.state, tick.driver) for tick in ticks} == {(State.DRIVING, "row_follower")}
    alone = [lesson.step(SOLO) for _ in range(200)]
    assert "no_attention" in [one.code for one in alone[-1].guard.reasons], "with sticks it is"


@pytest.mark.parametrize("code", [one for one in Code if one.kind is Kind.NOTICE])
def test_a_notice_stops_nothing(code: Code) -> None:
    plain, told = Bench(), Bench()
    for number in range(200):
        values = pad(1.0 if number > 10 else 0.0, held=number > 5)
        for bench, notices in ((plain, ()), (told, (Reason(code, "whatever it says"),))):
            bench.now += 0.02
            bench.ticks.append(bench.pipeline.step(tenuto.Frame(bench.now, values), bench.now, notices=notices))
    assert [tick.command for tick in told.ticks] == [tick.command for tick in plain.ticks]
    assert told.ticks[-1].command.vx > 1.0
    assert code in [one.code for one in told.ticks[-1].notices]


def test_a_press_is_offered_when_all_needs_are_met() -> None:
    text = shipped("medlar.toml").read_text() + '\n[guard.needs]\narmed = true\nanswers = "500 ms"\n'
    pipeline = tenuto.Pipeline(tenuto.parse_profile(text))
    offered = []
    for number in range(100):
        now = 0.02 * number
        far = {"robot": Telemetry(time=now, armed=number >= 50, says=frozenset({"armed"}))}
        tick = pipeline.step(tenuto.Frame(now, pad()), now, far=far)
        offered.append(Code.ENABLE_OFFERED in [one.code for one in tick.notices])
    assert not any(offered[:51])
    assert all(offered[51:75]), "from the tick after it"


def test_each_event_of_the_driver_s_feedback_has_its_cue() -> None:
    """Enabled and a lost link on Medlar; a hand-over in a lesson; a wall that slows the robot down."""
    bench, cues = Bench(MEDLAR), Cues()
    bench.drive(1.0)
    bench.run(1.0, None)
    assert [cue.name for tick in bench.ticks if (cue := cues.step(tick))] == ["enabled", "link lost"]
    lesson, cues = Lesson(), Cues()
    lesson.planner = (0.3, 0.0)
    permit = SOLO | {"pressed": "right_trigger"}
    lesson.run(20, permit)
    lesson.enable()
    lesson.run(50, permit)
    lesson.step(permit | {"steer": 0.5})
    names = [cue.name for tick in lesson.ticks if (cue := cues.step(tick))]
    assert names[0] == "enabled"
    assert names[-1] == "handed over"
    wall = '\n[distances.front]\nreads = "left_trigger"\nscale = 1.0\ntowards = "forward"\nkeep = 0.3\n'
    bench, cues = Bench(tenuto.parse_profile(shipped("medlar.toml").read_text() + wall)), Cues()
    bench.run(0.1, pad() | {"left_trigger": 0.5})
    bench.run(0.1, pad(held=True) | {"left_trigger": 0.5})
    bench.run(2.0, pad(1.0, held=True) | {"left_trigger": 0.5})
    near = [tick.time for tick in bench.ticks if (cue := cues.step(tick)) and cue.name == "near"]
    assert len(near) >= 3
    assert min(b - a for a, b in pairwise(near)) > 0.45, "not at every tick"


BOARD = (TESTS.parent / "examples/boards/medlar-board.toml").read_text()


@pytest.mark.parametrize(
    ("old", "new", "part", "target", "said"),
    [
        ("[guard]", "[loop]\nrate = 9.0\nstall_timeout = 1.0\n[guard]", "whole", "avr", "10.0 Hz at least"),
        ('"300 ms"', '"3 s"\n', "whole", "micropython", "2.1 Hz at least"),
        ('kind = "sbus"\nport = "/dev/ttyAMA0"', 'kind = "pwm"\nfile = "/dev/gpiochip0"\nline = [1, 2, 3, 4, 5]',
         "whole", "sketch", "interrupt at two of its pins only"),
        ("[guard]", '[trims.steer]\nup = "channel_8"\ndown = "channel_9"\n[guard]', "whole", "passed over",
         "trims that are made on the board are lost without power"),
        ("[guard]\n", "[guard]\nleast_quality = 50\n", "whole", "passed over", "pass it with robot_quality"),
        ("[guard]", '[switches.horn]\nkind = "momentary"\nreads = "channel_8"\n[actions.beep]\npress = "horn"\n[guard]',
         "sticks", "passed over", "a velocity line carries no actions"),
    ],
)  # fmt: skip
def test_what_a_board_leaves_out_is_said_with_its_key(old: str, new: str, part: str, target: str, said: str) -> None:
    slow = "\n[loop]\nrate = 2.0\nstall_timeout = 2.0\n" if target == "micropython" else ""
    profile = tenuto.parse_profile(BOARD.replace(old, new, 1) + slow)
    plan = profile.plan()
    if target == "passed over":
        assert said in " ".join(passed_over(profile, plan, part))
        assert said not in " ".join(passed_over(tenuto.parse_profile(BOARD), tenuto.parse_profile(BOARD).plan(), part))
        return
    hearing = hearing_of(profile, plan, part)
    found = {"micropython": no_main(profile, plan, part, hearing)} | misfits(profile, plan, part, hearing)
    assert said in found[target]
