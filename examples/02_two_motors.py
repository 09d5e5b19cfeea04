"""Two motors, a stick for each side. Ctrl-C ends it."""

import tenuto


def motor(side: str, share: float) -> None:
    print(f"{side} {100 * share:+4.0f} %", end="  ")  # set your motor here


for pad in tenuto.pads("simulated:sticks", rate=20):  # with your own device: "gamepad"
    left, right = tenuto.tank(pad.left.y, pad.right.y)
    motor("left", left)
    motor("right", right)
    print(flush=True)
