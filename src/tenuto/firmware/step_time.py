"""How long a step takes on an ATmega328P: the generated code is driven, and its operations are counted.

The code is the translation to Python, whose functions and statements are those of the C. Its numbers count themselves:
each operation has its cycles, as measured on the simulated chip with the library of avr-gcc.
"""

from __future__ import annotations

import math
import random
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from tenuto.driving.plan import Plan
from tenuto.firmware.boards import CLOCK
from tenuto.sim.hands import Hands

# Cycles of the operations of reals, of functions of math, of a call and of any other statement, and of the rest.
_SUM, _PRODUCT, _QUOTIENT, _COMPARISON, _CONVERSION, _SIZE = 125, 125, 480, 55, 130, 10
_MATH = {
    "atan2": 1600, "cos": 1000, "exp": 1500, "floor": 100, "isfinite": 20, "isnan": 65, "sin": 1000, "sqrt": 500,
    "tan": 1400,
}  # fmt: skip
_CALL, _STATEMENT, _BASE = 40, 12, 500
# The slowest of the driven steps is lengthened by this share: operands differ, interrupts take their part, and a step
# of another drive may be slower.
_MARGIN = 0.35
# The steps of each of two drives: in this share of the steps of the first one sticks jump, so that ramps go on; in the
# second one sticks and velocity jump at each step, for the slowest steps are those of a robot at speed.
STEPS, _JUMPS = 500, 0.05
_FILE = "the code of a board"


class _Cycles:
    """The cycles of the present step."""

    spent = 0


class _Real(float):
    """A number that counts what is computed with it."""

    __slots__ = ()
    __hash__ = float.__hash__


def _count(names: Sequence[str], cycles: int, made: Callable[[Any], Any]) -> None:
    """Let some operations of the number count."""
    for name in names:
        plain: Callable[..., Any] = getattr(float, name)

        def operation(*operands: Any, plain: Callable[..., Any] = plain) -> Any:
            _Cycles.spent += cycles
            found = plain(*operands)
            return found if found is NotImplemented else made(found)

        setattr(_Real, name, operation)


_count(("__add__", "__radd__", "__sub__", "__rsub__"), _SUM, _Real)
_count(("__mul__", "__rmul__"), _PRODUCT, _Real)
_count(("__truediv__", "__rtruediv__"), _QUOTIENT, _Real)
_count(("__lt__", "__le__", "__gt__", "__ge__", "__eq__", "__ne__"), _COMPARISON, bool)
_count(("__int__", "__trunc__"), _CONVERSION, int)
_count(("__abs__", "__neg__"), _SIZE, _Real)


def _counted(name: str) -> Callable[..., Any]:
    plain: Callable[..., Any] = getattr(math, name)

    def function(*numbers: float) -> Any:
        _Cycles.spent += _MATH[name]
        found = plain(*numbers)
        return _Real(found) if isinstance(found, float) else found

    return function


def _load(module: str) -> dict[str, Any]:
    """Run the text of a module with numbers and functions that count."""
    functions = {name: _counted(name) for name in _MATH}
    code = "\n".join(line for line in module.splitlines() if not line.startswith("from math import"))
    made: dict[str, Any] = dict(functions)
    exec(compile(code, _FILE, "exec"), made)
    return made


def _trace(frame: Any, event: str, _: Any) -> Any:
    """Count the calls and statements of the module."""
    if frame.f_code.co_filename != _FILE:
        return None
    _Cycles.spent += _CALL if event == "call" else _STATEMENT if event == "line" else 0
    return _trace


def _ends(plan: Plan, lines: bool) -> dict[str, tuple[float, float]]:
    """Return the ends of what drives, as raw numbers: of sticks, or of the velocities in lines."""
    if not lines:
        driving = plan.driving_controls()
        return {one.reads: (one.travel.low, one.travel.high) for one in plan.controls if one.name in driving}
    most = plan.full_speeds()
    return {
        "vx": (-most.backward, most.forward), "vy": (-most.sideways, most.sideways), "vz": (-most.down, most.up),
        "yaw_rate": (-most.turn, most.turn),
    }  # fmt: skip


def _frames(plan: Plan, lines: bool) -> Iterator[tuple[Mapping[str, float], bool]]:
    """Return frames of a driver who enables, and whose sticks then jump; and whether the velocity jumps too."""
    dice, hands = random.Random(1), Hands(plan)
    ends, where = _ends(plan, lines), dict[str, float]()
    for number in range(hands.begins + 2 * STEPS):
        anywhere = number >= hands.begins + STEPS
        hands.act("careful" if number <= hands.begins else "absent", dice, plan.period, number)
        for name, both in ends.items() if number > hands.begins + 3 else ():
            if anywhere or name not in where or dice.random() < _JUMPS:
                where[name] = dice.choice((*both, *both, dice.uniform(*both)))
        yield {**hands.values(), **where}, anywhere


def _on_the_way(board: dict[str, Any], wanted: list[list[float]], dice: random.Random) -> list[float]:
    """Return a velocity between two that were wanted, within the reach of the vehicle."""
    (a, b), share = dice.sample(wanted, 2), dice.random()
    reach = board.get("settle") or board.get("within_reach") or list
    return [_Real(axis) for axis in reach([x + share * (y - x) for x, y in zip(a, b, strict=True)])]


def longest_step(module: str, plan: Plan, inputs: Sequence[str], wires: Sequence[int], part: str = "whole") -> float:
    """Return how long a step takes at most, s; with all that a program does after it.

    Args:
        module: the text of robot_board.py. plan: of the board. inputs: their names, in order.
        wires: the outputs that are set at pins. part: "whole", "sticks" or "robot".
    """
    board, period, slowest = _load(module), round(1000.0 * plan.period), 0
    now, line, dice, wanted = 1000, bytearray(512), random.Random(2), list[list[float]]()
    board["robot_begin"](now)
    outer = sys.gettrace()
    for frame, anywhere in _frames(plan, part == "robot"):
        now += period
        for name, value in frame.items():
            if name in inputs:
                board["robot_put"](inputs.index(name), _Real(value))
        board["robot_frame"](now, True)
        _Cycles.spent = _BASE
        sys.settrace(_trace)
        try:
            board["robot_step"](now)
            for wire in wires:
                board["robot_get"](wire)
            if part == "sticks":
                board["robot_line"](line)
        finally:
            sys.settrace(outer)
        slowest = max(slowest, _Cycles.spent)
        if board["robot_is"]() == board["ROBOT_DRIVING"]:
            wanted.append([float(axis) for axis in board["demand"]])
            if anywhere and len(wanted) > 2:
                board["command"][:] = _on_the_way(board, wanted, dice)
    return (1.0 + _MARGIN) * slowest / CLOCK
