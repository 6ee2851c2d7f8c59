"""Marks: what a player found worth a word, as events of the recording that its subject did not emit."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import msgspec

from larktally.traces.events import EventLog, data_text
from larktally.traces.trace import Trace

__all__ = ["Mark", "marks_of", "with_marks", "without_marks"]

# Who emits them: no part of a model is called so, since a name has no blank.
_NAME, _PLAYER = "mark", "the player"


class Mark(NamedTuple):
    """A row that was marked, and the words that were typed."""

    row: int
    note: str


def marks_of(trace: Trace) -> list[Mark]:
    """The marks of a trace, in order."""
    return [Mark(event.row, str(event.data.get("note", ""))) for event in trace.events.named(_NAME, _PLAYER)]


def with_marks(trace: Trace, marks: Iterable[Mark]) -> Trace:
    """The same trace with some rows marked: each mark after the events of its row."""
    fields = [*trace.events.fields(), *((row, _NAME, _PLAYER, data_text({"note": note})) for row, note in marks)]
    # In order of rows, and within a row as they stand: sorting keeps that.
    return _with_events(trace, sorted(fields, key=lambda field: field[0]))


def without_marks(trace: Trace) -> Trace:
    """The same trace as its subject made it."""
    kept = [field for field in trace.events.fields() if field[1:3] != (_NAME, _PLAYER)]
    if len(kept) == len(trace.events):
        return trace
    return _with_events(trace, kept)


def _with_events(trace: Trace, fields: Iterable[tuple[int, str, str, str]]) -> Trace:
    events = EventLog()
    for row, name, source, text in fields:
        events.append(row, name, source, text)
    names = dict.fromkeys([*trace.header.events, *events.names])
    # Where marks were what brought the name in, it goes with them.
    if [*names][-1:] == [_NAME] and _NAME not in events.names:
        del names[_NAME]
    header = msgspec.structs.replace(trace.header, events=tuple(names))
    return trace.changed(events=events, header=header)
