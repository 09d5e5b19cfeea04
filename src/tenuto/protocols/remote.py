"""What a driver's machine and a robot's say to each other over a network, sans I/O; docs/protocols.md has it in words.

A command never counts by itself. It repeats what the robot's own clock said a moment ago, so the robot knows without
any common clock how old the command can be at most, however long it lay in some queue.
"""

from __future__ import annotations

import secrets
import struct
from typing import Annotated, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tenuto.core.demand import STANDSTILL
from tenuto.core.follow import AXES, CLEAR, DRIVES, EMERGENCY
from tenuto.core.guard import State
from tenuto.core.tick import Tick

# What the robot said longer ago than this is no ground to move on, s.
MOST_AGE = 0.5
# A driver's machine that was silent for so long has let go of the robot: another may take it, s.
LET_GO_AFTER = 1.0
# How often a robot speaks, s.
STATE_EVERY = 0.1
_MOST_MS = 60_000
# A session is renewed after this, s: 34 days.
_LONGEST_SESSION = 3.0e6
# What a robot says of its reasons is cut to so many, and so many bytes.
_MOST_REASONS, _LONGEST_REASONS = 8, 700

# Big-endian: "C", session, heard in ms, number, flags (1 drives, 2 emergency), valid in ms, vx, vy, vz, yaw rate.
_COMPACT = struct.Struct(">c8sIIBHffff")
Message = TypeVar("Message", bound=BaseModel)

Session = Annotated[str, Field(pattern="^[0-9a-f]{16}$", description="16 hexadecimal digits, afresh at each start")]
Count = Annotated[int, Field(ge=0, lt=2**32)]
Seconds = Annotated[float, Field(ge=0.0, lt=4.0e6)]
Text = Annotated[str, Field(max_length=_LONGEST_REASONS)]
_CONFIG = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)


class RemoteCommand(BaseModel):
    """From the driver's machine to the robot."""

    model_config = _CONFIG

    format: Literal[1] = 1
    session: Session = Field(description="that of the robot's newest state")
    heard: Seconds = Field(description="the time of the robot's newest state, s on the robot's clock")
    number: Count = Field(description="grows with every command of a driver's machine")
    driver: Annotated[str, Field(min_length=1, max_length=64)] = Field(description="whose command it is")
    drives: bool = Field(description="somebody drives: holds, and is permitted to")
    emergency: bool = Field(description="the emergency stop is on there")
    vx: float = Field(description="m/s, forward")
    vy: float = Field(description="m/s, to the left")
    vz: float = Field(description="m/s, up")
    yaw_rate: float = Field(description="rad/s, to the left")
    valid_ms: Annotated[int, Field(ge=1, le=_MOST_MS)] = Field(description="ms after which the robot stops by itself")

    def values(self) -> dict[str, float]:
        """Give what it says as the controls of `tenuto.core.follow.FOLLOWED`."""
        switches = {DRIVES: float(self.drives), EMERGENCY: float(self.emergency), CLEAR: float(not self.emergency)}
        return {axis: getattr(self, axis) for axis in AXES} | switches


class RemoteState(BaseModel):
    """From the robot to the driver's machine."""

    model_config = _CONFIG

    format: Literal[1] = 1
    session: Session = Field(description="chosen afresh when the robot's program starts")
    time: Seconds = Field(description="s since the session began, on the robot's clock")
    state: str = Field(max_length=40, description='the state of its guard, or "gone"')
    reasons: list[Text] = Field(
        max_length=_MOST_REASONS, description="why it does not move, or what else is to be said"
    )
    driver: str = Field(max_length=64, description="whose commands it follows; empty for nobody's")
    number: Count = Field(description="of the newest command that counted")
    vx: float = Field(description="m/s, as it is told to its motors")
    vy: float
    vz: float
    yaw_rate: float
    power: bool = Field(description="its outputs may have power")


class RobotEnd:
    """The robot's end of one link: which commands count.

    Attributes:
        session: chosen afresh. driver: who has the robot. refused: how many commands did not count, by why.
    """

    def __init__(self) -> None:
        self.session = secrets.token_hex(8)
        self.driver = ""
        self.refused: dict[str, int] = {}
        self._number = -1
        self._driver_at = -LET_GO_AFTER
        self._begun = 0.0

    def take(self, command: RemoteCommand, now: float) -> str:
        """Take a command that came at ``now``, s on the robot's clock; give why it does not count, empty if it does."""
        why = self._why_not(command, now)
        if why:
            self.refused[why] = self.refused.get(why, 0) + 1
            return why
        self.driver, self._driver_at, self._number = command.driver, now, command.number
        return ""

    def gone(self, driver: str) -> bool:
        """Take note that a driver's machine is gone; tell whether it was the one that has the robot."""
        if driver != self.driver or not driver:
            return False
        self._driver_at = -LET_GO_AFTER
        return True

    def state(self, tick: Tick | None, now: float) -> RemoteState:
        """Say how the robot is."""
        if now - self._begun > _LONGEST_SESSION:
            # What counts in the messages is bounded. A new session drops what is on its way, and so stops the robot.
            self.session, self._begun = secrets.token_hex(8), now
        command = STANDSTILL if tick is None else tick.command
        status = None if tick is None else tick.guard
        said = () if tick is None else (*tick.guard.reasons, *tick.notices)
        return RemoteState(
            session=self.session, time=max(now - self._begun, 0.0), state=str(status.state) if status else "starting",
            reasons=_short([reason.text for reason in said]), driver=self.driver, number=max(self._number, 0),
            vx=command.vx, vy=command.vy, vz=command.vz, yaw_rate=command.yaw_rate,
            power=tick.power if tick is not None else False,
        )  # fmt: skip

    def _why_not(self, command: RemoteCommand, now: float) -> str:
        if command.session != self.session:
            return "it is for an earlier session"
        if not 0.0 <= now - self._begun - command.heard <= MOST_AGE:
            return "it is too old"
        if command.driver != self.driver and now - self._driver_at < LET_GO_AFTER:
            return "another driver has the robot"
        if command.driver == self.driver and command.number <= self._number and now - self._driver_at < LET_GO_AFTER:
            return "a later one came before it"
        return ""


