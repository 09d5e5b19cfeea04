"""Writes the tables of the docs that are made from the code: the reasons, and the options of every kind.

The tests compare them with the code; after a change: ``make tables``.
"""

from __future__ import annotations

import json
import re
from dataclasses import MISSING, Field, fields
from itertools import product
from pathlib import Path
from typing import Any, Literal, get_args, get_origin, get_type_hints

import tenuto
from tenuto import load_profile
from tenuto.basics.reasons import Code
from tenuto.cli.words import truth_in_words
from tenuto.curves.base import CURVES
from tenuto.data import shipped
from tenuto.driving.guard import TABLE, Categories
from tenuto.kinds.options import about
from tenuto.kinds.registry import Kinds
from tenuto.kinds.texts import form_of
from tenuto.outputs.base import OUTPUTS
from tenuto.protocols.radio.base import RADIOS
from tenuto.sim.truth import truth_table
from tenuto.sinks.base import SINKS
from tenuto.sources.base import SOURCES
from tenuto.styles.base import STYLES
from tenuto.switches.base import SWITCHES
from tenuto.testing.guard import explore
from tenuto.vehicles.base import VEHICLES

DOCS = Path(__file__).parents[1] / "docs"
# Page title → key of the table in a profile, and the kinds.
REGISTRIES: dict[str, tuple[str, Kinds[Any]]] = {
    "Sources": ("source", SOURCES),
    "Styles": ("style", STYLES),
    "Vehicles": ("chassis", VEHICLES),
    "Switches": ("switches.NAME", SWITCHES),
    "Outputs": ("outputs.NAME", OUTPUTS),
    "Sinks": ("sinks.NAME", SINKS),
}


def row(cells: list[str]) -> str:
    """Write a row of a table."""
    return "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"


def reasons() -> str:
    """Write the table of all reasons."""
    lines = [row(["code", "kind", "meaning", "what to do"]), "|---|---|---|---|"]
    lines += [row([f"`{code}`", code.kind, code.meaning, code.todo]) for code in Code]
    return "\n".join(lines)


def guard_table() -> str:
    """Write the table of the guard, and how far it was explored."""
    lines = [row(["state", "when", "goes to", "and"]), "|---|---|---|---|"]
    for (state, event), after in TABLE.items():
        kept = {None: "", True: "the release counts", False: "wants a release"}[after.release_seen]
        lines.append(row([state, event, after.after, kept]))
    kinds = [Categories(*three) for three in product((0, 1, 2), (0, 1, 2), (0, 1))]
    explored = [explore(categories) for categories in kinds]
    states = sum(len({way.before for way in ways}) for ways in explored)
    ways = sum(map(len, explored))
    lines += [
        "",
        "With every combination of stop categories a test visits all states that can be reached, and tries all that",
        f"can be seen in each: {states} states, {ways} transitions. In none of them is there a way to driving without",
        "standing, a release, a fresh press and sticks at rest after it; a way out of an emergency stop without a",
        "reset at standstill; or power without enabling.",
    ]
    return "\n".join(lines)


def shown_default(one: Field[Any]) -> str:
    """Describe the default of an option."""
    said = about(one)
    if one.default is MISSING:
        return "" if one.default_factory is MISSING else "none"
    if one.default in (None, "", ()):
        return "none"
    if isinstance(one.default, bool):
        return str(one.default).lower()
    if isinstance(one.default, float):
        return f"{one.default:.4g}" + (f" {said.dimension.unit}" if said.dimension is not None else "")
    return f'"{one.default}"' if isinstance(one.default, str) else str(one.default)


def options_table(options: Any) -> list[str]:
    """Write the table of the options of a kind, and of the tables in it."""
    lines = [row(["key", "expected", "default"]), "|---|---|---|"]
    inner: list[tuple[str, Any]] = []
    hints = get_type_hints(options)
    for one in fields(options):
        needed = one.default is MISSING and one.default_factory is MISSING
        lines.append(row([f"`{one.name}`", about(one).expected, "required" if needed else shown_default(one)]))
        for part in (hints[one.name], *get_args(hints[one.name])):
            if isinstance(part, type) and get_origin(part) is not Literal and hasattr(part, "__dataclass_fields__"):
                inner.append((one.name, part))
    for name, part in inner:
        lines += ["", f"In `{name}`:", "", *options_table(part)]
    return lines


def kinds_page() -> str:
    """Write the page of all kinds."""
    lines = [
        "# Kinds and their options",
        "",
        "Every kind and its options, generated from the code by `make tables`. Other pages explain their meaning.",
        "Quantities are numbers in SI units or texts with a unit.",
    ]
    for title, (key, kinds) in REGISTRIES.items():
        lines += ["", f"## {title}: `[{key}]`"]
        for name, options in kinds.all.items():
            doc = (options.__doc__ or "").strip().split("\n")[0]
            lines += ["", f"### `{name}`", "", doc, ""]
            if not getattr(options, "in_profiles", True):
                lines += ["Available as a short text only, not in a profile.", ""]
            if any(about(one).place or about(one).word for one in fields(options)):
                lines += [f"Short text: `{form_of(options)}`", ""]
            lines += options_table(options) if fields(options) else ["It has no options."]
    lines += ["", "## Curves: `[controls.NAME]` and `[rates.NAME]`", "", row(["key", "what"]), "|---|---|"]
    lines += [row([f"`{name}`", curve.what]) for name, curve in CURVES.all.items()]
    lines += ["", "## Radio protocols", "", row(["kind", "line", "channels", "frames a second"]), "|---|---|---|---|"]
    for name, radio in RADIOS.all.items():
        line = f"{radio.baud} baud 8{radio.parity}{radio.stop_bits}"
        channels = f"{radio.channels}" + (f" and {radio.switches} on/off" if radio.switches else "")
        lines.append(row([f"`{name}`", line, channels, f"{1.0 / radio.period:.0f}"]))
    return "\n".join(lines) + "\n"


