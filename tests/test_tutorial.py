"""The tutorial, from an empty folder, command by command, so that it stays correct."""

import re
import shlex
import shutil
import textwrap
import tomllib
from pathlib import Path
from typing import Any

import pytest
import tomlkit

import tenuto
from helpers import run
from tenuto.data import shipped

TUTORIAL = Path(__file__).parents[1] / "docs/tutorial.md"


@pytest.mark.long
def test_every_command_of_the_tutorial_works_from_an_empty_folder(tmp_path: Path) -> None:
    blocks = re.findall(r"```\n(.*?)```", TUTORIAL.read_text(), re.DOTALL)
    commands = [line for block in blocks for line in block.strip().splitlines()]
    assert [line.split()[1] for line in commands] == [
        "demo", "devices", "watch", "calibrate", "begin", "check", "drive", "why", "report", "compare", "tune", "check",
        "measure",
    ]  # fmt: skip
    for line in commands:
        done = run(*shlex.split(line)[1:], cwd=tmp_path)
        assert done.returncode == 0, f"{line}\n{done.stdout}\n{done.stderr}"
    made = {path.name for path in tmp_path.iterdir()}
    assert {"run.csv", "run.csv.profile.toml", "run.csv.html", "compare.png", "tuned.png", "measured.png"} <= made
    assert tenuto.load_log(tmp_path / "run.csv")["command.vx"].max() > 0.25
    assert tenuto.load_profile(tmp_path / "mine.toml").speeds.forward == 0.6


@pytest.mark.long
@pytest.mark.port
def test_what_the_readme_says_to_try_works_from_an_empty_folder(tmp_path: Path) -> None:
    text = (TUTORIAL.parents[1] / "README.md").read_text()
    assert len(text.splitlines()) <= 150
    block = text.split("## Try it")[1].split("```")[1]
    commands = [line.partition("#")[0].strip() for line in block.strip().splitlines()]
    assert commands[0].startswith("pip install 'tenuto[")
    for line in commands[1:]:
        more = ["--seconds", "0.5", "--port", "0"] if " page " in line else []  # otherwise it ends only with Ctrl-C
        done = run(*shlex.split(line)[1:], *more, cwd=tmp_path)
        assert done.returncode == 0, f"{line}\n{done.stdout}\n{done.stderr}"
    # Its complete profile is valid, and its lines of Python work.
    (tmp_path / "two.toml").write_text(text.split("```toml\n")[1].split("```")[0])
    assert tenuto.load_profile(tmp_path / "two.toml").plan().chassis.units.known is False
    for link in re.findall(r"\]\(((?!http)[^)#]+)\)", text):
        assert (TUTORIAL.parents[1] / link).exists(), link


PAGES = sorted([*TUTORIAL.parent.glob("how-to/*.md"), *TUTORIAL.parent.glob("start/*.md")])
# Commands that run until Ctrl-C, and the options that end them here.
_ENDED = {
    "page": ["--seconds", "0.5", "--port", "0"],
    "follow": ["--seconds", "0.5"],
    "drive": ["--seconds", "1"],
    "robot": ["--seconds", "0.5"],
}


def _merged(into: dict[str, Any], more: dict[str, Any]) -> dict[str, Any]:
    """Return tables merged with others."""
    both = {key: _merged(into[key], more[key]) for key in into.keys() & more.keys() if isinstance(into[key], dict)}
    return into | more | both


@pytest.fixture(scope="module")
def orchard(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The files of the demo: the shipped profiles and recordings, and a log."""
    folder = tmp_path_factory.mktemp("demo") / "orchard"
    assert run("demo", "--out", str(folder), cwd=folder.parent).returncode == 0
    return folder


@pytest.mark.live
@pytest.mark.parametrize("page", PAGES, ids=[page.stem for page in PAGES])
def test_a_page_works_as_it_is_written(
    page: Path, orchard: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its commands beside the files of the demo, its tables in a shipped profile, its Python unchanged."""
    text = page.read_text()
    monkeypatch.chdir(tmp_path)
    shutil.copytree(orchard, tmp_path / "orchard")
    tables = [textwrap.dedent(one) for one in re.findall(r"```toml\n(.*?)```", text, re.DOTALL)]
    for table in list(tables):
        if named := re.match(r"# (\S+\.toml)\n", table):  # a complete profile
            tables.remove(table)
            (tmp_path / named[1]).write_text(table)
    commands = re.findall(r"^(?:    ){1,2}(tenuto .*)$", text, re.MULTILINE)
    for line in commands:
        words = shlex.split(line)[1:]
        ended = [] if "--seconds" in words or "--forget" in words else _ENDED.get(words[0], [])
        done = run(*words, *ended, cwd=tmp_path)
        assert done.returncode == 0 or words == ["doctor"], f"{line}\n{done.stdout}\n{done.stderr}"
    robot = tomllib.loads(shipped("damson.toml" if page.stem == "drone" else "medlar.toml").read_text())
    for table in tables:
        tenuto.parse_profile(tomlkit.dumps(_merged(robot, tomllib.loads(table)))).plan()
    programs = [textwrap.dedent(one) for one in re.findall(r"```python\n(.*?)```", text, re.DOTALL)]
    for program in programs:
        exec(compile(program, page.name, "exec"), {"__name__": "how_to"})
    assert [*commands, *tables, *programs], "it shows nothing"


def test_every_link_of_the_docs_leads_somewhere() -> None:
    for page in [*TUTORIAL.parent.rglob("*.md"), TUTORIAL.parents[1] / "CONTRIBUTING.md"]:
        for link, anchor in re.findall(r"\]\(((?!http)[^)#\s]*)(?:#([^)]+))?\)", page.read_text()):
            target = page.parent / link if link else page
            assert target.exists(), f"{page.name}: {link}"
            if anchor and target.suffix == ".md":
                heads = re.findall(r"^#+ (.*)$", target.read_text(), re.MULTILINE)
                known = {re.sub(r"[^\w\- ]", "", head.lower()).replace(" ", "-") for head in heads}
                assert anchor in known, f"{page.name}: {link}#{anchor}"
