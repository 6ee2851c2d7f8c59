"""Traces read from JSON Lines, some megabytes of lines at a time: values become columns at once, and no line is held twice.

What each line says is checked with its line number; a value stands until it is changed.
"""

from __future__ import annotations

import contextlib
import itertools
import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, TraceError
from larktally.textfmt import shortened
from larktally.timing import RateLike
from larktally.traces.columns import Channel, Column, check_size
from larktally.traces.contents import TraceContents
from larktally.traces.events import EventLog, check_event_name
from larktally.traces.header import Header, read_header
from larktally.traces.json_keys import check_keys
from larktally.traces.saved_states import state_from_text

__all__ = ["End", "Row", "read"]

_SPECIAL = {"nan": math.nan, "inf": math.inf, "-inf": -math.inf}
# Bytes of lines that are read at once, and of the file's end that is looked through for its last line.
_AT_ONCE, _BLOCK = 1 << 22, 1 << 16


class Row(msgspec.Struct, omit_defaults=True, forbid_unknown_fields=True):
    """A line of the body: what changed in a row, and what happened in it."""

    frame: int
    set: dict[str, Any] = {}
    input: dict[str, Any] = {}
    events: list[list[Any]] = []
    state: str = ""


class End(msgspec.Struct, forbid_unknown_fields=True):
    """The last line."""

    rows: int
    digest: str = ""


_ROWS, _END = msgspec.json.Decoder(Row), msgspec.json.Decoder(End)


def read(path: Path, rate: RateLike | None = None) -> TraceContents:
    """Reads what `larktally.traces.formats.jsonl.write` wrote; raises TraceError naming the line of what is broken."""
    with path.open("rb") as file:
        header, _ = read_header(file.readline().rstrip(b"\n"), f"{path}, line 1")
        lines, last = _last_line(file)
        if lines < 2 or last is None:
            raise TraceError(f"{path}: cut short: its last line is not whole")
        end = _decoded(last, _END, path, lines, "the line with the digest; the file is cut short")
        check_keys(last, f"{path}, line {lines}")
        if end.rows != lines - 2:
            raise TraceError(f"{path}: {lines - 2} rows, where its last line counts {end.rows}")
        check_size(path, end.rows, len(header.channels) + len(header.inputs))
        body = _Body(path, header, end.rows)
        for some in _body_lines(file, end.rows):
            body.take(some)
    trace = body.trace()
    if end.digest and trace.digest != end.digest:
        raise TraceError(
            f"{path}: its content does not match the digest in its last line; it was changed after recording"
        )
    return trace


def _last_line(file: BinaryIO) -> tuple[int, bytes | None]:
    """How many whole lines a file has, and the last of them; None where what follows it is not whole. Leaves the file after
    its first line."""
    body, count, tail = file.tell(), 0, b""
    file.seek(0)
    for block in iter(lambda: file.read(1 << 20), b""):
        count += block.count(b"\n")
        tail = block[-1:]
    if tail != b"\n":
        return count, None
    # Backward, a block at a time: a line may be of any length.
    start, found = file.tell() - 1, b""
    while start and b"\n" not in found:
        size = min(_BLOCK, start)
        start -= size
        file.seek(start)
        found = file.read(size) + found
    file.seek(body)
    return count, found.rsplit(b"\n", 1)[-1]


def _body_lines(file: BinaryIO, rows: int) -> Iterator[list[bytes]]:
    """The lines of so many rows, some at a time."""
    while rows:
        lines = file.readlines(_AT_ONCE)[:rows]
        # Only a file that shrinks while it is read.
        if not lines:
            raise TraceError("the file became shorter while it was read")
        rows -= len(lines)
        yield lines


class _Changes:
    """The values that a column takes from some rows on, waiting to be put into it."""

    __slots__ = ("rows", "values")

    def __init__(self) -> None:
        self.rows: list[int] = []
        self.values: list[Any] = []


