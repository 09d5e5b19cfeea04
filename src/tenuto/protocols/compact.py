"""The compact form of a command to a robot elsewhere, sans I/O; docs/protocols.md has it in words."""

from __future__ import annotations

import struct

from pydantic import ValidationError

from tenuto.driving.follow import AXES
from tenuto.protocols.remote import FiredAction, RemoteCommand

# Big-endian: "C", session, heard in ms, run, number, flags, valid in ms, vx, vy, vz, yaw rate.
_HEAD = struct.Struct(">c8sI8sIBHffff")
# If there are outputs or actions: the count of each, and for each its name's length, its name, level or number.
_COUNTS, _LENGTH, _LEVEL, _NUMBER = struct.Struct(">BB"), struct.Struct(">B"), struct.Struct(">f"), struct.Struct(">I")
_DRIVES, _EMERGENCY, _MORE = 1, 2, 4


def pack_command(command: RemoteCommand) -> bytes:
    """Return the compact form of a command: 44 bytes and the named values. The session identifies the driver."""
    more = bool(command.outputs or command.actions)
    flags = _DRIVES * command.drives | _EMERGENCY * command.emergency | _MORE * more
    head = _HEAD.pack(
        b"C", bytes.fromhex(command.session), int(command.heard * 1000 + 1e-6), bytes.fromhex(command.run),
        command.number, flags, command.valid_ms, command.vx, command.vy, command.vz, command.yaw_rate,
    )  # fmt: skip
    if not more:
        return head
    parts = [head, _COUNTS.pack(len(command.outputs), len(command.actions))]
    parts += [_pack_name(name) + _LEVEL.pack(level) for name, level in command.outputs.items()]
    parts += [_pack_name(action.name) + _NUMBER.pack(action.number) for action in command.actions]
    return b"".join(parts)


def unpack_command(data: bytes, driver: str) -> RemoteCommand | None:
    """Read the compact form of a command; None if it is not one. Never raises on any bytes."""
    try:
        mark, session, heard, run, number, flags, valid_ms, *velocity = _HEAD.unpack_from(data)
        if mark != b"C" or flags > _DRIVES + _EMERGENCY + _MORE:
            return None
        outputs, actions, end = _unpack_named(data) if flags & _MORE else ({}, [], _HEAD.size)
        if end != len(data):
            return None
        return RemoteCommand(
            session=session.hex(), heard=heard / 1000, run=run.hex(), number=number, driver=driver,
            drives=bool(flags & _DRIVES), emergency=bool(flags & _EMERGENCY), valid_ms=valid_ms,
            outputs=outputs, actions=actions, **dict(zip(AXES, velocity, strict=True)),
        )  # fmt: skip
    except (struct.error, UnicodeDecodeError, ValidationError):
        return None


def _pack_name(name: str) -> bytes:
    text = name.encode()
    return _LENGTH.pack(len(text)) + text


def _unpack_named(data: bytes) -> tuple[dict[str, float], list[FiredAction], int]:
    """Read what follows the head, and return where it ends."""
    at = _HEAD.size
    many_outputs, many_actions = _COUNTS.unpack_from(data, at)
    at += _COUNTS.size

    def take(what: struct.Struct) -> tuple[str, float]:
        nonlocal at
        (length,) = _LENGTH.unpack_from(data, at)
        end = at + _LENGTH.size + length
        name = data[at + _LENGTH.size : end].decode()
        (value,) = what.unpack_from(data, end)
        at = end + what.size
        return name, value

    outputs = dict(take(_LEVEL) for _ in range(many_outputs))
    actions = [
        FiredAction(name=name, number=int(number)) for name, number in (take(_NUMBER) for _ in range(many_actions))
    ]
    return outputs, actions, at
