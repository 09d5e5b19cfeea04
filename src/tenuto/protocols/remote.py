"""The messages between a driver's machine and a robot over a network, sans I/O; docs/protocols.md describes them.

A command repeats a recent time of the robot's own clock, and a state repeats a recent message of the driver's machine.
So each end knows the greatest possible age of what it reads without a common clock, however long it lay in some queue.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from tenuto.basics.errors import TenutoError
from tenuto.basics.text import readable
from tenuto.driving.follow import outputs_of
from tenuto.driving.plan import Plan
from tenuto.protocols.fresh import MOST_ASKERS
from tenuto.protocols.measured import MeasuredState

# The form of these messages; another one is not read.
FORMAT: Literal[2] = 2
# The interval of a robot's states, and of the messages of a driver's machine that sends no commands, s.
STATE_EVERY = ASK_EVERY = 0.1
GONE = "gone"
MOST_MS = 60_000
# The most reasons in a state, and the most bytes of them.
MOST_REASONS, LONGEST_REASONS = 8, 700
# A sealed state has to fit into one datagram.
LONGEST_DATAGRAM = 1400
# Over a broker a message may be longer. The longest that is looked at, bytes, is a state with all that it may hold,
# signed for the most drivers that may have a key at one robot.
LONGEST_STATE, LONGEST_MESSAGE, MOST_DRIVERS = 4096, 16_384, 64
# The most outputs, and the most actions, of one message, which has to fit into one datagram.
MOST_NAMED, LONGEST_NAME = 16, 40

Message = TypeVar("Message", bound=BaseModel)

Session = Annotated[str, Field(pattern="^[0-9a-f]{16}$", description="16 hexadecimal digits, new at each start")]
Driver = Annotated[str, Field(min_length=1, max_length=64)]
Count = Annotated[int, Field(ge=0, lt=2**32)]
Seconds = Annotated[float, Field(ge=0.0, lt=4.0e6)]
# Text from elsewhere is shown on a terminal.
Said = Annotated[str, AfterValidator(readable)]
Text = Annotated[Said, Field(max_length=LONGEST_REASONS)]
Name = Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
Levels = Annotated[dict[Name, Annotated[float, Field(ge=-1.0, le=1.0)]], Field(max_length=MOST_NAMED)]
_CONFIG = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)


class FiredAction(BaseModel):
    """An action that was fired a moment ago. Several commands repeat it; the robot does it once."""

    model_config = _CONFIG

    name: Name
    number: Count = Field(description="grows with every action of a driver's machine, from 1")


class RemoteAsk(BaseModel):
    """From the driver's machine to the robot, while it has no command to send: asks for a state, and moves nothing."""

    model_config = _CONFIG

    format: Literal[2] = FORMAT
    driver: Driver = Field(description="who asks")
    run: Session = Field(description="of the driver's program")
    number: Count = Field(description="grows with every message of a driver's machine")
    session: Session | None = Field(default=None, description="that of the robot's newest state, if there is one")
    heard: Seconds = Field(default=0.0, description="the time of that state, s on the robot's clock")


class DriverGone(BaseModel):
    """The last will of a driver's machine, which the broker publishes when the connection is lost."""

    model_config = _CONFIG

    format: Literal[2] = FORMAT
    driver: Driver = Field(description="whose machine is gone")
    run: Session = Field(description="of the driver's program")
    life: Count = Field(description="number of the connection, from 1: each last will counts once")


class RemoteCommand(BaseModel):
    """From the driver's machine to the robot."""

    model_config = _CONFIG

    format: Literal[2] = FORMAT
    session: Session = Field(description="that of the robot's newest state")
    heard: Seconds = Field(description="the time of the robot's newest state, s on the robot's clock")
    run: Session = Field(description="of the driver's program")
    number: Count = Field(description="grows with every message of a driver's machine")
    driver: Driver = Field(description="whose command it is")
    drives: bool = Field(description="somebody drives: holds, and is permitted to")
    emergency: bool = Field(description="the emergency stop is on there")
    vx: float = Field(description="m/s, forward")
    vy: float = Field(description="m/s, to the left")
    vz: float = Field(description="m/s, up")
    yaw_rate: float = Field(description="rad/s, to the left")
    valid_ms: Annotated[int, Field(ge=1, le=MOST_MS)] = Field(description="ms after which the robot stops by itself")
    outputs: Levels = Field(default={}, description="output: its level, −1…1")
    actions: list[FiredAction] = Field(default=[], max_length=MOST_NAMED, description="fired a moment ago")


