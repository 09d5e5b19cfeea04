"""What another thread may ask of a drive while it runs: an emergency stop, a reset, the end."""

from __future__ import annotations

import os
import signal
from collections import deque
from collections.abc import Callable

from tenuto.driving.changeover import Changeover


class DriveHandle:
    """A handle on a drive, made before it and given to it. Any thread may call it at any time; nothing waits.

    ::

        handle = tenuto.DriveHandle()
        watchdog = threading.Thread(target=watch_the_gate, args=(handle,))
        watchdog.start()
        tenuto.drive("medlar.toml", "gamepad", ["serial:/dev/ttyACM0"], handle=handle)

    What is asked is done with the next tick, in the order in which it was asked; what is asked before the drive begins
    is done with its first tick.

    Attributes:
        ended: why the drive is to end, once that was asked for and the loop has seen it.
        pressed: the key that `interrupt` stands for.
    """

    def __init__(self) -> None:
        self.ended = self.pressed = ""
        self._asked: deque[Callable[[Changeover], None]] = deque()
        self._notes: deque[str] = deque(maxlen=100)

    def emergency_stop(self, why: str) -> None:
        """Stop as the profile's emergency stop does, and say why. It holds until a reset, and a fresh enable after it.

        Whatever a frame, a source or a log does, it is obeyed; a reset that is asked for with the same tick is not.
        """
        self._asked.append(lambda line: line.pipeline.emergency_stop(why))

    def reset(self) -> None:
        """Permit a start after an emergency stop, where the robot stands; it never causes one."""
        self._asked.append(lambda line: line.pipeline.reset())

    def end(self, why: str) -> None:
        """Bring the robot down at the profile's stopping deceleration, and end the drive with this reason."""

        def ask(line: Changeover) -> None:
            line.end(why)
            self.ended = self.ended or why

        self._asked.append(ask)

    def note(self, text: str) -> None:
        """Note something with the next tick, in the log and in the views: a mark."""
        self._notes.append(text)

    def noted(self) -> list[str]:
        """Return what is to be noted with this tick. The loop calls this."""
        return [self._notes.popleft() for _ in range(len(self._notes))]

    def interrupt(self, key: str) -> None:
        """Do what Ctrl-C does, as often as that may be pressed, for a key that stands for it."""
        self.pressed = key
        os.kill(os.getpid(), signal.SIGINT)

    def pass_on(self, line: Changeover) -> None:
        """Hand what was asked to the pipeline. The loop calls this, at the beginning of every tick."""
        while self._asked:
            self._asked.popleft()(line)
