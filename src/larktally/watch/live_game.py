"""A game that runs by itself and says what it does: its rows as they come, on the page and in a trace.

It connects, says what a program says to hello, with its rate, and then a row a tick; nothing is asked of it. The words are in
docs/programs.md, "A game that runs by itself".
"""

from __future__ import annotations

import bisect
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from larktally.errors import LarkTallyError
from larktally.runs.file_recording import FileRecording
from larktally.subjects.programs.handshake import handshake_of, live_row_of
from larktally.subjects.programs.rpc import ProtocolError, shown
from larktally.subjects.protocol import Value
from larktally.timing import as_rate
from larktally.traces.columns import ChunkReader, Column, RowError
from larktally.traces.events import EventLog, data_text
from larktally.traces.header import Header
from larktally.traces.trace import Trace
from larktally.version import __version__

__all__ = ["LiveGame"]

# Rows go into the file so many at a time: what a killed one loses is no more.
CHUNK = 256
# What the page shows: five minutes at 60 frames/s.
MOST_SHOWN = 18_000


class LiveGame:
    """One game while it is connected: every row into `path`, and the last of them for the page.

    Raises LarkTallyError for what is no hello, and where the file cannot be written.
    """

    def __init__(self, hello: Mapping[str, Any], path: Path) -> None:
        self._able = handshake_of(hello)
        self._rate = as_rate(hello.get("rate", 60))
        names = tuple(action.name for action in self._able.actions)
        self._header = Header(
            rate_text=str(self._rate),
            scenario="live",
            subject=self._able.name,
            channels=self._able.channels,
            inputs=names,
            actions=names,
            analog=tuple(action.name for action in self._able.actions if action.analog),
            events=self._able.events,
            program={"name": self._able.name, "version": self._able.version},
            allow_nan=True,
            made_with={"larktally": __version__},
        )
        self._reader = ChunkReader(self._able.channels, [one.name for one in self._able.channels], nan_ok=True)
        self._file = FileRecording(path, self._header)
        # Of the chunk that is being gathered, and of what the page shows.
        self._rows: list[tuple[Value, ...]] = []
        self._held: list[list[float]] = []
        self._events = EventLog()
        self._shown: list[Trace] = []
        self.rows = 0
        #: What was wrong with a value, found where its row became one of a chunk: what came before it stands, and no more comes.
        self.failure: RowError | None = None

    @property
    def name(self) -> str:
        """What the game calls itself."""
        return self._able.name

    def take(self, line: bytes) -> None:
        """A line that it said: a row more. Raises LarkTallyError for one that does not fit, or where one before it did not."""
        if self.failure is not None:
            raise self.failure
        message = _message(line)
        if message is None:
            raise ProtocolError(f"row {self.rows}: what it said is no JSON: {shown(line)}")
        params = _params(message, "row")
        if params is None:
            raise ProtocolError(f"row {self.rows}: a running game says 'row' with params, not {shown(line)}")
        row, held, events = live_row_of(params, self._able, self.rows)
        # No step made row 0, so that nothing was held in it.
        self._held.append(held if self.rows else [0.0] * len(held))
        self._rows.append(row)
        for event in events:
            self._events.append(self.rows, event.name, event.source, data_text(event.data) if event.data else "")
        self.rows += 1
        if len(self._rows) >= CHUNK:
            self._store()
            if self.failure is not None:
                raise self.failure

    def trace(self) -> Trace:
        """The last rows as a trace, for the page: of a long run those of the last minutes. Raises LarkTallyError
        where none fits."""
        self._store()
        if self.failure is not None and not self._shown:
            raise self.failure
        while len(self._shown) > 1 and sum(one.rows for one in self._shown[1:]) >= MOST_SHOWN:
            del self._shown[0]
        columns = {}
        for channel in self._able.channels:
            parts = [one.column(channel.name).stored for one in self._shown]
            columns[channel.name] = Column(channel, np.concatenate(parts))
        inputs = {name: np.concatenate([one.inputs[name] for one in self._shown]) for name in self._header.inputs}
        log, first = EventLog(), 0
        for one in self._shown:
            for row, name, source, text in one.events.fields():
                log.append(first + row, name, source, text)
            first += one.rows
        return Trace(self._header, columns, inputs, log, first)

    def finish(self) -> Path:
        """Every row as a trace under its name; the game is gone."""
        self._store()
        path = self._file.path
        self._file.finished(self._header, {}, path, self.rows)
        return path

    def _store(self) -> None:
        """Turns the rows that are gathered into a chunk, which goes into the file."""
        if not self._rows:
            return
        count, first = len(self._rows), self.rows - len(self._rows)
        try:
            arrays = self._reader.arrays(list(zip(*self._rows, strict=True)), first)
        except RowError as error:
            self.failure = error
            self._cut(error.row)
            self._store()
            return
        held = np.array(self._held, dtype=np.float64).reshape(count, len(self._header.inputs))
        inputs = {name: held[:, n].copy() for n, name in enumerate(self._header.inputs)}
        events = self._events.shifted(-first)
        self._file.add(self._able.channels, arrays, inputs, events, count)
        columns = {}
        for channel, array in zip(self._able.channels, arrays, strict=True):
            columns[channel.name] = Column(channel, array)
        self._shown.append(Trace(self._header, columns, inputs, events, count))
        self._rows, self._held, self._events = [], [], EventLog()

    def _cut(self, row: int) -> None:
        """Leaves out a row of those that are gathered, and all after it."""
        good = row - (self.rows - len(self._rows))
        self._rows, self._held, self.rows = self._rows[:good], self._held[:good], row
        self._events = self._events[: bisect.bisect_left(self._events.rows, row)]


def hello_of(line: bytes) -> Mapping[str, Any]:
    """The params of the first line that a game says; raises LarkTallyError for one that is no 'live'."""
    message = _message(line)
    if message is None:
        raise LarkTallyError(f"what connected says no JSON: {shown(line)}")
    params = _params(message, "live")
    if params is None:
        raise LarkTallyError(f"what connected does not say 'live' first, but {shown(line)}")
    return params


def _message(line: bytes) -> dict[str, Any] | None:
    """The object on a line; None where there is none."""
    try:
        return msgspec.json.decode(line, type=dict[str, Any])
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return None


def _params(message: Mapping[str, Any], method: str) -> dict[str, Any] | None:
    """The params of a message of that method; None for another."""
    params = message.get("params")
    if message.get("method") != method or not isinstance(params, dict):
        return None
    return params
