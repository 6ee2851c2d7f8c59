"""What can be seen of a step from outside, where its code runs in another language: what the program noted, what changed, how
often a label was seen to change so, and the inputs and events around."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import numpy as np

from larktally.explain.observed_labels import observed_changes
from larktally.inputs.view import HELD_FROM
from larktally.subjects.programs.program import Program
from larktally.textfmt import shown_value
from larktally.traces.trace import Trace

__all__ = ["SeenOutside", "seen_outside"]

# Rows before the one that is asked about in which inputs are told; and how many of the events and inputs.
AROUND, MOST_AROUND = 60, 4


class SeenOutside(NamedTuple):
    """One thing that was seen: of a channel, or "" where it is of the whole row."""

    channel: str
    text: str

    @property
    def is_note(self) -> bool:
        """Whether the program itself said it."""
        return self.text.startswith(f"{self.channel}: noted: ")


def seen_outside(
    trace: Trace, program: Program, row: int, only: Iterable[str] | None = None
) -> tuple[SeenOutside, ...]:
    """What is seen of a row of a program's run, which was led there: its notes first, then what changed of the channels asked
    for, or of all, then the inputs and events around."""
    wanted = set(trace.channels if only is None else only)
    found = [*_notes(program, row), *_changes(trace, row, wanted)]
    return (*dict.fromkeys(found), *_around(trace, row))


def _notes(program: Program, row: int) -> Iterator[SeenOutside]:
    # Of the other channels too: that one was set may be why another was not.
    for at, channel, text in program.notes:
        if at == row:
            yield SeenOutside(channel, f"{channel}: noted: {text}")


def _changes(trace: Trace, row: int, wanted: set[str]) -> Iterator[SeenOutside]:
    for name in trace.channels:
        if name not in wanted:
            continue
        column = trace.columns[name]
        before, after = column.at(row - 1), column.at(row)
        if before == after or (before != before and after != after):
            continue
        told = f"{name}: {shown_value(before)} → {shown_value(after)}"
        if column.channel.kind == "label":
            told += _how_often(trace, name, str(before), str(after), row)
        yield SeenOutside(name, told)


def _how_often(trace: Trace, name: str, before: str, after: str, row: int) -> str:
    """How often a label changed so up to a row, and when first."""
    rows = []
    for at, one, other in observed_changes(trace, name):
        if at <= row and (one, other) == (before, after):
            rows.append(at)
    if len(rows) == 1:
        return ", for the first time"
    return f", for the {len(rows)}. time; first in row {rows[0]}"


def _around(trace: Trace, row: int) -> Iterator[SeenOutside]:
    pressed: list[tuple[int, str]] = []
    for name, values in trace.inputs.items():
        held = np.abs(values[: row + 1]) >= HELD_FROM
        changed = np.flatnonzero(held[1:] != held[:-1]) + 1
        if held[row]:
            # However long ago: what is held counts in each row.
            pressed.append((int(changed[-1]), f"{name} held since row {changed[-1]}"))
            changed = changed[:-1]
        for at in changed[changed >= row - AROUND].tolist():
            pressed.append((at, f"{name} {'pressed' if held[at] else 'released'} in row {at}"))
    last = [told for _, told in sorted(pressed)[-MOST_AROUND:]]
    yield SeenOutside("", f"inputs up to it: {', '.join(last) or 'none'}")
    events = list(trace.events.between(0, row))[-MOST_AROUND:]
    told = [f"{event.name} in row {event.row}" for event in events]
    yield SeenOutside("", f"events up to it: {', '.join(told) or 'none'}")
