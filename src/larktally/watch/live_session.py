"""Watching a game that runs by itself: it connects to a port of this machine, and every page sees it as it goes."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from larktally.errors import LarkTallyError
from larktally.traces.trace import Trace
from larktally.views.page.run_view import RunView, packed_runs
from larktally.watch.live_game import LiveGame, hello_of
from larktally.watch.ports import bound
from larktally.watch.session import Page
from larktally.whole_files import made_folder, plain_file_name

__all__ = ["LiveSession"]

# A tick's row; one that is longer was made up.
LONGEST_LINE = 16 * 1024 * 1024
# The page is shown the run again so often, in seconds, and no more than a tenth of the time is spent on it.
SHOWN_EVERY, SHARE = 0.25, 10


class LiveSession:
    """Listens on a port for one game after the other; `told` hears a line of each that is gone, and where it was kept. Raises
    LarkTallyError for a port that is taken."""

    def __init__(self, port: int, folder: Path, told: Callable[[str], None]) -> None:
        # Taken at once, so that a port that is taken is told before anything else.
        self._socket, self._folder, self._told = bound(port, "say another one, here and in the game"), folder, told
        self._pages: set[Page] = set()
        self._game: LiveGame | None = None
        self._pack = b""
        self._said = f"no game has connected to port {port} yet"
        self.file = f"port {port}"

    async def watch(self) -> None:
        """Listens, for ever."""
        server = await asyncio.start_server(self._connected, sock=self._socket, limit=LONGEST_LINE)
        async with server:
            await server.serve_forever()

    def end(self) -> None:
        """Keeps what has come of the game that is connected."""
        self._keep("the watching ended")

    def join(self, page: Page) -> None:
        """A page comes: it is shown what there is."""
        self._pages.add(page)
        page.send(self._hello())
        if self._pack:
            page.send(self._pack)
        else:
            page.send({"is": "failed", "text": self._said})

    def leave(self, page: Page) -> None:
        """A page goes."""
        self._pages.discard(page)

    def asked(self, page: Page, message: Mapping[str, Any]) -> None:
        """A game that runs by itself is not led from a page: all it can be is looked at."""

    def _hello(self) -> dict[str, Any]:
        name = "" if self._game is None else self._game.name
        return {"is": "hello", "file": self.file, "scenarios": [], "chosen": name, "listening": True}

    def _tell(self, message: Mapping[str, Any] | bytes) -> None:
        for page in self._pages:
            page.send(message)

    async def _connected(self, reading: asyncio.StreamReader, writing: asyncio.StreamWriter) -> None:
        if self._game is not None:
            # One at a time: two would be one run.
            writing.close()
            return
        why = "the game closed its connection"
        showing: asyncio.Task[None] | None = None
        try:
            hello = hello_of(await reading.readline())
            path = made_folder(self._folder) / f"{plain_file_name(str(hello.get('name', 'game')))}.live.parquet"
            game = self._game = LiveGame(hello, path)
            self._tell(self._hello())
            showing = asyncio.create_task(self._show())
            while line := await reading.readline():
                # The watching may have ended meanwhile: what was kept is whole.
                if self._game is not game:
                    break
                game.take(line)
        except (LarkTallyError, OSError, ValueError) as error:
            # A line that is too long is a ValueError.
            why = str(error)
        finally:
            if showing is not None:
                showing.cancel()
            self._keep(why)
            writing.close()

    async def _show(self) -> None:
        """Shows the pages what has come, again and again."""
        rows = 0
        while True:
            await asyncio.sleep(SHOWN_EVERY)
            game = self._game
            if game is None or game.rows == rows:
                continue
            rows = game.rows
            began = time.perf_counter()
            try:
                trace = game.trace()
            except (LarkTallyError, OSError):
                # Told to who reads its next line.
                continue
            # Off the loop, so that rows are taken meanwhile.
            self._pack = await asyncio.to_thread(_packed, trace, game.name)
            self._tell(self._pack)
            await asyncio.sleep(SHARE * (time.perf_counter() - began))

    def _keep(self, why: str) -> None:
        game, self._game = self._game, None
        if game is None:
            if self._pages or why.startswith("what connected"):
                self._told(why)
            return
        if not game.rows:
            self._told(f"{game.name}: {why}, before it said a row")
            return
        with contextlib.suppress(LarkTallyError, OSError):
            self._pack = _packed(game.trace(), game.name)
            self._tell(self._pack)
        if game.failure is not None:
            why = str(game.failure)
        self._said = f"{game.name}: {why} after {game.rows} rows"
        try:
            self._told(f"{self._said}; kept: {game.finish()}")
        except LarkTallyError as error:
            self._told(f"{self._said}; {error}")
        self._tell({"is": "failed", "text": f"{self._said}; kept in {self._folder}"})


def _packed(trace: Trace, name: str) -> bytes:
    return packed_runs([RunView(trace, name=name)], beside={"is": "live"})
