"""A profile from answers: its text, new or changed; existing comments are kept."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import MISSING, dataclass, field, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tenuto.basics.layouts import ControlInfo
from tenuto.calibration.binding import Meant
from tenuto.kinds.options import about
from tenuto.profile.beginning import text_begun_for
from tenuto.profile.patch import document_of, text_in
from tenuto.sinks.base import SINKS, SinkOptions
from tenuto.sinks.serial_line import SerialLineOptions
from tenuto.sources import source_options
from tenuto.sources.base import SOURCES, SourceOptions
from tenuto.vehicles.base import VEHICLES
from tenuto.vehicles.velocity import VelocityCommand

if TYPE_CHECKING:
    import tomlkit

# How long sticks must be held for a gesture that enables.
GESTURE_TIME = "1 s"
# Role → key of [guard].
_GUARDS = (
    ("hold", "hold_to_run"),
    ("start", "enable"),
    ("stop", "stop"),
    ("emergency", "emergency_stop"),
    ("reset", "reset"),
)
_WHOLE = VelocityCommand(1.0, 1.0, 1.0, 1.0)


@dataclass
class Answers:
    """The answers so far.

    Attributes:
        source: a short text. vehicle, style: kinds. sink: a short text; empty if it was not answered.
        meant: role → control. gesture: sticks that are held in a corner enable.
        ends: control → its lowest, usual and highest raw number, if the device does not report them.
    """

    source: str = "gamepad"
    vehicle: str = ""
    style: str = ""
    sink: str = ""
    meant: dict[str, Meant] = field(default_factory=dict)
    gesture: bool = False
    ends: dict[str, tuple[float, float, float]] = field(default_factory=dict)


def opened_document(profile: Path, vehicle: str) -> tomlkit.TOMLDocument:
    """Return the profile to change: the existing file, or a new one for a vehicle.

    Raises:
        ProfileError: the file cannot be read, or is not TOML.
    """
    return document_of(text_in(profile) if profile.exists() else text_begun_for(vehicle), str(profile))


def text_of(
    document: tomlkit.TOMLDocument,
    name: str,
    answers: Answers,
    infos: Sequence[ControlInfo],
    style_keys: Mapping[str, tuple[str, ...]],
) -> str:
    """Return the text of a profile with the answers; comments and order of an existing file stay.

    Args:
        document: see `opened_document`. name: of a new robot; empty if the file existed before.
        infos: the controls of the device. style_keys: role → the path of its key in [style].
    """
    import tomlkit

    known = {info.name: info for info in infos}
    if name:
        document["name"] = name
        for key, value in _source_table(answers.source, infos).items():
            table_in(document, "source")[key] = value
        table_in(document, "style")["kind"] = answers.style
        if answers.sink:
            table_in(table_in(document, "sinks"), "robot").update(_sink_table(document, answers))
    style, controls = table_in(document, "style"), table_in(document, "controls")
    for role, path in style_keys.items():
        if role in answers.meant:
            _put_stick(style, controls, role, path, answers, known)
    _put_guard(document, controls, answers, known)
    if "ways" in answers.meant:
        table_in(document, "switches")["steering_button"] = {"kind": "cycle", "reads": answers.meant["ways"].control}
        order = ["front", "counter", "crab", "rear"]
        table_in(document, "choose")["steering"] = {"switch": "steering_button", "order": order}
    if "pace" in answers.meant:
        _put_pace(document, answers.meant["pace"].control)
    text = tomlkit.dumps(document)
    # An inserted table has no empty line after it; in an existing file, lines stay unchanged.
    return re.sub(r"(?<=[^\n])\n(?=\[)", "\n\n", text) if name else text


def table_in(document: Any, name: str) -> Any:
    """Return a table of a document; a new one if it has none."""
    import tomlkit

    if name not in document:
        document[name] = tomlkit.table()
    return document[name]


def _put_stick(
    style: Any, controls: Any, role: str, key: Sequence[str], answers: Answers, known: Mapping[str, ControlInfo]
) -> None:
    for table in key[:-1]:
        style = table_in(style, table)
    name = str(style.get(key[-1], role))
    style[key[-1]] = name
    _put(controls, name, answers.meant[role], known, answers.ends)
    if f"{role}_minus" in answers.meant:
        controls[name]["minus"] = answers.meant[f"{role}_minus"].control
    else:
        controls[name].pop("minus", None)
    if zone := known[answers.meant[role].control].usual_dead_zone:
        controls[name].setdefault("dead_zone", zone)


def _put_guard(document: Any, controls: Any, answers: Answers, known: Mapping[str, ControlInfo]) -> None:
    guard = table_in(document, "guard")
    for role, key in _GUARDS:
        if role not in answers.meant:
            continue
        meant = answers.meant[role]
        plain = meant.rising and known[meant.control].kind != "stick"
        guard[key] = meant.control if plain else role
        if not plain:
            _put(controls, role, meant, known, answers.ends)
    if answers.gesture:
        style = table_in(document, "style")
        named = [value for one in style.values() for value in (one.values() if isinstance(one, Mapping) else (one,))]
        sticks = [str(value) for value in named if value in controls][:2]
        table_in(document, "switches")["start"] = {
            "kind": "gesture", "sticks": dict.fromkeys(sticks, "low"), "time": GESTURE_TIME,
        }  # fmt: skip
        guard["enable"] = "start"


def _put_pace(document: Any, control: str) -> None:
    """Add two modes that a button selects: the speeds of the profile, and twice as fast."""
    table_in(document, "switches")["pace_button"] = {"kind": "cycle", "reads": control}
    fast = {key: _twice(str(value)) for key, value in table_in(document, "speeds").items()}
    document["modes"] = {"slow": {"fallback": True}, "fast": {"speeds": fast}}
    table_in(document, "choose")["mode"] = {"switch": "pace_button", "order": ["slow", "fast"]}


def _twice(quantity: str) -> str:
    """Return twice a quantity; a share is limited to 100 %."""
    number, unit = quantity.split(" ")
    most = 100.0 if unit == "%" else math.inf
    return f"{min(2.0 * float(number), most):g} {unit}"


def _put(
    controls: Any, name: str, meant: Meant, known: Mapping[str, ControlInfo], ends: Mapping[str, Sequence[float]]
) -> None:
    import tomlkit

    if name not in controls:
        controls[name] = tomlkit.table()
    table = controls[name]
    if table.get("reads") != meant.control:
        # Another control: the measurements of the earlier one do not apply.
        for key in ("low", "centre", "high"):
            table.pop(key, None)
    table["reads"] = meant.control
    if meant.control in ends:
        for key, value in zip(("low", "centre", "high"), ends[meant.control], strict=True):
            table[key] = value
    # An increasing number is positive, unless the device counts down; the answered direction must be positive.
    reverse = meant.rising == known[meant.control].counts_down
    if reverse or "reverse" in table:
        table["reverse"] = reverse


def _said(options: SourceOptions | SinkOptions) -> dict[str, Any]:
    """Return the keys of a table for a short text."""
    said = {one.name: (getattr(options, one.name), one.default) for one in fields(options) if about(one).word}
    return {"kind": options.kind, **{key: value for key, (value, usual) in said.items() if value != usual}}


def _source_table(source: str, infos: Sequence[ControlInfo]) -> dict[str, object]:
    """Return the keys of ``[source]`` for a short text; of a simulated device those of its kind."""
    options = source_options(source)
    if not options.in_profiles:
        device = str(getattr(options, "device", ""))
        kind = SOURCES.all.get(device)
        if kind is None or not kind.in_profiles:
            return {"kind": "gamepad"}
        places = [one.name for one in fields(kind) if about(one).place and one.default is MISSING]
        return {"kind": device, **dict.fromkeys(places, device)}
    found = _said(options)
    if options.kind == "lines" and "columns" not in found:
        found["columns"] = [info.name for info in infos]
    return found


def fitted_sink(sink: str, vehicle: str) -> SinkOptions:
    """Return the settings of a sink for a vehicle: for one without measures, a serial line names its motors.

    Raises:
        SinkError: the text is not that of a sink.
    """
    from tenuto.basics.errors import SinkError
    from tenuto.kinds.texts import read_text

    options, kind = read_text(sink, SINKS, SinkError), VEHICLES.all[vehicle]
    if isinstance(options, SerialLineOptions) and kind.in_shares and options.form == "text":
        names = kind().chassis(_WHOLE).bounds()
        return replace(options, line=" ".join(f"{{{name}.share:.3f}}" for name in names))
    return options


def _sink_table(document: Any, answers: Answers) -> dict[str, object]:
    """Return the table of a sink for a short text."""
    options = fitted_sink(answers.sink, answers.vehicle)
    found = _said(options)
    if line := getattr(options, "line", ""):
        table_in(document, "actuators")["others"] = {"form": "share"}
        found["line"] = line
    return found
