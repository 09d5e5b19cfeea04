"""A robot and its driver over a real broker: restarts, pauses, keys, and the end of either program."""

import datetime
import json
import subprocess
import sys
import time
from collections.abc import Iterator
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path

import jsonschema
import paho.mqtt.client as mqtt
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from paho.mqtt.enums import CallbackAPIVersion

import tenuto
from brokers import MOSQUITTO, Mosquitto, Robot, Station, StreamRelay, wait_for
from helpers import patient, run
from tenuto import State
from tenuto.basics.errors import SourceError
from tenuto.data import shipped
from tenuto.links.broker import Broker
from tenuto.links.broker_settings import BrokerSettings
from tenuto.links.key_file import read_key
from tenuto.links.robots import Robots, Stopper
from tenuto.protocols.brokered import seal_command
from tenuto.protocols.remote_ends import DriverEnd, RobotEnd
from tenuto.sinks.mqtt import MqttSink, broker_for_driver
from tenuto.vehicles.velocity import STANDSTILL

pytestmark = [
    pytest.mark.live,
    pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed: apt-get install mosquitto"),
]
ROOT = Path(__file__).parents[1]
SCHEMAS = ROOT / "docs/schemas"


@pytest.fixture
def broker(tmp_path: Path) -> Iterator[Mosquitto]:
    made = Mosquitto(tmp_path)
    yield made
    made.stop()


@pytest.fixture
def robot(broker: Mosquitto) -> Iterator[Robot]:
    made = Robot(tenuto.open_source(f"mqtt:127.0.0.1:{broker.port}/medlar"))
    yield made
    made.close()


@pytest.fixture
def station(broker: Mosquitto, robot: Robot) -> Iterator[Station]:
    made = Station(tenuto.open_sink(f"mqtt:127.0.0.1:{broker.port}/medlar,rate=50,driver=shed"))
    assert wait_for(lambda: not made.sink.problem)
    yield made
    made.close()


def stands_by(robot: Robot, seconds: float) -> bool:
    return wait_for(lambda: robot.ticks[-1].command == STANDSTILL, seconds)


def test_a_broker_that_is_started_again_moves_nothing(broker: Mosquitto, robot: Robot, station: Station) -> None:
    assert station.drives(robot)
    broker.stop()
    assert stands_by(robot, 3.0)
    assert wait_for(lambda: "no connection to the broker" in station.sink.problem)
    broker.start()
    assert wait_for(lambda: "must be pressed again" in str(station.sink.telemetry.reasons))
    before = len(robot.ticks)
    time.sleep(1.0)  # the stick is pushed all the time
    assert len(robot.ticks) > before + 20
    assert all(tick.command == STANDSTILL for tick in robot.ticks[before:])
    assert station.drives(robot)


def test_what_waited_in_a_hanging_line_is_too_old(broker: Mosquitto, robot: Robot, station: Station) -> None:
    assert station.drives(robot)
    broker.pause(True)
    assert stands_by(robot, 3.0)
    time.sleep(0.7)
    station.hands.values = None  # its pad is unplugged too, so nothing new follows
    before = len(robot.ticks)
    broker.pause(False)
    assert wait_for(lambda: any("too old" in why for why in robot.source.end.refused))  # type: ignore[attr-defined]
    time.sleep(0.5)
    assert all(tick.command == STANDSTILL for tick in robot.ticks[before:])


def test_over_a_slow_line_to_the_broker_it_is_driven_and_the_round_trip_is_known(
    broker: Mosquitto, robot: Robot
) -> None:
    line = StreamRelay(broker.port, 0.06)
    station = Station(tenuto.open_sink(f"mqtt:127.0.0.1:{line.port}/medlar"))
    try:
        assert wait_for(lambda: not station.sink.problem)
        assert station.drives(robot)
        assert wait_for(lambda: 0.12 <= station.sink.telemetry.round_trip < 1.0)
        line.close()  # cut: the robot receives nothing more, and the driver is informed
        assert stands_by(robot, 3.0)
        assert wait_for(lambda: bool(station.sink.problem))
    finally:
        line.close()
        station.close()


