"""The tables of keys in the docs against the schema: every documented default is the actual one."""

import dataclasses
import importlib.util
import inspect
import json
import math
import re
import subprocess
import sys
import tomllib
import typing
import zipfile
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from pydantic import BaseModel
from pydantic_core import PydanticUndefined

import tenuto
from helpers import run
from tenuto.basics.extras import EXTRAS
from tenuto.basics.reasons import Code
from tenuto.cli.commands import COMMANDS
from tenuto.data import shipped
from tenuto.outputs.base import OUTPUTS
from tenuto.profile.schema import Tables
from tenuto.sinks.base import SINKS
from tenuto.sources.base import SOURCES
from tenuto.styles.base import STYLES
from tenuto.switches.base import SWITCHES
from tenuto.vehicles.base import VEHICLES

DOCS = Path(__file__).parents[1] / "docs"
KINDS: dict[str, Any] = {
    "source": SOURCES, "style": STYLES, "chassis": VEHICLES, "switches": SWITCHES, "outputs": OUTPUTS, "sinks": SINKS,
}  # fmt: skip
UNITS = {"": 1.0, "s": 1.0, "ms": 1e-3, "m": 1.0, "Hz": 1.0, "m/s": 1.0, "deg/s²": math.pi / 180.0}
NOTHING: tuple[Any, ...] = (None, False, 0.0, "", (), [], {})


def rows() -> Iterator[tuple[str, str]]:
    """Return each documented key with its default; a row with several of both is separated."""
    for page, table in (("profile.md", ""), ("vehicles.md", "actuators.NAME.")):
        for line in (DOCS / page).read_text().splitlines():
            cells = [cell.strip() for cell in re.split(r"(?<!\\)\|", line)]
            keys = re.findall(r"`([\w.]+)`", cells[1]) if len(cells) == 5 else []
            if not keys or (table and "." in keys[0]) or not (table or "." in keys[0]):
                continue
            said = re.split("; ?|, ", cells[3]) if len(keys) > 1 else [cells[3]]
            said = said * len(keys) if len(said) == 1 else said
            yield from ((table + key, text) for key, text in zip(keys, said, strict=False))


def owners(path: str) -> list[Any]:
    """Return the models of a table of a profile: one, or every kind of it."""
    name = path.split(".")[0]
    if name in KINDS:
        return list(KINDS[name].all.values())
    found, waiting = [], [Tables.model_fields[name].annotation]
    while waiting:
        one = waiting.pop()
        if isinstance(one, type) and issubclass(one, BaseModel):
            found.append(one)
        waiting += typing.get_args(one)
    return found


def default_of(owner: Any, key: str) -> Any:
    """Return the default of a key of a table; undefined if it has none, or if there is no such key."""
    if issubclass(owner, BaseModel):
        return owner.model_fields[key].default if key in owner.model_fields else PydanticUndefined
    found = [field.default for field in dataclasses.fields(owner) if field.name == key]
    return found[0] if found and found[0] is not dataclasses.MISSING else PydanticUndefined


def read(text: str) -> Any:
    """Read a default on a page: a word of TOML, or a number with its unit; None for a description in words."""
    literal, word = re.fullmatch(r'`("[^"]*"|true|false)`', text), re.fullmatch("`([a-z]+)`", text)
    if literal or word:
        return json.loads(literal[1]) if literal else word[1] if word else None
    number = re.fullmatch(r"(?:\w+: )?(-?[\d.]+) ?([\w/²]*)", text.replace("−", "-"))
    return float(number[1]) * UNITS[number[2]] if number and number[2] in UNITS else None


def test_troubleshooting_names_reasons_commands_and_keys_that_there_are() -> None:
    text = (DOCS / "troubleshooting.md").read_text()
    rows = re.findall(r"^\| (`[^|]+) \|", text, re.M)
    assert {code for row in rows for code in re.findall(r"`(\w+)`", row)} - {"reverse"} <= {*map(str, Code)}
    assert set(re.findall(r"(?:^|`)tenuto (\w+)", text, re.M)) <= {
        name for group in COMMANDS.values() for name in group
    }
    known = (DOCS / "profile.md").read_text()
    keys = set(re.findall(r"`((?:guard|loop|limits)\.\w+)`", text))
    assert len(keys) > 4
    assert all(f"`{key}`" in known for key in keys)


def test_every_default_that_the_docs_name_is_the_one_that_holds() -> None:
    compared = []
    for path, text in rows():
        key = path.split(".")[-1]
        found = [default for owner in owners(path) if (default := default_of(owner, key)) is not PydanticUndefined]
        said = read(text)
        if not text or not found:
            continue
        compared.append(path)
        if said is None:
            assert any(default in NOTHING for default in found), f"{path}: {text} in words, but {found}"
        elif said == 0.0:
            assert all(default in NOTHING for default in found), f"{path}: {text}, but {found}"
        else:
            assert any(default == said or default == pytest.approx(said) for default in found), f"{path}: {found}"
    assert len(compared) > 100
    assert {"guard.discrepancy_time", "loop.rate", "trims.NAME.most", "actuators.NAME.middle_us"} <= set(compared)


