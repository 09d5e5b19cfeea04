"""Your own motor library, which is always stopped at the end: two H-bridges with a duty and a direction each."""

import tenuto


class Motor:
    """Replace this by your board's library: `duty` and `ahead` are its pins."""

    def __init__(self, name: str) -> None:
        self.name, self.duty, self.ahead = name, 0, True

    def drive(self, share: float) -> None:
        self.duty, self.ahead = round(255 * abs(share)), share >= 0.0

    def stop(self) -> None:
        self.drive(0.0)
        print(f"{self.name} is off", flush=True)


motors = [Motor("left"), Motor("right")]
safe = tenuto.guarded("left_shoulder", ramp=0.5)
try:
    for pad in tenuto.pads("simulated:sticks", rate=50):  # with your own device: "gamepad"
        for motor, share in zip(motors, safe(pad, tenuto.arcade(pad.left.y, pad.right.x)), strict=True):
            motor.drive(share)
        print("  ".join(f"{m.name} {m.duty:3} {'ahead' if m.ahead else 'back'}" for m in motors), flush=True)
finally:  # after Ctrl-C, an unplugged pad, an error above
    for motor in motors:
        motor.stop()
