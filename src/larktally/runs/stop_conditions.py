"""Where a run ends by what stands in its rows: a condition that holds, or a claim that is broken for good.

Signals look back only, so that a row of a recording that goes on has the value that it will have in the whole one. A
condition over single rows is looked at chunk by chunk. One that looks back, and claims, are looked at over all rows so far,
in ever longer steps, which costs a constant share of the whole; of a run into a file only the channels that they read are
held in memory for that.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from msgspec import structs

from larktally.claims.checking import check, rows_where
from larktally.claims.claim import Claim
from larktally.claims.verdicts import Result
from larktally.language.functions import SIGNALS
from larktally.language.parsing import parse
from larktally.language.tree import Call, Node, channels_read, walk
from larktally.runs.observers import End
from larktally.traces.columns import Array, Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header
from larktally.traces.trace import Trace

__all__ = ["FIRST_LOOK", "StopConditions"]

# Each look goes over all rows so far; steps that grow by an eighth make the sum of them a constant share.
FIRST_LOOK = 2048


class _Chunk(NamedTuple):
    """Some rows of what the conditions read."""

    first: int
    arrays: Mapping[str, Array]
    inputs: Mapping[str, npt.NDArray[np.float64]]
    length: int


class StopConditions:
    """The condition `until`, and the claims at whose first breach a run stops; `found` is where it ends."""

    def __init__(self, until: str | None, claims: Iterable[Claim] = ()) -> None:
        self._until = until
        self._claims = [one for one in claims if one.told[0].final is not None]
        self.found: End | None = None
        conditions = []
        if until is not None:
            conditions = [parse(until)]
        self._row_by_row = not self._claims and all(map(_is_per_row, conditions))
        self._trees = [*conditions, *(one.tree for one in self._claims)]
        self._chunks: list[_Chunk] = []
        self._channels: dict[str, Channel] = {}
        self._events = EventLog()
        self._next = FIRST_LOOK

    @property
    def active(self) -> bool:
        """Whether there is anything to look for."""
        return bool(self._trees)

    def begin(self, header: Header) -> None:
        """What the run holds; its channels are those that it keeps."""
        self._header = header
        read = channels_read(self._trees, [channel.name for channel in header.channels])
        # What the machines saw stands beside its channel.
        self._read = read | {f"seen:{name}" for name in read}
        for one in self._claims:
            if one.table is not None:
                self._read |= {heading.name for heading in one.table.headings}

    def look(
        self,
        channels: Sequence[Channel],
        arrays: Sequence[Array],
        inputs: Mapping[str, npt.NDArray[np.float64]],
        events: EventLog,
        first: int,
        count: int,
    ) -> None:
        """A chunk of rows more; `found` is set where the run ends in the rows there are by now."""
        if not self.active or self.found is not None:
            return
        kept = {}
        for channel, array in zip(channels, arrays, strict=True):
            # Every channel is known by name, so that a wrong one is an error here as it is in a finished trace.
            self._channels[channel.name] = channel
            if channel.name in self._read:
                kept[channel.name] = array
        self._chunks.append(_Chunk(first, kept, inputs, count))
        self._events.extend(events)
        rows = first + count
        if self._row_by_row:
            self._look_at_chunk()
        elif rows >= self._next:
            # The share of the whole that one more look costs stays the same, however long the run.
            self._next = max(rows + FIRST_LOOK, rows + rows // 8)
            self._look_at_all()

    def last_look(self) -> End | None:
        """Where the run ends, once all of its rows were shown."""
        # The rows since the last step have not been looked at yet.
        if self.active and self.found is None and self._chunks:
            self._look_at_all()
        return self.found

    def _look_at_chunk(self) -> None:
        """The newest chunk, with the last row of the one before: an edge of an input is told by two rows."""
        newest = self._chunks[-1]
        self._chunks = [*map(_last_row_of, self._chunks[:-1]), newest]
        first = self._chunks[0].first
        rows = rows_where(self._trace(first), self._until or "") + first
        rows = rows[rows >= newest.first]
        if len(rows):
            self.found = End(int(rows[0]), f"until {self._until}")
        self._chunks = [_last_row_of(newest)]
        self._events = EventLog()

    def _look_at_all(self) -> None:
        first = self._chunks[0].first
        trace = self._trace(first)
        ends: list[End] = []
        if self._until is not None:
            rows = rows_where(trace, self._until) + first
            ends += [End(int(row), f"until {self._until}") for row in rows[:1]]
        if self._claims:
            for result in check(trace, self._claims):
                row = _first_breach(result)
                if row is not None:
                    ends.append(End(row, f"breach of {result.name!r}"))
        # The earliest row; of two in the same one `until`, whose text comes after "breach".
        self.found = min(ends, default=None)

    def _trace(self, first: int) -> Trace:
        """What the conditions read, of the chunks there are, as a trace whose row 0 is `first`."""
        if len(self._chunks) > 1:
            self._chunks = [_joined(self._chunks)]
        chunk = self._chunks[0]
        columns = {}
        for name, channel in self._channels.items():
            stored = chunk.arrays.get(name)
            # A channel that is not read has no values here; a view of one zero stands for all of its rows.
            unread = np.broadcast_to(np.zeros(1, channel.dtype), chunk.length)
            columns[name] = Column(channel, unread if stored is None else stored)
        header = structs.replace(self._header, channels=tuple(self._channels.values()))
        return Trace(header, columns, dict(chunk.inputs), self._events.shifted(-first), chunk.length)


def _joined(chunks: Sequence[_Chunk]) -> _Chunk:
    arrays = {name: np.concatenate([chunk.arrays[name] for chunk in chunks]) for name in chunks[0].arrays}
    inputs = {}
    for action in chunks[-1].inputs:
        # An action that was first used later was not held before.
        parts = [chunk.inputs.get(action, np.zeros(chunk.length)) for chunk in chunks]
        inputs[action] = np.concatenate(parts)
    return _Chunk(chunks[0].first, arrays, inputs, sum(chunk.length for chunk in chunks))


def _last_row_of(chunk: _Chunk) -> _Chunk:
    arrays = {name: array[-1:] for name, array in chunk.arrays.items()}
    inputs = {name: values[-1:] for name, values in chunk.inputs.items()}
    return _Chunk(chunk.first + chunk.length - 1, arrays, inputs, 1)


def _is_per_row(tree: Node) -> bool:
    """Whether a condition is told by single rows: every function in it has a meaning on one."""
    calls = []
    for node in walk(tree):
        if isinstance(node, Call):
            calls.append(node.name)
    return all(name in SIGNALS and SIGNALS[name].row is not None for name in calls)


def _first_breach(result: Result) -> int | None:
    """The first row in which a claim was broken whatever comes later."""
    told, node = result.claim.told
    return told.first_final_row(result.evaluator, node, result.judgement)
