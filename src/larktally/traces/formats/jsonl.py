"""Traces as JSON Lines: a header, a line per row with what changed, and a line with the digest.

Small, and a good diff under version control. Floats stand in the shortest form that reads back to the same bits; what
JSON has no number for is "nan", "inf" or "-inf".
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any, BinaryIO

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, TraceError
from larktally.textfmt import shortened
from larktally.timing import RateLike
from larktally.traces.columns import Channel, Column, check_size
from larktally.traces.contents import Savable, TraceContents
from larktally.traces.events import EventLog, check_event_name
from larktally.traces.header import Header, header_json, read_header
from larktally.traces.json_keys import check_keys
from larktally.traces.saved_states import state_from_text, state_text

__all__ = ["write", "read"]

_SPECIAL = {"nan": math.nan, "inf": math.inf, "-inf": -math.inf}


class _Row(msgspec.Struct, omit_defaults=True, forbid_unknown_fields=True):
    frame: int
    set: dict[str, Any] = {}
    input: dict[str, Any] = {}
    events: list[list[Any]] = []
    state: str = ""


class _End(msgspec.Struct, forbid_unknown_fields=True):
    rows: int
    digest: str = ""


def write(source: Savable, file: BinaryIO) -> None:
    """Writes a whole trace to an open file, piece by piece."""
    file.write(header_json(source.header) + b"\n")
    encoder = msgspec.json.Encoder()
    first = 0
    before: TraceContents | None = None
    for piece in source.pieces():
        rows = _rows_of(piece, before, first, source.states)
        file.writelines(encoder.encode(row) + b"\n" for row in rows)
        if piece.rows:
            first, before = first + piece.rows, piece
    file.write(encoder.encode(_End(source.rows, source.digest)) + b"\n")


def _rows_of(piece: TraceContents, before: TraceContents | None, first: int, states: Mapping[int, bytes]) -> list[_Row]:
    """The lines of a piece; `before` is the piece that came before it."""
    # Only what changed stands in a line: a diff of two baselines then reads like what happened.
    rows = [_Row(first + k, {}, {}, []) for k in range(piece.rows)]
    for name, column in piece.columns.items():
        for k in _changed_rows(column.stored, before.columns[name].stored[-1:] if before else None):
            rows[k].set[name] = _plain(column.at(k))
    # Before the first row nothing was held.
    nothing = np.zeros(1)
    for name, values in piece.inputs.items():
        for k in _changed_rows(values, before.inputs[name][-1:] if before else nothing):
            rows[k].input[name] = _plain(values[k].item())
    for event in piece.events:
        emitted: list[Any] = [event.name]
        if event.source or event.data:
            emitted.append(event.source)
        if event.data:
            emitted.append(event.data)
        rows[event.row].events.append(emitted)
    for row, state in states.items():
        if first <= row < first + piece.rows:
            rows[row - first].state = state_text(state)
    return rows


def read(path: Path, rate: RateLike | None = None) -> TraceContents:
    """Reads what `write` wrote; raises TraceError naming the line of what is broken."""
    lines = path.read_bytes().split(b"\n")
    header, _ = read_header(lines[0], f"{path}, line 1")
    if len(lines) < 3 or lines[-1] != b"":
        raise TraceError(f"{path}: cut short: its last line is not whole")
    end = _decoded(lines[-2], _End, path, len(lines) - 1, "the line with the digest; the file is cut short")
    body = lines[1:-2]
    if end.rows != len(body):
        raise TraceError(f"{path}: {len(body)} rows, where its last line counts {end.rows}")
    rows = []
    for number, line in enumerate(body, 2):
        rows.append(_decoded(line, _Row, path, number, "a row of a trace"))
    trace = _build(path, header, rows)
    if end.digest and trace.digest != end.digest:
        raise TraceError(
            f"{path}: its content does not match the digest in its last line; it was changed after recording"
        )
    return trace


def _build(path: Path, header: Header, rows: list[_Row]) -> TraceContents:
    check_size(path, len(rows), len(header.channels) + len(header.inputs))
    columns = {}
    for c in header.channels:
        columns[c.name] = Column(c, np.zeros(len(rows), c.dtype))
    inputs = {name: np.zeros(len(rows)) for name in header.inputs}
    changes: dict[str, list[tuple[int, Any]]] = {name: [] for name in columns}
    presses: dict[str, list[tuple[int, Any]]] = {name: [] for name in inputs}
    events, states = EventLog(), {}
    known_events: set[tuple[str, str]] = set()
    for name in columns:
        # Nothing stands before row 0 that it could have changed from.
        if rows and name not in rows[0].set:
            raise TraceError(f"{path}, line 2: channel {name!r} is missing; in row 0 every channel stands")
    for k, row in enumerate(rows):
        line = f"{path}, line {k + 2}"
        if row.frame != k:
            raise TraceError(f"{line}: frame {row.frame}, where row {k} belongs")
        for given, known, kind in ((row.set, changes, "channel"), (row.input, presses, "input")):
            for name, value in given.items():
                if name not in known:
                    raise TraceError(f"{line}: {kind} {name!r} is not in the header")
                known[name].append((k, value))
        if row.state:
            states[k] = state_from_text(row.state, line)
        for emitted in row.events:
            name, source, data = _event_fields(emitted, line)
            try:
                # The names of a run are few, and looked at once.
                if (name, source) not in known_events:
                    check_event_name(name, source)
                    known_events.add((name, source))
                events.add(k, name, source, data)
            except LarkTallyError as error:
                raise TraceError(f"{line}: {error}") from None
    for name, column in columns.items():
        _fill(column.stored, [(k, _stored(column.channel, value, path, k)) for k, value in changes[name]])
    for name, values in inputs.items():
        _fill(values, [(k, _number(value, path, k)) for k, value in presses[name]])
        for k, _ in presses[name]:
            if not -1 <= values[k] <= 1:
                raise TraceError(
                    f"{path}, line {k + 2}: input {name!r} is {float(values[k])!r}; an input is in [-1, 1]"
                )
    return TraceContents(header, columns, inputs, events, len(rows), states)


def _fill(array: npt.NDArray[Any], changes: list[tuple[int, Any]]) -> None:
    ends = [k for k, _ in changes[1:]] + [len(array)]
    for (start, value), end in zip(changes, ends, strict=False):
        array[start:end] = value


def _stored(channel: Channel, value: Any, path: Path, row: int) -> Any:
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


def _decoded(line: bytes, kind: Any, path: Path, number: int, what: str) -> Any:
    try:
        found = msgspec.json.decode(line, type=kind)
    # A number of more digits than Python turns into text is a ValueError.
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise TraceError(f"{path}, line {number}: not {what}: {error}") from None
    check_keys(line, f"{path}, line {number}")
    return found


def _changed_rows(values: npt.NDArray[Any], before: npt.NDArray[Any] | None) -> list[int]:
    """Rows whose bits differ from the row before; the first from `before`, and always where that is None."""
    if not len(values):
        return []
    bits = values
    if values.dtype == np.float64:
        bits = values.view(np.int64)
    rows = (np.flatnonzero(bits[1:] != bits[:-1]) + 1).tolist()
    if before is None or values[:1].tobytes() != before.tobytes():
        rows.insert(0, 0)
    return rows


def _plain(value: Any) -> Any:
    if isinstance(value, float) and not math.isfinite(value):
        if math.isnan(value):
            return "nan"
        if value > 0:
            return "inf"
        return "-inf"
    return value
