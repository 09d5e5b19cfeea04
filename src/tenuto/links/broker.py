"""A connection to an MQTT 5 broker, maintained by its own thread.

Needs the package paho-mqtt (``pip install tenuto[mqtt]``).
"""

from __future__ import annotations

import os
import secrets
import socket
import ssl
import stat
import sys
import threading
from collections import deque
from collections.abc import Callable
from typing import Any

from tenuto.basics.errors import TenutoError
from tenuto.basics.extras import how_to_get
from tenuto.files import MOST_TOML, UnreadableError, read_text
from tenuto.links.broker_settings import BrokerSettings, Message
from tenuto.protocols.remote import LONGEST_MESSAGE

try:
    import paho.mqtt.client as mqtt
    from paho.mqtt.enums import CallbackAPIVersion
    from paho.mqtt.packettypes import PacketTypes
    from paho.mqtt.properties import Properties
except ImportError as missing:  # pragma: no cover
    raise TenutoError(how_to_get("paho")) from missing

PORT, TLS_PORT = 1883, 8883
# The keep-alive interval, s: the broker closes a connection after 1.5 times this without a message.
_KEEP_ALIVE = 2
# The greatest number of messages that wait to be sent, and that wait to be read.
_MOST_UNSENT, _MOST_UNREAD = 8, 16
_MOST_ROUTES = 1024
# The broker drops a message that it cannot deliver within this time, s: the standard counts whole seconds.
_EXPIRES = 1


class Broker:
    """One connection and its messages. Only `wait` and `close` block.

    Attributes:
        name: the address of the broker, for people. run: a random number of this program.
    """

    def __init__(
        self,
        settings: BrokerSettings,
        error: type[TenutoError],
        *,
        will: Callable[[str, int], Message] | None = None,
        keep_will: bool = False,
    ) -> None:
        """Start to connect; it keeps trying, now and whenever the connection is lost.

        Args:
            settings: the address and the user. error: the type for invalid files.
            will: makes the message that the broker publishes if we are gone, from `run` and the number of the
                connection. keep_will: the broker retains it.
        """
        port = settings.port or (TLS_PORT if settings.ca else PORT)
        self.name = f"{settings.host}:{port}"
        self.run = secrets.token_hex(8)
        self._will, self._keep_will, self._life = will, keep_will, 0
        self._inboxes: dict[str, deque[Message]] = {}
        # The receivers of a topic, cached: matching takes 20 µs each, and a station listens to many robots.
        self._routes: dict[str, tuple[deque[Message], ...]] = {}
        self._unsent: dict[str, deque[mqtt.MQTTMessageInfo]] = {}
        self._expiry = Properties(PacketTypes.PUBLISH)  # type: ignore[no-untyped-call]
        self._expiry.MessageExpiryInterval = _EXPIRES
        self._why = "it has not answered yet"
        self._refused = False
        self._connected = threading.Event()
        # A topic is subscribed when listening begins or when the connection is made: none may be lost between the two.
        self._asking = threading.Lock()
        self._client = client = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=mqtt.MQTTv5)
        self._identify(settings, error)
        self._make_will()
        client.reconnect_delay_set(1, 2)
        client.on_connect, client.on_disconnect = self._on_connect, self._on_disconnect
        client.on_socket_open = _at_once
        client.on_connect_fail, client.on_message = self._on_connect_fail, self._on_message
        try:
            client.connect_async(settings.host, port, keepalive=_KEEP_ALIVE, clean_start=True)
        except ValueError as cause:
            raise error(f"MQTT {self.name}: {cause}") from cause
        client.loop_start()

    @property
    def problem(self) -> str:
        """Report a missing connection, and why."""
        return "" if self._connected.is_set() else f"no connection to the broker {self.name}: {self._why}"

    def wait(self, seconds: float) -> bool:
        """Wait for the connection for this time at most; return whether it exists."""
        return self._connected.wait(seconds)

    def listen(self, topic: str, most: int = _MOST_UNREAD) -> deque[Message]:
        """Listen to a topic from now on, which may have wildcards; return the queue of its newest messages."""
        with self._asking:
            inbox = self._inboxes.setdefault(topic, deque(maxlen=most))
            self._routes = {}
            if self._connected.is_set():
                self._client.subscribe(topic, qos=0)
        return inbox

    def send(self, topic: str, data: bytes, *, retain: bool = False, expires: bool = False) -> bool:
        """Send a message at once; return whether it was sent. A message that cannot be sent is dropped, never queued.

        Args:
            retain: the broker keeps it for later subscribers. expires: it is worthless after a second.
        """
        unsent = self._unsent.setdefault(topic, deque())
        while unsent and unsent[0].is_published():
            unsent.popleft()
        if not self._connected.is_set():
            unsent.clear()
            return False
        if len(unsent) >= _MOST_UNSENT:
            return False
        info = self._client.publish(topic, data, qos=0, retain=retain, properties=self._expiry if expires else None)
        if info.rc == mqtt.MQTT_ERR_SUCCESS:
            unsent.append(info)
        return info.rc == mqtt.MQTT_ERR_SUCCESS

    def close(self) -> None:
        """Publish the will ourselves, and disconnect."""
        if self._connected.is_set() and self._will is not None:
            will = self._will(self.run, self._life)
            self._client.publish(will.topic, will.data, qos=1, retain=self._keep_will).wait_for_publish(0.5)
        self._client.disconnect()
        self._client.loop_stop()

    def _make_will(self) -> None:
        """Set the last will of the next connection: each counts once."""
        if self._will is not None:
            self._life += 1
            will = self._will(self.run, self._life)
            self._client.will_set(will.topic, will.data, qos=1, retain=self._keep_will)

    def _identify(self, settings: BrokerSettings, error: type[TenutoError]) -> None:
        """Set user, password and TLS."""
        try:
            _refuse_plain(settings, error)
            if settings.user is not None:
                password = _password(settings.password_file, error) if settings.password_file else None
                self._client.username_pw_set(settings.user, password)
            if settings.ca is not None:
                trusted = None if settings.ca == "system" else settings.ca
                self._client.tls_set(trusted, settings.certificate, settings.private_key)
        except (OSError, ValueError) as cause:
            files = ", ".join(
                file for file in (settings.password_file, settings.ca, settings.certificate, settings.private_key)
                if file and not os.path.exists(file)
            )  # fmt: skip
            raise error(f"MQTT {self.name}: {files + ': ' if files else ''}{cause}") from cause

    def _on_connect(self, client: mqtt.Client, _: Any, flags: Any, reason: Any, properties: Any) -> None:
        if reason.is_failure:
            self._why, self._refused = str(reason), True
            return
        with self._asking:
            for topic in self._inboxes:
                client.subscribe(topic, qos=0)
            self._connected.set()

    def _on_disconnect(self, client: mqtt.Client, _: Any, flags: Any, reason: Any, properties: Any) -> None:
        if self._connected.is_set():
            self._why = "the connection was lost"
            self._make_will()
        elif not self._refused:
            self._why = "it closed the connection: does it need TLS (ca=FILE), or a user name?"
        self._refused = False
        self._connected.clear()

    def _on_connect_fail(self, client: mqtt.Client, _: Any) -> None:
        self._why = _failure(sys.exc_info()[1])

    def _on_message(self, client: mqtt.Client, _: Any, message: mqtt.MQTTMessage) -> None:
        if len(message.payload) > LONGEST_MESSAGE:
            return
        topic, routes = message.topic, self._routes
        inboxes = routes.get(topic)
        if inboxes is None:
            if len(routes) >= _MOST_ROUTES:
                routes.clear()
            inboxes = tuple(
                inbox for wanted, inbox in list(self._inboxes.items()) if mqtt.topic_matches_sub(wanted, topic)
            )
            routes[topic] = inboxes
        for inbox in inboxes:
            inbox.append(Message(topic, bytes(message.payload), bool(message.retain)))


