"""South changes between tank and arcade during the drive, with a rumble; an event counts the presses."""

import tenuto

safe = tenuto.guarded("left_shoulder")
schemes = {
    "arcade": lambda pad: tenuto.arcade(pad.left.y, pad.right.x),
    "tank": lambda pad: tenuto.tank(pad.left.y, pad.right.y),
}
scheme = "arcade"
presses: list[str] = []

for pad in tenuto.pads("simulated:sticks", rate=20):  # with your own device: "gamepad"
    if not presses:
        tenuto.when(pad.button("south"), lambda: presses.append("south"))
        presses.append("listening")
    if pad.pressed("south") and pad["left_y"] == pad["right_y"] == 0.0:  # only at rest: a stick changes its meaning
        scheme = "tank" if scheme == "arcade" else "arcade"
        pad.rumble(0.5)
    left, right = safe(pad, schemes[scheme](pad))
    print(f"{scheme:6} {left:+.2f} {right:+.2f}  pressed {len(presses) - 1} times  {safe.why}", flush=True)
