"""The checks of a computer, on simulated computers."""

import configparser
import json
import shlex
import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import pytest

import tenuto
from helpers import run
from tenuto.calibration import Calibration
from tenuto.data import shipped
from tenuto.health import checks
from tenuto.health.checks import CHECKS, OF_A_PROFILE
from tenuto.health.system import System
from tenuto.profile.beginning import text_begun_for

PADS = """I: Bus=0003 Vendor=0001
N: Name="Orchard pad"
H: Handlers=event5 js0

N: Name="A keyboard"
H: Handlers=sysrq kbd event6

N: Name="Second pad"
H: Handlers=js1 event7
"""
SAID: dict[tuple[str, ...], str] = {
    (
        "bluetoothctl",
        "devices",
        "Paired",
    ): "Device AA:01 Shed pad\nDevice AA:02 Shed loudspeaker\nDevice AA:03 Awake pad\n",
    ("bluetoothctl", "info", "AA:01"): "\tIcon: input-gaming\n\tConnected: no\n",
    ("bluetoothctl", "info", "AA:02"): "\tIcon: audio-card\n\tConnected: no\n",
    ("bluetoothctl", "info", "AA:03"): "\tIcon: input-gaming\n\tConnected: yes\n",
}
PROFILE = text_begun_for("differential")
for old, new in {
    'name = ""': 'name = "Mine"',
    'track = "0.4 m" ': 'track = "0.5 m" ',
    "[source]": '[source]\nkind = "sbus"\nport = "/dev/ttyAMA0"',
    "[controls]": '[controls]\ndrive.reads = "channel_1"\nsteer.reads = "channel_2"',
    'kind = "arcade"': 'kind = "arcade"\nforward = "drive"\nturn = "steer"',
    "[guard]": '[guard]\nhold_to_run = "channel_5"',
}.items():
    PROFILE = PROFILE.replace(old, new)
PROFILE += '[sinks.kept]\nkind = "log"\nfile = "run.parquet"\n'
PROFILE += (
    '[sinks.shed]\nkind = "mqtt"\naddress = "127.0.0.1/shed"\n[sinks.cart]\nkind = "serial"\nport = "/dev/ttyUSB3"\n'
)


def computer(root: Path, *, well: bool) -> System:
    """Return a computer with every fault, or with none."""
    files = {
        "proc/bus/input/devices": PADS,
        "proc/cmdline": "quiet console=tty1" + ("" if well else " console=serial0,115200"),
        "sys/devices/system/clocksource/clocksource0/current_clocksource": "tsc\n" if well else "jiffies\n",
        **dict.fromkeys(("dev/input/event5", "dev/input/event7", "dev/ttyAMA0"), ""),
        **dict.fromkeys(("dev/ttyUSB3",) if well else (), ""),
    }  # fmt: skip
    for name, text in files.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
    (root / "dev/serial0").symlink_to(root / "dev/ttyAMA0")
    kept = root / "calibrations"
    kept.mkdir()
    Calibration("pad-1", "Orchard pad", {}, all_controls=("left_x",)).save(kept / "pad-1.toml")
    if not well:
        (kept / "broken.toml").write_text("device = ")
        Calibration("pad-2", "Another", {}, all_controls=("left_x",)).save(kept / "pad-3.toml")

    def ask(command: Sequence[str]) -> str:
        return "" if well else SAID[tuple(command)]

    return System(
        root=root, calibrations=kept, pads=("/dev/input/event5", "/dev/input/event7") if well else (),
        devices={"pad-1": ("left_x",) if well else ("axis_0",)}, ask=ask, now=lambda: 1.8e9 if well else 4.0,
        may=lambda file, way: well or file.name not in ("event5", "ttyAMA0", "serial0"),
    )  # fmt: skip


def found_in(system: System, profile: tenuto.Profile | None) -> list[str]:
    every = CHECKS | OF_A_PROFILE
    return [f"{one.severity} {one}" for check in every.values() for one in check(system, profile)]


