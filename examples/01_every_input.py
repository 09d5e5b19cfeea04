"""Print every input by its name, five times a second. Ctrl-C ends it."""

import tenuto

for pad in tenuto.pads("simulated:sticks", rate=5):  # with your own device: "gamepad"
    print(pad, flush=True)
