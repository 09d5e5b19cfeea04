"""The time from a written byte, or a virtual axis, to the frame; compared with a direct read."""

from __future__ import annotations

import os
import statistics
import time
import tty
from collections.abc import Callable

os.environ.setdefault("SDL_VIDEODRIVER", "dummy")

from tenuto.protocols import encode_ibus
from tenuto.sim.gamepad import VirtualGamepad
from tenuto.sources.gamepad import Gamepad
from tenuto.sources.receiver import Receiver
from tenuto.sources.sdl import load_sdl

ROUNDS = 2000


Read = Callable[[], object]


def told(name: str, send: Callable[[int], object], ours: Read, hand: Read) -> None:
    """Time both alternately, from sending to the first result that is not None; the other drains after it."""
    seconds: dict[str, list[float]] = {"here": [], "by hand": []}
    for number in range(ROUNDS):
        for key, read, other in (("here", ours, hand), ("by hand", hand, ours)):
            send(number)
            began = time.perf_counter()
            while read() is None:
                pass
            seconds[key].append(time.perf_counter() - began)
            other()
    parts = []
    for key, values in seconds.items():
        ninety_nine = statistics.quantiles(values, n=100)[98]
        parts.append(f"{key} median {statistics.median(values) * 1e6:.0f} µs, 99 % {ninety_nine * 1e6:.0f} µs")
    ratio = statistics.median(seconds["here"]) / statistics.median(seconds["by hand"])
    print(f"{name}: {'; '.join(parts)}; ratio of medians {ratio:.1f}")


def serial() -> None:
    master, slave = os.openpty()
    tty.setraw(slave)
    receiver = Receiver("ibus", os.ttyname(slave))
    other_master, other = os.openpty()
    tty.setraw(other)
    os.set_blocking(other, False)
    frame = encode_ibus([1500.0] * 14)

    def send(_: int) -> None:
        os.write(master, frame)
        os.write(other_master, frame)

    def ours() -> object:
        return receiver.poll(0.0)

    def hand() -> object:
        try:
            data = os.read(other, 64)
        except BlockingIOError:
            return None
        if data[:2] != b"\x20\x40" or 0xFFFF - sum(data[:30]) != data[30] | data[31] << 8:
            return None
        return [data[at] | data[at + 1] << 8 for at in range(2, 30, 2)]

    told("serial line, iBUS", send, ours, hand)
    receiver.close()


def gamepad() -> None:
    sdl = load_sdl()
    with VirtualGamepad() as pad, Gamepad() as source:
        joystick = sdl.SDL_JoystickOpen(0)

        def send(number: int) -> None:
            pad.set("left_y", 1000 + number % 2)

        def hand() -> object:
            sdl.SDL_JoystickUpdate()
            axes = [sdl.SDL_JoystickGetAxis(joystick, axis) for axis in range(6)]
            return axes + [sdl.SDL_JoystickGetButton(joystick, button) for button in range(15)]

        told("virtual gamepad, 21 controls", send, lambda: source.poll(0.0), hand)
        sdl.SDL_JoystickClose(joystick)


def main() -> None:
    serial()
    gamepad()


if __name__ == "__main__":
    main()
