"""The page's server, in its own process. The loop sends it ticks; it serves the page, and sends back the requests.

``python -m tenuto.page.server LINE SAYS``: two sockets of the loop, see `tenuto.links.page`.
"""

from __future__ import annotations

import asyncio
import json
import os
import pickle
import signal
import socket
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import asdict
from typing import Any, cast

import uvicorn

from tenuto.basics.errors import TenutoError
from tenuto.links.page import PageSettings
from tenuto.page.door import MOST, Door
from tenuto.page.open_pages import OpenPage, drop_note, note_page
from tenuto.page.site import Site
from tenuto.page.visitors import Page
from tenuto.protocols.page import LONGEST_MESSAGE


def _bound(settings: dict[str, Any]) -> socket.socket:
    """Listen. Raises OSError."""
    listening = socket.socket(socket.AF_INET6 if settings["lan"] and socket.has_dualstack_ipv6() else socket.AF_INET)
    if os.name == "posix":
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if listening.family == socket.AF_INET6:
        listening.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
    everywhere = "::" if listening.family == socket.AF_INET6 else ""
    listening.bind((everywhere if settings["lan"] else "127.0.0.1", settings["port"]))
    return listening


def _read_exactly(line: socket.socket, count: int) -> bytes:
    data = b""
    while len(data) < count:
        piece = line.recv(min(count - len(data), 1 << 16))
        if not piece:
            raise EOFError
        data += piece
    return data


def _message(line: socket.socket) -> Any:
    """Read a message of the loop's process; it is this process's parent, and is trusted."""
    return pickle.loads(_read_exactly(line, int.from_bytes(_read_exactly(line, 4), "big")))


async def _run(
    settings: dict[str, Any],
    listening: socket.socket,
    make: Callable[[list[str]], Page],
    line: socket.socket | None,
    ready: Callable[[Page, str, str], None],
    seconds: float | None = None,
) -> None:
    """Serve until the line of the loop ends, or until Ctrl-C if there is none.

    Args:
        settings: see `tenuto.links.page.PageSettings`. make: makes the page, from the addresses of this machine.
        ready: is called with the URL, and the certificate's fingerprint. seconds: serve for this time; None: no limit.
    """
    tls: dict[str, Any] = {}
    fingerprint, addresses = "", list[str]()
    if settings["lan"]:
        from tenuto.page.certificate import addresses as own_addresses
        from tenuto.page.certificate import own_certificate

        certificate, addresses = own_certificate(), own_addresses()
        tls = {"ssl_certfile": str(certificate.certificate), "ssl_keyfile": str(certificate.key)}
        fingerprint = certificate.fingerprint
    page = make(addresses)
    page.port = listening.getsockname()[1]
    config = uvicorn.Config(
        Site(page).app(), log_level="critical", lifespan="off", ws_max_size=4 * LONGEST_MESSAGE, ws_ping_interval=5.0,
        ws_ping_timeout=10.0, ws_per_message_deflate=False, access_log=False, server_header=False,
        timeout_graceful_shutdown=1, limit_concurrency=2 * MOST, **tls,
    )  # fmt: skip
    server = uvicorn.Server(config)

    def protocol() -> asyncio.Protocol:
        made = cast(Any, config.http_protocol_class)
        return cast(asyncio.Protocol, made(config=config, server_state=server.server_state, app_state={}))

    host = next(iter(addresses), "127.0.0.1")
    host = f"[{host}]" if ":" in host else host
    if line is not None:
        threading.Thread(target=_hear, args=(line, page, server), name="loop", daemon=True).start()
    # The door accepts the connections itself.
    serving = asyncio.create_task(server.serve([]))
    while not server.started:
        if serving.done():
            await serving  # which raises the error that ended it
            raise RuntimeError("it ended before it served")
        await asyncio.sleep(0.01)
    door = asyncio.create_task(Door(listening, protocol, config.ssl, page.knows_address).serve())
    ready(page, f"{'https' if settings['lan'] else 'http'}://{host}:{page.port}/", fingerprint)
    working = asyncio.create_task(page.work())
    if seconds is not None:
        asyncio.get_running_loop().call_later(seconds, setattr, server, "should_exit", True)
    with _noted(page) if line is not None else nullcontext():
        await serving
    for task in (door, working):
        task.cancel()
        with suppress(asyncio.CancelledError):
            await task


