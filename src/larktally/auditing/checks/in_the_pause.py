"""In the pause: what moves while all that it belongs to stands still, and moves outside of it too."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.language.ticks import clocks_of

__all__ = ["look"]

NAME = "in the pause"
LEAST_ROWS = 10
LEAST_FELLOWS = 2


def look(seen: Seen) -> Iterator[Finding]:
    """Rows in which a clock stands, or a label has a value in which nearly everything that otherwise moves stands still: a
    channel that goes on there while those beside it, below the same name, do not.

    Not: a background or a menu that goes on with all that is below its name.
    """
    changes: dict[str, npt.NDArray[np.bool_]] = {}
    for name, column in seen.of_kind("number", "count"):
        stored = column.stored
        moved = np.append(
            False, (stored[1:] != stored[:-1]) & ~((stored[1:] != stored[1:]) & (stored[:-1] != stored[:-1]))
        )
        if moved.any():
            changes[name] = moved
    for what, paused in _pauses(seen, changes):
        outside = ~paused
        going: list[str] = []
        standing: list[str] = []
        for name, moved in changes.items():
            if moved[outside].sum() < LEAST_ROWS // 2:
                continue
            (going if moved[paused].sum() > paused.sum() // 2 else standing).append(name)
        for name in going:
            family = name.rpartition(".")[0]
            fellows = [one for one in standing if one.rpartition(".")[0] == family or one.startswith(family + ".")]
            if len(fellows) < LEAST_FELLOWS or name.startswith(tuple(clocks_of(seen.trace.channels))):
                continue
            rows = np.flatnonzero(changes[name] & paused)
            told = (
                f"goes on while {what}: in {len(rows)} of {int(paused.sum())} such rows, the first {rows[0]}, where "
                f"{', '.join(fellows[:3])} stand still"
            )
            claim = f"always(implies(lasted({_condition(what)}) > 1, not changed({name})))"
            rows_ = tuple(int(row) for row in rows[:3])
            yield Finding(
                NAME, name, told, "likely", rows_, len(rows), "", claim, f"larktally why TRACE FILE.py {rows[0]}", 3
            )


def _condition(what: str) -> str:
    """The rows of a pause, as the claim language says them."""
    if what.endswith(" stands"):
        return f"not clock({what.removesuffix(' stands')!r})"
    name, _, value = what.partition(" is ")
    return f"{name} == {value}"


def _pauses(seen: Seen, changes: dict[str, npt.NDArray[np.bool_]]) -> Iterator[tuple[str, npt.NDArray[np.bool_]]]:
    """What a pause is called, and its rows but for the first of each, in which what was under way still ends."""
    for clock in clocks_of(seen.trace.channels):
        stands = ~seen.trace[f"{clock}.ticking"].astype(bool)
        stands[0] = False
        # Slow motion stands in every other row; a pause stands on end.
        long = _inner(stands)
        if long.sum() >= LEAST_ROWS:
            yield f"{clock} stands", long
    if len(changes) < 3 or clocks_of(seen.trace.channels):
        return
    for name, column in seen.of_kind("label"):
        for label in column.channel.labels:
            inside = _inner(column.values == label)
            if not LEAST_ROWS <= inside.sum() <= seen.rows - 2 * LEAST_ROWS:
                continue
            active = [moved for moved in changes.values() if moved[~inside].mean() > 0.2]
            resting = [moved for moved in active if not moved[inside].any()]
            # A pause stops nearly all of it: what one thing is in as it stands or walks stops a part of one.
            if len(active) >= 4 and len(resting) >= 0.75 * len(active):
                yield f"{name} is {label!r}", inside


def _inner(flags: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """The rows of each stretch but its first two."""
    return np.asarray(flags & np.append(False, flags[:-1]) & np.append([False, False], flags[:-2]))
