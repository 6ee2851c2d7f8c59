"""Rows of a user's own subject: what `observe` returns, checked to have the same channels in every row."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from larktally.errors import LarkError, SubjectFailed, unknown_name
from larktally.subject import Subject
from larktally.traces import Channel
from larktally.traces.columns import RowError, check_channel_name, kind_of

__all__ = ["Observations"]


class Observations:
    """The channels of a subject's first observation, and the columns of those that follow.

    Rows are kept as the mappings that `observe` returned and read a chunk at a time, which costs a third of reading
    each as it comes. A subject that returns one and the same object again is noticed, and copied.
    """

    def __init__(self, subject: Subject, labels: Mapping[str, Sequence[str]]) -> None:
        first, second = subject.observe(), subject.observe()
        if not isinstance(first, Mapping) or not first:
            raise LarkError(f"observe returned {first!r}; it returns a value for each channel: {{'wick.y': 16.0, …}}")
        for name in labels:
            if name not in first:
                raise LarkError(
                    unknown_name("channel", name, first, "the first observation, although labels declares it")
                )
        self.channels = [_observed_channel(name, value, labels) for name, value in first.items()]
        self._names = list(first)
        observe = subject.observe
        fresh = first is not second and type(first) is dict
        self.take: Callable[[], Mapping[str, Any]] = observe if fresh else lambda: dict(observe())

    def columns(self, rows: Sequence[Mapping[str, Any]], first_row: int) -> Iterable[Sequence[Any]]:
        """One sequence of values a channel; raises RowError for the first row with other channels."""
        if any(map(operator.is_, rows, rows[1:])) or any(map(operator.is_, rows, rows[2:])):
            raise RowError(
                "", first_row, "observe returns the same dict again, so that rows are lost; return a new one each time"
            )
        if set(map(len, rows)) == {len(self._names)} and all(
            keys.count(name) == len(rows) for name, keys in zip(self._names, zip(*rows, strict=True), strict=True)
        ):
            return zip(*map(dict.values, rows), strict=True)  # type: ignore[arg-type]
        for offset, row in enumerate(rows):
            if row.keys() != set(self._names):
                raise RowError("", first_row + offset, _other_channels(self._names, row))
        return [[row[name] for row in rows] for name in self._names]


def _observed_channel(name: str, value: Any, labels: Mapping[str, Sequence[str]]) -> Channel:
    check_channel_name(name)
    kind = kind_of(value)
    if kind is None:
        found = f"{value!r} ({type(value).__name__})"
        raise SubjectFailed(f"row 0: channel {name!r} is {found}; a channel is a float, an int, a bool or a str", 0)
    return Channel(name, kind, tuple(labels.get(name, ())) if kind == "label" else ())


def _other_channels(names: Sequence[str], row: Mapping[str, Any]) -> str:
    gone, new = [name for name in names if name not in row], [name for name in row if name not in names]
    said = [f"{', '.join(map(repr, gone))} gone"] if gone else []
    said += [f"{', '.join(map(repr, new))} new"] if new else []
    return f"the channels are not those of row 0: {' and '.join(said)}; observe returns the same names in every row"
