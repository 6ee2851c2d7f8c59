"""Rows on their way into columns: a few as lists of values, the rest as compact arrays."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeAlias, cast

import numpy as np

from larktally.runs.observers import RunStart
from larktally.subjects.protocol import Value
from larktally.traces.columns import Array, ArrayColumn, Channel, ChunkReader, Column

__all__ = ["Rows", "chunk_reader"]

# Lists of values until then: fewer rows a chunk are more arrays to join, and more are more memory than the cache holds.
CHUNK = 2048
#: Takes a chunk: its first row, an array a channel, and how many rows.
Sink: TypeAlias = Callable[[int, list[Array], int], None]


def chunk_reader(run: RunStart, channels: Sequence[Channel], allow_nan: bool) -> ChunkReader:
    """What checks a run's rows and makes arrays of them: for recording and for a live run the same."""
    closed = [channel.name for channel in channels if channel.name.removeprefix("seen:") in run.info.closed]
    nan_ok: bool | frozenset[str] = run.info.nan_channels
    if allow_nan:
        nan_ok = True
    return ChunkReader(channels, closed, nan_ok)


class Rows:
    """The rows of a run so far. Each chunk of them goes to the `sinks`; `keep` says whether it stays here, too."""

    def __init__(self, reader: ChunkReader, keep: bool = True) -> None:
        self.sinks: list[Sink] = []
        self._reader, self._keep = reader, keep
        self._values: list[list[Value]] = [[] for _ in reader.channels]
        self._arrays: list[list[Array]] = [[] for _ in reader.channels]
        # Columns that came as arrays, stretch by stretch: they are never lists of values.
        self._whole: list[Sequence[ArrayColumn]] = []
        self._stored = self._gathered = 0

    def take(self, columns: Sequence[Sequence[Value]], count: int) -> None:
        """Takes so many rows that come as columns; raises RowError for a value that does not fit its channel."""
        as_arrays = bool(columns) and isinstance(columns[0], ArrayColumn)
        # A chunk is one or the other: row 0 comes as values, whatever follows.
        if self._gathered and as_arrays != bool(self._whole):
            self.store()
        if as_arrays:
            self._whole.append(cast("Sequence[ArrayColumn]", columns))
        else:
            for values, column in zip(self._values, columns, strict=True):
                values.extend(column)
        self._gathered += count
        if self._gathered >= CHUNK:
            self.store()

    def store(self) -> None:
        """Turns what is gathered into arrays; raises RowError for a value that does not fit its channel."""
        if not self._gathered:
            return
        arrays = self._reader.arrays(self._gathered_columns(), self._stored)
        first, count = self._stored, self._gathered
        # Before the sinks: one that raises has taken these rows.
        self._stored, self._gathered = first + count, 0
        self._whole.clear()
        for values in self._values:
            values.clear()
        if self._keep:
            for kept, array in zip(self._arrays, arrays, strict=True):
                kept.append(array)
        for sink in self.sinks:
            sink(first, arrays, count)

    def _gathered_columns(self) -> Sequence[Sequence[Value]]:
        if not self._whole:
            return self._values
        joined = []
        for parts in zip(*self._whole, strict=True):
            joined.append(ArrayColumn(parts[0].channel, np.concatenate([part.array for part in parts])))
        return joined

    def cut(self, row: int) -> None:
        """Forgets the rows from `row` on: of those that are not stored yet, and of the arrays that are kept here."""
        if self._whole:
            left = [column[: max(row - self._stored, 0)] for column in self._gathered_columns()]
            self._whole = [cast("Sequence[ArrayColumn]", left)]
        for values in self._values:
            del values[max(row - self._stored, 0) :]
        # Rows that are arrays already go below, those that are still lists here.
        self._gathered = min(self._gathered, max(row - self._stored, 0))
        if self._keep and row < self._stored:
            for n, channel in enumerate(self._reader.channels):
                self._arrays[n] = [self._joined(n, channel)[:row]]
            self._stored = row

    def finished(self, last: bool = True) -> list[Column]:
        """One column a channel, of all rows; what was held for it is let go on the way, where this is the last time."""
        channels = self._reader.finished()
        columns = [Column(channel, self._joined(n, channel)) for n, channel in enumerate(channels)]
        if not last:
            self._arrays = [[column.stored] for column in columns]
        return columns

    @property
    def count(self) -> int:
        """Rows so far."""
        return self._stored + self._gathered

    @property
    def channels(self) -> list[Channel]:
        """The channels, with the labels seen by now."""
        return self._reader.finished()

    def _joined(self, n: int, channel: Channel) -> Array:
        # Taken out of the list before they are joined, so that memory holds a channel twice at most, and not all of them.
        parts, self._arrays[n] = self._arrays[n], []
        if parts:
            return np.concatenate(parts)
        return np.empty(0, channel.dtype)