@contextmanager
def _noted(page: Page) -> Iterator[None]:
    """Note the port of a robot's page while it is served, so that a class finds it."""
    here = OpenPage(page.port, page.lan, os.getpid())
    try:
        path = note_page(here)
    except OSError as error:
        why = f"tenuto page --class here cannot find this page: {error.filename}: {error.strerror}"
        page.to_loop({"kind": "said", "why": why})
        yield
        return
    try:
        yield
    finally:
        drop_note(path, here)


def _hear(line: socket.socket, page: Page, server: uvicorn.Server) -> None:
    """Pass on the messages of the loop's process, and end with it."""
    loop = page.event_loop

    def over() -> None:
        page.end()
        loop.call_later(0.2, setattr, server, "should_exit", True)

    with suppress(EOFError, OSError, pickle.UnpicklingError):
        while True:
            loop.call_soon_threadsafe(page.take, _message(line))
    with suppress(RuntimeError):  # it has ended already
        loop.call_soon_threadsafe(over)


def serve(
    settings: PageSettings,
    make: Callable[[dict[str, Any], list[str]], Page],
    ready: Callable[[Page, str, str], None],
    seconds: float | None = None,
) -> None:
    """Serve a page that no loop is behind, until Ctrl-C, or SIGTERM in the main thread.

    Args:
        settings: where, and for whom. make: makes the page, from the settings and the addresses of this machine.
        ready: is called with the URL, and the certificate's fingerprint, once it is served.
        seconds: serve for this time; None: no limit.

    Raises:
        TenutoError: the port is taken.
    """
    said = asdict(settings)
    try:
        listening = _bound(said)
    except OSError as error:
        raise TenutoError(_taken(settings.port, error)) from error
    with _ended_by_sigterm(), suppress(KeyboardInterrupt):
        asyncio.run(_run(said, listening, lambda addresses: make(said, addresses), None, ready, seconds))


@contextmanager
def _ended_by_sigterm() -> Iterator[None]:
    """Let SIGTERM end the main thread as Ctrl-C does, so that everything is closed."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)


def _taken(port: int, error: OSError) -> str:
    return f"port {port}: the page cannot be served there: {error.strerror}; choose another with port"


def main(line_fd: int, says_fd: int) -> None:
    """Serve until the loop's process closes its line."""
    for name in ("SIGINT", "SIGQUIT", "SIGTSTP", "SIGTERM", "SIGHUP"):  # the loop's process handles these
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    os.nice(5)  # the loop goes first
    line, says = socket.socket(fileno=line_fd), socket.socket(fileno=says_fd)
    says.setblocking(False)
    settings = _message(line)
    try:
        listening = _bound(settings)
    except OSError as error:
        says.send(json.dumps({"kind": "failed", "why": _taken(settings["port"], error)}).encode())
        return

    def ready(page: Page, url: str, fingerprint: str) -> None:
        code = page.code.text if settings["lan"] else ""
        page.to_loop({"kind": "ready", "why": url, "name": code, "client": fingerprint})

    served = False

    def ready_once(page: Page, url: str, fingerprint: str) -> None:
        nonlocal served
        served = True
        ready(page, url, fingerprint)

    try:
        asyncio.run(_run(settings, listening, lambda addresses: Page(settings, says, addresses), line, ready_once))
    except Exception as error:
        if served:
            raise
        why = f"the page cannot be served: {error}"
        says.send(json.dumps({"kind": "failed", "why": why}).encode())


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]))
