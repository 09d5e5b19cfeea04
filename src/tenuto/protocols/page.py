"""The messages between a page in a browser and the loop, sans I/O; docs/page.md describes them.

As over the other links, a frame repeats a recent time of the loop's own clock. So the loop knows the greatest possible
age of a frame, however long it lay in a browser, a socket or a proxy.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, LinkCounts
from tenuto.basics.layouts import ControlInfo
from tenuto.driving.plan import Plan
from tenuto.protocols.remote import LONGEST_NAME, Count, Said, Seconds, read_json
from tenuto.sticks.control import ControlPlan

# A frame that repeats an older time than this does not count, s; less where the link's timeout is shorter.
MOST_AGE = 0.4
# A driver who has sent no good frame for this time may be replaced, s.
SEAT_KEPT_FOR = 2.0
# The most controls of a page, and the most bytes of a message.
MOST_CONTROLS, LONGEST_MESSAGE = 64, 4096
# Size of a position with its punctuation, and of everything but positions, bytes.
_A_NUMBER, _HEAD = 10, 320

# The controls of a page without a profile: those of a gamepad.
STICKS = ("left_x", "left_y", "right_x", "right_y")
TRIGGERS = ("left_trigger", "right_trigger")
BUTTONS = (
    "south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick",
    "left_shoulder", "right_shoulder", "dpad_up", "dpad_down", "dpad_left", "dpad_right",
)  # fmt: skip
# The raw numbers are those of a gamepad too: a profile, and a recording, is valid for both.
LAYOUT = (
    *(ControlInfo(name, -32768.0, 32767.0, 0.0, counts_down=True) for name in STICKS),
    *(ControlInfo(name, 0.0, 32767.0, 0.0) for name in TRIGGERS),
    *(ControlInfo(name, 0.0, 1.0, 0.0) for name in BUTTONS),
)

_CONFIG = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False)
_Name = Annotated[str, Field(min_length=1, max_length=LONGEST_NAME)]
_Position = Annotated[float, Field(ge=-1.0, le=1.0)]
_Client = Annotated[str, Field(pattern="^[0-9a-f]{8}$")]
_Note = Annotated[Said, Field(max_length=120)]
_Text = Annotated[Said, Field(max_length=64)]


class PageFrame(BaseModel):
    """The positions of a page's controls.

    Attributes:
        number: increases with every frame of a page, from 1. heard: the loop's clock as the page last received it, s.
        good: False if the page knows that nobody operates it. note: why.
        values: control → position, −1…1 or 0…1.
    """

    model_config = _CONFIG

    type: Literal["frame"] = "frame"
    number: Count
    heard: Seconds
    good: bool = True
    note: _Note = ""
    values: dict[_Name, _Position] = Field(max_length=MOST_CONTROLS)


class PageAsk(BaseModel):
    """A request of the page that is not a control.

    Attributes:
        type: "take" requests the driver's seat, "let_go" leaves it, "give" hands it to another page. "curve" tries
            settings of a control, "save" writes them into the profile, "at" requests a moment of a log. "choice"
            answers a question; an answer to an earlier question is ignored.
        to: the other page. text: a name for the page; a control; a robot; an answer.
        numbers: settings of a control. time: of the log, s. question: the number of the question.
    """

    model_config = _CONFIG

    type: Literal["take", "let_go", "give", "emergency", "reset", "mark", "choice", "name", "curve", "save", "at"]
    to: _Client | Literal[""] = ""
    text: _Text = ""
    numbers: dict[_Name, _Position] = Field(default={}, max_length=4)
    time: float = 0.0
    question: Count = 0


class FromServer(BaseModel):
    """A message of the page's server to the loop.

    Attributes:
        kind: a frame of the driver; the driver has left; a request; the server serves, or cannot.
        client, name: whose. why: the text. frame: of a frame. question: the one that a choice answers.
    """

    model_config = _CONFIG

    kind: Literal["frame", "gone", "emergency", "reset", "mark", "choice", "ready", "failed", "said"]
    client: str = ""
    name: str = ""
    why: str = ""
    frame: PageFrame | None = None
    question: int = 0


def read_page(data: bytes) -> PageFrame | PageAsk | None:
    """Read a message of a page; None if it is not one. Never raises on any bytes."""
    return read_json(PageFrame, data) or read_json(PageAsk, data)


class Seat:
    """The driver's seat: which frames of a page count, and which raw numbers they stand for.

    Attributes:
        counts: good frames, bad ones, and those that came too late.
        why_not: why the newest frame did not count; empty if it did.
    """

    def __init__(self) -> None:
        self._controls: tuple[ControlPlan, ...] = ()
        self._rests: dict[str, float] = {}
        self._stays: dict[str, float] = {}
        self._client, self._number = "", 0
        self._oldest = MOST_AGE
        self._good = self._bad = self._late = 0
        self.why_not = ""

    @property
    def counts(self) -> LinkCounts:
        """Count the frames that were good, bad and too late."""
        return LinkCounts(self._good, self._bad, self._late)

    def stand_in(self, plan: Plan, driver: str = "") -> None:
        """Stand in for the device of a driver; empty for the first in rank.

        A frame that is older than that driver's link timeout does not count.

        Raises:
            SourceError: as `infos_for`.
        """
        infos_for(plan, driver)
        self._controls, timeout = controls_of(plan, driver)
        self._oldest = min(MOST_AGE, timeout)
        self._rests = rests_of(plan, self._controls)
        springs = springs_of(plan, self._controls)
        self._stays = {name: at for name, at in self._rests.items() if name not in springs}

    def take(self, client: str, frame: PageFrame, now: float) -> Frame | None:
        """Return the frame for a page's frame, or None if it does not count; `why_not` holds the reason.

        Args:
            client: which page it is. now: s, on the loop's clock.
        """
        if client != self._client:
            self._client, self._number = client, 0
        self.why_not = self._judge(frame, now)
        if self.why_not:
            return None
        self._number = frame.number
        values = self.raw(frame.values)
        self._stays |= {name: at for name, at in frame.values.items() if name in self._stays}
        self._good += frame.good
        self._bad += not frame.good
        return Frame(now, values, frame.good, frame.note, counts=self.counts)

    def _judge(self, frame: PageFrame, now: float) -> str:
        if frame.number <= self._number:
            self._bad += 1
            return "it is older than another that has come"
        # The message that the driver is gone counts at any age.
        if frame.good and not now - self._oldest <= frame.heard <= now:
            self._late += 1
            return f"it was made {1000.0 * (now - frame.heard):.0f} ms ago"
        return ""

    def raw(self, positions: Mapping[str, float]) -> dict[str, float]:
        """Return the raw numbers for positions; a control without a position rests."""
        if not self._controls:
            return {info.name: _raw_of(info, positions.get(info.name, 0.0)) for info in LAYOUT}
        found: dict[str, float] = {}
        farthest: dict[str, float] = {}
        for control in self._controls:
            lowest, highest = (0.0 if control.one_way else -1.0), 1.0
            rest = self._rests[control.name]
            position = min(max(positions.get(control.name, rest), lowest), highest)
            for reads, number in control.raw_at(position).items():
                # Several controls may read one control of the device: the one with the largest deflection counts.
                if abs(position - rest) > farthest.get(reads, -1.0):
                    found[reads], farthest[reads] = number, abs(position - rest)
        return found

    def at_rest(self) -> dict[str, float]:
        """Return the raw numbers of a page that nobody touches; controls without a spring keep their positions."""
        return self.raw(self._stays)


def _raw_of(info: ControlInfo, position: float) -> float:
    """Return the raw number of a control at a position; its two halves may differ in length."""
    value = -position if info.counts_down else position
    return value * info.high if value > 0.0 else -value * info.low


def controls_of(plan: Plan, driver: str) -> tuple[tuple[ControlPlan, ...], float]:
    """Return the controls of a driver, empty for the first in rank, and the timeout of that one's link, s."""
    lower = next((one for one in plan.below if one.name == driver), None)
    return (plan.controls, plan.guard.link_timeout) if lower is None else (lower.controls, lower.link_timeout)


