"""The messages between a driver's machine and a robot over a network, sans I/O; docs/protocols.md describes them.

A command repeats a recent time of the robot's own clock. So the robot knows the greatest possible age of the command
without a common clock, however long it lay in some queue.
"""

from __future__ import annotations

import math
import secrets
from typing import Annotated, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from tenuto.basics.errors import TenutoError
from tenuto.basics.text import readable
from tenuto.driving.follow import (
    AXES,
    CLEAR,
    DRIVES,
    EMERGENCY,
    FOLLOWED,
    action_control,
    followed_controls,
    output_control,
    outputs_of,
)
from tenuto.driving.guard import State
from tenuto.driving.plan import Plan
from tenuto.driving.telemetry import NOTHING_HEARD, Telemetry
from tenuto.driving.tick import Tick
from tenuto.protocols.measured import MeasuredState, measured_of, telemetry_of
from tenuto.protocols.way import Way
from tenuto.vehicles.velocity import STANDSTILL

# A command that repeats an older time than this does not count, s.
MOST_AGE = 0.5
# A driver's machine that was silent for this time has let go of the robot: another may take it, s.
LET_GO_AFTER = 1.0
# The interval of a robot's states, s.
STATE_EVERY = 0.1
_MOST_MS = 60_000
# A session is renewed after this time, s: 34 days.
_LONGEST_SESSION = 3.0e6
# The most reasons in a state, and the most bytes of them.
_MOST_REASONS, _LONGEST_REASONS = 8, 700
_NOT_GENUINE = "it is not genuine"
_ANOTHER = "another driver has the robot"
# How long the driver is told of rejected commands, s.
_TOLD_FOR = 5.0
# A sealed state has to fit into one datagram.
_LONGEST_STATE = 1400
# The most outputs, and the most actions, of one message, which has to fit into one datagram.
MOST_NAMED, LONGEST_NAME = 16, 40

Message = TypeVar("Message", bound=BaseModel)

Session = Annotated[str, Field(pattern="^[0-9a-f]{16}$", description="16 hexadecimal digits, new at each start")]
Count = Annotated[int, Field(ge=0, lt=2**32)]
Seconds = Annotated[float, Field(ge=0.0, lt=4.0e6)]
# Text from elsewhere is shown on a terminal.
Said = Annotated[str, AfterValidator(readable)]
Text = Annotated[Said, Field(max_length=_LONGEST_REASONS)]
Name = Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
Levels = Annotated[dict[Name, Annotated[float, Field(ge=-1.0, le=1.0)]], Field(max_length=MOST_NAMED)]
_CONFIG = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)


class FiredAction(BaseModel):
    """An action that was fired a moment ago. Several commands repeat it; the robot does it once."""

    model_config = _CONFIG

    name: Name
    number: Count = Field(description="grows with every action of a driver's machine, from 1")


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
    outputs: Levels = Field(default={}, description="output: its level, −1…1")
    actions: list[FiredAction] = Field(default=[], max_length=MOST_NAMED, description="fired a moment ago")


class RemoteState(BaseModel):
    """From the robot to the driver's machine."""

    model_config = _CONFIG

    format: Literal[1] = 1
    session: Session = Field(description="chosen anew when the robot's program starts")
    time: Seconds = Field(description="s since the session began, on the robot's clock")
    state: Annotated[str, AfterValidator(readable)] = Field(
        max_length=40, description='the state of its guard, or "gone"'
    )
    reasons: list[Text] = Field(max_length=_MOST_REASONS, description="why it does not move, and its other messages")
    driver: Annotated[str, AfterValidator(readable)] = Field(
        max_length=64, description="whose commands it follows; empty for nobody's"
    )
    number: Count = Field(description="of the newest command that counted")
    vx: float = Field(description="m/s, as sent to its motors")
    vy: float
    vz: float
    yaw_rate: float
    power: bool = Field(description="its outputs may have power")
    outputs: Levels = Field(default={}, description="output: its level there, −1…1")
    lacks: list[Name] = Field(
        default=[], max_length=2 * MOST_NAMED, description="outputs and actions that it was sent and does not have"
    )
    came: Count = Field(default=0, description="how many commands of this driver have counted")
    alarm: Annotated[Said, Field(max_length=200)] = Field(default="", description="who tries to drive and may not")
    measured: MeasuredState | None = Field(default=None, description="its measurements, if it has any")

    def to_json(self) -> bytes:
        """Write it as JSON. Unknown values are left out, and reasons are cut if the message would be too long."""
        said, reasons = self, list(self.reasons)
        while len(data := said.model_dump_json(exclude_none=True).encode()) > _LONGEST_STATE and reasons:
            reasons.pop()
            said = said.model_copy(update={"reasons": reasons})
        return data


