"""What runs a profile at boot: a systemd unit, and a udev rule for its device."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, fields, is_dataclass
from pathlib import Path

from tenuto.basics.errors import TenutoError
from tenuto.basics.text import readable
from tenuto.driving.stopping import worst_stop
from tenuto.kinds.texts import files_of
from tenuto.profile.profile import Profile
from tenuto.profile.text import profile_tables

# What may go into a unit and a rule as it is.
_USER, _PLAIN = re.compile(r"[a-z_][a-z0-9_-]{0,31}"), re.compile(r"[A-Za-z0-9_+=:,./-]+")
_PORTS = "/dev/tty"
_TTY = re.compile(r"/dev/tty[A-Za-z0-9_.-]{1,60}")
# Where systemd and udev look.
UNITS, RULES = Path("/etc/systemd/system"), Path("/etc/udev/rules.d")
_UNIT = """\
# Made by tenuto service. It drives from boot; after a crash it starts again, not enabled.
[Unit]
Description=Tenuto drives {name}
StartLimitIntervalSec=0

[Service]
ExecStart={command}
WorkingDirectory={folder}
User={user}
SupplementaryGroups=input dialout
Environment=PYTHONUNBUFFERED=1
# A device that is not there yet, and a crash: try again. What ends well, as by its stop button, stays ended.
Restart=on-failure
RestartSec=2
# Told to end, it brings the robot to a stand first. The rest of the time is for that.
KillSignal=SIGTERM
KillMode=mixed
TimeoutStopSec={patience:.0f}

[Install]
WantedBy=multi-user.target
"""
_PADS = """\
# Made by tenuto service. Gamepads and joysticks may be read by the group input.
SUBSYSTEM=="input", KERNEL=="event*", ENV{ID_INPUT_JOYSTICK}=="1", GROUP="input", MODE="0660"
"""
_PORT = """\
# Made by tenuto service. {place} may be used by the group dialout, and is not taken for a modem.
SUBSYSTEM=="tty", KERNEL=="{kernel}", GROUP="dialout", MODE="0660", ENV{{ID_MM_DEVICE_IGNORE}}="1"
"""


@dataclass(frozen=True)
class Service:
    """Files to be put into a system.

    Attributes:
        unit, rules: their texts. unit_at, rules_at: their paths. name: of the unit.
    """

    name: str
    unit: str
    rules: str

    @property
    def unit_at(self) -> Path:
        """The path of the unit."""
        return UNITS / f"{self.name}.service"

    @property
    def rules_at(self) -> Path:
        """The path of the rules."""
        return RULES / f"70-{self.name}.rules"

    def starts_by(self) -> tuple[str, ...]:
        """Return the commands that make the system use both."""
        return (
            "sudo systemctl daemon-reload",
            "sudo udevadm control --reload",
            f"sudo systemctl enable --now {self.name}",
        )


def service_for(
    profile: Profile, arguments: Sequence[str], *, python: str, user: str, used: Sequence[object] = ()
) -> Service:
    """Make the service that runs ``tenuto`` with some arguments for a profile.

    Args:
        profile: read from a file. arguments: those of the command, with the profile's full path.
        python: the interpreter that has tenuto. user: the account that runs it.
        used: the options of sources and sinks in the arguments, whose ports need a rule too.

    Raises:
        TenutoError: the profile has no file, or is driven by the keys of a terminal; a file that it names is not there;
            the user, a path, an argument or a port has characters that would mean something else to the system.
    """
    file = profile.file
    if file is None:
        raise TenutoError("a service needs a profile that is a file")
    if any(kind == "keyboard" for kind in (profile.source.kind, *_kinds_of_drivers(profile))):
        raise TenutoError(f"{file}: it is driven by the keys of a terminal, and a service has none")
    sources = [driver.source for driver in profile.drivers.values()] + [one.source for one in profile.inputs.values()]
    for one in (profile.source, *profile.sinks.values(), *sources):
        for key, path, read in files_of(one) if one is not None else ():
            if read and not (file.resolve().parent / path).exists():
                raise TenutoError(f"{file}: {key}: there is no file {path} in its folder, where the service runs")
    name = "tenuto-" + (re.sub(r"[^a-z0-9]+", "-", file.stem.lower()).strip("-") or "robot")
    if not _USER.fullmatch(user):
        raise TenutoError(f'user: expected the name of an account, found "{readable(user)}"')
    plan = profile.plan()
    unit = _UNIT.format(
        name=_one_line(profile.name), folder=_folder(file.resolve().parent), user=user,
        command=" ".join(map(_word, (python, "-m", "tenuto", *arguments))),
        patience=10.0 + worst_stop(plan).seconds,
    )  # fmt: skip
    return Service(name, unit, "".join(_rules(profile, used)))


def _one_line(text: str) -> str:
    return readable(" ".join(text.split())).replace("\\", "/").replace("%", "%%")


def _word(text: str) -> str:
    """Return a word of a command as systemd reads it. Raises `TenutoError` for one that would end the line."""
    if not text.isprintable():
        raise TenutoError(f'a service cannot run with "{readable(text)}": it has characters that cannot be printed')
    if _PLAIN.fullmatch(text):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$") + '"'


def _folder(place: Path) -> str:
    text = str(place)
    if not text.isprintable() or "\\" in text or text != text.strip():
        raise TenutoError(f'a service cannot run in the folder "{readable(text)}": rename it')
    return text.replace("%", "%%")


def _kinds_of_drivers(profile: Profile) -> list[str]:
    return [driver.source.kind for driver in profile.drivers.values() if driver.source is not None]


def _rules(profile: Profile, used: Sequence[object]) -> list[str]:
    """Return a rule for pads if some are used, and one for each serial port."""
    kinds = {profile.source.kind, *_kinds_of_drivers(profile), *(getattr(one, "kind", "") for one in used)}
    said = [value for one in used if is_dataclass(one) for value in (getattr(one, field.name) for field in fields(one))]
    ports = dict.fromkeys(
        [*_ports_in(profile_tables(profile)), *(one for one in said if isinstance(one, str) and one.startswith(_PORTS))]
    )
    found = [_PADS] if "gamepad" in kinds else []
    for place in ports:
        if not _TTY.fullmatch(place):
            raise TenutoError(f'no rule can be made for the port "{readable(place)}": expected one like /dev/ttyUSB0')
    return found + [_PORT.format(place=place, kernel=Path(place).name) for place in ports]


def _ports_in(tables: object) -> list[str]:
    """List the ports in the tables of a profile."""
    if not isinstance(tables, dict):
        return []
    own = [tables["port"]] if isinstance(tables.get("port"), str) and tables["port"].startswith(_PORTS) else []
    return own + [place for value in tables.values() for place in _ports_in(value)]
