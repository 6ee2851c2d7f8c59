"""A user's own object as a subject: what it declares, and what `observe` returns, checked in every row.

This is the one place that looks for attributes on a user's object, and these are all that it looks for.
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.event import Event
from larktally.inputs.actions import Actions
from larktally.inputs.view import FrameInput
from larktally.names import unknown_name
from larktally.setup import Setup
from larktally.subjects.protocol import Batch, Frames, Inputs, RowReader, Subject, SubjectInfo, Value, checked_events
from larktally.traces.columns import Channel, RowError, check_channel_name, kind_of

__all__ = ["OwnObject", "name_of"]


def name_of(subject: object) -> str:
    """The name a subject goes by in headers and messages: its function's, or its class's."""
    return str(getattr(subject, "__name__", None) or type(subject).__name__)


class OwnObject:
    """An object of a user's own, with `reset`, `step` and `observe`."""

    batch = 1

    def __init__(self, subject: Subject, name: str = "") -> None:
        self.target = subject
        self.name = name or name_of(subject)
        self.step: Callable[[FrameInput], Iterable[Event] | None] = subject.step
        self._info: SubjectInfo | None = None
        # The object's own bound method: what stands between it and the loop would be paid for in every frame.
        self._take: Callable[[], Mapping[str, Any]] = subject.observe

    @property
    def info(self) -> SubjectInfo:
        if self._info is None:
            raise LarkTallyError(f"{self.name} was not reset yet")
        return self._info

    def reset(self, setup: Setup) -> list[Event]:
        events = checked_events(self.target.reset(setup))
        labels = dict(getattr(self.target, "labels", None) or {})
        # Asked twice: whether two rows are one and the same dict cannot be seen from one.
        first, second = self.target.observe(), self.target.observe()
        channels = _channels(first, labels)
        # A subject that hands out one and the same dict again would change the rows already kept: those are copied.
        if first is second or type(first) is not dict:
            self._take = self._copied
        self._info = SubjectInfo(
            channels=channels,
            actions=Actions(self._declared("actions")),
            events=tuple(self._declared("events") or ()),
            closed=frozenset(labels),
            saves=callable(getattr(self.target, "save", None)) and callable(getattr(self.target, "load", None)),
        )
        return events

    def reader(self, seen: bool) -> RowReader:
        names = [channel.name for channel in self.info.channels]
        return RowReader(self.info.channels, self._take, lambda rows, first: _columns(names, rows, first))

    def row(self) -> tuple[Value, ...]:
        observed = self.target.observe()
        return tuple(observed[channel.name] for channel in self.info.channels)

    def save(self) -> bytes:
        return bytes(self.target.save())  # type: ignore[attr-defined]

    def load(self, saved: bytes) -> None:
        self.target.load(saved)  # type: ignore[attr-defined]

    def finish(self) -> str:
        return ""

    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch:
        raise NotImplementedError("a user's own object is stepped frame by frame")

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        raise NotImplementedError("a user's own object is stepped frame by frame")

    def _copied(self) -> dict[str, Any]:
        return dict(self.target.observe())

    def _declared(self, what: str) -> list[Any] | None:
        """Its own `actions` or `events`, or None where it declares none; either may be a function that returns them."""
        names = getattr(self.target, what, None)
        if names is None:
            return None
        return list(names() if callable(names) else names)


def _channels(first: Any, labels: Mapping[str, Sequence[str]]) -> tuple[Channel, ...]:
    """The channels of a first observation; raises LarkTallyError for what is none."""
    if not isinstance(first, Mapping) or not first:
        raise LarkTallyError(f"observe returned {first!r}; it returns a value for each channel: {{'wick.y': 16.0, …}}")
    for name in labels:
        if name not in first:
            raise LarkTallyError(
                unknown_name("channel", name, first, "the first observation, although labels declares it")
            )
    return tuple(_channel(name, value, labels) for name, value in first.items())


def _channel(name: str, value: Any, labels: Mapping[str, Sequence[str]]) -> Channel:
    check_channel_name(name)
    kind = kind_of(value)
    if kind is None:
        found = f"{value!r} ({type(value).__name__})"
        raise SubjectFailed(f"row 0: channel {name!r} is {found}; a channel is a float, an int, a bool or a str", 0)
    return Channel(name, kind, tuple(labels.get(name, ())) if kind == "label" else ())


def _columns(names: Sequence[str], rows: Sequence[Mapping[str, Any]], first_row: int) -> Iterable[Sequence[Any]]:
    """One sequence of values a channel; raises RowError for the first row with other channels.

    Rows are read many at a time, which costs a third of reading each as it comes.
    """
    # Neighbours and every other one: a subject that swaps two dicts is as common as one that keeps one.
    if any(map(operator.is_, rows, rows[1:])) or any(map(operator.is_, rows, rows[2:])):
        raise RowError(
            "", first_row, "observe returns the same dict again, so that rows are lost; return a new one each time"
        )
    if _alike(names, rows):
        return zip(*map(dict.values, rows), strict=True)  # type: ignore[arg-type]
    wanted = set(names)
    for offset, row in enumerate(rows):
        if row.keys() != wanted:
            raise RowError("", first_row + offset, _other_channels(names, row))
    # The same names in another order somewhere: right, and slower to read.
    return [[row[name] for row in rows] for name in names]


def _alike(names: Sequence[str], rows: Sequence[Mapping[str, Any]]) -> bool:
    """Whether all rows have just these names, in just this order: told in C, without looking at a single row in Python."""
    if set(map(len, rows)) != {len(names)}:
        return False
    keys = zip(*rows, strict=True)
    return all(column.count(name) == len(rows) for name, column in zip(names, keys, strict=True))


def _other_channels(names: Sequence[str], row: Mapping[str, Any]) -> str:
    changes = []
    if gone := [name for name in names if name not in row]:
        changes.append(f"{', '.join(map(repr, gone))} gone")
    if new := [name for name in row if name not in names]:
        changes.append(f"{', '.join(map(repr, new))} new")
    return f"the channels are not those of row 0: {' and '.join(changes)}; observe returns the same names in every row"
