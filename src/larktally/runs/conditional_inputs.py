"""Presses that hang on what happens: looked for after every row, and put into the feed for the rows to come."""

from __future__ import annotations

from collections.abc import Sequence
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
    """The value of one channel in the row that was made last."""

    __slots__ = ("value",)

    def __init__(self) -> None:
        self.value: Value = 0


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
        self._cells = [_Cell() for _ in channels]
        self._now = _RowContext(feed.view)
        names = Names({c.name: c for c in channels}, tuple(feed.view.actions), events, {}, feed.view.rate, "this run")
        bindings = {}
        for c, cell in zip(channels, self._cells, strict=True):
            bindings[c.name] = Binding(cell, "value")
        scope = Scope(names, bindings, self)
        self._pairs = [
            (span, compile_guard(span.on or "", scope, f"press {span.action!r}: on")) for span in feed.relative
        ]

    def look(self, row: int, values: Sequence[Value], events: Sequence[Event]) -> None:
        """Puts the presses into the feed whose conditions hold in a row that has just been made."""
        # All cells first: a condition may name any channel.
        for cell, value in zip(self._cells, values, strict=True):
            cell.value = value
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
