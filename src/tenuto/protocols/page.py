"""What a page in a browser and the loop say to each other, sans I/O; docs/page.md has it in words.

As over the other links, a frame repeats what the loop's own clock said a moment ago. So the loop knows how old a frame
can be at most, however long it lay in a browser, a socket or a proxy.
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

# What the loop said longer ago than this is no ground to move on, s; less where the link's timeout is shorter.
MOST_AGE = 0.4
# Whoever drives and has sent no good frame for so long may be followed by another, s.
SEAT_KEPT_FOR = 2.0
# A page has so many controls at most, and a message so many bytes.
MOST_CONTROLS, LONGEST_MESSAGE = 64, 4096
# What a position takes in it with its marks, and everything but positions, bytes.
_A_NUMBER, _HEAD = 10, 320

# The controls of a page where no profile says what it stands in for: those of a gamepad.
STICKS = ("left_x", "left_y", "right_x", "right_y")
TRIGGERS = ("left_trigger", "right_trigger")
BUTTONS = (
    "south", "east", "west", "north", "back", "guide", "start", "left_stick", "right_stick",
    "left_shoulder", "right_shoulder", "dpad_up", "dpad_down", "dpad_left", "dpad_right",
)  # fmt: skip
# The numbers are those of a gamepad too: a profile, and a recording, is good for both.
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
    """Where the controls of a page are.

    Attributes:
        number: grows with every frame of a page, from 1. heard: the loop's clock as the page last heard it, s.
        good: False where the page knows that nobody stands behind it. note: why.
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
    """A button of the page that is no control.

    Attributes:
        type: "take" asks for the driver's seat, "let_go" leaves it, "give" hands it to another page. "curve" asks what
            would be made of a control, "save" puts that into the profile, "at" asks for a moment of a log. "choice"
            answers a question; one that is not asked any more is not answered.
        to: whom to. text: a name that the page shall have; a control; a robot; an answer.
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
    """What the page's server tells the loop.

    Attributes:
        kind: a frame of who drives; that nobody does any more; something that was asked for; that it serves, or cannot.
        client, name: whose. why: in words. frame: of a frame. question: which one a choice answers.
    """

    model_config = _CONFIG

    kind: Literal["frame", "gone", "emergency", "reset", "mark", "choice", "ready", "failed", "said"]
    client: str = ""
    name: str = ""
    why: str = ""
    frame: PageFrame | None = None
    question: int = 0


def read_page(data: bytes) -> PageFrame | PageAsk | None:
    """Read a message of a page; None for whatever is none. Never raises for what the bytes are."""
    return read_json(PageFrame, data) or read_json(PageAsk, data)


class Seat:
    """The driver's seat: which frames of a page count, and what raw numbers they stand for.

    Attributes:
        counts: good frames, broken ones, and those that came too late.
        why_not: why the newest frame did not count; empty where it did.
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
        """Describe how many frames were good, broken and too late."""
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
        """Return the frame that a page's frame stands for, or None where it does not count; `why_not` says why.

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
        # What says that the driver is gone may be as old as it likes.
        if frame.good and not now - self._oldest <= frame.heard <= now:
            self._late += 1
            return f"it was made {1000.0 * (now - frame.heard):.0f} ms ago"
        return ""

    def raw(self, positions: Mapping[str, float]) -> dict[str, float]:
        """Return the raw numbers for positions; what is not said rests."""
        if not self._controls:
            return {info.name: _raw_of(info, positions.get(info.name, 0.0)) for info in LAYOUT}
        found: dict[str, float] = {}
        farthest: dict[str, float] = {}
        for control in self._controls:
            lowest, highest = (0.0 if control.one_way else -1.0), 1.0
            rest = self._rests[control.name]
            position = min(max(positions.get(control.name, rest), lowest), highest)
            for reads, number in control.raw_at(position).items():
                # Several controls may read one of the device: the one that is moved most counts.
                if abs(position - rest) > farthest.get(reads, -1.0):
                    found[reads], farthest[reads] = number, abs(position - rest)
        return found

    def at_rest(self) -> dict[str, float]:
        """Return the raw numbers of a page that nobody touches; what stays where it is put is where it was."""
        return self.raw(self._stays)


def _raw_of(info: ControlInfo, position: float) -> float:
    """Return the raw number of a control at a position; its two halves are as long as they are."""
    value = -position if info.counts_down else position
    return value * info.high if value > 0.0 else -value * info.low


def controls_of(plan: Plan, driver: str) -> tuple[tuple[ControlPlan, ...], float]:
    """Return the controls of a driver, empty for the first in rank, and the timeout of that one's link, s."""
    lower = next((one for one in plan.below if one.name == driver), None)
    return (plan.controls, plan.guard.link_timeout) if lower is None else (lower.controls, lower.link_timeout)


def rests_of(plan: Plan, controls: Sequence[ControlPlan]) -> dict[str, float]:
    """Return where each control of a page is that nobody has touched: a switch of several positions is at its first.

    A knob that trims is in its middle, where it trims nothing.
    """
    middle = springs_of(plan, controls) | knobs_of(plan)
    return {one.name: 0.0 if one.name in middle else -1.0 for one in controls}


def springs_of(plan: Plan, controls: Sequence[ControlPlan]) -> frozenset[str]:
    """Name the controls of a page that come back by themselves; all others stay where they are put.

    What reads the same control of the device as one that springs back springs back with it.
    """
    guard = plan.guard
    names = {*plan.driving_controls(), guard.hold_to_run, guard.hold_to_run_2}
    springs = {reads for one in controls if one.name in names or one.one_way for reads in one.all_reads}
    return frozenset(one.name for one in controls if springs.intersection(one.all_reads))


def knobs_of(plan: Plan) -> frozenset[str]:
    """Name the controls that are turned to trim another one."""
    return frozenset(trim.knob for trim in plan.selection.trims if trim.knob is not None)


def infos_for(plan: Plan, driver: str = "") -> tuple[ControlInfo, ...]:
    """Describe what a page sends for a driver: the numbers of the device that it stands in for.

    Raises:
        SourceError: there are more controls, or longer names, than go into a message; or the ends of one are not known,
            as of a velocity.
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
