"""The live view as lines of text: drawn from a scene and a tick only, for any size from 80 × 24 on.

Colour is never the only sign: every bar has its number, every state its word.
"""

from __future__ import annotations

import math
import textwrap
from typing import NamedTuple

from rich.text import Text

from tenuto.driving.guard import State
from tenuto.driving.plan import HELD_FROM
from tenuto.driving.preflight import checks_of
from tenuto.driving.tick import Tick
from tenuto.vehicles.base import Quantity
from tenuto.views.scene import Pad, Scene

COLOURS = {
    State.DRIVING: "green",
    State.STOPPING: "red",
    State.FAULT: "red",
    State.EMERGENCY_STOP: "red",
    State.WAITING_FOR_REST: "yellow",
    State.NOT_ENABLED: "yellow",
}
_BADGE = {
    State.DRIVING: "bold reverse green",
    State.STOPPING: "bold reverse red",
    State.FAULT: "bold reverse red",
    State.EMERGENCY_STOP: "bold reverse red",
    State.WAITING_FOR_REST: "bold reverse yellow",
    State.NOT_ENABLED: "bold reverse yellow",
}
# The squares of the sticks, with their frame and name, in characters: on a small and on a large terminal.
_SMALL, _LARGE, _LARGE_FROM = (17, 9), (31, 15), 36
# From above, with ahead upwards: an angle to the left points up and to the left.
_STEERS = Quantity.STEERING_ANGLE
_ARROWS = "↑↖←↙↓↘→↗"


class Beat(NamedTuple):
    """Statistics of the loop and the link over about the last second.

    Attributes:
        rate: ticks per second. frames: per second. worst: the longest time from tick to tick, s. paused: of the view.
        scroll: the number of lines by which the middle part is scrolled.
        marks: their number. driven: the robot has been driven in this drive.
    """

    rate: float = 0.0
    frames: float = 0.0
    worst: float = 0.0
    paused: bool = False
    scroll: int = 0
    marks: int = 0
    driven: bool = False


def screen(scene: Scene, tick: Tick | None, beat: Beat, width: int, height: int) -> list[Text]:
    """Draw the whole view.

    Args:
        scene: of the robot. tick: the newest; None before the first. beat: of the loop.
        width, height: of the terminal, in characters.

    Returns:
        At most ``height`` lines of at most ``width`` characters.
    """
    head, body, foot = _parts(scene, tick, beat, width, height)
    lines = [*head, *_part_of(body, beat.scroll, max(1, height - len(head) - len(foot))), *foot]
    for line in lines:
        line.truncate(width, overflow="ellipsis")
    return lines


def most_scroll(scene: Scene, tick: Tick | None, beat: Beat, width: int, height: int) -> int:
    """Return the number of lines by which the view can be scrolled; arguments as for `screen`."""
    head, body, foot = _parts(scene, tick, beat._replace(scroll=1), width, height)
    return max(0, len(body) - max(1, height - len(head) - len(foot)))


def _parts(
    scene: Scene, tick: Tick | None, beat: Beat, width: int, height: int
) -> tuple[list[Text], list[Text], list[Text]]:
    """Return the fixed lines above, the lines that scroll, and the fixed lines below."""
    lines = [_head(scene, tick, width)]
    if tick is None:
        return lines, [Text("waiting for the first tick")], []
    size = _LARGE if height >= _LARGE_FROM else _SMALL
    middle = _middle(scene, tick, width, size)
    moves = _moves(scene, tick, width) if beat.driven else _preflight(scene, tick, width)
    foot = [
        *_far_ends(tick, width),
        _link(scene, tick, beat),
        *(Text(line, style="dim") for line in textwrap.wrap(scene.keys, width)[:2]),
    ]
    gaps = [Text()] if height > 30 else []
    room = height - len(lines) - len(middle) - len(moves) - len(foot) - 3 * len(gaps)
    # The state is as large as the reasons permit: they come first.
    why = _why(tick, width, max(room - 1, 3))
    lines += _state(tick, width, 3 if len(why) + 3 <= room else 1)
    body = [*(_why(tick, width, height) if beat.scroll else why), *gaps, *middle, *gaps, *moves, *gaps]
    return lines, body, foot