def test_whatever_is_wrong_is_said_with_its_remedy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(checks, "has", lambda module: False)
    (tmp_path / "mine.toml").write_text(PROFILE)
    said = "\n".join(found_in(computer(tmp_path / "root", well=False), tenuto.load_profile(tmp_path / "mine.toml")))
    for line in (
        "error /dev/input/event5: Orchard pad cannot be read: no permission (sudo usermod -aG ",
        "warning /dev/input/event7: the system has Second pad, and it cannot be opened",
        "warning bluetooth: Shed pad is paired, and not connected",
        "error /dev/ttyAMA0: no permission to use this port",
        "error /dev/ttyUSB3: the profile names this port, and it does not exist",
        "error /dev/serial0: the system console uses this port",
        "systemctl disable --now serial-getty@serial0",
        "warning clock: the time of day was never set",
        "warning clock: the computer counts time in steps",
        "broken.toml: it cannot be used",
        "pad-3.toml: it is of the device pad-2",
        "pad-1.toml: it does not fit the device that is connected",
        "wheel_radius is still the example value (measure it: from the middle of the axle to the ground)",
        "error packages: for Parquet the package pyarrow is needed: pip install 'tenuto[parquet]'",
        "error packages: for MQTT the package paho is needed: pip install 'tenuto[mqtt]'",
    ):
        assert line in said
    padded = tenuto.load_profile(shipped("medlar.toml"))
    assert "error source: the profile drives by a gamepad, and none can be opened" in "\n".join(
        found_in(computer(tmp_path / "again", well=False), padded)
    )
    without = replace(computer(tmp_path / "third", well=True), unlisted="SDL does not start")
    assert found_in(without, None) == ["error gamepads: they cannot be listed: SDL does not start"]
    assert "track is" not in said
    assert "loudspeaker" not in said
    assert "Awake" not in said


def test_a_computer_that_is_well_is_let_be(tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text(PROFILE.replace('"0.1 m"', '"0.11 m"'))
    assert found_in(computer(tmp_path / "root", well=True), tenuto.load_profile(tmp_path / "mine.toml")) == []
    assert found_in(computer(tmp_path / "again", well=True), None) == []


@pytest.mark.long
def test_the_command_prints_what_was_found(tmp_path: Path) -> None:
    text = shipped("damson.toml").read_text().replace("/dev/ttyAMA0", "/dev/there-is-none")
    (tmp_path / "mine.toml").write_text(text)
    done = run("doctor", "mine.toml", "--json", cwd=tmp_path)
    assert done.returncode == 1
    found = json.loads(done.stdout)["checks"]
    assert list(found) == [*CHECKS, *OF_A_PROFILE]
    assert "/dev/there-is-none" in [one["where"] for one in found["serial ports"]]
    assert "measures" not in json.loads(run("doctor", "--json", cwd=tmp_path).stdout)["checks"]


def test_a_service_drives_from_boot_and_begins_again_after_a_crash(tmp_path: Path) -> None:
    """The unit is read like systemd does, and its command is run."""
    folder = tmp_path / "a robot, 100 %"
    folder.mkdir()
    (folder / "The cart.toml").write_text(shipped("damson.toml").read_text())
    more = ("--to", "simulated", "--user", "orchard", "--json")
    made = json.loads(run("service", "The cart.toml", *more, cwd=folder).stdout)["files"]
    (unit_at, unit), (rules_at, rules) = made.items()
    assert (unit_at, rules_at) == (
        "/etc/systemd/system/tenuto-the-cart.service", "/etc/udev/rules.d/70-tenuto-the-cart.rules")  # fmt: skip
    said = configparser.RawConfigParser()
    said.optionxform = str  # type: ignore[assignment,method-assign]
    said.read_string(unit)
    assert dict(said["Service"]).items() >= {
        "User": "orchard", "Restart": "on-failure", "KillSignal": "SIGTERM",
        "WorkingDirectory": str(folder).replace("%", "%%"),
    }.items()  # fmt: skip
    program, *arguments = shlex.split(said["Service"]["ExecStart"].replace("%%", "%"))
    assert (program, arguments[:3]) == (sys.executable, ["-m", "tenuto", "drive"])
    done = run(*arguments[2:], "--source", "simulated:crsf", "--seconds", "1", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert 'KERNEL=="ttyAMA0", GROUP="dialout"' in rules
    (folder / "k").write_text("0" * 64)
    follow = ("--follow", "udp::14660,key=k", "--to", "simulated")
    followed = run("service", "The cart.toml", *follow, cwd=folder).stdout.replace("%%", "%")
    assert "--source udp::14660,key=k" in followed, "a path with a comma, in the folder where it runs"
    (folder / "keys.toml").write_text(shipped("medlar-keyboard.toml").read_text())
    refused = run("service", "keys.toml", "--to", "simulated", cwd=folder)
    assert (refused.returncode, "a service has none" in refused.stderr) == (1, True)
