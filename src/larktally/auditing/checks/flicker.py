"""Flicker: a label or flag that takes another value in every row, over and over."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Certainty, Finding, rows_text
from larktally.auditing.seen import Seen, stays_of

__all__ = ["look"]

NAME = "flicker"
# A player sees nothing that lasts a frame: six of them on end are none of anybody's making.
MOST_ON_END = 6
# What changes in nearly every row from first to last blinks by its own design, unless a machine is led so.
THROUGHOUT = 0.9


def look(seen: Seen) -> Iterator[Finding]:
    """Six or more stays of one row on end, of a state, another label, or a flag.

    Not: a sign that blinks in each row throughout the run; a state of one row between others that last.
    """
    for name, column in seen.of_kind("label", "flag"):
        machine = name in seen.trace.header.machines
        starts, lengths = stays_of(column.stored)
        # The last stay is as long as the run let it be.
        single = np.append(lengths[:-1] == 1, False)
        edges = np.diff(np.concatenate([[0], single.astype(np.int8), [0]]))
        begins, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
        long = ends - begins >= MOST_ON_END
        if not long.any() or (not machine and single.sum() > THROUGHOUT * seen.rows):
            continue
        rows = [int(row) for begin, end in zip(begins[long], ends[long], strict=True) for row in starts[begin:end]]
        values = list(dict.fromkeys(str(column.at(row)) for row in rows[:8]))
        told = f"changes in every row between {' and '.join(values)}, {rows_text(rows, len(rows))}"
        claim = f"stays({name} == {column.at(rows[0])!r}, at_least=2)"
        if column.channel.kind == "flag":
            claim = f"stays({name}, at_least=2)"
        certainty: Certainty = "likely"
        if machine:
            certainty = "sure"
        more = f"larktally show TRACE --frames {max(rows[0] - 2, 0)}..{rows[min(7, len(rows) - 1)]} --only '{name}'"
        yield Finding(
            NAME, name, told, certainty, tuple(rows[:3]), len(rows), _place(seen, name, rows[0]), claim, more, 3
        )


def _place(seen: Seen, name: str, row: int) -> str:
    """The line of the rule that was taken in a row."""
    for event in seen.trace.events.between(row, row):
        if event.name == "changed" and event.source == name:
            return seen.place_of(name, str(event.data.get("by", "")))
    return ""
