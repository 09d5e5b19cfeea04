"""How many robots one broker and one station carry at 20 Hz, and the effect of a flood on a good datagram."""

from __future__ import annotations

import json
import math
import os
import secrets
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import tenuto
from tenuto.data import shipped
from tenuto.links.broker import Broker
from tenuto.links.broker_settings import BrokerSettings
from tenuto.links.key_file import make_key
from tenuto.sinks.mqtt import MqttSink, broker_for_driver
from tenuto.sinks.udp import UdpSink
from tenuto.sources.mqtt import MqttSource
from tenuto.sources.udp import UdpSource

RATE, SECONDS = 20.0, 8.0
ROBOTS = (5, 10, 20, 40, 80, 120)
# Carried: 99 of 100 commands arrive within one period.
WITHIN = 1.0 / RATE


def driving() -> tenuto.Tick:
    """A tick in which Medlar is driven."""
    profile = tenuto.load_profile(shipped("medlar.toml"))
    return max(tenuto.replay(profile, shipped("orchard-row.csv")), key=lambda tick: tick.command.vx)


def robots(port: int, count: int) -> None:
    """Act as this number of robots in a process of their own, and print the arrival of each command."""
    sources = [MqttSource(f"r{number}", BrokerSettings("127.0.0.1", port)) for number in range(count)]
    came: list[tuple[int, int, float]] = []
    print("ready", flush=True)
    end = time.monotonic() + SECONDS + 4.0
    while time.monotonic() < end:
        for robot, source in enumerate(sources):
            frame = source.poll(time.monotonic())
            if frame is not None and frame.link_good:
                came.append((robot, source.end.number, time.monotonic()))
        time.sleep(0.001)
    refused = [source.end.refused for source in sources if source.end.refused]
    print(json.dumps([came, sum(source.counts().good for source in sources), refused]))


def station(count: int, port: int) -> tuple[float, float, float]:
    """Drive this number of robots over one connection; return the share that came, median and 99th percentile, s."""
    receiving = subprocess.Popen(
        [sys.executable, "-m", "benchmarks.links", str(port), str(count)], stdout=subprocess.PIPE, text=True
    )
    assert receiving.stdout is not None
    receiving.stdout.readline()
    shared: Broker = broker_for_driver(BrokerSettings("127.0.0.1", port), "bench")
    sinks = [MqttSink(f"r{number}", shared, driver="bench") for number in range(count)]
    tick, sent = driving(), {}
    shared.wait(5.0)
    time.sleep(1.5)
    # Each robot answers first, and a command counts only then.
    first, patience = 0, time.monotonic() + 5.0
    while any(sink.end.robot is None for sink in sinks) and time.monotonic() < patience:
        for sink in sinks:
            sink.write(tick._replace(time=0.0))
            first += sink.end.robot is not None
        time.sleep(1.0 / RATE)
    began, step = time.monotonic(), 0
    while time.monotonic() - began < SECONDS:
        robot, now = step % count, time.monotonic()
        sinks[robot].write(tick._replace(time=now - began))
        sent[robot, sinks[robot].end.number] = now
        step += 1
        time.sleep(max(began + step / (count * RATE) - time.monotonic(), 0.0))
    out, _ = receiving.communicate()
    shared.close()
    came, good, refused = json.loads(out)
    if refused:
        print(f"  refused: {refused[:3]}")
    # Of several commands in one millisecond only the newest is timed.
    delays = [at - sent[robot, number] for robot, number, at in came if (robot, number) in sent]
    if len(delays) < 0.5 * len(sent):
        return (good - first) / len(sent), math.inf, math.inf
    return (good - first) / len(sent), statistics.median(delays), statistics.quantiles(delays, n=100)[98]


def carried() -> None:
    with tempfile.TemporaryDirectory() as folder, socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
        free.close()
        config = Path(folder) / "broker.conf"
        config.write_text(f"listener {port} 127.0.0.1\nallow_anonymous true\nset_tcp_nodelay true\n")
        path = os.environ.get("PATH", "") + ":/usr/sbin"
        broker = subprocess.Popen(
            ["mosquitto", "-c", config], stderr=subprocess.DEVNULL, env={**os.environ, "PATH": path}
        )
        time.sleep(0.5)
        most = 0
        for count in ROBOTS:
            share, median, late = station(count, port)
            print(f"MQTT, {count} robots at {RATE:.0f} Hz: {share:.1%} came, median {median * 1e3:.1f} ms, "
                  f"99 % {late * 1e3:.1f} ms")  # fmt: skip
            if share < 0.99 or late > WITHIN:
                break
            most = count
        print(f"MQTT: {most} robots are carried, with 99 % of the commands within {WITHIN * 1e3:.0f} ms")
        broker.kill()
        broker.wait()


def flood(port: int, over: threading.Event) -> None:
    """Send invalid datagrams as fast as possible."""
    junk = [b"T\x13" + secrets.token_bytes(90), secrets.token_bytes(60), b"T\x11" + secrets.token_bytes(80)]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        while not over.is_set():
            for data in junk * 20:
                one.sendto(data, ("127.0.0.1", port))
            time.sleep(0.001)


def datagrams() -> None:
    """Time a command from sending to the frame, without and with a flood of about 30,000 datagrams a second."""
    with tempfile.TemporaryDirectory() as folder:
        key = f"{folder}/key"
        make_key(key, tenuto.SinkError)
        robot = UdpSource("127.0.0.1:0", key=key)
        sink = UdpSink(f"127.0.0.1:{robot.address[1]}", key=key, form="compact")
        tick, seconds = driving(), dict[str, list[float]]()
        for kind in ("quiet", "flood"):
            over = threading.Event()
            if kind == "flood":
                threading.Thread(target=flood, args=(robot.address[1], over), daemon=True).start()
            seconds[kind] = []
            for _ in range(1500):
                began = time.monotonic()
                sink.write(tick._replace(time=began))
                while robot.poll(time.monotonic()) is None and time.monotonic() - began < 0.5:
                    pass
                seconds[kind].append(time.monotonic() - began)
                time.sleep(0.002)
            over.set()
        sink.close()
        robot.close()
    middle = {kind: statistics.median(values) for kind, values in seconds.items()}
    late = {kind: statistics.quantiles(values, n=100)[98] for kind, values in seconds.items()}
    print(f"UDP, sent to frame: median {middle['quiet'] * 1e6:.0f} µs, in a flood {middle['flood'] * 1e6:.0f} µs "
          f"(ratio {middle['flood'] / middle['quiet']:.1f}); 99 % {late['quiet'] * 1e3:.1f} and "
          f"{late['flood'] * 1e3:.1f} ms")  # fmt: skip


def main() -> None:
    datagrams()
    carried()


if __name__ == "__main__" and len(sys.argv) > 2:
    robots(int(sys.argv[1]), int(sys.argv[2]))
elif __name__ == "__main__":
    main()
