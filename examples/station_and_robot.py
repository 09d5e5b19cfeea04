"""A station and a robot that meet at an MQTT broker: the robot in a process of its own, as on another machine.

Needs a broker on this machine: ``apt-get install mosquitto`` (this program starts one for itself at another port).
At the end the station's program is killed, and the robot stops by itself.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

import tenuto
from tenuto.data import shipped
from tenuto.links.broker import Broker
from tenuto.links.broker_settings import BrokerSettings
from tenuto.links.topics import state_topic
from tenuto.protocols.remote import RemoteState, read_json

PORT = "18841"
BROKER = f"127.0.0.1:{PORT}"
mosquitto = shutil.which("mosquitto", path=os.environ.get("PATH", "") + ":/usr/sbin")
if mosquitto is None:
    sys.exit("This example needs a broker: apt-get install mosquitto")

here = [sys.executable, "-m", "tenuto"]
with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
    # Four programs on one machine delay one another from time to time.
    text = shipped("medlar.toml").read_text(encoding="utf-8") + 'stall_timeout = "2 s"\n'
    text = text.replace('link_timeout = "300 ms"', 'link_timeout = "1 s"')
    medlar = str(Path(folder) / "medlar.toml")
    Path(medlar).write_text(text, encoding="utf-8")
    settings = Path(folder) / "broker.conf"
    settings.write_text(f"listener {PORT} 127.0.0.1\nallow_anonymous true\nset_tcp_nodelay true\n")

    def start(*command: str) -> subprocess.Popen[bytes]:
        """Start a program that ends with this one."""
        process = stack.enter_context(subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
        stack.callback(process.kill)
        return process

    start(mosquitto, "-c", str(settings))
    time.sleep(0.5)
    start(*here, "follow", medlar, "--source", f"mqtt:{BROKER}/medlar")
    row = str(shipped("orchard-row.csv"))
    station = start(*here, "drive", medlar, "--recording", row, "--to", f"mqtt:{BROKER}/medlar,driver=shed")
    listener = Broker(BrokerSettings("127.0.0.1", int(PORT)), tenuto.SourceError)
    states = listener.listen(state_topic("medlar"))
    began, told, end, killed = time.monotonic(), "", 45.0, False
    while (now := time.monotonic() - began) < end:
        time.sleep(0.05)
        while states:
            state = read_json(RemoteState, states.popleft().data)
            if state is not None and (line := f"{state.state:12} {state.vx:+.1f} m/s") != told:
                told = line
                print(f"{now:4.1f} s  {line}  {state.reasons[0] if state.reasons else ''}")
                if state.vx > 0.9 and not killed:
                    print(f"{now:4.1f} s  the station's program is killed")
                    station.kill()
                    killed = True
                if state.state == "fault":  # it stands, and the link loss is latched
                    end = min(end, now + 1.0)
    listener.close()
