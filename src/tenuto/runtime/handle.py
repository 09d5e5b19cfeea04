"""Requests of another thread to a running drive: an emergency stop, a reset, the end."""

from __future__ import annotations

import os
import signal
from collections import deque
from collections.abc import Callable

from tenuto.driving.changeover import Changeover


class DriveHandle:
    """A handle for a drive, created before it and passed to it. Any thread may call it at any time; no call blocks.

    ::

        handle = tenuto.DriveHandle()
        watchdog = threading.Thread(target=watch_the_gate, args=(handle,))
        watchdog.start()
        tenuto.drive("medlar.toml", "gamepad", ["serial:/dev/ttyACM0"], handle=handle)

    Requests are carried out in the next tick, in their order; a request before the start of the drive is carried out in
    its first tick.

    Attributes:
        ended: why the drive must end, after a request that the loop has taken.
        pressed: the key of `interrupt`.
    """

    def __init__(self) -> None:
        self.ended = self.pressed = ""
        self._asked: deque[Callable[[Changeover], None]] = deque()
        self._notes: deque[str] = deque(maxlen=100)

    def emergency_stop(self, why: str) -> None:
        """Stop like the profile's emergency stop, with a reason. It lasts until a reset, followed by an enable.

        It takes effect whatever a frame, a source or a log does; a reset that is requested in the same tick does not.
        """
        self._asked.append(lambda line: line.pipeline.emergency_stop(why))

    def reset(self) -> None:
        """Permit a start after an emergency stop, at standstill; it never causes a start."""
        self._asked.append(lambda line: line.pipeline.reset())

    def end(self, why: str) -> None:
        """Stop the robot at the profile's stopping deceleration, and end the drive with this reason."""

        def ask(line: Changeover) -> None:
            line.end(why)
            self.ended = self.ended or why

        self._asked.append(ask)

    def note(self, text: str) -> None:
        """Add a note to the next tick, for the log and the views, such as a mark."""
        self._notes.append(text)

    def noted(self) -> list[str]:
        """Return the notes for this tick. The loop calls this."""
        return [self._notes.popleft() for _ in range(len(self._notes))]

    def interrupt(self, key: str) -> None:
        """Do the same as Ctrl-C, for a key of a view; it may be called repeatedly."""
        self.pressed = key
        os.kill(os.getpid(), signal.SIGINT)

    def pass_on(self, line: Changeover) -> None:
        """Pass the requests to the pipeline. The loop calls this at the start of every tick."""
        while self._asked:
            self._asked.popleft()(line)
