"""The server of the page: on the loopback address alone, for whoever has the token of the address that was printed."""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import secrets
from collections.abc import AsyncIterator, Mapping
from typing import Any, Protocol

import msgspec
import uvicorn
from starlette.applications import Starlette
from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.responses import HTMLResponse, PlainTextResponse, Response
from starlette.routing import Route, WebSocketRoute
from starlette.types import ASGIApp, Receive, Scope, Send
from starlette.websockets import WebSocket, WebSocketDisconnect

from larktally.views.page.built_page import page_html
from larktally.watch.ports import HOST, bound
from larktally.watch.session import Page, Session, Watched

__all__ = ["PageServer"]

# What a page says is a few keys and numbers; what is longer was made up.
LONGEST_MESSAGE, MOST_CONNECTIONS = 64 * 1024, 40


class PageSession(Protocol):
    """What a page is shown, and who answers it."""

    async def watch(self) -> None: ...
    def end(self) -> None: ...
    def join(self, page: Page) -> None: ...
    def leave(self, page: Page) -> None: ...
    def asked(self, page: Page, message: Mapping[str, Any]) -> None: ...


class PageServer:
    """Serves what is watched; `address` is where, token included. Raises LarkTallyError for a port that is taken."""

    def __init__(self, watched: Watched | PageSession, port: int = 0) -> None:
        self._socket = bound(port)
        self.port: int = self._socket.getsockname()[1]
        self._token = secrets.token_urlsafe(24)
        self.address = f"http://{HOST}:{self.port}/?token={self._token}"
        self._watched = watched
        self._session: PageSession
        html, policy = page_html()
        self._html = html
        # Who would show the page inside of another is told here, since the page cannot say it of itself.
        self._policy = f"{policy}; frame-ancestors 'none'"

    def serve(self) -> None:
        """Serves until it is interrupted; every process that it started ends with it."""
        app = Starlette(
            routes=[Route("/", self._page), WebSocketRoute("/live", self._live)],
            lifespan=self._while_serving,
        )
        config = uvicorn.Config(
            _OnlyFromHere(app, self.port),
            log_level="error",
            access_log=False,
            ws="websockets-sansio",
            ws_max_size=LONGEST_MESSAGE,
            # What a slow or a made-up page holds open is bounded.
            limit_concurrency=MOST_CONNECTIONS,
            timeout_graceful_shutdown=1,
            server_header=False,
        )
        server = uvicorn.Server(config)
        asyncio.run(server.serve(sockets=[self._socket]))

    @contextlib.asynccontextmanager
    async def _while_serving(self, app: Starlette) -> AsyncIterator[None]:
        if isinstance(self._watched, Watched):
            self._session = Session(self._watched)
        else:
            self._session = self._watched
        watching = asyncio.create_task(self._session.watch())
        try:
            yield
        finally:
            watching.cancel()
            self._session.end()

    async def _page(self, request: Request) -> Response:
        if not self._knows(request.query_params.get("token", "")):
            return PlainTextResponse(
                "This page wants the whole address that larktally watch printed, token included.", 403
            )
        return HTMLResponse(
            self._html,
            headers={
                "Content-Security-Policy": self._policy,
                "X-Content-Type-Options": "nosniff",
                "Referrer-Policy": "no-referrer",
                "Cache-Control": "no-store",
                "Cross-Origin-Opener-Policy": "same-origin",
                "Cross-Origin-Resource-Policy": "same-origin",
            },
        )

    async def _live(self, socket: WebSocket) -> None:
        if not self._knows(socket.query_params.get("token", "")):
            await socket.close(1008)
            return
        await socket.accept()
        page = Page()
        self._session.join(page)
        sending = asyncio.create_task(_sent(socket, page))
        try:
            while True:
                # One text a message: what is none, or no JSON object, is nothing that a page of ours says.
                message = _message(await socket.receive_text())
                if message is not None:
                    self._session.asked(page, message)
        except (WebSocketDisconnect, KeyError, RuntimeError):
            pass
        finally:
            self._session.leave(page)
            sending.cancel()

    def _knows(self, token: str) -> bool:
        return hmac.compare_digest(token.encode(), self._token.encode())


class _OnlyFromHere:
    """Lets through what was asked of this address by a page of this address: a name that leads here by other ways, or a page from
    elsewhere, is turned away."""

    def __init__(self, app: ASGIApp, port: int) -> None:
        self._app = app
        self._hosts = {f"{host}:{port}" for host in (HOST, "localhost")}
        self._origins = {f"http://{host}" for host in self._hosts}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        origin = headers.get("origin")
        # A browser says of a socket where its page is from; what says nothing is no browser.
        foreign = (
            origin not in self._origins
            if scope["type"] == "websocket"
            else bool(origin) and origin not in self._origins
        )
        if headers.get("host") in self._hosts and not foreign:
            await self._app(scope, receive, send)
        elif scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 1008})
        else:
            await PlainTextResponse("Not from here.", 403)(scope, receive, send)


async def _sent(socket: WebSocket, page: Page) -> None:
    """Sends what is on its way to a page, until it is gone."""
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        while True:
            message = await page.waiting.get()
            if message is None:
                await socket.close(1013)
            elif isinstance(message, bytes):
                await socket.send_bytes(message)
            else:
                await socket.send_text(msgspec.json.encode(message).decode())


def _message(text: str) -> Mapping[str, Any] | None:
    try:
        found = msgspec.json.decode(text)
    except (msgspec.MsgspecError, RecursionError):
        return None
    return found if isinstance(found, dict) else None
