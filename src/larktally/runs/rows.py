"""Rows on their way into columns: a few kept as they came, more as lists of values, the rest as compact arrays.

Few rows at a time are taken apart while they are still in the processor's cache, which halves what recording costs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, TypeAlias

import numpy as np

from larktally.traces import Channel, Column
from larktally.traces.columns import Array, ChunkReader

__all__ = ["Rows", "GATHER"]

GATHER = 128
CHUNK = 2048
Columns: TypeAlias = Callable[[list[Any], int], Iterable[Sequence[Any]]]
Sink: TypeAlias = Callable[[int, list[Array], int], None]


class Rows:
    """The rows of a run so far. `pending` takes them one by one; `gather` is called at least every GATHER rows.

    Where there is a `sink`, it is given each chunk with its first row and its length, and the chunk is not kept here.
    """

    def __init__(self, reader: ChunkReader, columns: Columns) -> None:
        self.pending: list[Any] = []
        self.sink: Sink | None = None
        self._reader, self._columns = reader, columns
        self._values: list[list[Any]] = [[] for _ in reader.channels]
        self._arrays: list[list[Array]] = [[] for _ in reader.channels]
        self._stored = self._gathered = 0

    def last(self) -> tuple[Any, ...]:
        """The values of the row that came last."""
        return tuple(column[0] for column in self._columns(self.pending[-1:], 0))

    def gather(self) -> None:
        """Takes the pending rows apart; raises RowError for one whose channels are not those of row 0."""
        if not self.pending:
            return
        for values, column in zip(
            self._values, self._columns(self.pending, self._stored + self._gathered), strict=True
        ):
            values.extend(column)
        self._gathered += len(self.pending)
        self.pending.clear()
        if self._gathered >= CHUNK:
            self.store()

    def take(self, columns: Sequence[Sequence[Any]]) -> None:
        """Takes rows that come as columns; raises RowError for a value that does not fit its channel."""
        self.gather()
        for values, column in zip(self._values, columns, strict=True):
            values.extend(column)
        self._gathered += len(columns[0])
        if self._gathered >= CHUNK:
            self.store()

    def store(self) -> None:
        """Turns what is gathered into arrays; raises RowError for a value that does not fit its channel."""
        if self._gathered:
            arrays = self._reader.arrays(self._values, self._stored)
            self._stored += self._gathered
            if self.sink is not None:
                self.sink(self._stored - self._gathered, arrays, self._gathered)
            for kept, array, values in zip(self._arrays, arrays, self._values, strict=True):
                if self.sink is None:
                    kept.append(array)
                values.clear()
            self._gathered = 0

    def cut(self, row: int) -> None:
        """Forgets the rows from `row` on, of those that are not stored yet."""
        del self.pending[max(row - self._stored - self._gathered, 0) :]
        for values in self._values:
            del values[max(row - self._stored, 0) :]
        self._gathered = min(self._gathered, max(row - self._stored, 0))

    def finished(self) -> list[Column]:
        """One column a channel, of all rows; what was held for it is let go on the way."""
        channels = self._reader.finished()
        return [Column(channel, self._joined(n, channel)) for n, channel in enumerate(channels)]

    @property
    def count(self) -> int:
        """Rows so far."""
        return self._stored + self._gathered + len(self.pending)

    def so_far(self) -> list[Column]:
        """The columns of what is stored by now; the chunks are kept as one from here on."""
        self.store()
        for n, channel in enumerate(self._reader.channels):
            self._arrays[n] = [self._joined(n, channel)]
        return [Column(c, parts[0].view()) for c, parts in zip(self._reader.finished(), self._arrays, strict=True)]

    @property
    def channels(self) -> list[Channel]:
        """The channels, with the labels seen by now."""
        return self._reader.finished()

    def _joined(self, n: int, channel: Channel) -> Array:
        parts, self._arrays[n] = self._arrays[n], []
        return np.concatenate(parts) if parts else np.empty(0, channel.dtype)
