"""In the pause: what moves while all that it belongs to stands still, and moves outside of it too."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from larktally.auditing.finding import Finding, why_command
from larktally.auditing.seen import Seen, stays_of
from larktally.language.ticks import clocks_of

__all__ = ["look"]

NAME = "in the pause"
LEAST_ROWS = 10
LEAST_FELLOWS = 2
# A pause of fewer rows is over before anything shows in it.
LEAST_LONG = 5


def look(seen: Seen) -> Iterator[Finding]:
    """Rows in which a clock stands, or a label or flag has a value, begun and ended by a press, in which nearly everything that
    otherwise moves stands still: a channel that goes on there while those beside it, below the same name, do not.

    Not: a background or a menu that goes on with all that is below its name; the clock of a pose while its body stands, which
    begins with a release; a blow that roots whoever strikes it, which ends by itself. Without inputs only clocks are seen.
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
        starts, lengths = stays_of(paused)
        stretches = [
            (start, start + n) for start, n in zip(starts, lengths, strict=True) if paused[start] and n >= LEAST_LONG
        ]
        going: list[str] = []
        standing: list[str] = []
        for name, moved in changes.items():
            if moved[outside].sum() < LEAST_ROWS // 2:
                continue
            # In one pause is enough: a reload may be under way in that one alone.
            if any(moved[start:stop].mean() > 0.5 for start, stop in stretches):
                going.append(name)
            elif not moved[paused].any():
                standing.append(name)
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
            place = seen.place_that_set(name, int(rows[0]))
            yield Finding(NAME, name, told, "likely", rows_, len(rows), place, claim, why_command(rows[0]), 3)


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
    for name, column in seen.of_kind("label", "flag"):
        for value in column.channel.labels or (True, False):
            there = column.values == value
            inside = _inner(there)
            if not LEAST_ROWS <= inside.sum() <= seen.rows - 2 * LEAST_ROWS or not _by_presses(seen, there):
                continue
            active = [moved for moved in changes.values() if moved[~inside].sum() >= LEAST_ROWS]
            resting = [moved for moved in active if not moved[inside].any()]
            # A pause stops nearly all of it: what one thing is in as it stands or walks stops a part of one.
            if len(active) >= 4 and len(resting) >= 0.75 * len(active):
                yield f"{name} is {str(value).lower() if isinstance(value, bool) else repr(value)}", inside


def _by_presses(seen: Seen, there: npt.NDArray[np.bool_]) -> bool:
    """Whether each stretch begins and ends with a press, in its row or the one before; one may be cut off by the run's end."""
    pressed = np.zeros(seen.rows, dtype=bool)
    for rows in seen.pressed.values():
        pressed[rows] = True
    pressed |= np.append(False, pressed[:-1])
    borders = np.flatnonzero(there[1:] != there[:-1]) + 1
    return bool(len(borders) and not there[0] and pressed[borders].all())


def _inner(flags: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """The rows of each stretch but its first two."""
    return np.asarray(flags & np.append(False, flags[:-1]) & np.append([False, False], flags[:-2]))
