"""Thrown out: a state that is entered and left at once, so that nothing that it is there for happens."""

from __future__ import annotations

from collections.abc import Iterator

from larktally.auditing.finding import Finding, rows_text
from larktally.auditing.seen import Seen, stays_of

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
            claim = f"stays({name} == {state!r}, at_least=2)"
            rows, count, place = tuple(entered[:3]), len(entered), seen.place_of(name, by)
            about = f"{name} {state}"
            if not (labels == state).any():
                told = f"{state!r} is entered and left in the same step, by {by!r}, {rows_text(entered, len(entered))}"
                yield Finding(
                    NAME, about, told, "sure", rows, count, place, claim, f"larktally why TRACE FILE.py {entered[0]}", 3
                )
                continue
            starts, lengths = stays_of(labels == state)
            own = lengths[(labels == state)[starts]]
            timed = [rule for rule in outline.tried_in(state) if rule.after > 1]
            if timed and len(own) > 1 and (own[:-1] == 1).all():
                told = (
                    f"{state!r} has a rule for its frame {timed[0].after} ({timed[0].name!r}), and is left after one row each "
                    f"time, by {by!r}, {rows_text(entered, len(entered))}"
                )
                yield Finding(
                    NAME,
                    about,
                    told,
                    "sure",
                    rows,
                    count,
                    place,
                    claim,
                    f"larktally why TRACE FILE.py {entered[0] + 1}",
                    3,
                )