def test_a_driver_that_is_killed_is_gone_at_once_and_state_and_reasons_are_kept(
    broker: Mosquitto, robot: Robot, tmp_path: Path
) -> None:
    kept: dict[str, bytes] = {}
    client = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=mqtt.MQTTv5)
    client.on_message = lambda c, data, message: kept.update({message.topic: bytes(message.payload)})
    client.connect("127.0.0.1", broker.port)
    client.subscribe([("tenuto/robots/+/state", 0), ("tenuto/drivers/+", 0)])
    client.loop_start()
    command = [sys.executable, "-m", "tenuto", "drive", str(patient(tmp_path))]
    to = f"mqtt:127.0.0.1:{broker.port}/medlar,driver=shed"
    driver = subprocess.Popen(
        [*command, "--recording", str(shipped("orchard-row.csv")), "--to", to, "--to", f"log:{tmp_path / 'drive.csv'}"]
    )
    try:
        assert wait_for(lambda: robot.speed > 0.8, 90.0)
        heard = robot.ticks[-1]
        time.sleep(1.2)  # the log may be late by this
        killed = robot.ticks[-1].time
    finally:
        driver.kill()
        driver.wait()
    assert stands_by(robot, 3.0)
    assert robot.ticks[-1].time - killed < 0.3 + 1.2 / 1.5 + 1.0
    sent = tenuto.load_log(tmp_path / "drive.csv")
    assert (sent["command.vx"] - heard.command.vx).abs().min() < 0.05  # the same sign and scale
    assert wait_for(lambda: "tenuto/robots/medlar/state" in kept and "tenuto/drivers/shed" in kept)
    client.loop_stop()
    client.disconnect()
    state = json.loads(kept["tenuto/robots/medlar/state"])
    jsonschema.validate(state, json.loads((SCHEMAS / "state.json").read_text()))
    assert (state["state"], state["driver"]) == ("fault", "shed")
    assert state["reasons"]
    gone = json.loads(kept["tenuto/drivers/shed"])
    jsonschema.validate(gone, json.loads((SCHEMAS / "gone.json").read_text()))
    assert (gone["driver"], gone["run"], gone["life"]) == ("shed", state["run"], 1)
    text = " ".join(reason.text for tick in robot.ticks for reason in tick.guard.reasons)
    assert "shed is gone" in text


def test_the_broker_throws_a_command_away_after_a_second(broker: Mosquitto, station: Station) -> None:
    expiries: list[int] = []
    client = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=mqtt.MQTTv5)
    client.on_message = lambda c, data, message: expiries.append(message.properties.MessageExpiryInterval)  # type: ignore[union-attr]
    client.connect("127.0.0.1", broker.port)
    client.subscribe("tenuto/robots/medlar/command")
    client.loop_start()
    assert wait_for(lambda: len(expiries) > 20)
    client.loop_stop()
    client.disconnect()
    assert set(expiries) == {1}


def test_a_second_driver_gets_nothing_while_the_first_has_the_robot(
    broker: Mosquitto, robot: Robot, station: Station
) -> None:
    assert station.drives(robot)
    second = Station(tenuto.open_sink(f"mqtt:127.0.0.1:{broker.port}/medlar,rate=50,driver=field"))
    second.drive(-1.0)
    time.sleep(1.0)
    sink = station.sink
    assert isinstance(sink, MqttSink)
    assert sink.end.robot is not None
    assert sink.end.robot.driver == "shed"
    assert min(tick.command.vx for tick in robot.ticks) >= 0.0
    second.close()


def test_the_last_will_of_a_robot(broker: Mosquitto) -> None:
    robot = Robot(tenuto.open_source(f"mqtt:127.0.0.1:{broker.port}/quince"))
    sink = tenuto.open_sink(f"mqtt:127.0.0.1:{broker.port}/quince")
    station = Station(sink)
    assert wait_for(lambda: not sink.problem)
    robot.close()
    assert wait_for(lambda: "it is gone" in sink.problem)
    station.close()


