"""The tables of a profile about where commands and logs go."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Annotated, Literal, get_args

from pydantic import Field

from tenuto.basics.errors import Problem
from tenuto.basics.short_text import BROKER_KEYS
from tenuto.profile.quantities import Frequency, Time
from tenuto.profile.table import Name, Table

SinkKind = Literal["simulated", "log", "serial", "sbus", "ibus", "mavlink", "mqtt", "udp"]
# Which keys mean something for which kinds, and which they need.
_KEYS: Mapping[str, tuple[str, ...]] = {
    "file": ("log",),
    "port": ("serial", "sbus", "ibus", "mavlink"),
    "address": ("mavlink", "mqtt", "udp"),
    "baud": ("serial", "mavlink"),
    "rate": ("serial", "sbus", "ibus", "mavlink", "mqtt", "udp"),
    "answers": ("serial",),
    "line": ("serial",),
    "channels": ("sbus", "ibus", "mavlink"),
    **dict.fromkeys(("sends", "middle", "yaw", "system", "component", "commands"), ("mavlink",)),
    "key": ("mavlink", "udp"),
    "form": ("udp",),
    "driver": ("mqtt", "udp"),
    **dict.fromkeys(BROKER_KEYS, ("mqtt",)),
    **dict.fromkeys(("target_system", "target_component"), ("mavlink",)),
}
# One of which each kind needs.
_NEEDED: Mapping[str, tuple[str, ...]] = {
    "simulated": (),
    "log": ("file",),
    **dict.fromkeys(("serial", "sbus", "ibus"), ("port",)),
    "mavlink": ("address", "port"),
    **dict.fromkeys(("mqtt", "udp"), ("address",)),
}
Member = Annotated[int, Field(ge=1, le=255)]


class CommandTable(Table):
    """``[sinks.NAME.commands."ACTION"]``: what an action of the profile means to an autopilot."""

    command: Name = Field(description="a command of the MAVLink standard, such as MAV_CMD_NAV_TAKEOFF")
    parameters: dict[Literal["1", "2", "3", "4", "5", "6", "7"], float] = Field(
        default={}, description="numbers 1 to 7 and their values, such as { 7 = 2.5 }"
    )
    pause: Time | None = Field(default=None, description='a time, such as "5 s"')

    def options(self) -> dict[str, object]:
        """Give what is said."""
        numbered = {int(number): value for number, value in self.parameters.items()}
        return {"command": self.command, "parameters": numbered, "pause": self.pause or 0.0}


class SinkTable(Table):
    """``[sinks.NAME]``: somewhere that the ticks go."""

    kind: SinkKind = Field(description="a kind of sink: " + ", ".join(get_args(SinkKind)))
    file: Name | None = Field(default=None, description="a file that ends in .csv, .jsonl, .parquet or .mcap")
    port: Name | None = Field(default=None, description="a serial port, such as /dev/ttyUSB0")
    address: Name | None = Field(default=None, description="an address, such as 127.0.0.1:14550")
    baud: int | None = Field(default=None, gt=0, description="a whole number of baud, such as 115200")
    rate: Frequency | None = Field(default=None, description='a frequency, such as "25 Hz"')
    answers: Time | None = Field(default=None, description='a time, such as "500 ms"')
    line: Name | None = Field(
        default=None, description='a line with fields in braces, such as "{vx:.3f} {yaw_rate:.3f}"'
    )
    channels: list[Name] | None = Field(default=None, description="a list of actuators, from channel 1 on")
    sends: Literal["velocity", "sticks", "channels"] | None = Field(
        default=None, description='"velocity", "sticks" or "channels"'
    )
    middle: Literal[0, 500] | None = Field(default=None, description="0 or 500")
    yaw: Literal["left", "right"] | None = Field(default=None, description='"left" or "right"')
    system: Member | None = Field(default=None, description="a whole number from 1 to 255")
    component: Member | None = Field(default=None, description="a whole number from 1 to 255")
    target_system: Member | None = Field(default=None, description="a whole number from 1 to 255")
    target_component: Member | None = Field(default=None, description="a whole number from 1 to 255")
    key: Name | None = Field(default=None, description="a key file, see tenuto key")
    form: Literal["json", "compact"] | None = Field(default=None, description='"json" or "compact"')
    driver: Name | None = Field(default=None, description="a name that no other driver's program has")
    user: Name | None = Field(default=None, description="a user name at the broker")
    password_file: Name | None = Field(default=None, description="a file that holds the password")
    ca: Name | None = Field(default=None, description='a file of certificates to trust, or "system"')
    certificate: Name | None = Field(default=None, description="a file with this machine's certificate")
    private_key: Name | None = Field(default=None, description="a file with its private key")
    commands: dict[str, CommandTable] = Field(default={}, description='tables [sinks.NAME.commands."ACTION"]')

    @property
    def place(self) -> str:
        """Where it is: a file, a port or an address."""
        return self.file or self.port or self.address or ""

    def options(self) -> dict[str, object]:
        """Give what is said besides its kind and where it is."""
        given = self.model_dump(exclude_none=True, exclude={"kind", "file", "port", "address", "commands"})
        if self.channels:
            given["channels"] = tuple(self.channels)
        if self.commands:
            given["commands"] = {name: table.options() for name, table in self.commands.items()}
        return given


def sinks_problems(sinks: Mapping[str, SinkTable], actions: Collection[str]) -> Iterator[Problem]:
    """List what is wrong with the keys of the sinks; their commands are for actions of the profile."""
    for name, table in sinks.items():
        for key, kinds in _KEYS.items():
            value = getattr(table, key)
            if value not in (None, {}) and table.kind not in kinds:
                yield Problem(f"sinks.{name}.{key}", f"nothing for kind {table.kind}", f"{value}", "take it out")
        needed = _NEEDED[table.kind]
        said = [key for key in needed if getattr(table, key) is not None]
        if needed and len(said) != 1:
            expected = " or ".join(SinkTable.model_fields[key].description or "" for key in needed)
            found, mend = (" and ".join(said), "take one out") if said else ("nothing", "add it")
            yield Problem(f"sinks.{name}.{needed[0]}", expected, found, mend)
        for action in table.commands:
            if action not in actions:
                known = ", ".join(actions) or "none"
                yield Problem(f'sinks.{name}.commands."{action}"', f"an action of the profile: {known}", action)
