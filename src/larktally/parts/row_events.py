"""The events of the row that a sim is making: noted, counted for guards, and heard by the parts that begin with one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from larktally.event import Event
from larktally.traces.events import comes_from

__all__ = ["RowEvents"]


class RowEvents:
    """The events of one row so far, in the order in which they were emitted."""

    __slots__ = ("_counted", "_counts", "_listeners", "events")

    def __init__(self) -> None:
        self.events: list[Event] = []
        # How many of them have been counted, by name and by source.
        self._counted = 0
        self._counts: dict[tuple[str, str | None], int] = {}
        # What is called the moment that an event of a name is emitted, whatever phase it falls in.
        self._listeners: dict[str, list[tuple[str | None, Callable[[], Any]]]] = {}

    def begin_row(self) -> None:
        """Begins a row without events."""
        # A new list and not a cleared one: whoever recorded the row before may still hold its events.
        self.events = []
        if self._counted:
            self._counted = 0
            self._counts.clear()

    def add(self, event: Event) -> None:
        """Notes an event, and calls who listens for it."""
        self.events.append(event)
        if self._listeners:
            for wanted, call in self._listeners.get(event.name, ()):
                if comes_from(event.source, wanted):
                    call()

    def listen(self, name: str, source: str | None, call: Callable[[], Any]) -> None:
        """Calls a function whenever an event of that name is emitted, by `source` or a part below it."""
        self._listeners.setdefault(name, []).append((source, call))

    def named(self, name: str, source: str | None) -> list[Event]:
        """The events of that name, from `source` or a part below it."""
        found: list[Event] = []
        for event in self.events:
            if event.name == name and comes_from(event.source, source):
                found.append(event)
        return found

    def count(self, name: str, source: str | None) -> int:
        """How many events of that name, from `source` or a part below it."""
        if len(self.events) != self._counted:
            self._count_all()
        return self._counts.get((name, source), 0)

    def _count_all(self) -> None:
        """Counts what was emitted since the last question, under its source and every part above: each event once, so that a
        hundred machines that ask for a hundred timers cost two hundred look-ups and not ten thousand."""
        counts = self._counts
        for event in self.events[self._counted :]:
            name, source = event.name, event.source
            counts[name, None] = counts.get((name, None), 0) + 1
            counts[name, source] = counts.get((name, source), 0) + 1
            while "." in source:
                source = source.rpartition(".")[0]
                counts[name, source] = counts.get((name, source), 0) + 1
        self._counted = len(self.events)
