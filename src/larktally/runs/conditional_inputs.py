"""Presses that hang on what happens: looked for after every row, and put into the feed for the rows to come."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from larktally.event import Event
from larktally.inputs.view import FrameInput, InputFeed
from larktally.language.names import Names
from larktally.language.reading import Scope, compile_guard
from larktally.language.rows import Binding
from larktally.subjects.protocol import Value
from larktally.traces.columns import Channel
from larktally.traces.events import data_among

__all__ = ["ConditionalInputs"]


class _Cell:
    """The value of one channel, the one at a place of the row, in the row that was made last."""

    __slots__ = ("at", "value")

    def __init__(self, at: int) -> None:
        self.at = at
        self.value: Value = 0


class _Cells(dict[str, Binding]):
    """Where the values of channels stand: a cell for each that a condition asks for, made when it does."""

    def __init__(self, places: Mapping[str, int]) -> None:
        super().__init__()
        self._places = places
        self.asked: list[_Cell] = []

    def __missing__(self, name: str) -> Binding:
        cell = _Cell(self._places[name])
        self.asked.append(cell)
        return self.setdefault(name, Binding(cell, "value"))


class _RowContext:
    """What a condition is asked with: the row, its time and its inputs."""

    __slots__ = ("frame", "inputs", "time")

    def __init__(self, inputs: FrameInput) -> None:
        self.inputs = inputs
        self.frame, self.time = 0, 0.0


class ConditionalInputs:
    """The conditions of a script's relative presses, each looked at once a row, over that row alone."""

    def __init__(self, feed: InputFeed, channels: Sequence[Channel], events: Sequence[str]) -> None:
        self._feed = feed
        # Of the row that was made last alone; a condition does not look back.
        self._events: Sequence[Event] = ()
        self._now = _RowContext(feed.view)
        names = Names({c.name: c for c in channels}, tuple(feed.view.actions), events, {}, feed.view.rate, "this run")
        bindings = _Cells({channel.name: at for at, channel in enumerate(channels)})
        self._cells = bindings.asked
        scope = Scope(names, bindings, self)
        self._pairs = [
            (span, compile_guard(span.on or "", scope, f"press {span.action!r}: on")) for span in feed.relative
        ]

    def look(self, row: int, values: Sequence[Value], events: Sequence[Event]) -> None:
        """Puts the presses into the feed whose conditions hold in a row that has just been made."""
        # All cells first: a condition may name any channel.
        for cell in self._cells:
            cell.value = values[cell.at]
        self._now.frame, self._now.time = row, self._feed.view.time
        self._events = events
        for span, holds in self._pairs:
            if holds(self._now):
                self._feed.press_later(span, row)

    def count_emitted(self, name: str, source: str | None = None) -> int:
        """How many events of a name the row holds."""
        return len(data_among(self._events, name, source, ()))

    def data_emitted(
        self, name: str, source: str | None, where: tuple[tuple[str, object], ...]
    ) -> list[dict[str, Any]]:
        """The data of the row's events of a name, of those that carry some values."""
        return data_among(self._events, name, source, where)