def _refuse_plain(settings: BrokerSettings, error: type[TenutoError]) -> None:
    """Refuse a password over an unencrypted connection, unless it is permitted. Raises ``error``."""
    here = settings.host in ("localhost", "127.0.0.1", "::1")
    if settings.password_file is not None and settings.ca is None and not here and not settings.plain_password:
        raise error(
            f"mqtt: the password would go unencrypted to {settings.host} over the network: "
            "set ca=FILE or ca=system for TLS, or plain_password=true"
        )


def _password(path: str, error: type[TenutoError]) -> str:
    """Read a password. Raises `OSError`, and ``error`` if everybody may read it, or it is not text."""
    if os.name == "posix" and os.stat(path).st_mode & stat.S_IRWXO:
        raise error(f"password file {path}: all users can read it; fix it with: chmod 600 {path}")
    try:
        return read_text(path, MOST_TOML).strip()
    except UnreadableError as cause:
        raise error(f"password file {path}: {cause}") from cause


def _failure(cause: BaseException | None) -> str:
    """Explain why a connection failed; a certificate that TLS does not trust is named."""
    if isinstance(cause, ssl.SSLCertVerificationError):
        why = cause.verify_message
        if "ostname" in why or "IP address" in why:
            return f"its certificate is for another host: {why}"
        return f"its certificate is not from an authority in ca: {why}"
    if isinstance(cause, ssl.SSLError):
        return f"TLS fails: {cause.reason or cause}; does the broker speak TLS at this port?"
    if isinstance(cause, socket.gaierror):
        return "the host name is not known"
    return (
        f"nothing answers there ({cause.strerror or cause})"
        if isinstance(cause, OSError) and cause.strerror
        else ("nothing answers there")
    )


def _at_once(client: mqtt.Client, _: Any, opened: Any) -> None:
    """Send small messages at once: otherwise the system delays them for up to 40 ms, to send several together."""
    opened.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
