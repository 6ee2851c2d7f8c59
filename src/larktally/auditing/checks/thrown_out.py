"""Thrown out: a state that is entered and left at once, so that nothing that it is there for happens."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen, stays_of
from larktally.traces.outline import Outline

__all__ = ["look"]

NAME = "thrown out"


def look(seen: Seen) -> Iterator[Finding]:
    """A state that was entered and left within one step, or one that has a rule for later and never lasts a second row.

    Not: states of one row that have no time of their own, such as a landing or a turn.
    """
    for name, outline in seen.trace.header.outlines.items():
        if name not in seen.trace.columns:
            continue
        changes = [e for e in seen.trace.events if e.name == "changed" and e.source == name]
        labels = seen.trace.columns[name].values
        for state in outline.leaves:
            entered = [e.row for e in changes if e.data.get("to") == state]
            left = [e for e in changes if e.data.get("from") == state]
            if len(entered) < 2 or not left:
                continue
            by = str(left[0].data.get("by", ""))
            told, looked_at = _told(outline, state, labels == state, entered, by)
            if told:
                # Only now: a line of the model is found by building it.
                yield Finding(
                    NAME,
                    f"{name} {state}",
                    told,
                    "sure",
                    tuple(entered[:3]),
                    len(entered),
                    seen.place_of(name, by),
                    f"stays({name} == {state!r}, at_least=2)",
                    why_command(looked_at),
                    3,
                )


def _told(outline: Outline, state: str, inside: npt.NDArray[np.bool_], entered: list[int], by: str) -> tuple[str, int]:
    """What is odd of the stays of a state, and the row that shows it; "" where nothing is."""
    rows = rows_text(entered, len(entered))
    if not inside.any():
        return f"{state!r} is entered and left in the same step, by {by!r}, {rows}", entered[0]
    starts, lengths = stays_of(inside)
    own = lengths[inside[starts]]
    timed = [rule for rule in outline.tried_in(state) if rule.after > 1]
    if timed and len(own) > 1 and (own[:-1] == 1).all():
        waits = f"a rule for its frame {timed[0].after} ({timed[0].name!r})"
        return f"{state!r} has {waits}, and is left after one row each time, by {by!r}, {rows}", entered[0] + 1
    return "", 0
