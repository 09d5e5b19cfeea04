"""The checks of a computer: for each, what is wrong and what to do."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from pathlib import Path

from tenuto.basics.errors import CalibrationError
from tenuto.basics.extras import has, how_to_get
from tenuto.basics.findings import Finding, error, warning
from tenuto.calibration.store import Calibration, default_path
from tenuto.files import read_text
from tenuto.health.system import System
from tenuto.profile.beginning import begun_for, text_begun_for
from tenuto.profile.profile import Profile
from tenuto.profile.text import profile_tables

Check = Callable[[System, Profile | None], Iterator[Finding]]
# 2026-01-01 in s since 1970. The program is newer: a clock that shows less was never set.
_MADE = 1_767_225_600.0
_PORTS = ("ttyUSB*", "ttyACM*", "ttyAMA*", "serial0")
_READ, _BOTH = os.R_OK, os.R_OK | os.W_OK


def input_rights(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The gamepads and joysticks of the system can be read."""
    for name, place in _system_pads(system):
        if not system.may(system.file(place), _READ):
            group = system.group(place, "input")
            yield error(
                place, f"{name} cannot be read: no permission", f"sudo usermod -aG {group} $USER, and log in again"
            )


def pads_seen(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The joysticks of the system can be opened, and there is one if a profile needs it."""
    if system.unlisted:
        yield error("gamepads", f"they cannot be listed: {system.unlisted}")
        return
    if profile is not None and profile.source.kind == "gamepad" and not system.pads:
        yield error("source", "the profile drives by a gamepad, and none can be opened", "plug it in; tenuto devices")
    for name, place in _system_pads(system):
        if place not in system.pads and system.may(system.file(place), _READ):
            text = f"the system has {name}, and it cannot be opened as a gamepad"
            yield warning(place, text, "plug it in again; close the program that uses it; then tenuto devices")


def asleep(system: System, profile: Profile | None) -> Iterator[Finding]:
    """Gamepads that are paired by Bluetooth are connected."""
    for line in system.ask(("bluetoothctl", "devices", "Paired")).splitlines():
        found = re.fullmatch(r"Device (\S+) (.+)", line.strip())
        said = system.ask(("bluetoothctl", "info", found[1])) if found else ""
        if found and "Icon: input-gaming" in said and "Connected: no" in said:
            yield warning("bluetooth", f"{found[2]} is paired, and not connected", "press its button: it sleeps")


def ports(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The serial ports that a profile names exist, and all existing ones can be used."""
    named = list(_ports_of(profile_tables(profile))) if profile is not None else []
    there = [f"/dev/{one.name}" for pattern in _PORTS for one in sorted(system.file("/dev").glob(pattern))]
    for place in dict.fromkeys((*named, *there)):
        if not system.file(place).exists():
            text = "the profile names this port, and it does not exist"
            yield error(place, text, "plug it in; tenuto devices lists them")
        elif not system.may(system.file(place), _BOTH):
            group = system.group(place, "dialout")
            yield error(place, "no permission to use this port", f"sudo usermod -aG {group} $USER, and log in again")


def console(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The system does not use a serial port that is for a receiver or a robot."""
    named = set(_ports_of(profile_tables(profile))) if profile is not None else set()
    for name in re.findall(r"console=(?!tty\d)(\w+)", system.text("/proc/cmdline")):
        place = f"/dev/{name}"
        same = {place, f"/dev/{system.file(place).resolve().name}"} if system.file(place).exists() else {place}
        if named and not named & same:
            continue
        text = "the system console uses this port: a receiver cannot be read, and a robot receives text"
        found = error if named else warning
        yield found(
            place, text, f"take console={name} out of the kernel's command line, then "
            f"sudo systemctl disable --now serial-getty@{name}"
        )  # fmt: skip


def clocks(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The time of day was set, and the resolution of the loop's clock is fine."""
    if system.now() < _MADE:
        yield warning("clock", "the time of day was never set: logs have a wrong date", "sudo timedatectl set-ntp true")
    source = system.text("/sys/devices/system/clocksource/clocksource0/current_clocksource").strip()
    if source == "jiffies":
        yield warning("clock", "the computer counts time in steps of milliseconds", "choose another clock source")


def calibrations(system: System, profile: Profile | None) -> Iterator[Finding]:
    """Stored calibrations can be read, and fit their devices."""
    for file in sorted(system.calibrations.glob("*.toml")):
        try:
            kept = Calibration.load(file)
        except CalibrationError as wrong:
            yield error(str(file), f"it cannot be used: {wrong}", "measure again: tenuto calibrate")
            continue
        if file.name != default_path(kept.device).name:
            yield warning(str(file), f"it is of the device {kept.device}: no device finds it under this name")
        reason = kept.why_not_for(kept.device, system.devices[kept.device]) if kept.device in system.devices else None
        if reason:
            yield warning(str(file), f"it does not fit the device that is connected: {reason}", "tenuto calibrate")


def placeholders(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The measures with which a profile began were replaced."""
    if profile is None or profile.file is None or profile.chassis.kind not in begun_for():
        return
    begun = {line for line in text_begun_for(profile.chassis.kind).splitlines() if "# measure:" in line}
    for number, line in enumerate(read_text(profile.file).splitlines(), 1):
        if line in begun:
            key, _, what = line.partition("# measure: ")
            text = f"{key.split('=')[0].strip()} is still the example value"
            yield warning(f"{profile.file}:{number}", text, f"measure it: {what}")


def packages(system: System, profile: Profile | None) -> Iterator[Finding]:
    """The packages that a profile needs are installed."""
    if profile is None:
        return
    for module in dict.fromkeys(module for sink in profile.sinks.values() for module in sink.packages()):
        if not has(module):
            yield error("packages", how_to_get(module))


CHECKS: dict[str, Check] = {
    "rights on gamepads": input_rights,
    "gamepads": pads_seen,
    "gamepads by Bluetooth": asleep,
    "serial ports": ports,
    "console": console,
    "clocks": clocks,
    "calibrations": calibrations,
}
# These check a profile alone.
OF_A_PROFILE: dict[str, Check] = {"measures": placeholders, "packages": packages}


def _system_pads(system: System) -> Iterator[tuple[str, str]]:
    """List the joysticks of the system: name and device file."""
    for block in system.text("/proc/bus/input/devices").split("\n\n"):
        name = re.search(r'^N: Name="(.*)"', block, re.M)
        handlers = re.search(r"^H: Handlers=(.*)", block, re.M)
        used = handlers[1].split() if handlers else []
        event = next((one for one in used if one.startswith("event")), None)
        if event is not None and any(re.fullmatch(r"js\d+", one) for one in used):
            yield name[1] if name else event, f"/dev/input/{event}"


def _ports_of(value: object, key: str = "") -> Iterator[str]:
    """Return every serial port in tables."""
    if isinstance(value, dict):
        for name, one in value.items():
            yield from _ports_of(one, name)
    elif isinstance(value, str) and key in ("port", "place") and Path(value).parts[:2] == ("/", "dev"):
        yield value
