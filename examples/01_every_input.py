"""Print every input by its name, five times a second. Ctrl-C ends it."""

import tenuto

for pad in tenuto.pads("simulated:sticks", rate=5):  # of your own: "gamepad"
    print(pad, flush=True)
