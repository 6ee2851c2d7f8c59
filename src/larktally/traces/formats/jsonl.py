"""Traces as JSON Lines: a header, a line per row with what changed, and a line with the digest.

Small, and a good diff under version control. Floats stand in the shortest form that reads back to the same bits; what
JSON has no number for is "nan", "inf" or "-inf".
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.traces.columns import Column
from larktally.traces.contents import Savable, TraceContents, small_pieces
from larktally.traces.formats.jsonl_reading import End, read
from larktally.traces.header import header_json
from larktally.traces.saved_states import state_text

__all__ = ["write", "read"]

_encode = msgspec.json.Encoder().encode


def write(source: Savable, file: BinaryIO) -> None:
    """Writes a whole trace to an open file, piece by piece."""
    file.write(header_json(source.header) + b"\n")
    first = 0
    before: TraceContents | None = None
    for piece in small_pieces(source):
        file.writelines(_lines(piece, before, first, source.states))
        if piece.rows:
            first, before = first + piece.rows, piece
    file.write(_encode(End(source.rows, source.digest)) + b"\n")


def _lines(
    piece: TraceContents, before: TraceContents | None, first: int, states: Mapping[int, bytes]
) -> Iterator[bytes]:
    """The lines of a piece; `before` is the piece that came before it."""
    changed: list[list[bytes]] = [[] for _ in range(piece.rows)]
    pressed: list[list[bytes]] = [[] for _ in range(piece.rows)]
    # Only what changed stands in a line: a diff of two baselines then reads like what happened.
    for name, column in piece.columns.items():
        last = before.columns[name].stored[-1:] if before else None
        _put(changed, name, _changed_rows(column.stored, last), column)
    # Before the first row nothing was held.
    nothing = np.zeros(1)
    for name, values in piece.inputs.items():
        last = before.inputs[name][-1:] if before else nothing
        _put(pressed, name, _changed_rows(values, last), values)
    emitted: dict[int, list[list[Any]]] = {}
    for event in piece.events:
        said: list[Any] = [event.name]
        if event.source or event.data:
            said.append(event.source)
        if event.data:
            said.append(event.data)
        emitted.setdefault(event.row, []).append(said)
    for k in range(piece.rows):
        parts = [b'{"frame":%d' % (first + k)]
        if changed[k]:
            parts.append(b'"set":{' + b",".join(changed[k]) + b"}")
        if pressed[k]:
            parts.append(b'"input":{' + b",".join(pressed[k]) + b"}")
        if k in emitted:
            parts.append(b'"events":' + _encode(emitted[k]))
        if first + k in states:
            parts.append(b'"state":' + _encode(state_text(states[first + k])))
        yield b",".join(parts) + b"}\n"


def _put(lines: list[list[bytes]], name: str, rows: list[int], column: Column | npt.NDArray[np.float64]) -> None:
    """Puts a name and its new value into the lines of the rows in which it is new."""
    key = _encode(name) + b":"
    for row, value in zip(rows, _values(column, rows), strict=True):
        lines[row].append(key + value)


def _values(column: Column | npt.NDArray[np.float64], rows: list[int]) -> Sequence[bytes]:
    """The values of some rows as JSON, each by itself."""
    if isinstance(column, Column) and column.channel.kind == "label":
        labels = [_encode(label) for label in column.channel.labels]
        return [labels[code] for code in column.stored[rows].tolist()]
    stored = column.stored[rows] if isinstance(column, Column) else column[rows]
    if stored.dtype != np.float64 or bool(np.isfinite(stored).all()):
        # All of them in one call, and no number holds a comma: a tenth of the price of one call each.
        return _encode(stored.tolist())[1:-1].split(b",") if rows else ()
    return [_encode(_plain(value)) for value in stored.tolist()]


def _changed_rows(values: npt.NDArray[Any], before: npt.NDArray[Any] | None) -> list[int]:
    """Rows whose bits differ from the row before; the first from `before`, and always where that is None."""
    if not len(values):
        return []
    bits = values
    if values.dtype == np.float64:
        bits = values.view(np.int64)
    rows: list[int] = (np.flatnonzero(bits[1:] != bits[:-1]) + 1).tolist()
    if before is None or values[:1].tobytes() != before.tobytes():
        rows.insert(0, 0)
    return rows


def _plain(value: float) -> float | str:
    """A number, or the word for what JSON has no number for."""
    if np.isfinite(value):
        return value
    if np.isnan(value):
        return "nan"
    return "inf" if value > 0 else "-inf"
