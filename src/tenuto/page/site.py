"""The site: the page and its files, the admission of devices, and the WebSocket for everything else."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, MutableMapping
from contextlib import suppress
from datetime import date
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import HTTPConnection, Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Mount, Route, WebSocketRoute
from starlette.staticfiles import StaticFiles
from starlette.websockets import WebSocket, WebSocketDisconnect

from tenuto.basics.json_in import read_json
from tenuto.page.hub import Client
from tenuto.page.visitors import COOKIE, Outlet, Page
from tenuto.protocols.page import LONGEST_MESSAGE

_Message = MutableMapping[str, Any]
_YEAR = 365 * 86400
_HEADERS = {
    "Content-Security-Policy": "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; "
    "connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "X-Frame-Options": "DENY",
    "Cache-Control": "no-cache",
}
_FOLDER = Path(__file__).parent / "static"
# The files for a device that has not shown the code.
_FOR_STRANGERS = ("/static/pair.css", "/static/pair.js", "/static/icon.svg")


class Site:
    """Answers requests for one page."""

    def __init__(self, page: Page) -> None:
        self._page = page
        self._files = StaticFiles(directory=_FOLDER)

    def app(self) -> Starlette:
        """Return the application."""
        return Starlette(
            routes=[
                Route("/", self._home),
                Route("/pair", self._pair, methods=["POST"]),
                Route("/favicon.ico", lambda _: RedirectResponse("/static/icon.svg")),
                WebSocketRoute("/live", self._live),
                Mount("/static", self._static),
            ]
        )

    async def _home(self, request: Request) -> Response:
        """Return the page, or the form for the code."""
        if not self._page.allowed(request):
            return _refused(self._page)
        shown = "index.html" if self._page.knows(request) else "pair.html"
        return Response((_FOLDER / shown).read_bytes(), 200, _HEADERS, "text/html")

    async def _pair(self, request: Request) -> Response:
        """Admit a device that has the code."""
        page = self._page
        if not (page.lan and page.allowed(request, by_script=True)):
            return _refused(self._page)
        try:
            asked = read_json(await _short_body(request))
            code, name = str(asked["code"]), str(asked.get("name", ""))
        except (ValueError, KeyError, TypeError, AttributeError):
            return JSONResponse({"text": "expected a code"}, 400, _HEADERS)
        before = page.code.text
        why = page.code.why_not(code, page.now(), request.client.host if request.client is not None else "")
        if page.code.text != before:
            page.tell_code()
        if why:
            return JSONResponse({"text": why}, 403, _HEADERS)
        try:
            key = page.devices.add(name, date.today().isoformat())
        except OSError as error:
            return JSONResponse({"text": f"The robot cannot keep it: {error.strerror}"}, 500, _HEADERS)
        answer = JSONResponse({"text": "let in"}, 200, _HEADERS)
        answer.set_cookie(COOKIE, key, max_age=_YEAR, secure=True, httponly=True, samesite="strict")
        return answer

    async def _static(
        self, scope: _Message, receive: Callable[[], Awaitable[_Message]], send: Callable[[_Message], Awaitable[None]]
    ) -> None:
        """Return a file of the page, to those who may see the page."""
        page, connection = self._page, HTTPConnection(scope)
        if not page.allowed(connection) or not (page.knows(connection) or connection.url.path in _FOR_STRANGERS):
            await _refused(page)(scope, receive, send)
            return

        async def with_headers(message: _Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] += [(key.lower().encode(), value.encode()) for key, value in _HEADERS.items()]
            await send(message)

        await self._files(scope, receive, with_headers)

    async def _live(self, socket: WebSocket) -> None:
        """Accept the WebSocket of a page that is permitted."""
        try:
            may_drive, name = self._page.who(socket)
        except PermissionError:
            await socket.close(1008)
            return
        if not self._page.allowed(socket, by_script=True):
            await socket.close(1008)
            return
        if may_drive:
            self._page.came(socket)
        await socket.accept()
        await self._serve(socket, may_drive, name)

    async def _serve(self, socket: WebSocket, may_drive: bool, name: str) -> None:
        """Serve one browser until it goes."""
        page = self._page
        outlet = Outlet(lambda: self._still_allowed(socket, may_drive))
        client = Client(
            name or f"page {len(page.hub.clients) + 1}", may_drive, outlet.put, bool(name), asked_at=page.now()
        )
        if why := page.hub.join(client):
            await socket.close(1013, why)
            return
        page.outlets.add(outlet)
        for message in (page.robot, *page.first):
            if message:
                outlet.put(message)
        sending = asyncio.create_task(outlet.send_to(socket))
        gone = "its page was closed, or its network is gone"
        with suppress(WebSocketDisconnect, RuntimeError):
            while not outlet.why:
                came = await socket.receive()
                if came["type"] == "websocket.disconnect":
                    break
                text = came.get("text")
                data = text.encode() if text is not None else came.get("bytes") or b""
                if why := page.hub.hear(client, data, page.now()):
                    outlet.close(why)
        page.outlets.discard(outlet)
        page.hub.leave(client, f"{client.name} is gone: {outlet.why or gone}")
        if not outlet.why:
            sending.cancel()
        with suppress(Exception, asyncio.CancelledError):
            await asyncio.wait_for(sending, 1.0)

    def _still_allowed(self, socket: WebSocket, may_drive: bool) -> bool:
        """Check again whether a device is still admitted: its key may have been revoked."""
        try:
            return self._page.who(socket)[0] or not may_drive
        except PermissionError:
            return False


def _refused(page: Page) -> Response:
    """Refuse a request that is not for this page; say where the page is if that is no secret."""
    text = "not allowed: the robot's terminal shows the address and what a new device needs\n"
    if not page.lan:
        text = (
            f"This page answers at port {page.port} of 127.0.0.1 and localhost only. Over SSH, forward the same port: "
        )
        text += f"ssh -L {page.port}:127.0.0.1:{page.port} ROBOT\n"
    return Response(text, 403, _HEADERS, "text/plain")


async def _short_body(request: Request) -> bytes:
    data = b""
    async for piece in request.stream():
        data += piece
        if len(data) > LONGEST_MESSAGE:
            return b""
    return data
