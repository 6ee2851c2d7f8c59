"""Lapses in the air: a window or chain that is over before the ground comes, each time."""

from __future__ import annotations

from collections.abc import Iterator

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen

__all__ = ["look"]

NAME = "lapses in the air"


def look(seen: Seen) -> Iterator[Finding]:
    """A chain's time that runs out while its body is in the air, twice and more, and never on the ground.

    Not: a chain that lapses on the ground too, where nobody went on with it.
    """
    for (name, source), rows in seen.events.items():
        grounded = f"{source.partition('.')[0]}.grounded"
        if name != "lapsed" or len(rows) < 2 or grounded not in seen.trace.columns:
            continue
        flags = seen.trace[grounded]
        # In the row in which it lapses the body may have been launched, after it had stood.
        if not any(flags[row] or flags[max(row - 1, 0)] for row in rows):
            told = f"lapses only in the air, {rows_text(rows, len(rows))}: its time does not wait for the ground"
            claim = f"always(implies(event('lapsed', source={source!r}), {grounded}))"
            yield Finding(
                NAME,
                source,
                told,
                "likely",
                tuple(rows[:3]),
                len(rows),
                "",
                claim,
                why_command(rows[0]),
                2,
            )
