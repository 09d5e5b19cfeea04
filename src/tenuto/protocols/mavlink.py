"""MAVLink 2 (mavlink.io), sans I/O: messages to bytes and back, and how our axes map to its axes.

Needs the package pymavlink (``pip install tenuto[mavlink]``), which is loaded with this module.
"""

from __future__ import annotations

import math
import time
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from pymavlink.dialects.v20 import common as dialect

from tenuto.vehicles.velocity import VelocityCommand

# Signatures count 10 µs since 1 January 2015, UTC.
_SIGNING_EPOCH, _PER_SECOND = 1_420_070_400, 100_000
# Of a setpoint only the velocity and the yaw rate count; all other fields are ignored.
VELOCITY_AND_YAW_RATE = (
    dialect.POSITION_TARGET_TYPEMASK_X_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_Y_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_Z_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_AX_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_AY_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_AZ_IGNORE
    | dialect.POSITION_TARGET_TYPEMASK_YAW_IGNORE
)
# The value for a channel in an override that is not ours: leave it as it is.
_IGNORE_CHANNEL = 65535
MOST_CHANNELS = 18
_FULL_STICK = 1000
ACCEPTED, IN_PROGRESS = dialect.MAV_RESULT_ACCEPTED, dialect.MAV_RESULT_IN_PROGRESS
# The command and its parameters that cut the power of the motors: a disarm; the number forces it in flight.
SET_MODE: int = dialect.MAV_CMD_DO_SET_MODE
# The frame of reference of a velocity, by its name in the standard.
FRAMES: Mapping[str, int] = {
    "body_ned": dialect.MAV_FRAME_BODY_NED, "body_offset_ned": dialect.MAV_FRAME_BODY_OFFSET_NED,
    "body_frd": dialect.MAV_FRAME_BODY_FRD, "local_ned": dialect.MAV_FRAME_LOCAL_NED,
}  # fmt: skip
POWER_OFF: tuple[int, Mapping[int, float]] = (dialect.MAV_CMD_COMPONENT_ARM_DISARM, {1: 0.0, 2: 21196.0})


_KNOWN = frozenset(message.msgname for message in dialect.mavlink_map.values())


class Member(NamedTuple):
    """A sender or a receiver: a system (a vehicle, a station) and a component of it, 1…255."""

    system: int
    component: int


class ForwardRightDown(NamedTuple):
    """A velocity in MAVLink's body frame: m/s ahead, to the right and down, and rad/s to the right."""

    forward: float
    right: float
    down: float
    yaw_rate: float


def to_forward_right_down(command: VelocityCommand) -> ForwardRightDown:
    """Convert ISO 8855 (x forward, y left, z up, left positive) to forward, right, down, right positive, and back."""
    return ForwardRightDown(command.vx, 0.0 - command.vy, 0.0 - command.vz, 0.0 - command.yaw_rate)


def velocity_setpoint(
    to: Member, command: VelocityCommand, boot_ms: int, frame: str = "body_ned", heading: float = 0.0
) -> Any:
    """Make SET_POSITION_TARGET_LOCAL_NED (84) for a velocity.

    Args:
        to, command: the receiver, and the velocity. boot_ms: our time, ms.
        frame: one of `FRAMES`. The body frames are those of the vehicle; "local_ned" is that of the ground.
        heading: of the vehicle, rad to the left of north; only for "local_ned".
    """
    v = to_forward_right_down(command)
    if frame == "local_ned":
        c, s = math.cos(heading), math.sin(heading)
        v = v._replace(forward=v.forward * c + v.right * s, right=v.right * c - v.forward * s)
    return dialect.MAVLink_set_position_target_local_ned_message(
        boot_ms % 2**32, *to, FRAMES[frame], VELOCITY_AND_YAW_RATE,
        0.0, 0.0, 0.0, v.forward, v.right, v.down, 0.0, 0.0, 0.0, 0.0, v.yaw_rate,
    )  # fmt: skip


def manual_sticks(to: Member, shares: VelocityCommand, middle: int, yaw: str) -> Any:
    """Make MANUAL_CONTROL (69).

    Args:
        shares: of the full speeds, −1…1, in our signs.
        middle: the value of the vertical axis (z, −1000…1000) for neither up nor down: 0, or 500 where an
            autopilot counts it from 0 as a throttle.
        yaw: which way counts positive, "left" as the standard has it, or "right".
    """
    x, y, z, turn = (min(max(share, -1.0), 1.0) for share in shares)
    turn = turn if yaw == "left" else -turn
    up = middle + z * (_FULL_STICK - middle)
    return dialect.MAVLink_manual_control_message(
        to.system, round(_FULL_STICK * x), round(-_FULL_STICK * y), round(up), round(_FULL_STICK * turn), 0
    )


def channel_overrides(to: Member, pulses: Sequence[float]) -> Any:
    """Make RC_CHANNELS_OVERRIDE (70) of pulses in µs, channel 1 first; the other channels are left as they are."""
    values = [round(pulse) for pulse in pulses] + [_IGNORE_CHANNEL] * (8 - len(pulses))
    # From channel 9 on, added later to the standard, 0 means: leave it as it is.
    values += [0] * (MOST_CHANNELS - len(values))
    return dialect.MAVLink_rc_channels_override_message(*to, *values)


def heartbeat_of_station() -> Any:
    """Make the HEARTBEAT (0) of a ground station, which is no autopilot."""
    return dialect.MAVLink_heartbeat_message(
        dialect.MAV_TYPE_GCS, dialect.MAV_AUTOPILOT_INVALID, 0, 0, dialect.MAV_STATE_ACTIVE, 3
    )