ROBOTS = ("medlar", "medlar-keyboard", "medlar-lift", "medlar-lesson", "quince", "damson", "sorrel")


def truth_page() -> str:
    """Write the truth table of every shipped robot."""
    lines = [
        "# Truth tables of the shipped robots",
        "",
        "Each control alone at both ends, in each mode; two sticks at their ends, if the robot does something",
        "other than the sum of both; each button pressed, once for each position of its switch; and the link lost at",
        "full speed, and restored. `tenuto check PROFILE --table` prints this for any profile. Generated by `make",
        "tables`; a test compares it.",
    ]
    for name in ROBOTS:
        profile = load_profile(shipped(f"{name}.toml"))
        plan, meaning = profile.plan(), truth_table(profile)
        lines += ["", f"## {profile.name}: `{name}.toml`", ""]
        lines += [row(["mode", "control", "robot", "actuators"]), "|---|---|---|---|"]
        lines += [row(list(truth_in_words(one, plan.chassis))) for one in meaning.shown()]
        lines += [f"\n{finding}" for finding in meaning.findings]
    return "\n".join(lines) + "\n"


# Heading → its public names.
_FACE = {
    "Profiles and plans": "load_profile parse_profile prepare_profile Profile Plan Finding Problem",
    "Driving": "drive follow replay DriveHandle DriveReport Pipeline Frame Tick VelocityCommand GuardStatus State "
    "Reason SimulatedClock",
    "Sources and sinks": "open_source Source open_sink open_sinks Sink",
    "A loop of your own": "pads Pad guarded Guarded arcade tank when",
    "Looking at drives": "load_log Ticks compare Comparison sweep truth_table TruthTable",
    "Errors": "TenutoError ProfileError PlanError ArgumentError SourceError SinkError RecordingError CutOffWarning",
}


def api_page() -> str:
    """Return the page of the public API; the site adds the docstrings."""
    named = [name for names in _FACE.values() for name in names.split()]
    assert sorted(named) == sorted(tenuto.__all__), set(named) ^ set(tenuto.__all__)
    parts = ["# Python\n", "The public names of `import tenuto`, from their docstrings; `make docs` builds this page. "
             "In Python, use `help(tenuto.drive)`.\n"]  # fmt: skip
    for heading, names in _FACE.items():
        parts.append(f"## {heading}\n")
        parts += [f"::: tenuto.{name}\n" for name in names.split()]
    return "\n".join(parts)


def json_keys() -> str:
    """Write the JSON output of the commands, from its schema."""
    definitions = json.loads((DOCS / "schemas/output.json").read_text(encoding="utf-8"))["$defs"]
    parts = []
    for name, one in definitions.items():
        title = "An error" if name == "error" else "`demo --story faults`" if name == "demo-story" else f"`{name}`"
        parts.append(f"## {title}\n\n{one['description']}\n\n| key | type | what |\n|---|---|---|")
        parts.append("\n".join(_json_keys(one, "")) + "\n")
    return "\n".join(parts)


def _json_keys(schema: dict[str, Any], before: str) -> list[str]:
    """Write a row for each key of an object, and of the objects in it."""
    rows = []
    for key, one in schema.get("properties", {}).items():
        if before or key not in ("format", "command"):
            rows += _json_rows(before + key, one)
    named = schema.get("additionalProperties")
    return rows + (_json_rows(f"{before}NAME", named) if isinstance(named, dict) else [])


def _json_rows(key: str, one: dict[str, Any]) -> list[str]:
    words = one["type"] if isinstance(one["type"], list) else [one["type"]]
    own = one.get("items", one)
    inner = _json_keys(own, f"{key}[]." if "items" in one else f"{key}.")
    lone = not one.get("description") and inner
    return ([] if lone else [row([f"`{key}`", " or ".join(words), one.get("description", "")])]) + inner


def _put(page: str, mark: str, text: str) -> str:
    """Replace the marked part of a page by a text."""
    place = re.compile(rf"(<!-- {mark} -->\n).*(\n<!-- end of {mark} -->)", re.DOTALL)
    return place.sub(lambda found: found[1] + text + found[2], page)


def pages() -> dict[Path, str]:
    """Return the current text of every page with such tables."""
    guard, programs = ((DOCS / name).read_text(encoding="utf-8") for name in ("guard.md", "json.md"))
    guard = _put(_put(guard, "reasons", reasons()), "table", guard_table())
    return {
        DOCS / "api.md": api_page(),
        DOCS / "guard.md": guard,
        DOCS / "json.md": _put(programs, "keys", json_keys()),
        DOCS / "kinds.md": kinds_page(),
        DOCS / "truth.md": truth_page(),
    }


if __name__ == "__main__":
    for path, text in pages().items():
        path.write_text(text, encoding="utf-8")
        print(path.relative_to(DOCS.parent))
