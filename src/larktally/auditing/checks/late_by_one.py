"""Late by one: a label that agrees with what an event says one row later or earlier, each time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen

__all__ = ["look"]

NAME = "late by one"
LEAST = 3


def look(seen: Seen) -> Iterator[Finding]:
    """Where the words of an event's data are labels of a channel: in all of three events and more the channel has the word one
    row after (or before), and never in the event's own. And a label that is in each row what another was in the row before.

    Not: what an event says of where it came from, nor a machine's own `changed`; a pose that has times of its own.
    """
    yield from _followers(seen)
    said: dict[tuple[str, str, str], list[tuple[int, str]]] = {}
    for event in seen.trace.events:
        for field, value in event.data.items():
            if isinstance(value, str) and field not in ("from", "by", "in", "read"):
                said.setdefault((event.name, event.source, field), []).append((event.row, value))
    labels = {name: column for name, column in seen.of_kind("label")}
    for (name, source, field), listed in said.items():
        words = {value for _, value in listed}
        if len(listed) < LEAST or len(words) < 2:
            continue
        for channel, column in labels.items():
            if words <= set(column.channel.labels) and channel != source:
                yield from _compared(name, field, channel, column.values, listed)


def _followers(seen: Seen) -> Iterator[Finding]:
    """Labels that follow another of the same words a row late, from the first change of it to the last."""
    labels = [(name, column) for name, column in seen.of_kind("label") if len(column.channel.labels) > 1]
    for name, column in labels:
        values = column.values
        for other, leading in labels:
            ahead = leading.values
            changes = np.flatnonzero(ahead[1:] != ahead[:-1]) + 1
            shared = set(column.channel.labels) & set(leading.channel.labels)
            if name == other or len(changes) < LEAST or len(shared) < 2:
                continue
            if (values[1:] == ahead[:-1]).all() and (values[changes] != ahead[changes]).all():
                told = (
                    f"is in every row what {other} was in the row before, {rows_text(changes.tolist(), len(changes))}"
                )
                rows = tuple(int(row) for row in changes[:3])
                claim, more = f"always({name} == {other})", why_command(changes[0])
                place = seen.place_that_set(name, rows[0])
                yield Finding(NAME, name, told, "likely", rows, len(changes), place, claim, more, 2)


def _compared(
    name: str, field: str, channel: str, values: np.ndarray, listed: list[tuple[int, str]]
) -> Iterator[Finding]:
    rows = np.array([row for row, _ in listed])
    wanted = np.array([word for _, word in listed], dtype=object)
    agrees: Mapping[int, float] = {}
    for shift in (-1, 0, 1):
        inside = (rows + shift >= 0) & (rows + shift < len(values))
        same = values[np.clip(rows + shift, 0, len(values) - 1)] == wanted
        agrees = {**agrees, shift: float((same | ~inside).mean())}
    # What holds in the row before and in its own as well is no edge of this.
    if agrees[0] > 0.2:
        return
    for shift, word in ((1, "later"), (-1, "earlier")):
        if agrees[shift] == 1.0:
            told = (
                f"has what {name!r} says in {field!r} one row {word}, in all {len(listed)} of them, "
                f"{rows_text(rows.tolist(), len(listed))}"
            )
            word_at = listed[0][1]
            claim = f"always(implies(event({name!r}, {field}={word_at!r}), {channel} == {word_at!r}))"
            more = f"larktally show TRACE --frames {max(listed[0][0] - 2, 0)}..{listed[0][0] + 2} --only '{channel}' --events"
            yield Finding(NAME, channel, told, "likely", tuple(rows[:3].tolist()), len(listed), "", claim, more, 2)
