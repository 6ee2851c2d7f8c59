"""What a trace holds: its header and the rows of its channels, inputs and events; what readers return and writers take."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Mapping
from functools import cached_property
from typing import Protocol, TypeVar

import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError
from larktally.inputs.actions import Action
from larktally.names import unknown_name
from larktally.timing import RateLike, as_rate
from larktally.traces.columns import Channel, Column, check_input, column_of
from larktally.traces.digest import checksum_of, digest_of
from larktally.traces.events import EventLog, check_event_name
from larktally.traces.header import Header

__all__ = ["Savable", "TraceContents", "contents_from_columns", "event_names", "small_pieces"]


Stored = TypeVar("Stored", bound=np.generic)


class TraceContents:
    """The header, columns, inputs, events and saved states of a run of R rows.

    The arrays are read-only views of the ones given, which stay as writable as they were.
    """

    def __init__(
        self,
        header: Header,
        columns: Mapping[str, Column],
        inputs: Mapping[str, npt.NDArray[np.float64]],
        events: EventLog,
        rows: int | None = None,
        states: Mapping[int, bytes] | None = None,
    ) -> None:
        # Told here once: every reader and every claim relies on it.
        lengths = {len(column.stored) for column in columns.values()} | {len(values) for values in inputs.values()}
        if len(lengths) > 1:
            raise LarkTallyError(f"the columns of a trace have one length, not {sorted(lengths)}")
        self.header = header
        self._columns = {name: Column(one.channel, _read_only(one.stored)) for name, one in columns.items()}
        self._inputs = {name: _read_only(values) for name, values in inputs.items()}
        self._events = events
        self._states: Mapping[int, bytes] = states or {}
        if lengths:
            self.rows = lengths.pop()
        else:
            self.rows = rows or 0

    @property
    def columns(self) -> Mapping[str, Column]:
        """The channels' columns, by name."""
        return self._columns

    @property
    def inputs(self) -> Mapping[str, npt.NDArray[np.float64]]:
        """The values of each action, R of them, by name."""
        return self._inputs

    @property
    def events(self) -> EventLog:
        """What was emitted, in order."""
        return self._events

    @property
    def states(self) -> Mapping[int, bytes]:
        """The saved states that were kept, by row."""
        return self._states

    @cached_property
    def digest(self) -> str:
        """SHA-256 over a canonical form (see larktally.traces.digest): the same for the same run."""
        return digest_of(self)

    @property
    def checksum(self) -> int:
        """CRC-32 over the content with the whole header."""
        return checksum_of(self)

    def pieces(self, names: Collection[str] | None = None) -> Iterator[TraceContents]:
        """All of it, as its only piece: the columns named stand in it."""
        yield self


class Savable(Protocol):
    """A trace as writers take it: its rows in pieces, and what stands in a file beside them."""

    @property
    def header(self) -> Header: ...
    @property
    def rows(self) -> int: ...
    @property
    def digest(self) -> str: ...
    @property
    def checksum(self) -> int: ...
    @property
    def states(self) -> Mapping[int, bytes]: ...
    def pieces(self, names: Collection[str] | None = None) -> Iterator[TraceContents]:
        """Windows of all rows in order, with at least the columns named ("wick.y", "input:hop", "events"; all, by default); the
        rows of events are counted from the piece's first."""


def small_pieces(source: Savable, most: int = 1 << 14) -> Iterator[TraceContents]:
    """The pieces, none of more than so many rows: for writers of text, which hold each value as an object of its own."""
    for piece in source.pieces():
        if piece.rows <= most:
            yield piece
            continue
        for first in range(0, piece.rows, most):
            last = min(first + most, piece.rows) - 1
            columns, inputs = {}, {}
            for name, column in piece.columns.items():
                columns[name] = Column(column.channel, column.stored[first : last + 1])
            for name, values in piece.inputs.items():
                inputs[name] = values[first : last + 1]
            events = piece.events.between(first, last).shifted(-first)
            yield TraceContents(piece.header, columns, inputs, events, last + 1 - first)


def event_names(source: Savable) -> tuple[str, ...]:
    """The names of all events, those that the header declares first: another writer may declare none."""
    found = dict.fromkeys(source.header.events)
    for piece in source.pieces(("events",)):
        found |= dict.fromkeys(piece.events.names)
    return tuple(found)


def contents_from_columns(
    given: Iterable[tuple[str, npt.NDArray[np.generic]]],
    rate: RateLike | None = None,
    *,
    events: EventLog | None = None,
    labels: Mapping[str, tuple[str, ...]] | None = None,
    wraps: Mapping[str, float] | None = None,
    subject: str = "",
    rows: int | None = None,
) -> TraceContents:
    """What a trace of these names and arrays holds, `input:NAME` for an input; each array's type gives its channel's kind.

    `wraps` says of angles what a whole turn is, `rows` how many there are where no array does.
    """
    inputs, columns = {}, {}
    for name, values in given:
        if name.startswith("input:"):
            inputs[Action(name[6:]).name] = _input_values(name, values)
        else:
            columns[name] = column_of(name, values, (labels or {}).get(name))
    for name, full in (wraps or {}).items():
        columns[name] = as_angle(columns, name, full)
    if events is not None:
        log = events
    else:
        log = EventLog()
    for name, source in dict.fromkeys(zip(log.names, log.sources, strict=True)):
        check_event_name(name, source)
    header = Header(
        rate_text=str(as_rate(rate)) if rate is not None else "",
        subject=subject,
        channels=tuple(column.channel for column in columns.values()),
        inputs=tuple(inputs),
        actions=tuple(inputs),
        analog=tuple(name for name, values in inputs.items() if not np.isin(values, (0.0, 1.0)).all()),
        events=tuple(dict.fromkeys(log.names)),
        allow_nan=True,
    )
    return TraceContents(header, columns, inputs, log, rows)


def as_angle(columns: Mapping[str, Column], name: str, full: float) -> Column:
    """A column as one of angles; raises LarkTallyError for one that holds no numbers, or a turn that is none."""
    if name not in columns:
        raise LarkTallyError(unknown_name("channel", name, columns) + " (in wraps)")
    column = columns[name]
    if column.channel.kind not in ("number", "count"):
        raise LarkTallyError(
            f"channel {name!r} wraps at {full!r}, and is a {column.channel.kind}: an angle is a number"
        )
    if isinstance(full, bool) or not (isinstance(full, int | float) and math.isfinite(full) and full > 0):
        raise LarkTallyError(f"channel {name!r}: wraps is a whole turn, such as 360, not {full!r}")
    channel = Channel(name, "number", (), float(full))
    return Column(channel, column.stored.astype(np.float64))


def _input_values(name: str, values: npt.NDArray[np.generic]) -> npt.NDArray[np.float64]:
    values = np.asarray(values)
    if values.dtype.kind not in "biuf":
        raise LarkTallyError(f"column {name!r} is an input, so it holds 0 and 1, or numbers in [-1, 1]")
    check_input(name.removeprefix("input:"), values)
    return values.astype(np.float64)


def _read_only(array: npt.NDArray[Stored]) -> npt.NDArray[Stored]:
    # A view, because the flag of the array itself would make the caller's read-only too.
    view = array.view()
    view.flags.writeable = False
    return view
