"""A motor library of your own, which is stopped whatever happens: two H-bridges with a duty and a direction each."""

import tenuto


class Motor:
    """Stands for what your board has: `duty` and `ahead` are its pins."""

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
    for pad in tenuto.pads("simulated:sticks", rate=50):  # of your own: "gamepad"
        for motor, share in zip(motors, safe(pad, tenuto.arcade(pad.left.y, pad.right.x)), strict=True):
            motor.drive(share)
        print("  ".join(f"{m.name} {m.duty:3} {'ahead' if m.ahead else 'back'}" for m in motors), flush=True)
finally:  # Ctrl-C, a pad that was pulled out, a mistake above
    for motor in motors:
        motor.stop()
