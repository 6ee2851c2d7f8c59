"""On end: an event that is emitted in many rows, one after the other, or twice in one row with the same data."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen

__all__ = ["look", "look_for_twice"]

NAME, TWICE = "on end", "twice in a row"
MOST_ON_END = 10
THROUGHOUT = 0.8
# What the library says by itself for as long as somebody asks, stands or leans.
_OWN = frozenset({"refused", "bumped", "pushed", "go_refused", "tick", "acted", "mark", "crushed"})


def look(seen: Seen) -> Iterator[Finding]:
    """An event of one source in ten and more rows on end.

    Not: what goes on throughout the run, or exactly as long as an action is held, unless a cooldown is there for it that is never
    used; nor what the library says itself for as long as it is asked.
    """
    held = {action: np.abs(values) >= 0.5 for action, values in seen.trace.inputs.items()}
    for (name, source), listed in seen.events.items():
        rows = np.unique(listed)
        # A machine that changes in every row is told as that.
        machine = name == "changed" and source in seen.trace.header.machines
        if machine or name in _OWN or len(rows) < MOST_ON_END or len(rows) > THROUGHOUT * seen.rows:
            continue
        starts = np.append(0, np.flatnonzero(np.diff(rows) != 1) + 1)
        lengths = np.diff(np.append(starts, len(rows)))
        n = int(lengths.argmax())
        first, length = int(rows[starts[n]]), int(lengths[n])
        if length < MOST_ON_END:
            continue
        with_it = [action for action, flags in held.items() if _goes_with(flags, first, length)]
        idle = _unused_rest(seen, source, with_it)
        if with_it and not idle:
            continue
        about = f"{name} of {source}" if source else name
        told = f"falls in {length} rows on end, from row {first} on{idle}"
        by = f", source={source!r}" if source else ""
        claim = f"spaced(event({name!r}{by}), at_least=2)"
        more = f"larktally show TRACE --frames {max(first - 2, 0)}..{first + 8} --events"
        yield Finding(NAME, about, told, "likely", (first, first + 1, first + 2), length, "", claim, more, 2)


def _unused_rest(seen: Seen, source: str, actions: list[str]) -> str:
    """A cooldown beside what emits an event, or of the action that is held, that is ready from first to last, as words for it; ""
    where there is none."""
    family = source.partition(".")[0]
    for name, _ in seen.of_kind("flag"):
        owner, _, last = name.rpartition(".")
        left = seen.trace.columns.get(f"{owner}.left")
        beside = owner.startswith(family + ".") or owner.rpartition(".")[2] in actions
        if last == "ready" and left is not None and beside and not left.stored.any():
            return f"; {owner} is ready in every row, and never used"
    return ""


def _goes_with(held: np.ndarray, first: int, length: int) -> bool:
    """Whether an action was held just as long, give or take a frame."""
    rows = np.flatnonzero(held[first : first + length])
    if len(rows) < length - 1:
        return False
    before = held[max(first - 2, 0) : max(first - 1, 0)]
    return not before.any()


def look_for_twice(seen: Seen) -> Iterator[Finding]:
    """The same event, of one source and with the same data, twice in one row, in two rows and more.

    Not: what says how it differs in its data, such as which of several was struck; nor the library's own.
    """
    fields = list(seen.trace.events.fields())
    count: dict[tuple[int, str, str, str], int] = {}
    for one in fields:
        count[one] = count.get(one, 0) + 1
    doubled: dict[tuple[str, str], list[int]] = {}
    for (row, name, source, _), times in count.items():
        if times > 1 and name not in _OWN:
            doubled.setdefault((name, source), []).append(row)
    for (name, source), rows in doubled.items():
        if len(rows) < 2:
            continue
        about = f"{name} of {source}" if source else name
        told = f"is said twice, with the same data, in {rows_text(rows, len(rows))}"
        claim = f"always(events({name!r}) <= 1)"
        yield Finding(
            TWICE,
            about,
            told,
            "likely",
            tuple(rows[:3]),
            len(rows),
            "",
            claim,
            why_command(rows[0]),
            2,
        )
