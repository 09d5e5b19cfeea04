"""Reasons: why the robot may not move, or another message for the driver. All codes are defined here only.

docs/guard.md has them as a table, which a test compares with `Code`.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class Kind(StrEnum):
    """The effect of a reason."""

    LINK_LOSS = "link loss"  # no driver is heard: a stop, after the grace time
    FAULT = "fault"  # a fault: a stop
    STOP = "stop"  # somebody has stopped it, or has not enabled it
    MISSING = "missing"  # it prevents the start of a drive, and does not end one
    NOTICE = "notice"  # a notice: it stops nothing


class Code(StrEnum):
    """The code of a reason: stable, for programs.

    Attributes:
        kind: its effect. meaning: the problem. todo: what to do.
    """

    kind: Kind
    meaning: str
    todo: str

    def __new__(cls, value: str, kind: Kind, meaning: str, todo: str) -> Code:
        """Make a code that is also its text."""
        code = str.__new__(cls, value)
        code._value_ = value
        code.kind, code.meaning, code.todo = kind, meaning, todo
        return code

    # No driver is heard.
    LINK_QUIET = (
        "link_quiet",
        Kind.LINK_LOSS,
        "no good frame for link_timeout",
        "switch the transmitter on, come nearer",
    )
    LINK_BAD = "link_bad", Kind.LINK_LOSS, "the source says that its link is not good", "fix what the source reports"
    LINK_WEAK = "link_weak", Kind.LINK_LOSS, "fewer radio frames arrive than least_quality", "come nearer"
    LINK_SPARSE = "link_sparse", Kind.LINK_LOSS, "fewer good frames than least_frame_rate", "check cable and radio"
    VALUES_FROZEN = (
        "values_frozen",
        Kind.LINK_LOSS,
        "the values are frozen: a real stick is never so still",
        "move a stick; restart it",
    )
    FAR_END_SILENT = (
        "far_end_silent",
        Kind.LINK_LOSS,
        "a far end is silent for guard.needs.answers",
        "check its power, its line and its address",
    )
    # Faults.
    CONTROL_MISSING = "control_missing", Kind.FAULT, "the source lacks a control", "check reads, and the device"
    VALUE_NOT_FINITE = "value_not_finite", Kind.FAULT, "a value is not a number", "check the device's program"
    VALUE_OUT_OF_RANGE = "value_out_of_range", Kind.FAULT, "a value no stick can send", "check the device, calibrate"
    FRAME_TIME = "frame_time", Kind.FAULT, "a frame comes from the future", "check the source's clock"
    TIME_NOT_FINITE = "time_not_finite", Kind.FAULT, "the clock's value is not a number", "check the clock"
    TIME_BACKWARDS = "time_backwards", Kind.FAULT, "the clock went back", "use a clock that only goes forward"
    LOOP_STALLED = "loop_stalled", Kind.FAULT, "no tick for stall_timeout", "close other programs"
    VELOCITY_BAD = "velocity_bad", Kind.FAULT, "a planner sent a value that is not a velocity", "check the planner"
    STOP_SWITCH = "stop_switch", Kind.FAULT, "the control of guard.stop is on", "switch it off, press again"
    CAME_ON_AWAY = (
        "came_on_away",
        Kind.FAULT,
        "a driver of higher rank came on with a stick away from rest",
        "release that stick, centre, press again",
    )
    CHANNELS_DISAGREE = (
        "channels_disagree",
        Kind.FAULT,
        "two redundant inputs disagree",
        "release both; check their wires",
    )
    NO_ATTENTION = "no_attention", Kind.FAULT, "no control was moved for guard.attention", "release, press again"
    STOP_OVERDUE = "stop_overdue", Kind.FAULT, "a stop took longer than permitted", "check the load; report it"
    INHIBITED = "inhibited", Kind.FAULT, "an inhibit is open: bumper, gate, fence, battery", "clear what the text names"
    INHIBIT_SILENT = "inhibit_silent", Kind.FAULT, "an inhibit sends nothing", "check its wire and its source"
    SPEED_WRONG = (
        "speed_wrong",
        Kind.FAULT,
        "the measured speed does not match the command",
        "check motors and encoders",
    )
    SPEED_UNKNOWN = "speed_unknown", Kind.FAULT, "a measured speed is silent", "check its wire and its source"
    FAR_END_UNFIT = "far_end_unfit", Kind.FAULT, "a far end does not meet guard.needs", "fix what the text names"
    SINK_BLOCKED = "sink_blocked", Kind.FAULT, "a sink accepts no data", "check its cable, disk and far end"
    # Somebody has stopped it, or has not enabled it.
    NO_FRAME = "no_frame", Kind.STOP, "nothing has come from the source yet", "switch it on, connect it"
    HOLD_NOT_PRESSED = "hold_not_pressed", Kind.STOP, "hold-to-run is not held", "hold it"
    HOLD_NOT_RELEASED = (
        "hold_not_released",
        Kind.STOP,
        "hold-to-run was held from the start",
        "release, centre, press again",
    )
    HOLD_RELEASED = "hold_released", Kind.STOP, "hold-to-run was released", "press it again to drive"
    NOT_ENABLED = "not_enabled", Kind.STOP, "it is not enabled", "centre the sticks, press the enabling switch"
    SWITCHED_OFF = "switched_off", Kind.STOP, "the enabling switch was switched off", "switch it on again to drive"
    NOT_AT_REST = "not_at_rest", Kind.STOP, "a driving control is away from rest", "release it; pull a lever down"
    EMERGENCY_STOP = "emergency_stop", Kind.STOP, "the emergency stop is on, or latched", "release it, then reset it"
    ENDED = "ended", Kind.STOP, "the drive has ended", "start it again"
    # These prevent the start of a drive.
    LINK_SETTLING = "link_settling", Kind.MISSING, "the link was not good for link_good_for yet", "wait"
    MODE_MAY_NOT_START = "mode_may_not_start", Kind.MISSING, "the mode does not permit a start", "choose another mode"
    HAND_ABOVE = "hand_above", Kind.MISSING, "a stick of a higher rank is away from rest", "release that stick"
    PERMIT_OFF = "permit_off", Kind.MISSING, "the permit of this driver is off", "switch it on"
    START_WARNING = "start_warning", Kind.MISSING, "start warning: the robot will move", "wait, sticks at rest"
    NOT_TESTED = "not_tested", Kind.MISSING, "a test at start is not done yet", "do what the text says"
    CENTRE_NOT_TAKEN = "centre_not_taken", Kind.MISSING, "a centre is not measured yet", "release the stick"
    FAR_END_NOT_READY = (
        "far_end_not_ready",
        Kind.MISSING,
        "a far end does not meet guard.needs yet",
        "fix what the text names",
    )
    # Notices: they stop nothing.
    NOTE = "note", Kind.NOTICE, "the driver set a mark", ""
    TICK_OVER_BUDGET = "tick_over_budget", Kind.NOTICE, "a tick took longer than its period", "lower loop.rate"
    LOG_FAILED = "log_failed", Kind.NOTICE, "a log cannot be written", "check the disk"
    FAR_END = "far_end", Kind.NOTICE, "the far end does not answer, or reports a fault", "check it"
    FAR_END_STANDS = (
        "far_end_stands",
        Kind.NOTICE,
        "the far end does not follow",
        "check that it is on; fix what it reports",
    )
    ENABLE_OFFERED = "enable_offered", Kind.NOTICE, "the far end is ready", "enable when you want to drive"
    BEYOND_BOUND = "beyond_bound", Kind.NOTICE, "beyond guard.needs.within or .height_below", "drive back"
    LAST_STOP = "last_stop", Kind.NOTICE, "what has stopped the last drive", ""
    PROFILE_REFUSED = "profile_refused", Kind.NOTICE, "a changed profile was refused", "correct the file"
    ACTION_REFUSED = "action_refused", Kind.NOTICE, "an action is refused", "enable first"
    DISTANCE_UNKNOWN = "distance_unknown", Kind.NOTICE, "a distance sensor is silent", "check the sensor"
    INHIBIT_SLOWS = "inhibit_slows", Kind.NOTICE, "an inhibit lowers the speed, or is silent", "clear what it names"
    ATTENTION = "attention", Kind.NOTICE, "no control was moved for most of guard.attention", "move one"
    NEAR = "near", Kind.NOTICE, "something is near: the speed is lowered", "steer away"
    DRIVER_UNHEARD = "driver_unheard", Kind.NOTICE, "another driver is not heard", "check that driver's device"
    NOT_GIVEN = "not_given", Kind.NOTICE, "the robot is not handed over", "do what the text names"
    LINK_GRACE = "link_grace", Kind.NOTICE, "the link is lost; the last command is held", "come nearer"
    OUTPUT_WAITS = "output_waits", Kind.NOTICE, "an output's switch was on before", "switch it off and on"
    CANNOT_DO = "cannot_do", Kind.NOTICE, "the vehicle cannot do this motion", "use another motion"
    MODE_THROUGH_REST = "mode_through_rest", Kind.NOTICE, "the sticks have a new meaning", "release them once"


# The faults that mean that no driver is heard.
LINK_CODES = frozenset(code for code in Code if code.kind is Kind.LINK_LOSS)


class Reason(NamedTuple):
    """Why the robot may not move: a code for programs, and a text for people.

    Attributes:
        code: one of `Code`; in a log of another version it may be an unknown text.
        text: what is wrong, with numbers and units, and what to do.
    """

    code: str
    text: str

    def over(self) -> Reason:
        """Return the text after its cause is gone; here the same."""
        return self

    def of(self, name: str) -> Reason:
        """Return the same reason for a named driver."""
        return Reason(self.code, f"{name}: {self.text}")


class Condition(Reason):
    """A reason whose cause may be gone while the robot is still stopped by it.

    Attributes:
        past: the text for that time.
    """

    past: str = ""

    def __new__(cls, code: str, text: str, past: str = "") -> Condition:
        """Make a reason with a text for the time after its cause is gone."""
        made = super().__new__(cls, code, text)
        made.past = past
        return made

    def over(self) -> Reason:
        """Return the text after its cause is gone."""
        return Reason(self.code, self.past or self.text)

    def of(self, name: str) -> Condition:
        """Return the same reason for a named driver."""
        return Condition(self.code, f"{name}: {self.text}", f"{name}: {self.past}" if self.past else "")
