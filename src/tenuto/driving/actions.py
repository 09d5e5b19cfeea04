"""Actions: what is done once a press, under the guard."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from tenuto.basics.reasons import Code, Reason


@dataclass(frozen=True, slots=True, kw_only=True)
class ActionPlan:
    """A one-time action.

    Attributes:
        name: such as "take off" or "horn".
        press: the switch that fires it, once a press.
        any_time: it is permitted whether the robot is driven or not.
    """

    name: str
    press: str
    any_time: bool = False


def fire(
    actions: tuple[ActionPlan, ...], pressed: Callable[[str], bool], permitted: bool
) -> tuple[tuple[str, ...], tuple[Reason, ...]]:
    """Return the names of the actions that were pressed and are permitted, and why others are refused.

    Args:
        pressed: tells whether a switch was pressed since the step before. permitted: the robot is being driven.
    """
    fired: tuple[str, ...] = ()
    refused: tuple[Reason, ...] = ()
    for action in actions:
        if not pressed(action.press):
            continue
        if permitted or action.any_time:
            fired += (action.name,)
        else:
            refused += (Reason(Code.ACTION_REFUSED, f"{action.name} is refused: the robot is not being driven"),)
    return fired, refused
