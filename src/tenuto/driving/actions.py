"""Actions: events that a press fires once, under the guard."""

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
        any_time: it is also permitted while the robot is not driven.
    """

    name: str
    press: str
    any_time: bool = False


def fire(
    actions: tuple[ActionPlan, ...], pressed: Callable[[str], bool], permitted: bool
) -> tuple[tuple[str, ...], tuple[Reason, ...]]:
    """Return the names of the pressed and permitted actions, and the notices of refused ones.

    Args:
        pressed: returns whether a switch was pressed since the last step. permitted: the robot is being driven.
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