def test_every_key_that_a_profile_takes_is_in_the_docs() -> None:
    said = {path.split(".")[0] + "." + path.split(".")[-1] for path, _ in rows()}
    pages = "".join((DOCS / f"{page}.md").read_text() for page in ("profile", "vehicles", "kinds", "guard", "sources"))
    for table in Tables.model_fields:
        for owner in owners(table):
            is_model = issubclass(owner, BaseModel)
            for key in owner.model_fields if is_model else [field.name for field in dataclasses.fields(owner)]:
                path = f"{table}.{key}"
                assert path in said or re.search(f"`{key}`|{path}`|{key} = ", pages), f"{path} is in no page"


def test_the_extras_are_the_same_everywhere() -> None:
    """The message about a missing package, pip's metadata, and the table of the README agree."""
    project = tomllib.loads((DOCS.parent / "pyproject.toml").read_text())["project"]
    offered = {*project["optional-dependencies"]} - {"dev"}
    assert {extra for extra, _ in EXTRAS.values()} == offered
    table = (DOCS.parent / "README.md").read_text().split("## Install")[1].split("##")[0]
    named = re.findall(r"^\| (`[^|]+) \|", table, re.M)
    assert set(re.findall(r"`(\w+)`", " ".join(named))) == offered


# Commands that no other test prints as JSON, and errors: of the profile, of the machine, and of the call.
_IN_JSON = {
    "calibrate --from SHIPPED/worn-pad.csv": 1, "calibrate --from SHIPPED/clean-transmitter.csv --out sticks.toml": 0,
    "check none.toml": 2, "page --devices": 0, "service SHIPPED/medlar.toml --to simulated": 0,
    "curve --figur x.png": 2,
    "tune SHIPPED/orchard-row.csv SHIPPED/medlar.toml --top-speed 0.6m/s": 0, "why SHIPPED/orchard-row.csv": 1,
    "preflight SHIPPED/medlar.toml --source simulated:gamepad --to simulated": 0,
    "watch simulated:gamepad --for 0.5": 0,
    "drive SHIPPED/medlar.toml --recording SHIPPED/orchard-row.csv --seconds 1 --to simulated": 0,
}  # fmt: skip


@pytest.mark.long
@pytest.mark.port
def test_what_programs_read_is_one_object_with_a_format_also_where_it_is_an_error(tmp_path: Path) -> None:
    for line, status in _IN_JSON.items():
        done = run(*line.replace("SHIPPED", str(shipped("medlar.toml").parent)).split(), "--json", cwd=tmp_path)
        said = json.loads(done.stdout)  # `run` has checked it against the schema
        assert (done.returncode, said["format"], said["command"]) == (status, 1, line.split()[0]), line
        assert ("error" in said) == (status == 2 or line.startswith("why"))
        assert status or "tenuto:" not in done.stderr


@pytest.mark.long
def test_the_package_carries_what_the_far_end_needs(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "hatchling", "build", "--target", "wheel", "--directory", str(tmp_path)]
    subprocess.run(command, cwd=DOCS.parent, check=True, capture_output=True)
    with zipfile.ZipFile(next(tmp_path.glob("*.whl"))) as wheel:
        carried = set(wheel.namelist())
    wanted = {f"tenuto/data/schemas/{file.name}" for file in (DOCS / "schemas").iterdir()}
    wanted |= {f"tenuto/data/firmware/{name}" for name in ("velocity_line.c", "velocity_frame.h")}
    wanted |= {"tenuto/firmware/c/robot_board.c.j2", "tenuto/firmware/c/avr/Makefile.j2", "tenuto/curves/expo.c.j2"}
    assert wanted | {"tenuto/data/medlar.toml", "tenuto/py.typed"} <= carried


def test_the_site_has_one_row_for_each_parameter_and_loses_no_word(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setitem(sys.modules, "griffe", SimpleNamespace(Extension=object, Object=object))
    spec = importlib.util.spec_from_file_location("site_docstrings", DOCS.parent / "scripts" / "site_docstrings.py")
    assert spec is not None
    assert spec.loader is not None
    spec.loader.exec_module(site := importlib.util.module_from_spec(spec))
    checked = 0
    for name in tenuto.__all__:
        text = inspect.getdoc(one := getattr(tenuto, name)) or ""
        shown = site.for_the_site(text)
        assert set(re.findall(r"\w+", text)) == set(re.findall(r"\w+", shown)), name
        if callable(one) and (args := re.search(r"^Args:\n((?: {4}.*\n?)+)", shown, re.MULTILINE)):
            rows = [row.split(": ")[0].strip() for row in args[1].splitlines()]
            assert len(set(rows)) == len(rows), (name, rows)
            assert set(rows) <= set(inspect.signature(one).parameters), (name, rows)
            checked += 1
    assert checked > 10
