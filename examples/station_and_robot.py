"""A station and a robot that meet at an MQTT broker: the robot in a process of its own, as on another machine.

Needs a broker on this machine: ``apt-get install mosquitto`` (this program starts one for itself at another port).
At the end the station's program dies, and the robot stops by itself.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import tenuto
from tenuto.data import shipped
from tenuto.links.broker import Broker, BrokerSettings
from tenuto.links.topics import state_topic
from tenuto.protocols.remote import RemoteState, read_json

PORT = "18841"
BROKER = f"127.0.0.1:{PORT}"
mosquitto = shutil.which("mosquitto", path=os.environ.get("PATH", "") + ":/usr/sbin")
if mosquitto is None:
    sys.exit("This example needs a broker: apt-get install mosquitto")

medlar, here = str(shipped("medlar.toml")), [sys.executable, "-m", "tenuto"]
with tempfile.TemporaryDirectory() as folder:
    settings = Path(folder) / "broker.conf"
    settings.write_text(f"listener {PORT} 127.0.0.1\nallow_anonymous true\nset_tcp_nodelay true\n")
    broker = subprocess.Popen([mosquitto, "-c", settings], stderr=subprocess.DEVNULL)
    time.sleep(0.5)
    robot = subprocess.Popen([*here, "follow", medlar, "--source", f"mqtt:{BROKER}/medlar"], stdout=subprocess.DEVNULL)
    station = subprocess.Popen(
        [*here, "drive", medlar, "--recording", str(shipped("orchard-row.csv")),
         "--to", f"mqtt:{BROKER}/medlar,driver=shed"], stdout=subprocess.DEVNULL,
    )  # fmt: skip
    listener = Broker(BrokerSettings("127.0.0.1", int(PORT)), tenuto.SourceError)
    states = listener.listen(state_topic("medlar"))
    began, told, end = time.monotonic(), "", 60.0
    while (now := time.monotonic() - began) < end:
        time.sleep(0.05)
        while states:
            state = read_json(RemoteState, states.popleft().data)
            if state is not None and (line := f"{state.state:12} {state.vx:+.1f} m/s") != told:
                told = line
                print(f"{now:4.1f} s  {line}  {state.reasons[0] if state.reasons else ''}")
                if state.vx > 0.9 and end == 60.0:
                    print(f"{now:4.1f} s  the station's program is killed")
                    station.kill()
                    end = now + 3.0
    listener.close()
    for process in (station, robot, broker):
        process.terminate()
        process.wait()
