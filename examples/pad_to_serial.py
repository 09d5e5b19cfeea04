"""A gamepad to a motor controller on a serial line: a virtual pad, a simulated controller in a process of its own.

With your own: ``tenuto drive medlar.toml --to serial:/dev/ttyUSB0``.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

import tenuto
from tenuto.data import shipped

# A desk computer with other tasks delays the loop from time to time.
profile = tenuto.parse_profile(shipped("medlar.toml").read_text(encoding="utf-8") + 'stall_timeout = "2 s"\n')
with tempfile.TemporaryDirectory() as folder:
    port = str(Path(folder) / "cart")
    command = [sys.executable, "-m", "tenuto", "robot", str(shipped("medlar.toml")), "--link", port, "--seconds", "9"]
    cart = subprocess.Popen([*command, *sys.argv[1:]], stdout=subprocess.PIPE, text=True)
    assert cart.stdout is not None
    cart.stdout.readline()
    pad = f"simulated:gamepad,recording={shipped('orchard-row.csv')}"
    with tenuto.open_source(pad) as source, tenuto.open_sink(f"serial:{port},rate=50,answers=0.5") as sink:
        report = tenuto.drive(profile, source, [sink], on_tick=lambda tick: "it is over" if tick.time > 6.0 else None)
    print(f"{report.ticks} ticks; {report.ended}")
    print(cart.stdout.read().strip())