def _part_of(body: list[Text], scroll: int, room: int) -> list[Text]:
    """Return as many lines as fit; if there are more below, the last one says so."""
    first = max(0, min(scroll, len(body) - room))
    below = len(body) - first - room
    if below <= 0:
        return body[first:]
    more = Text(f"  ↓ {below + 1} lines more: arrow keys, or a taller terminal", style="dim")
    return [*body[first : first + room - 1], more]


def _head(scene: Scene, tick: Tick | None, width: int) -> Text:
    text = Text.assemble((scene.title, "bold"), f"  {scene.origin}")
    if tick is not None:
        chosen = tick.chosen
        words = [f"mode {chosen.mode}"] if chosen.mode else []
        words += [f"rates {chosen.rates}"] if chosen.rates else []
        words += [f"{chosen.steering} steering"] if chosen.steering else []
        words += [f"level {100 * chosen.level:.0f} %"] if chosen.level != 1.0 else []
        words += [f"driver {tick.driver}"] if tick.hands else []
        aside = "  ".join(words)
        text.truncate(max(width - len(aside) - 2, 10), overflow="ellipsis", pad=True)
        text.append(f"  {aside}" if aside else "")
    return text


def _state(tick: Tick, width: int, high: int) -> list[Text]:
    """Describe the guard's state large: a band over the whole width, with its word in the middle."""
    words = " ".join(tick.state.upper()).center(width)
    followed = tick.state == tick.guard.state
    style = _BADGE[tick.guard.state if followed else State.FAULT]
    return [Text(words if row == high // 2 else " " * width, style=style) for row in range(high)]


def _why(tick: Tick, width: int, most: int) -> list[Text]:
    """Return every reason that prevents motion, and the notices; a line each."""
    style = COLOURS[tick.guard.state]
    told = [(f"• {reason.text}", style) for reason in tick.guard.reasons]
    told += [(f"◦ {notice.text}", "cyan") for notice in tick.notices]
    told += [(f"▸ {action}", "bold") for action in tick.actions]
    lines: list[Text] = []
    for text, colour in told:
        lines += _wrapped(text, width, colour)
    if len(lines) > most:
        lines = [*lines[: most - 1], Text(f"  and {len(lines) - most + 1} lines more", style=style)]
    return lines or [Text("nothing prevents driving", style="dim")]


def _wrapped(text: str, width: int, style: str) -> list[Text]:
    lines, line = [], ""
    for word in text.split():
        if line and len(line) + 1 + len(word) > width:
            lines.append(Text(line, style=style))
            line = "  " + word
        else:
            line = f"{line} {word}" if line else word
    return [*lines, Text(line, style=style)]


def _middle(scene: Scene, tick: Tick, width: int, size: tuple[int, int]) -> list[Text]:
    """Put the sticks on the left, and the values of each control on the right."""
    pads = [draw_pad(pad, tick, size) for pad in scene.pads]
    table = _controls(scene, tick, width - len(pads) * (size[0] + 2), size[1])
    lines = []
    for row in range(max(size[1] if pads else 0, len(table))):
        line = Text()
        for pad in pads:
            line.append_text(pad[row] if row < len(pad) else Text(" " * size[0])).append("  ")
        lines.append(line.append_text(table[row] if row < len(table) else Text()))
    return lines


def draw_pad(pad: Pad, tick: Tick, size: tuple[int, int]) -> list[Text]:
    """Draw a stick in its square: its position as a dot, the dead zone as a shade; left and up are positive."""
    x, y = tick.positions.get(pad.x, 0.0), tick.positions.get(pad.y, 0.0)
    wide, high = size[0] - 2, size[1] - 3
    column, row = round((1.0 - x) / 2.0 * (wide - 1)), round((1.0 - y) / 2.0 * (high - 1))
    inside = (math.hypot(x, y) <= pad.dead_zone) if pad.round else max(abs(x), abs(y)) <= pad.dead_zone
    lines = [Text(f"┌{'─' * wide}┐", style="dim")]
    for r in range(high):
        line = Text("│", style="dim")
        for c in range(wide):
            here = (1.0 - 2.0 * c / (wide - 1), 1.0 - 2.0 * r / (high - 1))
            if (c, r) == (column, row):
                line.append("○" if inside else "●", style="bold" if inside else "bold green")
                continue
            # Half a cell more, so that a small dead zone is visible.
            near = pad.dead_zone + 1.0 / (wide - 1), pad.dead_zone + 1.0 / (high - 1)
            shaded = abs(here[0]) <= near[0] and abs(here[1]) <= near[1]
            line.append("░" if shaded else " ", style="dim")
        lines.append(line.append("│", style="dim"))
    lines.append(Text(f"└{'─' * wide}┘", style="dim"))
    name = ", ".join(name for name in (pad.x, pad.y) if name)
    lines.append(Text(name[: size[0]].center(size[0]), style="dim"))
    return lines


def _controls(scene: Scene, tick: Tick, width: int, most: int) -> list[Text]:
    """Show the values of each control: raw, position, shaped."""
    name_wide = min(max((len(control.name) for control in scene.controls), default=7), max(8, width - 34))
    lines = [Text(f"{'control':{name_wide}} {'raw':>8} {'position':>9} {'shaped':>7}", style="dim")]
    for control in scene.controls[: most - 1]:
        raw, position = tick.raw.get(control.name, math.nan), tick.positions.get(control.name, 0.0)
        number = "no number" if math.isnan(raw) else f"{raw:8.0f}"
        line = Text(f"{control.name[:name_wide]:{name_wide}} {number:>8} {position:+z9.2f} ")
        if control.role == "drives":
            shaped = tick.shaped.get(control.name, 0.0)
            line.append(f"{shaped:+z7.2f}").append_text(_bar(shaped, 1.0, min(width - name_wide - 33, 25)))
        else:
            on, stops = position >= HELD_FROM, control.role == "stops"
            word = ("on: stop" if on else "off") if stops else ("held" if on else "not held")
            line.append(f"{word:>8}", style=("red" if on else "dim") if stops else ("green" if on else "yellow"))
        lines.append(line)
    return lines


def _moves(scene: Scene, tick: Tick, width: int) -> list[Text]:
    """Show intent and command against the full speeds, and each actuator as a signed bar."""
    intent = (
        ", ".join(f"{name} {value:+z.2f}" for name, value in tick.intent._asdict().items() if round(value, 2))
        or "nothing"
    )
    command, long = tick.command, min(31, (width - 60) // 2)
    text = Text.assemble(("intent ", "dim"), intent)
    forward, backward, fastest = scene.speeds.get(tick.chosen.mode, (0.0, 0.0, 0.0))
    most = backward if command.vx < 0.0 else forward
    ahead, turning = scene.units.speed, scene.units.turn
    speed = Text.assemble(("command ", "dim"), f"{ahead.number(command.vx, '+.2f')} of {ahead.shown(most)} ")
    speed.append_text(_bar(command.vx, most, long))
    end = f" of {turning.number(fastest, '.0f')}" if fastest else ""
    turn = f"  {turning.number(command.yaw_rate, '+.0f')}{end} {turning.name} left "
    speed.append(turn).append_text(_bar(command.yaw_rate, fastest or 1.0, long))
    lines = [text, speed]
    others = [(command.vy, "left"), (command.vz, "up")]
    if said := [f"{ahead.shown(speed, '+.2f')} {way}" for speed, way in others if round(speed, 2)]:
        lines.append(Text(f"        {', '.join(said)}"))
    outputs = ", ".join(f"{name} {level:g}" for name, level in tick.outputs.items())
    return lines + _actuators(scene, tick, width) + ([Text.assemble(("outputs ", "dim"), outputs)] if outputs else [])


def _preflight(scene: Scene, tick: Tick, width: int) -> list[Text]:
    """Describe what is ready before the first drive, in few lines; and for the rest, what to do."""
    neutral = scene.neutral
    found = [*scene.checks, *(checks_of(tick, neutral) if neutral is not None else ())]
    ready = [check.name for check in found if check.good]
    lines = [Text(line, style="green") for line in textwrap.wrap(f"✓ {', '.join(ready)}", width)]
    for check in found:
        if not check.good:
            todo = f" → {check.todo}" if check.todo else ""
            lines += _wrapped(f"✗ {check.name}: {check.text}{todo}", width, "yellow")
    return [Text("before the drive", style="dim"), *lines]


def _actuators(scene: Scene, tick: Tick, width: int) -> list[Text]:
    """Draw each actuator, those that steer first; four of a kind are placed as on the robot."""
    kinds: tuple[list[Text], list[Text]] = ([], [])
    for name, value in tick.actuators.items():
        steers = scene.quantities.get(name) is _STEERS
        kinds[not steers].append(_steering(name, value) if steers else _driving(scene, name, value))
    lines = [Text("without power", style="bold red")] if not tick.power else []
    for cells in kinds:
        wide = 42 if width >= 84 else 40
        across = min(max(1, width // wide), 2 if len(cells) == 4 else len(cells) or 1)
        for first in range(0, len(cells), across):
            line = Text()
            for cell in cells[first : first + across]:
                line.append_text(cell).append(" " * (wide - len(cell)))
            lines.append(line)
    return lines


def _steering(name: str, angle: float) -> Text:
    degrees = math.degrees(angle)
    # A wheel with any angle is drawn with one.
    eighths = round(degrees / 45.0) or (int(math.copysign(1.0, degrees)) if abs(degrees) >= 5.0 else 0)
    return Text(f"{name.replace('_', ' '):>17} {_ARROWS[eighths % 8]} {round(degrees):+4d} deg")


def _driving(scene: Scene, name: str, value: float) -> Text:
    end = scene.ends.get(name, math.inf)
    number, _, unit = scene.quantities.get(name, Quantity.SHARE).in_words(value).partition(" ")
    cell = Text(f"{name.replace('_', ' '):>17} {number:>6} {unit:5}")
    return cell.append_text(_bar(value, end, 6)) if math.isfinite(end) else cell


def _bar(value: float, end: float, long: int) -> Text:
    """Draw a signed bar: its middle is 0, to the right is positive."""
    half = max(1, long // 2)
    share = max(-1.0, min(1.0, value / end)) if end > 0.0 else 0.0
    filled = round(abs(share) * half)
    left = "█" * filled if share < 0.0 else ""
    right = "█" * filled if share > 0.0 else ""
    style = "red" if abs(share) >= 1.0 else "bright_blue"
    return Text.assemble(
        (" ▕", "dim"), (left.rjust(half), style), ("┼", "dim"), (right.ljust(half), style), ("▏", "dim")
    )


def _far_ends(tick: Tick, width: int) -> list[Text]:
    """Describe the report of each far end, in a line or two each."""
    lines = []
    for name, one in tick.far.items():
        style = "" if one.follows is not False else "yellow"
        wrapped = textwrap.wrap(f"{name}: {one.in_words(tick.time)}", width, subsequent_indent="  ")[:2]
        lines += [Text(line, style=style) for line in wrapped]
    return lines


def _link(scene: Scene, tick: Tick, beat: Beat) -> Text:
    """Describe the link and the loop."""
    frame = tick.frame
    age = math.inf if frame is None else tick.time - frame.time
    heard = "nothing heard yet" if frame is None else f"{beat.frames:.0f} frames/s, newest {1000 * age:.0f} ms old"
    text = Text.assemble((f"link: {heard}", "red" if age > scene.link_timeout else ""))
    if frame is not None and frame.signal is not None:
        text.append(f", {frame.signal.quality:.0f} %, {frame.signal.rssi:.0f} dBm")
    if frame is not None and frame.note and frame.link_good:
        text.append(f", {frame.note}")
    late = beat.worst > 1.5 * scene.period
    text.append(f"   loop: {beat.rate:.0f} ticks/s, at most {1000 * beat.worst:.0f} ms", style="yellow" if late else "")
    if beat.marks:
        text.append(f"   {beat.marks} marks")
    return text.append("   PAUSED", style="bold reverse") if beat.paused else text