class Answered(BaseModel):
    """A message of a driver's machine that was received a moment ago: who reads its numbers knows the state is new."""

    model_config = _CONFIG

    driver: Driver
    run: Session
    number: Count


class RemoteState(BaseModel):
    """From the robot to the driver's machine."""

    model_config = _CONFIG

    format: Literal[2] = FORMAT
    session: Session = Field(description="chosen anew when the robot's program starts")
    time: Seconds = Field(description="s since the session began, on the robot's clock")
    state: Annotated[str, AfterValidator(readable)] = Field(
        max_length=40, description='the state of its guard, or "gone"'
    )
    reasons: list[Text] = Field(max_length=MOST_REASONS, description="why it does not move, and its other messages")
    driver: Annotated[str, AfterValidator(readable)] = Field(
        max_length=64, description="whose commands it follows; empty for nobody's"
    )
    run: Session | None = Field(default=None, description="of that driver's program")
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
    answers: list[Answered] = Field(
        default=[], max_length=2 * MOST_ASKERS, description="the newest message of each driver's program"
    )
    life: Count = Field(default=0, description='in a last will ("gone"): number of the connection, from 1')

    def to_json(self, most: int = LONGEST_DATAGRAM) -> bytes:
        """Write it as JSON, with at most so many bytes. Unknown values are left out, and so are reasons at need."""
        said, reasons = self, list(self.reasons)
        while len(data := said.model_dump_json(exclude_none=True).encode()) > most and reasons:
            reasons.pop()
            said = said.model_copy(update={"reasons": reasons})
        return data


# All of them, by the names of their schemas in docs/schemas.
MESSAGES: Mapping[str, type[BaseModel]] = {
    "command": RemoteCommand, "ask": RemoteAsk, "state": RemoteState, "gone": DriverGone,
}  # fmt: skip


def check_named(plan: Plan, error: type[TenutoError]) -> None:
    """Check that the outputs and actions of a robot fit into one message. Raises ``error``."""
    for what, names in (("outputs", [*outputs_of(plan)]), ("actions", [action.name for action in plan.actions])):
        if len(names) > MOST_NAMED:
            raise error(f"{len(names)} {what}, and {MOST_NAMED} at most go to a robot elsewhere")
        if long := [name for name in names if len(name.encode()) > LONGEST_NAME]:
            raise error(
                f'{what}: the name "{long[0]}" is longer than the {LONGEST_NAME} bytes that go to a robot elsewhere'
            )


def read_json(kind: type[Message], data: bytes) -> Message | None:
    """Read a message from JSON; None if it is not one. Never raises on any bytes."""
    try:
        return kind.model_validate_json(data)
    except ValidationError:
        return None


def read_line(kind: type[Message], data: bytes) -> Message | None:
    """Read the message of one that may be signed, whoever made it; None if it is not one. Never raises."""
    line = data.partition(b"\n")[0]
    return read_json(kind, line) if len(line) <= LONGEST_STATE else None


def read_from_driver(data: bytes) -> RemoteCommand | RemoteAsk | None:
    """Read a command, or a request for a state; None for anything else. Never raises on any bytes."""
    return None if len(data) > LONGEST_STATE else read_json(RemoteCommand, data) or read_json(RemoteAsk, data)


class _Form(BaseModel):
    format: int


def other_form(data: bytes) -> str:
    """Explain that a message is of another release, if it is; empty otherwise. Never raises on any bytes."""
    form = read_line(_Form, data)
    if form is None or form.format == FORMAT:
        return ""
    return f"messages of form {form.format}, and this release reads form {FORMAT}: install the same Tenuto at both ends"
