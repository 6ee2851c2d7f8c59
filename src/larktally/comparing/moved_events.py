"""Events of two runs set side by side: the same ones, those that are missing, added, or moved by some frames."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from larktally.traces.events import EventLog

__all__ = ["EventChange", "event_changes"]

# Ten seconds at 60 frames/s: farther apart they are hardly the same event.
FARTHEST = 600


@dataclass(frozen=True, slots=True)
class EventChange:
    """One event that is not where it was: `first` its row in one run, `second` in the other; None where it is not."""

    name: str
    source: str
    first: int | None
    second: int | None

    @property
    def moved(self) -> int | None:
        """By how many frames; None where it is missing or new."""
        if self.first is None or self.second is None:
            return None
        return self.second - self.first

    def __str__(self) -> str:
        what = self.name
        if self.source:
            what = f"{self.name} from {self.source}"
        if self.second is None:
            return f"{what} in row {self.first} is missing"
        if self.first is None:
            return f"{what} in row {self.second} is new"
        by = self.second - self.first
        return f"{what} moved by {by:+d} frame{'s' if abs(by) != 1 else ''}, from row {self.first} to {self.second}"


def event_changes(a: EventLog, b: EventLog) -> list[EventChange]:
    """What changed between two runs' events, by name and source, in the order of rows.

    Events in the same row are the same; the others are paired in order with the next one of their kind not farther
    than 600 rows away, and what is left over is missing or new.
    """
    first, second = _rows_by_kind(a), _rows_by_kind(b)
    found: list[EventChange] = []
    for kind in dict.fromkeys([*first, *second]):
        gone, new = _unmatched(first[kind], second[kind])
        found += _paired(kind, gone, new)
    return sorted(found, key=lambda one: (one.first if one.first is not None else one.second or 0, one.name))


def _rows_by_kind(log: EventLog) -> dict[tuple[str, str], list[int]]:
    rows: dict[tuple[str, str], list[int]] = defaultdict(list)
    for row, name, source, _ in log.fields():
        rows[name, source].append(row)
    return rows


def _unmatched(first: Sequence[int], second: Sequence[int]) -> tuple[list[int], list[int]]:
    there, here = Counter(first), Counter(second)
    return sorted((there - here).elements()), sorted((here - there).elements())


def _paired(kind: tuple[str, str], gone: list[int], new: list[int]) -> list[EventChange]:
    found, i, j = [], 0, 0
    while i < len(gone) and j < len(new):
        # Where one side has more left, one of them has no partner: the one whose neighbour fits better.
        more_here = (len(gone) - i) - (len(new) - j)
        nearer_next_gone = more_here > 0 and i + 1 < len(gone) and abs(gone[i + 1] - new[j]) < abs(gone[i] - new[j])
        nearer_next_new = more_here < 0 and j + 1 < len(new) and abs(gone[i] - new[j + 1]) < abs(gone[i] - new[j])
        if nearer_next_gone or (gone[i] < new[j] - FARTHEST):
            found.append(EventChange(*kind, gone[i], None))
            i += 1
        elif nearer_next_new or (new[j] < gone[i] - FARTHEST):
            found.append(EventChange(*kind, None, new[j]))
            j += 1
        else:
            found.append(EventChange(*kind, gone[i], new[j]))
            i, j = i + 1, j + 1
    for row in gone[i:]:
        found.append(EventChange(*kind, row, None))
    return found + [EventChange(*kind, None, row) for row in new[j:]]