def test_whoever_may_write_to_the_broker_cannot_drive_without_a_driver_s_key(broker: Mosquitto, tmp_path: Path) -> None:
    ring = tmp_path / "robot.keys"
    for name in ("shed", "field"):
        assert run("key", "robot.keys", "--driver", name, cwd=tmp_path).returncode == 0
    here = f"mqtt:127.0.0.1:{broker.port}/medlar"
    robot = Robot(tenuto.open_source(f"{here},key={ring}"))
    station = Station(tenuto.open_sink(f"{here},rate=50,driver=shed,key={tmp_path / 'shed.key'}"))
    assert wait_for(lambda: not station.sink.problem)
    assert station.drives(robot)
    # One without a key, one with another driver's key, one that replays commands, and a forged state.
    heard, broken_in = list[bytes](), mqtt.Client(CallbackAPIVersion.VERSION2, protocol=mqtt.MQTTv5)
    broken_in.on_message = lambda client, _, message: heard.append(bytes(message.payload))
    broken_in.connect("127.0.0.1", broker.port)
    broken_in.subscribe("tenuto/robots/medlar/command")
    broken_in.loop_start()
    plain = Station(tenuto.open_sink(f"{here},rate=50,driver=nobody"))
    thief = Station(tenuto.open_sink(f"{here},rate=50,driver=shed,key={tmp_path / 'field.key'}"))
    assert wait_for(lambda: station.sink.problem.endswith("it was sent a command that is not sealed"))
    assert wait_for(lambda: "not signed for shed with this key" in thief.sink.problem)
    plain.close()
    thief.close()
    own = station.sink
    assert isinstance(own, MqttSink)
    assert own.end.robot is not None
    forged = DriverEnd("shed")
    command, topic = forged.emergency_stop(0.0, own.end.robot), "tenuto/robots/medlar/command"
    assert command is not None
    stolen = seal_command(command, topic, read_key(str(tmp_path / "field.key"), tenuto.SinkError))
    broken_in.publish(topic, stolen)
    assert wait_for(lambda: "in the name of shed, made without that key" in station.sink.problem)
    station.hands.values = None
    assert stands_by(robot, 5.0)
    before = len(robot.ticks)
    for payload in heard[-200:]:
        broken_in.publish("tenuto/robots/medlar/command", payload)
    broken_in.publish("tenuto/robots/medlar/state", b'{"format":2}\nshed 00', retain=True)
    time.sleep(1.0)
    assert all(tick.command == STANDSTILL for tick in robot.ticks[before:])
    station.close()
    again = Station(tenuto.open_sink(f"{here},rate=50,driver=field,key={tmp_path / 'field.key'}"))
    assert again.drives(robot)
    # Its key is removed during the drive: the robot stops, and the driver is informed.
    assert run("key", "robot.keys", "--revoke", "field", cwd=tmp_path).returncode == 0
    assert stands_by(robot, 10.0)
    assert "field" not in ring.read_text()
    broken_in.loop_stop()
    again.close()
    robot.close()


