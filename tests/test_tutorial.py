"""The tutorial, from an empty folder, command by command, so that it cannot rot."""

import re
import shlex
from pathlib import Path

import pytest

import tenuto
from helpers import run

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