def check_named(plan: Plan, error: type[TenutoError]) -> None:
    """Check that the outputs and actions of a robot fit into one message. Raises ``error``."""
    for what, names in (("outputs", [*outputs_of(plan)]), ("actions", [action.name for action in plan.actions])):
        if len(names) > MOST_NAMED:
            raise error(f"{len(names)} {what}, and {MOST_NAMED} at most go to a robot elsewhere")
        if long := [name for name in names if len(name) > LONGEST_NAME]:
            raise error(
                f'{what}: the name "{long[0]}" is longer than the {LONGEST_NAME} letters that go to a robot elsewhere'
            )


class RobotEnd:
    """The robot's end of one link: which commands count, and their values as controls of `tenuto.driving.follow`.

    Attributes:
        controls: those of its frames.
        session: new at each start. driver: who has the robot. refused: reason → number of rejected commands.
        tick: the robot's newest; None before the first.
        stop_asked: somebody who does not drive has requested an emergency stop; False once `values` has reported it.
    """

    def __init__(self) -> None:
        self.stop_asked = False
        self.controls = FOLLOWED
        self.session = secrets.token_hex(8)
        self.driver = ""
        self.refused: dict[str, int] = {}
        self._newest: RemoteCommand | None = None
        self._driver_at = -LET_GO_AFTER
        self._begun = 0.0
        self._clears = False
        self._idle: dict[str, float] = {}
        self._actions: tuple[str, ...] = ()
        self._fired = self._came = 0
        self._alarm = (-math.inf, "")
        self._waiting: list[str] = []
        self._lacks: dict[str, None] = {}
        self._done: tuple[str, ...] = ()
        self.tick: Tick | None = None
        self._shown = 0

    @property
    def number(self) -> int:
        """The number of the newest command that counted; 0 before the first."""
        return 0 if self._newest is None else self._newest.number

    def prepare(self, plan: Plan) -> None:
        """Set the outputs and actions of a robot, from the plan by which it is driven by hand."""
        self.controls = followed_controls(plan)
        self._idle = {name: output.idle for name, output in outputs_of(plan).items()}
        self._actions = tuple(action.name for action in plan.actions)

    def take(self, command: RemoteCommand, now: float) -> str:
        """Take a command at ``now``, s on the robot's clock; return why it does not count, empty if it does."""
        why = self._why_not(command, now)
        if why == _ANOTHER and command.emergency:
            self.stop_asked = True  # everybody who may send to it may stop it
        if why:
            self.refused[why] = self.refused.get(why, 0) + 1
            return why
        before = self._newest
        # A driver's machine that was restarted counts from 1, and is treated as another one.
        same = before is not None and command.driver == before.driver and command.number > before.number
        # Only a driver who had the emergency stop on, and resets it, can lift it.
        self._clears = same and before is not None and (before.emergency or self._clears) and not command.emergency
        if not same:
            self._fired, self._lacks, self._came = 0, {}, 0
        self._came += 1
        sent = (*command.outputs, *(one.name for one in command.actions))
        self._lacks |= dict.fromkeys(name for name in sent if name not in self._idle and name not in self._actions)
        if not same or now - self._driver_at > MOST_AGE:
            self._waiting.clear()  # what was fired that long ago must not be done now
        self._waiting += [one.name for one in command.actions if one.number > self._fired and one.name in self._actions]
        self._fired = max((self._fired, *(one.number for one in command.actions)))
        self.driver, self._driver_at, self._newest = command.driver, now, command
        return ""

    def values(self) -> dict[str, float]:
        """Return the newest command as the values of a frame. An action is in one frame only."""
        command = self._newest
        if command is None:
            return {}
        values = {axis: getattr(command, axis) for axis in AXES}
        emergency, self.stop_asked = command.emergency or self.stop_asked, False
        values |= {DRIVES: float(command.drives), EMERGENCY: float(emergency), CLEAR: float(self._clears)}
        values |= {output_control(name): command.outputs.get(name, idle) for name, idle in self._idle.items()}
        # Fired twice at once, it is off in the frame between.
        fired = tuple(dict.fromkeys(name for name in self._waiting if name not in self._done))
        for name in fired:
            self._waiting.remove(name)
        self._done = fired
        return values | {action_control(name): float(name in fired) for name in self._actions}

    def warn(self, what: str, now: float) -> None:
        """Tell the driver about a rejected command, for a while; ``now`` in s."""
        self.refused[_NOT_GENUINE] = self.refused.get(_NOT_GENUINE, 0) + 1
        self._alarm = (now, f"it was sent {what}")

    def gone(self, driver: str) -> bool:
        """Note that a driver's machine is gone; return whether it was the one that has the robot."""
        if driver != self.driver or not driver:
            return False
        self._driver_at = -LET_GO_AFTER
        return True

    def tell(self, tick: Tick) -> None:
        """Take the robot's newest tick, which has used the newest command that counted."""
        self.tick, self._shown = tick, self.number

    def state(self, now: float) -> RemoteState:
        """Describe the robot."""
        if now - self._begun > _LONGEST_SESSION:
            # The numbers in the messages are bounded. A new session drops what is on its way, and so stops the robot.
            self.session, self._begun = secrets.token_hex(8), now
        tick = self.tick
        command = STANDSTILL if tick is None else tick.command
        status = None if tick is None else tick.guard
        said = () if tick is None else (*tick.guard.reasons, *tick.notices)
        return RemoteState(
            session=self.session, time=max(now - self._begun, 0.0), state=str(status.state) if status else "starting",
            reasons=_short([reason.text for reason in said]), driver=self.driver, number=self._shown,
            vx=command.vx, vy=command.vy, vz=command.vz, yaw_rate=command.yaw_rate,
            power=tick.power if tick is not None else False,
            outputs=dict(tick.outputs) if tick is not None else {}, lacks=[*self._lacks][: 2 * MOST_NAMED],
            alarm=self._alarm[1][:200] if now - self._alarm[0] < _TOLD_FOR else "",
            came=self._came, measured=measured_of(tick.far) if tick is not None else None,
        )  # fmt: skip

    def _why_not(self, command: RemoteCommand, now: float) -> str:
        newest = self._newest
        if command.session != self.session:
            return "it is for an earlier session"
        if not 0.0 <= now - self._begun - command.heard <= MOST_AGE:
            return "it is too old"
        if newest is None or now - self._driver_at >= LET_GO_AFTER:
            return ""
        if command.driver != self.driver:
            return _ANOTHER
        return "a later one came before it" if command.number <= newest.number else ""