def certificates(folder: Path) -> Path:
    """Return a self-signed certificate for 127.0.0.1, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "shed")])
    now = datetime.datetime.now(datetime.UTC)
    certificate = (
        x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(IPv4Address("127.0.0.1"))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    (folder / "shed.crt").write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    form, no_password = serialization.PrivateFormat.TraditionalOpenSSL, serialization.NoEncryption()
    (folder / "shed.key").write_bytes(key.private_bytes(serialization.Encoding.PEM, form, no_password))
    return folder / "shed.crt"


# paho leaves the socket of a connection that TLS refused to the garbage collector.
@pytest.mark.filterwarnings("ignore:Exception ignored in. <ssl.SSLSocket:pytest.PytestUnraisableExceptionWarning")
def test_tls_and_user_names(tmp_path: Path) -> None:
    ca = certificates(tmp_path)
    users = tmp_path / "users"
    subprocess.run(["mosquitto_passwd", "-b", "-c", users, "picker", "apples"], check=True)
    files = (f"certfile {ca}", f"keyfile {tmp_path / 'shed.key'}", f"password_file {users}")
    secured = Mosquitto(tmp_path, "allow_anonymous false", "user root", *files)
    for name, password in (("good", "apples"), ("bad", "pears")):
        (tmp_path / name).write_text(f"{password}\n")
        (tmp_path / name).chmod(0o600)
    here = f"127.0.0.1:{secured.port}"
    try:
        robot = Robot(tenuto.open_source(f"mqtt:{here}/medlar,ca={ca},user=picker,password_file={tmp_path / 'good'}"))
        sink = tenuto.open_sink(f"mqtt:{here}/medlar,ca={ca},user=picker,password_file={tmp_path / 'good'},rate=50")
        station = Station(sink)
        assert wait_for(lambda: not sink.problem)
        assert station.drives(robot)
        station.close()
        robot.close()
        for options, said in (
            (f"ca={ca},user=picker,password_file={tmp_path / 'bad'}", "Not authorized"),
            (f"user=picker,password_file={tmp_path / 'good'}", "does it need TLS"),
        ):
            with tenuto.open_sink(f"mqtt:{here}/medlar,{options}") as refused:
                assert wait_for(lambda text=said, one=refused: text in one.problem)  # type: ignore[misc]
        other = tmp_path / "other"
        other.mkdir()
        for place, authority, said in (
            (here, certificates(other), "its certificate is not from an authority in ca"),
            (here.replace("127.0.0.1", "localhost"), ca, "its certificate is for another host"),
        ):
            with tenuto.open_sink(f"mqtt:{place}/medlar,ca={authority}") as untrusted:
                assert wait_for(lambda text=said, one=untrusted: text in one.problem), untrusted.problem  # type: ignore[misc]
        for option in ("password_file=nothing,user=picker", "ca=nothing"):
            with pytest.raises(tenuto.SinkError, match="nothing"):
                tenuto.open_sink(f"mqtt:{here}/medlar,{option}")
        with pytest.raises(tenuto.SinkError, match=r"unencrypted to 192\.0\.2\.1 over the network: set ca=FILE"):
            tenuto.open_sink(f"mqtt:192.0.2.1/medlar,user=picker,password_file={tmp_path / 'good'}")
        looks = run("station", "192.0.2.1", "--user", "a", "--password-file", str(tmp_path / "good"), cwd=tmp_path)
        assert (looks.returncode, "unencrypted" in looks.stderr) == (1, True)
        (tmp_path / "good").chmod(0o644)
        with pytest.raises(tenuto.SinkError, match="all users can read it"):
            tenuto.open_sink(f"mqtt:{here}/medlar,ca={ca},user=picker,password_file={tmp_path / 'good'}")
    finally:
        secured.stop()


def test_a_station_of_three_robots_shares_one_connection(broker: Mosquitto) -> None:
    names = ("medlar", "quince", "sorrel")
    robots = [Robot(tenuto.open_source(f"mqtt:127.0.0.1:{broker.port}/{name}")) for name in names]
    shared = broker_for_driver(BrokerSettings("127.0.0.1", broker.port), "shed")
    assert isinstance(shared, Broker)
    stations = [Station(MqttSink(name, shared, driver="shed", rate=50)) for name in names]
    assert wait_for(lambda: not any(one.sink.problem for one in stations))
    for station in stations:
        station.hands.values = None
    assert stations[1].drives(robots[1])
    assert all(robot.ticks[-1].command == STANDSTILL for robot in (robots[0], robots[2]))
    shared.close()  # the driver's program is killed
    assert stands_by(robots[1], 3.0)
    states = {tick.guard.state for tick in robots[1].ticks[-3:]}
    assert State.DRIVING not in states
    for station in stations:
        station.close()
    for robot in robots:
        robot.close()


def heard(robots: Robots) -> bool:
    robots.hear(time.monotonic())
    return bool(robots.states)


@pytest.mark.parametrize("keys", [False, True])
def test_a_teacher_stops_all_robots_whoever_drives_them(broker: Mosquitto, tmp_path: Path, keys: bool) -> None:
    if keys:
        for driver in ("shed", "teacher"):
            assert run("key", "robot.keys", "--driver", driver, cwd=tmp_path).returncode == 0
    sealed = {name: f",key={tmp_path}/{name}" if keys else "" for name in ("robot.keys", "shed.key")}
    place = f"mqtt:127.0.0.1:{broker.port}/medlar"
    robot = Robot(tenuto.open_source(place + sealed["robot.keys"]))
    station = Station(tenuto.open_sink(f"{place},rate=50,driver=shed{sealed['shed.key']}"))
    link = Broker(BrokerSettings("127.0.0.1", broker.port), SourceError)
    try:
        assert wait_for(lambda: not station.sink.problem)
        assert station.drives(robot)
        key = read_key(f"{tmp_path}/teacher.key", SourceError) if keys else None
        stranger = Robots(link, "stranger")
        assert wait_for(partial(heard, stranger))
        if keys:  # without a key no stop is accepted
            stopper = Stopper(stranger)
            stopper.stop()
            for _ in range(10):
                stopper.go_on(time.monotonic())
                time.sleep(0.02)
            # A busy machine may lose the link meanwhile.
            assert all(tick.guard.state is not State.EMERGENCY_STOP for tick in robot.ticks)
        robots = Robots(link, "teacher", key)
        assert wait_for(partial(heard, robots))
        stopper = Stopper(robots)
        stopper.stop()

        def stopped() -> bool:
            robots.hear(time.monotonic())
            stopper.go_on(time.monotonic())
            return robot.ticks[-1].guard.state is State.EMERGENCY_STOP

        assert wait_for(stopped)
        assert wait_for(lambda: robot.ticks[-1].command == STANDSTILL)
        time.sleep(0.5)  # the stick is pushed, and hold-to-run is held, all the time
        assert robot.ticks[-1].guard.state is State.EMERGENCY_STOP
        assert wait_for(lambda: station.sink.emergency)  # the driver's machine is in one too, and needs a reset
    finally:
        for one in (station, robot, link):
            one.close()


def test_what_is_listened_to_while_the_connection_comes_up_is_heard(broker: Mosquitto) -> None:
    settings = BrokerSettings("127.0.0.1", broker.port)
    listener, speaker = Broker(settings, tenuto.SinkError), Broker(settings, tenuto.SinkError)
    inboxes = [listener.listen(f"row/{number}") for number in range(200)]
    while not listener.wait(0.0005):
        inboxes.append(listener.listen(f"row/{len(inboxes)}"))
    assert speaker.wait(10.0)
    for number in range(len(inboxes)):
        assert wait_for(partial(speaker.send, f"row/{number}", b"ripe", retain=True))
    assert wait_for(lambda: all(inboxes)), f"{sum(not inbox for inbox in inboxes)} of {len(inboxes)} heard nothing"
    listener.close()
    speaker.close()


def test_what_is_no_broker_or_no_robot_is_refused() -> None:
    for text, said in (("mqtt:localhost", "expected HOST/ROBOT"), ("mqtt:localhost/a+b", "letters, digits"),
                       ("mqtt:localhost/medlar,rate=fast", "rate: expected a frequency")):  # fmt: skip
        with pytest.raises(tenuto.SinkError, match=said):
            tenuto.open_sink(text)


def test_a_robot_says_that_there_is_no_broker_and_that_there_is_one_again(tmp_path: Path) -> None:
    broker = Mosquitto(tmp_path)
    broker.stop()
    robot = Robot(tenuto.open_source(f"mqtt:127.0.0.1:{broker.port}/medlar"))

    def says(text: str) -> bool:
        return bool(robot.ticks) and text in " ".join(reason.text for reason in robot.ticks[-1].guard.reasons)

    try:
        assert wait_for(
            lambda: says(f"no connection to the broker 127.0.0.1:{broker.port}: nothing answers there"), 20.0
        )
        broker.start()
        assert wait_for(lambda: says("connected, and no command has come yet"), 20.0)
        assert all(tick.command == STANDSTILL for tick in robot.ticks)
        station = Station(tenuto.open_sink(f"mqtt:127.0.0.1:{broker.port}/medlar"))
        assert wait_for(lambda: not station.sink.problem)
        assert station.drives(robot)
        station.close()
    finally:
        robot.close()
        broker.stop()


def test_strangers_at_a_broker_cost_a_bounded_amount(broker: Mosquitto) -> None:
    """Large messages, and the states of any number of robots with any names."""
    settings = BrokerSettings("127.0.0.1", broker.port)
    speaker, listener = Broker(settings, tenuto.SinkError), Broker(settings, tenuto.SinkError)
    robots, inbox = Robots(listener), listener.listen("row/1")
    state = RobotEnd().state(0.0).to_json()
    assert wait_for(lambda: listener.wait(0.1) and speaker.wait(0.1))
    names = ["x" * 200, "\N{RIGHT-TO-LEFT OVERRIDE}medlar", *(f"r{number}" for number in range(100))]
    for name in names:
        assert wait_for(partial(speaker.send, f"tenuto/robots/{name}/state", state, retain=True))
    for size in (10_000_000, 16_385, 16_384):
        assert wait_for(partial(speaker.send, "row/1", bytes(size)))

    def all_came() -> bool:
        robots.hear(time.monotonic())
        return robots.too_many and bool(inbox)

    assert wait_for(all_came)
    assert (len(robots.states), {name[0] for name in robots.states}) == (64, {"r"})
    assert [len(message.data) for message in inbox] == [16_384]
    for number in range(100):
        assert wait_for(partial(speaker.send, "row/1", b"%d" % number))
    assert wait_for(lambda: inbox[-1].data == b"99")
    assert len(inbox) == 16, "the newest are kept"
    for one in (speaker, listener):
        one.close()
