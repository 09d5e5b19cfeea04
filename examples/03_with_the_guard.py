"""The same with the guard: the left shoulder must be held, motors ramp up in 0.4 s, and a link loss stops them."""

import tenuto

safe = tenuto.guarded("left_shoulder", ramp=0.4, stop=0.3)


def motor(side: str, share: float) -> None:
    print(f"{side} {100 * share:+4.0f} %", end="  ")  # set your motor here


for pad in tenuto.pads("simulated:sticks", rate=20):  # with your own device: "gamepad"
    left, right = safe(pad, tenuto.tank(pad.left.y, pad.right.y))
    motor("left", left)
    motor("right", right)
    print(safe.why, flush=True)