class DriverEnd:
    """The driver's end of one link: makes commands from ticks, once the robot has sent a state.

    Attributes:
        robot: its newest state; None before the first. heard_at: when that came, s on the driver's clock.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.robot: RemoteState | None = None
        self.heard_at = -1.0
        self._number = 0
        self._emergency = False
        self._way = Way()
        # The first command without the emergency stop, after one with it.
        self._lifted_by = 0
        self._actions: list[tuple[float, FiredAction]] = []
        self._fired = 0

    def hear(self, state: RemoteState, now: float) -> None:
        """Take a state that came at ``now``."""
        known = self.robot
        if known is None or state.session != known.session or state.time > known.time or state.state == "gone":
            if known is None or state.session != known.session:
                self._way = Way()
            self.robot, self.heard_at = state, now
            if state.driver == self.name:
                self._way.answered(state.number, state.came, now)

    def telemetry(self) -> Telemetry:
        """Describe the robot; the time it was heard is that of `hear`."""
        robot = self.robot
        if robot is None:
            return NOTHING_HEARD
        moves = robot.state in (State.DRIVING, State.STOPPING)
        return telemetry_of(robot.measured)._replace(
            time=self.heard_at, follows=moves and robot.driver == self.name, state=robot.state,
            reasons=tuple(robot.reasons), round_trip=self._way.round_trip, loss=self._way.loss,
        )  # fmt: skip

    @property
    def emergency(self) -> str:
        """Describe the robot's emergency stop; empty also if only a reset from here is on its way."""
        robot = self.robot
        if robot is None or robot.state != State.EMERGENCY_STOP:
            return ""
        knows = robot.driver == self.name and robot.number >= self._lifted_by
        return "it is in an emergency stop" if knows or not self._lifted_by else ""

    def command(self, tick: Tick, now: float | None = None, *, still: bool = False) -> RemoteCommand | None:
        """Make the command of a tick, or a standstill; None if there is nothing to send, or no robot was heard.

        ``now`` is s on the clock of `hear`; the time of the tick if none is given.
        """
        self._remember(tick)
        if self.robot is None or not tick.send:
            return None
        self._number += 1
        self._way.sent(self._number, tick.time if now is None else now)
        state = tick.guard.state
        velocity = STANDSTILL if still else tick.command
        # A stop is followed as well, for a drone may be descending in it.
        moves = state is State.DRIVING or (state is State.STOPPING and velocity != STANDSTILL)
        drives = moves and tick.power and not still
        emergency = state is State.EMERGENCY_STOP
        if emergency != self._emergency:
            self._emergency, self._lifted_by = emergency, 0 if emergency else self._number
        return RemoteCommand(
            session=self.robot.session, heard=self.robot.time, number=self._number, driver=self.name,
            drives=drives, emergency=emergency,
            **velocity._asdict(), valid_ms=int(min(max(1000.0 * tick.valid_for, 1.0), _MOST_MS)),
            outputs=dict(tick.outputs), actions=[action for _, action in self._actions],
        )  # fmt: skip

    def emergency_stop(self) -> RemoteCommand | None:
        """Make a command that requests an emergency stop and nothing else; None if no robot was heard yet."""
        if self.robot is None:
            return None
        self._number += 1
        self._emergency, self._lifted_by = True, 0
        return RemoteCommand(
            session=self.robot.session, heard=self.robot.time, number=self._number, driver=self.name, drives=False,
            emergency=True, **STANDSTILL._asdict(), valid_ms=1,
        )  # fmt: skip

    def problem(self, now: float, silent_after: float = 5 * STATE_EVERY) -> str:
        """Describe what the driver should know about the robot: that it is silent or gone, or what it lacks."""
        robot, silent = self.robot, now - self.heard_at
        if robot is None:
            return f"nothing heard of it for {now:.1f} s"
        if robot.state == "gone":
            return "it is gone: its program has ended, or its line is cut"
        if silent > silent_after:
            return f"nothing heard of it for {silent:.1f} s"
        if robot.alarm:
            return robot.alarm
        lacks = ", ".join(robot.lacks)
        return f"it has no output or action {lacks}: define them in the robot's own profile" if lacks else ""

    def _remember(self, tick: Tick) -> None:
        """Repeat an action as long as its command would be valid, because one may be lost."""
        if not tick.actions and not self._actions:
            return
        self._actions = [one for one in self._actions if 0.0 <= tick.time - one[0] <= tick.valid_for]
        for name in tick.actions:
            self._fired += 1
            self._actions.append((tick.time, FiredAction(name=name, number=self._fired)))
        del self._actions[:-MOST_NAMED]


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
    """Read a message from JSON; None if it is not one. Never raises on any bytes."""
    try:
        return kind.model_validate_json(data)
    except ValidationError:
        return None
