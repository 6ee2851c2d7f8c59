"""The events of a run, in the order in which they were emitted."""

from __future__ import annotations

import bisect
import itertools
import math
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any, Protocol, overload

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError
from larktally.names import name_fault

__all__ = [
    "TraceEvent",
    "EventLog",
    "canonical_text",
    "check_event_name",
    "data_text",
    "carries",
    "comes_from",
    "data_among",
]


class TraceEvent(msgspec.Struct, frozen=True):
    """An event in its row: name, the part that emitted it, and plain data."""

    row: int
    name: str
    source: str = ""
    data: dict[str, Any] = {}

    def __str__(self) -> str:
        emitted = ""
        if self.source:
            emitted = f" from {self.source}"
        details = "".join(f" {key}={value!r}" for key, value in self.data.items())
        return f"row {self.row}: {self.name}{emitted}{details}"


class EventLog(Sequence[TraceEvent]):
    """All events of a trace: a sequence of TraceEvent, stored as one list a field; data as JSON text, "" for none."""

    __slots__ = ("data", "names", "rows", "sources")

    def __init__(
        self, rows: Iterable[int] = (), names: Iterable[str] = (), sources: Iterable[str] = (), data: Iterable[str] = ()
    ) -> None:
        self.rows, self.names, self.sources, self.data = list(rows), list(names), list(sources), list(data)

    def add(self, row: int, name: str, source: str, data: dict[str, Any]) -> None:
        """Notes one event; rows come in rising order. Raises LarkTallyError where the data is not plain."""
        self.rows.append(row)
        self.names.append(name)
        self.sources.append(source)
        self.data.append(data_text(data) if data else "")

    def append(self, row: int, name: str, source: str, text: str) -> None:
        """Notes one event whose data is JSON text already."""
        self.rows.append(row)
        self.names.append(name)
        self.sources.append(source)
        self.data.append(text)

    def fields(self) -> Iterator[tuple[int, str, str, str]]:
        """Row, name, source and data text of each event: cheaper than the events themselves."""
        return zip(self.rows, self.names, self.sources, self.data, strict=True)

    def shifted(self, rows: int) -> EventLog:
        """The same events so many rows later."""
        return EventLog([row + rows for row in self.rows], self.names, self.sources, self.data)

    def extend(self, others: EventLog) -> None:
        """Notes all events of another log."""
        self.rows += others.rows
        self.names += others.names
        self.sources += others.sources
        self.data += others.data

    def __len__(self) -> int:
        return len(self.rows)

    @overload
    def __getitem__(self, index: int) -> TraceEvent: ...
    @overload
    def __getitem__(self, index: slice) -> EventLog: ...
    def __getitem__(self, index: int | slice) -> TraceEvent | EventLog:
        if isinstance(index, slice):
            return EventLog(self.rows[index], self.names[index], self.sources[index], self.data[index])
        text = self.data[index]
        return TraceEvent(
            self.rows[index], self.names[index], self.sources[index], msgspec.json.decode(text) if text else {}
        )

    def __iter__(self) -> Iterator[TraceEvent]:
        return (self[index] for index in range(len(self)))

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, EventLog):
            return NotImplemented
        mine, theirs = (
            (self.rows, self.names, self.sources, self.data),
            (other.rows, other.names, other.sources, other.data),
        )
        return mine == theirs

    __hash__ = None  # type: ignore[assignment]

    def names_only(self, names: Collection[str] | None = None) -> EventLog:
        """The events, or those of some names, without source and data: in each row in the order of their names."""
        # Two runs may say the events of one row in another order and still have emitted the same.
        emitted = sorted((row, name) for row, name, _, _ in self.fields() if names is None or name in names)
        blank = [""] * len(emitted)
        return EventLog([row for row, _ in emitted], [name for _, name in emitted], blank, blank)

    def named(self, name: str, source: str | None = None) -> list[TraceEvent]:
        """The events of that name, from `source` or a part below it where one is given."""
        listed: list[TraceEvent] = []
        for n, found in enumerate(self.names):
            if found == name and comes_from(self.sources[n], source):
                listed.append(self[n])
        return listed

    def rows_named(self, name: str, source: str | None) -> npt.NDArray[np.int64]:
        """The row of each event of that name, in order: int64."""
        # No loop: a claim about an event goes over all of a run's events here, and does little else.
        if source is None:
            hits = list(itertools.compress(self.rows, map(name.__eq__, self.names)))
        else:
            hits = [row for row, emitted, by, _ in self.fields() if emitted == name and comes_from(by, source)]
        return np.array(hits, dtype=np.int64)

    def counts(self, name: str, source: str | None, rows: int) -> npt.NDArray[np.int64]:
        """How many of that name in each row: int64, one value a row."""
        return np.bincount(self.rows_named(name, source), minlength=rows)[:rows].astype(np.int64, copy=False)

    def between(self, first: int, last: int) -> EventLog:
        """The events of rows first..last."""
        # Events come in the order of rows, so that two binary searches find the ends.
        return self[bisect.bisect_left(self.rows, first) : bisect.bisect_right(self.rows, last)]