def rests_of(plan: Plan, controls: Sequence[ControlPlan]) -> dict[str, float]:
    """Return the position of each control of an untouched page: a switch of several positions is at its first.

    A knob that trims is in its middle, where the trim is zero.
    """
    middle = springs_of(plan, controls) | knobs_of(plan)
    return {one.name: 0.0 if one.name in middle else -1.0 for one in controls}


def springs_of(plan: Plan, controls: Sequence[ControlPlan]) -> frozenset[str]:
    """Name the controls of a page that spring back; all others keep their positions.

    A control that reads the same control of the device as one that springs back springs back too.
    """
    guard = plan.guard
    names = {*plan.driving_controls(), guard.hold_to_run, guard.hold_to_run_2}
    springs = {reads for one in controls if one.name in names or one.one_way for reads in one.all_reads}
    return frozenset(one.name for one in controls if springs.intersection(one.all_reads))


def knobs_of(plan: Plan) -> frozenset[str]:
    """Name the controls that are turned to trim another one."""
    return frozenset(trim.knob for trim in plan.selection.trims if trim.knob is not None)


def infos_for(plan: Plan, driver: str = "") -> tuple[ControlInfo, ...]:
    """Describe what a page sends for a driver: the numbers of the device that it replaces.

    Raises:
        SourceError: there are more controls, or longer names, than a message can hold; or the ends of one are unknown,
            as for a velocity.
    """
    controls, _ = controls_of(plan, driver)
    found: dict[str, ControlInfo] = {}
    for control in controls:
        ends = control.raw_at(-1.0), control.raw_at(0.0), control.raw_at(1.0)
        if not all(math.isfinite(number) for end in ends for number in end.values()):
            raise SourceError(f"a page has sticks and buttons, and cannot send {control.reads}: its ends are not known")
        if len(control.name) > LONGEST_NAME:
            raise SourceError(f"a page sends names of {LONGEST_NAME} characters at most: rename {control.name}")
        for reads, number in ends[1].items():
            numbers = [end[reads] for end in ends]
            found[reads] = ControlInfo(reads, min(numbers), max(numbers), number, control.travel.reverse)
    size = sum(len(json.dumps(one.name)) + _A_NUMBER for one in controls)
    if len(controls) > MOST_CONTROLS or size > LONGEST_MESSAGE - _HEAD:
        raise SourceError(
            f"a page sends {MOST_CONTROLS} controls at most, and names that fit into {LONGEST_MESSAGE} bytes"
        )
    return tuple(found.values())
