"""The keyboard of a terminal, also over SSH, which does not report the release of a key.

A held key repeats. So motion lasts while repeats arrive, and ends by itself soon after the last one: a
released key and a connection that hangs look the same, and both stop the robot.
"""

from __future__ import annotations

import atexit
import os
import re
import select
import subprocess
import sys
import termios
import tty
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from tenuto.basics.errors import SourceError
from tenuto.basics.frame import Frame, with_earlier
from tenuto.basics.layouts import ControlInfo, Keys
from tenuto.clock import Timer
from tenuto.sources.base import HeldOptions, Source

# The delay of a terminal before a held key repeats, and the longest time between repeats (10 to 40 a second), s.
FIRST_REPEAT_SECONDS, REPEAT_SECONDS = 0.6, 0.25
# After this time without any key, the driver is assumed to have left, s.
IDLE_SECONDS = 20.0
LEVELS, START_LEVEL = 10, 3
# The greatest number of reads per poll, enough for a terminal's buffer: endless pasted text does not block the loop.
MOST_READS = 4
# How long a terminal that was changed counts as lost, s.
LOST_SECONDS = 0.5
# How long the reset counts as pressed, s: longer than a bounce.
RESET_SECONDS = 0.3

_KEY = re.compile(rb"\x1b[\[O]([ABCD])|\x1b\[[0-9;]*[~A-Za-z]|([\x00-\x7f])", re.DOTALL)
# Forward and left are positive.
_DIRECTIONS = {
    b"A": (1, 0), b"B": (-1, 0), b"D": (0, 1), b"C": (0, -1),
    b"w": (1, 0), b"s": (-1, 0), b"a": (0, 1), b"d": (0, -1),
    b"q": (1, 1), b"e": (1, -1), b"z": (-1, 1), b"y": (-1, 1), b"c": (-1, -1),  # some keyboards swap Y and Z
}  # fmt: skip
# Key → whether it changes the turn, and by how much.
_STEPS = {
    b"+": (False, 1), b"=": (False, 1), b"-": (False, -1), b"_": (False, -1),
    b".": (True, 1), b">": (True, 1), b",": (True, -1), b"<": (True, -1),
}  # fmt: skip
_ENABLING = Keys("Enter", "space", f"by space, X, or {IDLE_SECONDS:g} s without a key")
# Keys without a fixed meaning are controls, for actions, modes and outputs.
_FREE = {
    bytes((code,)): f"key_{chr(code)}"
    for code in b"abcdefghijklmnopqrstuvwxyz0123456789"
    if bytes((code,)) not in _DIRECTIONS and code not in b"xr"
}