class _Body:
    """Columns, inputs and events as they come, line after line."""

    def __init__(self, path: Path, header: Header, rows: int) -> None:
        self._path, self._header, self._rows = path, header, rows
        self._done = 0
        self._columns = {}
        for channel in header.channels:
            self._columns[channel.name] = np.zeros(rows, channel.dtype)
        self._inputs = {name: np.zeros(rows) for name in header.inputs}
        self._events, self._states = EventLog(), dict[int, bytes]()
        self._known_events: set[tuple[str, str]] = set()

    def take(self, lines: Sequence[bytes]) -> None:
        """Reads the next lines into the columns."""
        changes = {name: _Changes() for name in self._columns}
        presses = {name: _Changes() for name in self._inputs}
        path = self._path
        for k, line in enumerate(lines, self._done):
            row = _decoded(line, _ROWS, path, k + 2, "a row of a trace")
            # Each key is followed by a quote and a colon, and one that stands twice is decoded once: counting them is a fifth
            # of the price of looking at each.
            if row.events or line.count(b'":') != _keys(row):
                check_keys(line, f"{path}, line {k + 2}")
            if row.frame != k:
                raise TraceError(f"{path}, line {k + 2}: frame {row.frame}, where row {k} belongs")
            try:
                for name, value in row.set.items():
                    known = changes[name]
                    known.rows.append(k)
                    known.values.append(value)
                for name, value in row.input.items():
                    known = presses[name]
                    known.rows.append(k)
                    known.values.append(value)
            except KeyError:
                self._unknown(k, row)
            if k == 0:
                self._check_first(row)
            if row.state:
                self._states[k] = state_from_text(row.state, f"{path}, line {k + 2}")
            for emitted in row.events:
                self._add_event(k, emitted)
        end = self._done + len(lines)
        for channel in self._header.channels:
            some = changes[channel.name]
            self._fill(self._columns[channel.name], some.rows, _stored(channel, some, path), end)
        for name, pressed in presses.items():
            values = [_number(value, path, k) for k, value in zip(pressed.rows, pressed.values, strict=True)]
            for k, value in zip(pressed.rows, values, strict=True):
                if not -1 <= value <= 1:
                    raise TraceError(f"{path}, line {k + 2}: input {name!r} is {value!r}; an input is in [-1, 1]")
            self._fill(self._inputs[name], pressed.rows, np.array(values, dtype=np.float64), end)
        self._done = end

    def trace(self) -> TraceContents:
        """All of it."""
        columns = {}
        for channel in self._header.channels:
            columns[channel.name] = Column(channel, self._columns[channel.name])
        return TraceContents(self._header, columns, self._inputs, self._events, self._rows, self._states)

    def _fill(self, array: npt.NDArray[Any], rows: list[int], values: npt.NDArray[Any], end: int) -> None:
        """Puts values into an array from their rows on, up to `end`; what was there in the row before goes on until the first."""
        first = self._done
        if not rows or rows[0] > first:
            before = array[first - 1 : first] if first else np.zeros(1, array.dtype)
            rows, values = [first, *rows], np.concatenate([before, values.astype(array.dtype)])
        array[first:end] = np.repeat(values, np.diff([*rows, end]))

    def _check_first(self, row: Row) -> None:
        for name in self._columns:
            # Nothing stands before row 0 that it could have changed from.
            if name not in row.set:
                raise TraceError(f"{self._path}, line 2: channel {name!r} is missing; in row 0 every channel stands")

    def _unknown(self, k: int, row: Row) -> None:
        pairs = itertools.chain(
            ((name, "channel", self._columns) for name in row.set),
            ((name, "input", self._inputs) for name in row.input),
        )
        for name, kind, known in pairs:
            if name not in known:
                raise TraceError(f"{self._path}, line {k + 2}: {kind} {name!r} is not in the header")

    def _add_event(self, k: int, emitted: list[Any]) -> None:
        line = f"{self._path}, line {k + 2}"
        name, source, data = _event_fields(emitted, line)
        try:
            # The names of a run are few, and looked at once.
            if (name, source) not in self._known_events:
                check_event_name(name, source)
                self._known_events.add((name, source))
            self._events.add(k, name, source, data)
        except LarkTallyError as error:
            raise TraceError(f"{line}: {error}") from None


def _stored(channel: Channel, changes: _Changes, path: Path) -> npt.NDArray[Any]:
    """Values as they stand in a column; all at once where all are of the one type, and one by one otherwise."""
    kinds, values = set(map(type, changes.values)), changes.values
    if channel.kind == "number" and kinds <= {float}:
        return np.array(values, dtype=np.float64)
    if channel.kind == "flag" and kinds <= {bool}:
        return np.array(values, dtype=np.bool_)
    if channel.kind == "count" and kinds <= {int}:
        with contextlib.suppress(OverflowError):
            return np.array(values, dtype=np.int64)
    if channel.kind == "label" and kinds <= {str}:
        codes = {label: code for code, label in enumerate(channel.labels)}
        with contextlib.suppress(KeyError):
            return np.fromiter(map(codes.__getitem__, values), np.int32, len(values))
    found = [_one(channel, value, path, k) for k, value in zip(changes.rows, values, strict=True)]
    return np.array(found, dtype=channel.dtype)


def _one(channel: Channel, value: Any, path: Path, row: int) -> Any:
    wanted: type | None = {"count": int, "flag": bool, "label": str}.get(channel.kind)
    if wanted is None:
        return _number(value, path, row)
    if type(value) is wanted:
        if channel.kind == "label" and value in channel.labels:
            return channel.labels.index(value)
        if channel.kind == "flag" or (isinstance(value, int) and -(2**63) <= value < 2**63):
            return value
    raise TraceError(f"{path}, line {row + 2}: {_shown(value)} is not a {channel.kind} of channel {channel.name!r}")


def _number(value: Any, path: Path, row: int) -> float:
    if isinstance(value, str) and value in _SPECIAL:
        return _SPECIAL[value]
    if isinstance(value, int | float) and not isinstance(value, bool):
        # A whole number may be as long as its line, and beyond every float.
        with contextlib.suppress(OverflowError):
            return float(value)
    raise TraceError(f"{path}, line {row + 2}: {_shown(value)} is not a number")


def _shown(value: Any) -> str:
    """The start of a value, for messages; of a whole number that has thousands of digits Python gives no text at all."""
    try:
        return shortened(repr(value))
    except ValueError:
        return "a number of thousands of digits"


def _event_fields(emitted: list[Any], line: str) -> tuple[str, str, dict[str, Any]]:
    event: list[Any] = [None, "", {}]
    if 1 <= len(emitted) <= 3:
        event[: len(emitted)] = emitted
    name, source, data = event
    if isinstance(name, str) and isinstance(source, str) and isinstance(data, dict):
        return name, source, data
    shape = '["name"], ["name", "source"] or ["name", "source", {data}]'
    raise TraceError(f"{line}: an event is {shape}, not {_shown(emitted)}")


def _decoded(line: bytes, decoder: Any, path: Path, number: int, what: str) -> Any:
    try:
        found = decoder.decode(line)
    # A number of more digits than Python turns into text is a ValueError.
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise TraceError(f"{path}, line {number}: not {what}: {error}") from None
    return found


def _keys(row: Row) -> int:
    """How many keys the line of a row has that is written plainly."""
    keys = 1
    for inside in (row.set, row.input):
        if inside:
            keys += 1 + len(inside)
    return keys + bool(row.state)