def comes_from(emitted: str, source: str | None) -> bool:
    """Whether a part is the one asked for, or one below it: 'wick.gait' for 'wick'."""
    return source is None or emitted == source or emitted.startswith(source + ".")


def carries(data: Mapping[str, Any], where: Sequence[tuple[str, object]]) -> bool:
    """Whether an event's data have these values under these keys; 1 and 1.0 are the same number, and 1 is not true."""
    for key, wanted in where:
        value = data.get(key)
        if isinstance(value, bool) or isinstance(wanted, bool):
            if value is not wanted:
                return False
        elif value != wanted:
            return False
    return True


class _Emitted(Protocol):
    """An event as its emitter holds it."""

    name: str
    source: str
    data: dict[str, Any]


def data_among(
    events: Iterable[_Emitted], name: str, source: str | None, where: Sequence[tuple[str, object]]
) -> list[dict[str, Any]]:
    """The data of some events: of a name, from `source` or a part below it, that carry some values."""
    found = []
    for event in events:
        if event.name == name and comes_from(event.source, source) and carries(event.data, where):
            found.append(event.data)
    return found


def check_event_name(name: object, source: object = "") -> None:
    """Raises LarkTallyError for an event that cannot be called so, or a source that cannot."""
    fault = name_fault(name)
    if fault:
        raise LarkTallyError(f"an event cannot be called {name!a}: the name {fault}")
    fault = name_fault(source)
    # It may come from nobody.
    if fault and source != "":
        raise LarkTallyError(f"the source of an event cannot be called {source!a}: the name {fault}")


def canonical_text(text: str) -> str:
    """Event data, given as any JSON text of an object, as the one text that stands for it; raises LarkTallyError."""
    try:
        data = _OBJECT.decode(text)
        # An event that carries nothing has no text.
        return data_text(data) if data else ""
    except (msgspec.MsgspecError, RecursionError, ValueError) as error:
        why = ""
        if isinstance(error, LarkTallyError):
            why = f": {error}"
        raise LarkTallyError(f"the data of an event is not a JSON object of plain values: {text[:60]!a}{why}") from None


def data_text(data: dict[str, Any]) -> str:
    """Event data as JSON text; raises LarkTallyError for anything that is not plain and finite."""
    try:
        _check_fields(data, "")
        return _ENCODER.encode(data).decode()
    except (UnicodeEncodeError, RecursionError):
        raise LarkTallyError(f"event data is {data!a:.60}: not valid Unicode, or nested too deeply") from None


LEAST, MOST = -(2**63), 2**63 - 1
# Most events carry a word or nothing, which needs no look inside.
_SIMPLE = frozenset({str, bool, type(None)})
_ENCODER = msgspec.json.Encoder(order="sorted")
_OBJECT = msgspec.json.Decoder(dict[str, Any])


def _check_fields(data: dict[str, Any], where: str) -> None:
    # Every event of a run comes by here: where a value is wrong is put in words only where one may be.
    for key, value in data.items():
        kind = type(value)
        if type(key) is not str:
            raise LarkTallyError(f"event data{where} has the key {key!r}; keys are strings")
        if kind in _SIMPLE or (kind is int and LEAST <= value <= MOST) or (kind is float and math.isfinite(value)):
            continue
        _check_plain(value, f"{where}.{key}")


def _check_plain(value: Any, where: str) -> None:
    kind = type(value)
    if kind in _SIMPLE:
        return
    if kind is float:
        if not math.isfinite(value):
            raise LarkTallyError(f"event data{where} is {value!r}; numbers in event data are finite")
    elif kind is int:
        if not LEAST <= value <= MOST:
            raise LarkTallyError(f"event data{where} is {value!r}, outside 64 bits")
    elif kind is dict:
        _check_fields(value, where)
    elif kind is list or kind is tuple:
        for index, inner in enumerate(value):
            _check_plain(inner, f"{where}[{index}]")
    else:
        raise LarkTallyError(
            f"event data{where} is {value!r} ({kind.__name__}); numbers, text, lists and dicts are plain"
        )
