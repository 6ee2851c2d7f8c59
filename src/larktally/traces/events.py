"""The events of a run, in the order in which they were said."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any, overload

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkError

__all__ = ["TraceEvent", "EventLog", "data_text", "said_by"]


class TraceEvent(msgspec.Struct, frozen=True):
    """An event in its row: name, the part that said it, and plain data."""

    row: int
    name: str
    source: str = ""
    data: dict[str, Any] = {}

    def __str__(self) -> str:
        said = f" from {self.source}" if self.source else ""
        details = "".join(f" {key}={value!r}" for key, value in self.data.items())
        return f"row {self.row}: {self.name}{said}{details}"


class EventLog(Sequence[TraceEvent]):
    """All events of a trace: a sequence of TraceEvent, stored as one list a field; data as JSON text, "" for none."""

    __slots__ = ("data", "names", "rows", "sources")

    def __init__(
        self, rows: Iterable[int] = (), names: Iterable[str] = (), sources: Iterable[str] = (), data: Iterable[str] = ()
    ) -> None:
        self.rows, self.names, self.sources, self.data = list(rows), list(names), list(sources), list(data)

    def add(self, row: int, name: str, source: str, data: dict[str, Any]) -> None:
        """Notes one event; rows come in rising order. Raises LarkError where the data is not plain."""
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
        return all(getattr(self, name) == getattr(other, name) for name in self.__slots__)

    __hash__ = None  # type: ignore[assignment]

    def names_only(self, names: Collection[str] | None = None) -> EventLog:
        """The events, or those of some names, without source and data: in each row in the order of their names."""
        said = sorted((row, name) for row, name, _, _ in self.fields() if names is None or name in names)
        blank = [""] * len(said)
        return EventLog([row for row, _ in said], [name for _, name in said], blank, blank)

    def named(self, name: str, source: str | None = None) -> list[TraceEvent]:
        """The events of that name, from `source` or a part below it where one is given."""
        return [self[n] for n, found in enumerate(self.names) if found == name and said_by(self.sources[n], source)]

    def counts(self, name: str, source: str | None, rows: int) -> npt.NDArray[np.int64]:
        """How many of that name in each row: int64, one value a row."""
        if source is None:
            hits = [row for row, said in zip(self.rows, self.names, strict=True) if said == name]
        else:
            hits = [row for row, said, by, _ in self.fields() if said == name and said_by(by, source)]
        return np.bincount(np.array(hits, dtype=np.int64), minlength=rows)[:rows].astype(np.int64, copy=False)

    def between(self, first: int, last: int) -> EventLog:
        """The events of rows first..last."""
        low, high = np.searchsorted(np.array(self.rows, dtype=np.int64), [first, last + 1])
        return self[int(low) : int(high)]


def said_by(said: str, source: str | None) -> bool:
    """Whether a part is the one asked for, or one below it: 'wick.gait' for 'wick'."""
    return source is None or said == source or said.startswith(source + ".")


def data_text(data: dict[str, Any]) -> str:
    """Event data as JSON text; raises LarkError for anything that is not plain and finite."""
    for value in data.values():
        if type(value) not in _SIMPLE:
            _check_plain(data, "")
            break
    return _ENCODER.encode(data).decode()


_SIMPLE = frozenset({str, bool, type(None)})
_ENCODER = msgspec.json.Encoder(order="sorted")


def _check_plain(value: Any, where: str) -> None:
    kind = type(value)
    if kind in _SIMPLE:
        return
    if kind is float:
        if not math.isfinite(value):
            raise LarkError(f"event data{where} is {value!r}; numbers in event data are finite")
    elif kind is int:
        if not -(2**63) <= value < 2**63:
            raise LarkError(f"event data{where} is {value!r}, outside 64 bits")
    elif kind is dict:
        for key, inner in value.items():
            if type(key) is not str:
                raise LarkError(f"event data{where} has the key {key!r}; keys are strings")
            if type(inner) not in _SIMPLE and not (type(inner) is float and math.isfinite(inner)):
                _check_plain(inner, f"{where}.{key}")
    elif kind is list or kind is tuple:
        for index, inner in enumerate(value):
            _check_plain(inner, f"{where}[{index}]")
    else:
        raise LarkError(f"event data{where} is {value!r} ({kind.__name__}); numbers, text, lists and dicts are plain")
