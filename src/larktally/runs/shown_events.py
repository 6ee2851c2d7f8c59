"""What became of every event under late inputs: shown once in time, early or late, in several frames, not at all, or taken
back."""

from __future__ import annotations

import bisect
from collections.abc import Iterable, Sequence
from typing import Any, TypeAlias

import msgspec

from larktally.runs.rollback import Emitted

__all__ = ["FATES", "ShownEvent", "fates_of"]

#: In the order in which they are told.
FATES = ("in time", "early", "moved", "doubled", "lost", "taken back")
# An event, and the row that it stands in.
_Row: TypeAlias = tuple[int, Emitted]


class ShownEvent(msgspec.Struct, frozen=True):
    """One event of the confirmed run, or one that was only shown: `row` is its own, None where it never happened; `shown` the
    rows in which it was seen; `fate` what became of it."""

    name: str
    source: str
    data: str
    row: int | None
    shown: tuple[int, ...]
    fate: str

    @property
    def order(self) -> int:
        """By which row it is told: its own, or where it was shown."""
        if self.row is not None:
            return self.row
        return self.shown[0]

    @property
    def rows_told(self) -> str:
        """Its row and those in which it was shown: "20 → 26"; "-" for none."""
        return f"{'-' if self.row is None else self.row} → {' '.join(map(str, self.shown)) or '-'}"

    def plain(self) -> dict[str, Any]:
        """The event as plain data, for JSON."""
        return {
            "name": self.name,
            "source": self.source,
            "data": self.data,
            "row": self.row,
            "shown": list(self.shown),
            "fate": self.fate,
        }

    def __str__(self) -> str:
        what = self.name
        if self.source:
            what += f" ({self.source})"
        return f"{what}: {self.fate}: {self.rows_told}"


def fates_of(confirmed: Iterable[_Row], shown: Iterable[_Row], reach: int) -> list[ShownEvent]:
    """What became of each event, in the order of rows.

    An event is known by its name, source and data. One that was shown belongs to the nearest of its kind that happened, to the
    earlier of two as near, at most `reach` rows away: farther than inputs are late, it is another, that never came to be. In
    its own row alone it is shown in time; in another alone early, or moved; in several doubled.
    """
    happened: dict[Emitted, list[int]] = {}
    for row, event in confirmed:
        happened.setdefault(event, []).append(row)
    seen: dict[Emitted, list[list[int]]] = {event: [[] for _ in rows] for event, rows in happened.items()}
    found: list[ShownEvent] = []
    # As often as it happens in a row, so often one that is shown there is in time: those first.
    for row, event in _in_own_row_first(shown, happened):
        at = _nearest(happened.get(event, ()), seen.get(event, ()), row, reach)
        if at is None:
            found.append(ShownEvent(*event, None, (row,), "taken back"))
        else:
            seen[event][at].append(row)
    for event, rows in happened.items():
        for row, frames in zip(rows, seen[event], strict=True):
            found.append(ShownEvent(*event, row, tuple(sorted(frames)), _fate(row, frames)))
    return sorted(found, key=lambda one: (one.order, one.name, one.source, one.data))


def _in_own_row_first(shown: Iterable[_Row], happened: dict[Emitted, list[int]]) -> list[_Row]:
    return sorted(shown, key=lambda one: one[0] not in happened.get(one[1], ()))


def _nearest(rows: Sequence[int], taken: Sequence[Sequence[int]], row: int, reach: int) -> int | None:
    """The place of the nearest of some rows, in order; of several in the same row the first that was shown in none yet."""
    at = bisect.bisect_left(rows, row)
    best: int | None = None
    for place in (at - 1, at):
        if not 0 <= place < len(rows) or abs(rows[place] - row) > reach:
            continue
        if best is None or abs(rows[place] - row) < abs(rows[best] - row):
            best = place
    if best is None:
        return None
    first = bisect.bisect_left(rows, rows[best])
    last = bisect.bisect_right(rows, rows[best])
    for place in range(first, last):
        if not taken[place]:
            return place
    return first


def _fate(row: int, frames: Sequence[int]) -> str:
    if not frames:
        return "lost"
    if len(frames) > 1:
        return "doubled"
    if frames[0] == row:
        return "in time"
    if frames[0] < row:
        return "early"
    return "moved"
