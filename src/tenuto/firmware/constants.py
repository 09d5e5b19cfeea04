"""The numbers of the pure rooms for the templates, under the same names: each is defined in one place."""

from __future__ import annotations

from types import SimpleNamespace

from tenuto.driving.driver import NO_WISH
from tenuto.driving.holding import HELD_FROM
from tenuto.driving.pipeline import PATIENCE
from tenuto.driving.ramps import FLEETING, HALVINGS, STUCK
from tenuto.driving.vigilance import MOVED, TOLD_FROM
from tenuto.protocols import pulses
from tenuto.protocols.velocity_line import LONGEST_VALID_MS
from tenuto.sticks.centring import FEWEST, NEAR_CENTRE, STILL_SECONDS, STILL_WITHIN
from tenuto.sticks.smoothing import THERE
from tenuto.styles.four_wheel import STEERING_KINDS
from tenuto.switches.gesture import GESTURE_FAR, LEVER_LOW
from tenuto.vehicles.actuators import COMES_ABOVE, GOES_BELOW, HALF
from tenuto.vehicles.base import NEVER
from tenuto.vehicles.modules import NO_SPEED
from tenuto.vehicles.priority import SETTLING
from tenuto.vehicles.velocity import ALONG

# Bits per second of velocity lines between boards.
LINE_SPEED = 115_200

CONSTANTS = SimpleNamespace(
    NO_WISH=NO_WISH, HELD_FROM=HELD_FROM, PATIENCE=PATIENCE, HALVINGS=HALVINGS, STUCK=STUCK, MOVED=MOVED,
    TOLD_FROM=TOLD_FROM, FEWEST=FEWEST, NEAR_CENTRE=NEAR_CENTRE, STILL_SECONDS=STILL_SECONDS, STILL_WITHIN=STILL_WITHIN,
    STEERING_KINDS=STEERING_KINDS, GESTURE_FAR=GESTURE_FAR, LEVER_LOW=LEVER_LOW, COMES_ABOVE=COMES_ABOVE,
    GOES_BELOW=GOES_BELOW, HALF=HALF, NEVER=NEVER, NO_SPEED=NO_SPEED, SETTLING=SETTLING, ALONG=ALONG,
    LINE_SPEED=LINE_SPEED, FLEETING=FLEETING, THERE=THERE,
    LONGEST_VALID_MS=LONGEST_VALID_MS, SHORTEST_US=round(pulses.SHORTEST_US), LONGEST_US=round(pulses.LONGEST_US),
    GAP_US=round(pulses.GAP_US), FEWEST_PULSES=pulses.FEWEST, MOST_PULSES=pulses.MOST,
    FIXED_AFTER=pulses.FIXED_AFTER, CHANGED_AFTER=pulses.CHANGED_AFTER,
)  # fmt: skip