class DriverEnd:
    """The driver's end of one link: makes commands of ticks, once the robot has spoken.

    Attributes:
        robot: its newest state; None before the first. heard_at: when that came, s on the driver's clock.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.robot: RemoteState | None = None
        self.heard_at = -1.0
        self._number = 0
        self._drives_since: float | None = None
        self._at = 0.0

    def hear(self, state: RemoteState, now: float) -> None:
        """Take a state that came at ``now``."""
        known = self.robot
        if known is None or state.session != known.session or state.time > known.time or state.state == "gone":
            self.robot, self.heard_at = state, now

    def command(self, tick: Tick, *, still: bool = False) -> RemoteCommand | None:
        """Make the command of a tick, or a standstill; None where nothing is to be said, or nobody to say it to."""
        if self.robot is None or not tick.send:
            return None
        self._number += 1
        state = tick.guard.state
        velocity = STANDSTILL if still else tick.command
        # A stop is followed as well, for a drone may be coming down in it.
        moves = state is State.DRIVING or (state is State.STOPPING and velocity != STANDSTILL)
        drives = moves and tick.power and not still
        self._at = tick.time
        self._drives_since = (tick.time if self._drives_since is None else self._drives_since) if drives else None
        return RemoteCommand(
            session=self.robot.session, heard=self.robot.time, number=self._number, driver=self.name,
            drives=drives, emergency=state is State.EMERGENCY_STOP,
            **velocity._asdict(), valid_ms=int(min(max(1000.0 * tick.valid_for, 1.0), _MOST_MS)),
        )  # fmt: skip

    def problem(self, now: float, silent_after: float = 5 * STATE_EVERY) -> str:
        """Say what the driver should know of the robot: that it is silent, gone, or why it stands."""
        robot, silent = self.robot, now - self.heard_at
        if robot is None:
            return f"nothing heard of it for {now:.1f} s"
        if robot.state == "gone":
            return "it is gone: its program has ended, or its line is cut"
        if silent > silent_after:
            return f"nothing heard of it for {silent:.1f} s"
        # That it stands while nobody drives needs no words, nor that it takes a moment to begin.
        begun = self._drives_since is not None and self._at - self._drives_since > 5 * STATE_EVERY
        return f"{robot.state}: {'; '.join(robot.reasons)}" if robot.reasons and begun else ""


def _short(reasons: list[str]) -> list[str]:
    """Cut reasons short enough for one datagram."""
    kept, left = [], _LONGEST_REASONS
    for reason in reasons[:_MOST_REASONS]:
        cut = reason.encode()[:left].decode(errors="ignore")
        left -= len(cut.encode())
        if cut:
            kept.append(cut)
    return kept


def read_json(kind: type[Message], data: bytes) -> Message | None:
    """Read a message from JSON; None for whatever is none. Never raises for what the bytes are."""
    try:
        return kind.model_validate_json(data)
    except ValidationError:
        return None


def pack_command(command: RemoteCommand) -> bytes:
    """Give the compact form of a command, without the driver, whom the session tells: 36 bytes."""
    flags = command.drives | command.emergency << 1
    return _COMPACT.pack(
        b"C", bytes.fromhex(command.session), int(command.heard * 1000 + 1e-6), command.number, flags,
        command.valid_ms, command.vx, command.vy, command.vz, command.yaw_rate,
    )  # fmt: skip


def unpack_command(data: bytes, driver: str) -> RemoteCommand | None:
    """Read the compact form of a command; None for whatever is none."""
    if len(data) != _COMPACT.size:
        return None
    mark, session, heard, number, flags, valid_ms, *velocity = _COMPACT.unpack(data)
    if mark != b"C" or flags > 3:
        return None
    try:
        return RemoteCommand(
            session=session.hex(), heard=heard / 1000, number=number, driver=driver, drives=bool(flags & 1),
            emergency=bool(flags & 2), valid_ms=valid_ms, **dict(zip(AXES, velocity, strict=True)),
        )  # fmt: skip
    except ValidationError:
        return None
