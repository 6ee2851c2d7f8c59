"""Presses that hang on what happens: looked for after every row, and put into the feed for the rows to come."""

from __future__ import annotations

from collections.abc import Sequence
from types import SimpleNamespace
from typing import Any

from larktally.claims.vocabulary import Vocabulary
from larktally.inputs import InputFeed
from larktally.parts.guards import Source, compile_guard
from larktally.traces import Channel, EventLog
from larktally.traces.events import said_by

__all__ = ["Answers"]


class Answers:
    """The conditions of a script's relative presses, each looked at once a row, over that row alone."""

    def __init__(self, feed: InputFeed, channels: Sequence[Channel], events: Sequence[str]) -> None:
        self._feed = feed
        self._said: list[tuple[str, str]] = []
        self._names = [f"c{n}" for n in range(len(channels))]
        self._row = SimpleNamespace()
        self._now = SimpleNamespace(inputs=feed.view)
        words = Vocabulary(
            {c.name: c for c in channels}, tuple(feed.view.actions), events, {}, feed.view.rate, "this run"
        )
        sources = {c.name: Source(self._row, name) for c, name in zip(channels, self._names, strict=True)}
        self._pairs = [
            (span, compile_guard(span.on or "", words, sources, self._count, f"press {span.action!r}: on"))
            for span in feed.relative
        ]

    def look(self, row: int, values: tuple[Any, ...], events: EventLog) -> None:
        """Puts the presses into the feed whose conditions hold in a row that has just been made."""
        self._row.__dict__.update(zip(self._names, values, strict=True))
        self._now.frame, self._now.time = row, self._feed.view.time
        first = len(events)
        while first and events.rows[first - 1] == row:
            first -= 1
        self._said = list(zip(events.names[first:], events.sources[first:], strict=True))
        for span, holds in self._pairs:
            if holds(self._now):
                self._feed.press_later(span, row)

    def _count(self, name: str, source: str | None) -> int:
        return sum(said == name and said_by(by, source) for said, by in self._said)
