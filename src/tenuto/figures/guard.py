"""The guard as a picture: its states, and the events that lead from one to another, drawn from its own table."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from typing import TYPE_CHECKING

from tenuto.driving.guard import TABLE, Event, State
from tenuto.figures.drive import BLUE, RED

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure
    from matplotlib.patches import FancyBboxPatch

# The position of each state, and its colour.
_PLACES = {
    State.NOT_ENABLED: (0.0, 2.0, "#4a5158"), State.WAITING_FOR_REST: (4.6, 2.0, "#8a6100"),
    State.DRIVING: (9.2, 2.0, "#00795c"), State.STOPPING: (9.2, 0.0, BLUE), State.FAULT: (4.6, 0.0, RED),
    State.EMERGENCY_STOP: (0.0, 0.0, RED),
}  # fmt: skip
_WIDE, _HIGH = 1.9, 0.42
# The bend of an arrow, and the position of its text along it and beside it; others are straight.
_BENDS = {
    (State.NOT_ENABLED, State.WAITING_FOR_REST): (-0.22, 0.5, 0.52),
    (State.WAITING_FOR_REST, State.NOT_ENABLED): (-0.22, 0.5, -0.14),
    (State.WAITING_FOR_REST, State.DRIVING): (0.0, 0.5, 0.26),
    (State.STOPPING, State.FAULT): (0.0, 0.5, -0.2),
    (State.NOT_ENABLED, State.FAULT): (0.12, 0.6, -0.36),
    (State.FAULT, State.NOT_ENABLED): (0.12, 0.3, 0.36),
    (State.STOPPING, State.NOT_ENABLED): (0.1, 0.3, 0.16),
}


def ways() -> dict[tuple[State, State], list[Event]]:
    """Return, for each two states, the events that lead from one to the other."""
    found: dict[tuple[State, State], list[Event]] = {}
    for (state, event), row in TABLE.items():
        if row.after is not state:
            found.setdefault((state, row.after), []).append(event)
    return found


def plot_guard(ax: Axes) -> None:
    """Draw all states and transitions. A transition from every state is described there, once."""
    from matplotlib.patches import FancyBboxPatch

    found = ways()
    everywhere = {
        event for event in Event
        if all((state, event) in TABLE for state in State) and len({TABLE[s, event].after for s in State}) == 1
    }  # fmt: skip
    boxes: dict[State, FancyBboxPatch] = {}
    for state, (x, y, color) in _PLACES.items():
        corner, style = (x - _WIDE / 2, y - _HIGH / 2), "round,pad=0.06"
        boxes[state] = FancyBboxPatch(corner, _WIDE, _HIGH, boxstyle=style, fc="white", ec=color, lw=2.2, zorder=3)
        ax.add_patch(boxes[state])
        ax.text(x, y, str(state), ha="center", va="center", fontsize=12, fontweight="bold", color=color, zorder=4)
        own = [event for event in everywhere if TABLE[state, event].after is state]
        if own:
            said = "from every state: " + "; ".join(own)
            ax.text(x, y - 0.42, said, ha="center", va="top", fontsize=9, color=RED)
    for (start, end), events in found.items():
        left = [event for event in events if event not in everywhere]
        if left:
            _draw_way(ax, start, end, left, boxes)
    ax.set(xlim=(-1.6, 10.8), ylim=(-0.95, 2.85))
    ax.set_axis_off()


def _draw_way(ax: Axes, start: State, end: State, events: list[Event], boxes: Mapping[State, FancyBboxPatch]) -> None:
    (x0, y0, _), (x1, y1, _) = _PLACES[start], _PLACES[end]
    bend, along, beside = _BENDS.get((start, end), (0.0, 0.5, 0.0))
    ax.annotate(
        "", (x1, y1), (x0, y0), zorder=1,
        arrowprops={"arrowstyle": "-|>", "color": "#4a5158", "lw": 1.4, "mutation_scale": 16, "shrinkA": 1,
                    "shrinkB": 1, "patchA": boxes[start], "patchB": boxes[end], "connectionstyle": f"arc3,rad={bend}"},
    )  # fmt: skip
    words = "\n".join("\n".join(textwrap.wrap(event, 26)) for event in events)
    x, y = x0 + along * (x1 - x0), y0 + along * (y1 - y0) + beside
    ax.text(
        x, y, words, ha="center", va="center", fontsize=8.5, color="#2b3036", zorder=2,
        bbox={"fc": "white", "ec": "none", "pad": 1.5, "alpha": 0.9},
    )  # fmt: skip


def guard_figure() -> Figure:
    """Draw the guard on a page of 1280 × 640 pixels."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 6.4), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    plot_guard(figure.add_subplot())
    figure.suptitle("The guard: its states, and what leads from one to another", fontweight="bold")
    return figure