class Keyboard(Source):
    """Drives from a terminal. Its controls are ``forward`` and ``turn``, −1…1, ``enable``, ``emergency`` and ``reset``.

    Each key without a fixed meaning is a control too, ``key_h`` or ``key_1``: 1 while it is held.

    Enter sets ``enable`` to 1; space sets it to 0 and stops, and so do 20 s without any key. Use it as the
    profile's hold-to-run: the keys themselves have to be held to keep moving. X is the emergency stop, and R
    releases and resets it.

    The terminal is restored when the source is closed, when the program ends, and even when it is
    killed: a small helper process waits for that.

    Raises:
        SourceError: the input is not a terminal.
    """

    name = "keyboard"
    identity = "keyboard"
    hint = (
        "arrows or WASD drive, QEZC curves, + - speed, , . turn, Enter enables, space stops, X emergency stop, R reset"
    )

    def __init__(self, descriptor: int | None = None) -> None:
        """Take over a terminal: by default standard input."""
        self._fd = sys.stdin.fileno() if descriptor is None else descriptor
        if not os.isatty(self._fd):
            raise SourceError("the keyboard needs a terminal, and the standard input is not one")
        self._before = termios.tcgetattr(self._fd)
        self._saved = subprocess.run(["stty", "-g"], stdin=self._fd, capture_output=True, check=True, text=True)
        self._helper = self._start_helper()
        tty.setcbreak(self._fd)  # no echo, no wait for Enter; Ctrl-C is still a signal
        atexit.register(self.close)
        self._open = True
        self._gone = False
        self._rest = b""
        self._level = self._turn_level = START_LEVEL
        self._pressed_until: dict[str, float] = {}
        self._enabled = self._emergency = False
        self._reset_until = -1.0
        self._direction = (0, 0)
        self._until = 0.0
        self._last_key = 0.0
        self._lost, self._lost_until = "", -1.0

    def _keep_the_terminal(self) -> str:
        """Take over a terminal that another program has changed, or whose helper has ended; return what was wrong."""
        if self._gone:
            return ""
        try:
            lines = bool(termios.tcgetattr(self._fd)[3] & termios.ICANON)
            ended = self._helper.poll() is not None
            if ended:
                self._helper.communicate()
                self._helper = self._start_helper()
            if lines:
                tty.setcbreak(self._fd)
        except (OSError, termios.error):
            self._gone = True
            return ""
        if not (lines or ended):
            return ""
        return "another program has changed the terminal: keys may be lost; enable again"

    def _start_helper(self) -> subprocess.Popen[bytes]:
        """Start a process that restores the terminal if this one dies without doing so."""
        # It waits on its standard input, a pipe from this process only; the terminal is its output.
        terminal = os.open(os.ttyname(self._fd), os.O_RDWR | os.O_NOCTTY)
        try:
            return subprocess.Popen(
                ["sh", "-c", 'cat >/dev/null; exec stty "$0" <&1', self._saved.stdout.strip()],
                stdin=subprocess.PIPE,
                stdout=terminal,
                start_new_session=True,  # so that Ctrl-C and a hang-up do not end it
            )
        finally:
            os.close(terminal)

    def controls(self) -> tuple[ControlInfo, ...]:
        """Describe the controls."""
        return KeyboardOptions.layout

    def poll(self, now: float) -> Frame | None:
        """Read the new keys, and return the controls; those after each key are earlier frames."""
        came: list[Frame] = []
        if lost := self._keep_the_terminal():
            # Keys of a terminal in line mode are not sent, or only with Enter: whatever was held may be released.
            self._enabled, self._direction, self._lost_until = False, (0, 0), now + LOST_SECONDS
            self._lost = lost
        for key in self._keys():
            self._press(key, now)
            frame = self._frame(now)
            if not came or frame.values != came[-1].values:  # a repeated key changes nothing
                came.append(frame)
        if now > self._until:
            self._direction = (0, 0)
        if now - self._last_key > IDLE_SECONDS:
            self._enabled = False
        newest = self._frame(now)
        if came and came[-1].values == newest.values:
            came.pop()
        return with_earlier([*came, newest])

    def _frame(self, now: float) -> Frame:
        """Return the controls as they are now."""
        share, turning = self._level / LEVELS, self._turn_level / LEVELS
        values = {"forward": share * self._direction[0], "turn": turning * self._direction[1]}
        values |= {"enable": float(self._enabled)}
        values |= {name: float(now < self._pressed_until.get(name, -1.0)) for name in _FREE.values()}
        values |= {"emergency": float(self._emergency), "reset": float(now < self._reset_until)}
        if self._gone:
            return Frame(now, values, False, "the terminal was closed")
        if now < self._lost_until:
            return Frame(now, values, False, self._lost)
        return Frame(now, values, note=f"speed {100 * share:.0f} %, turn {100 * turning:.0f} %")

    def _keys(self) -> list[bytes]:
        """Return the keys since the last call: arrows as A…D, others in lower case."""
        data = self._rest
        try:
            for _ in range(MOST_READS):
                if self._gone or not select.select([self._fd], [], [], 0)[0]:
                    break
                piece = os.read(self._fd, 1024)
                self._gone = not piece
                data += piece
        except OSError:
            self._gone = True
        # An escape at the very end may be the first byte of an arrow whose other bytes are not here yet.
        self._rest = data[-2:] if data.endswith((b"\x1b[", b"\x1bO")) else data[-1:] if data.endswith(b"\x1b") else b""
        data = data[: len(data) - len(self._rest)]
        return [match[1] or match[2].lower() for match in _KEY.finditer(data) if match[1] or match[2]]

    def _press(self, key: bytes, now: float) -> None:
        idle = now - self._last_key > IDLE_SECONDS
        self._last_key = now
        if key == b"x":
            self._emergency, self._enabled, self._direction = True, False, (0, 0)
        elif key == b"r":
            self._emergency, self._reset_until = False, now + RESET_SECONDS
        elif key in (b"\n", b"\r"):
            self._enabled = True
        elif key == b" " or idle:
            self._enabled, self._direction = False, (0, 0)
        elif key in _STEPS:
            turn, step = _STEPS[key]
            level = min(max((self._turn_level if turn else self._level) + step, 1), LEVELS)
            self._level, self._turn_level = (self._level, level) if turn else (level, self._turn_level)
        elif key in _FREE:
            name = _FREE[key]
            held = now < self._pressed_until.get(name, -1.0)
            self._pressed_until[name] = now + (REPEAT_SECONDS if held else FIRST_REPEAT_SECONDS)
        elif key in _DIRECTIONS:
            direction = _DIRECTIONS[key]
            repeated = direction == self._direction and now <= self._until
            self._direction = direction
            self._until = now + (REPEAT_SECONDS if repeated else FIRST_REPEAT_SECONDS)

    def close(self) -> None:
        """Restore the terminal."""
        if not self._open:
            return
        self._open = False
        atexit.unregister(self.close)
        # First end the helper: from now on only this process changes the terminal.
        self._helper.kill()
        self._helper.communicate()
        try:
            termios.tcsetattr(self._fd, termios.TCSADRAIN, self._before)
        except termios.error:
            self._gone = True  # a closed terminal needs no restoring


@dataclass(frozen=True, kw_only=True)
class KeyboardOptions(HeldOptions):
    """The keys of this terminal."""

    kind: ClassVar[str] = "keyboard"
    layout: ClassVar[tuple[ControlInfo, ...]] = (
        ControlInfo("forward", -1.0, 1.0, 0.0, exact=True),
        ControlInfo("turn", -1.0, 1.0, 0.0, exact=True),
        ControlInfo("enable", 0.0, 1.0, 0.0, keys=_ENABLING),
        ControlInfo("emergency", 0.0, 1.0, 0.0),
        ControlInfo("reset", 0.0, 1.0, 0.0),
        *(ControlInfo(name, 0.0, 1.0, 0.0) for name in _FREE.values()),
    )
    means: ClassVar[Mapping[str, str]] = {
        "drive": "forward", "steer": "turn", "hold": "enable", "emergency": "emergency", "reset": "reset",
    }  # fmt: skip
    steps: ClassVar[int] = 3
    loses_link: ClassVar[bool] = False

    def open(self, clock: Timer) -> Source:
        """Take over the terminal."""
        return Keyboard()