def sync_request(stamp: int) -> Any:
    """Make the TIMESYNC (111) that measures the round trip; ``stamp``: our time, ns."""
    return dialect.MAVLink_timesync_message(0, stamp)


def wants(to: Member, message: int, every: int) -> Any:
    """Make the command that requests a message at an interval in µs (MAV_CMD_SET_MESSAGE_INTERVAL)."""
    return command(to, dialect.MAV_CMD_SET_MESSAGE_INTERVAL, {1: float(message), 2: float(every)}, 0)


def command_number(name: str) -> int | None:
    """Return the number of a command of the standard, such as ``MAV_CMD_NAV_LAND``; None for an unknown one."""
    number = getattr(dialect, name, None) if name.startswith("MAV_CMD_") else None
    return number if isinstance(number, int) else None


def command(to: Member, number: int, parameters: Mapping[int, float], confirmation: int) -> Any:
    """Make COMMAND_LONG (76); a parameter 1…7 that is left out is 0."""
    values = [parameters.get(index, 0.0) for index in range(1, 8)]
    return dialect.MAVLink_command_long_message(*to, number, confirmation, *values)


def result_in_words(result: int) -> str:
    """Describe the result in a command's acknowledgement: "denied"."""
    known = dialect.enums["MAV_RESULT"].get(result)
    return known.name.removeprefix("MAV_RESULT_").replace("_", " ").lower() if known else f"result {result}"


class _Parser(dialect.MAVLink):  # type: ignore[misc]
    """The standard's parser, except that a message that is not genuine changes nothing.

    The parser takes the time of a message as the time of its stream before it checks the signature: a forged message
    with a late time would lock out all genuine ones after it.
    """

    def check_signature(self, msgbuf: bytearray, system: int, component: int) -> bool:
        """Return whether a signature is correct, and newer than the last one of its stream."""
        stream, streams = (msgbuf[-13], system, component), self.signing.stream_timestamps
        before = streams.get(stream)
        if super().check_signature(msgbuf, system, component):
            return True
        if before is None:
            streams.pop(stream, None)
        else:
            streams[stream] = before
        return False


class MavlinkLink:
    """One end of a link: it packs messages, and finds good ones in any bytes.

    Attributes:
        me: the sender's identity. bad: number of broken, unsigned or wrongly signed messages.
    """

    def __init__(self, me: Member, key: bytes | None = None) -> None:
        """Begin a link. With a key of 32 bytes, all sent messages are signed, and only signed ones are accepted."""
        self.me, self.bad = me, 0
        self._mav = _Parser(None, *me)
        self._mav.robust_parsing = True
        if key is not None:
            signing = self._mav.signing
            signing.secret_key, signing.sign_outgoing, signing.link_id = key, True, 0

    def pack(self, message: Any) -> bytes:
        """Return the bytes of a message."""
        signing = self._mav.signing
        # A computer's clock may be set back during a drive; the time of signatures must not go back.
        signing.timestamp = max(signing.timestamp, int((time.time() - _SIGNING_EPOCH) * _PER_SECOND))
        data: bytes = message.pack(self._mav)
        self._mav.seq = (self._mav.seq + 1) % 256
        return bytes(data)

    def feed(self, data: bytes, *, whole: bool = False, unknown: bool = False) -> list[Any]:
        """Take bytes, and return the messages that are complete and good. Never raises on any bytes.

        Args:
            data: as received. whole: they are a datagram, so an incomplete message is not continued by the next one.
            unknown: also return messages outside the dialect; their content must not be used (`is_known`).
        """
        if whole:
            self._mav.buf, self._mav.buf_index = bytearray(), 0
            self._mav.expected_length = dialect.HEADER_LEN_V1 + 2
        messages = self._mav.parse_buffer(data) or []
        # For a message outside the dialect the parser checks neither the checksum nor the signature.
        good = [message for message in messages if is_known(message)]
        self.bad += sum(message.get_type() == "BAD_DATA" for message in messages)
        kept = [message for message in messages if message.get_type() != "BAD_DATA"] if unknown else good
        return [message for message in kept if _is_finite(message)]


def is_known(message: Any) -> bool:
    """Return whether a message is in the dialect: its checksum, and with a key its signature, were correct."""
    return message.get_type() in _KNOWN


def says_armed(heartbeat: Any) -> bool:
    """Return whether a HEARTBEAT reports that the motors are armed."""
    return bool(heartbeat.base_mode & dialect.MAV_MODE_FLAG_SAFETY_ARMED)


def sender(message: Any) -> Member:
    """Return the sender of a message."""
    if is_known(message):
        return Member(message.get_srcSystem(), message.get_srcComponent())
    _, system, component = _head_of(message)
    return Member(system, component)


def signed_at(message: Any) -> float:
    """Return the time of a signed message on its sender's clock, s: of the six bytes before its signature."""
    return int.from_bytes(bytes(message.get_msgbuf())[-12:-6], "little") / _PER_SECOND


def order_number(message: Any) -> int:
    """Return the sequence number of a message, 0…255."""
    return int(message.get_seq()) if is_known(message) else _head_of(message)[0]


def _head_of(message: Any) -> tuple[int, int, int]:
    """Return number, system and component of a message outside the dialect, of which only the bytes are known."""
    data = bytes(message.get_msgbuf())
    at = 4 if data[0] == dialect.PROTOCOL_MARKER_V2 else 2
    return data[at], data[at + 1], data[at + 2]


def _is_finite(message: Any) -> bool:
    """Return whether a setpoint has no NaN in place of a velocity; in other messages the standard permits NaN."""
    if message.get_type() != "SET_POSITION_TARGET_LOCAL_NED":
        return True
    return all(math.isfinite(value) for value in (message.vx, message.vy, message.vz, message.yaw_rate))
