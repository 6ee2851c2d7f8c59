"""Events of two runs set side by side: the same ones, those that are missing, added, or moved by some frames."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from typing import Any, NamedTuple

import msgspec

from larktally.textfmt import plural, shown_value
from larktally.traces.events import EventLog

__all__ = ["EventChange", "event_changes"]

# Ten seconds at 60 frames/s: farther apart they are hardly the same event.
FARTHEST = 600


class EventChange(msgspec.Struct, frozen=True):
    """One event that is not where it was, or says other numbers: `first` is its row in one run, `second` in the other, None
    where it is not; `says` are the words that it carries, and `numbers` those that changed."""

    name: str
    source: str
    first: int | None
    second: int | None
    says: str = ""
    numbers: str = ""

    @property
    def moved(self) -> int | None:
        """By how many frames; None where it is missing or new."""
        if self.first is None or self.second is None:
            return None
        return self.second - self.first

    def __str__(self) -> str:
        return self.told(())

    def told(self, sides: tuple[str, str] | tuple[()]) -> str:
        """The change in words; `sides` are what the two runs are called, where one is not what the other was."""
        what = self.name
        if self.source:
            what = f"{self.name} from {self.source}"
        if self.says:
            what = f"{what} ({self.says})"
        if sides and self.second is None:
            return f"{what} in row {self.first} is in {sides[0]} alone"
        if sides and self.first is None:
            return f"{what} in row {self.second} is in {sides[1]} alone"
        if self.second is None:
            return f"{what} in row {self.first} is missing"
        if self.first is None:
            return f"{what} in row {self.second} is new"
        by = self.second - self.first
        if not by:
            return f"{what} in row {self.first}: {self.numbers}"
        return f"{what} moved by {'+' if by > 0 else '-'}{plural(abs(by), 'frame')}, from row {self.first} to {self.second}"


class _Kind(NamedTuple):
    """What makes two events the same thing: who said what, with which words. Numbers may be others in another run."""

    name: str
    source: str
    words: str


class _Said(NamedTuple):
    """One event: its row, and its data as text."""

    row: int
    data: str


def event_changes(a: EventLog, b: EventLog, loosely: bool = False) -> list[EventChange]:
    """What changed between two runs' events, by name, source and the words they carry, in the order of rows.

    Events in the same row are the same; the others are paired in order with the next one of their kind not farther
    than 600 rows away, and what is left over is missing or new. `loosely` leaves out the numbers that events carry,
    which a tolerance is for.
    """
    first, second = _unequal(a, b)
    kinds, other_kinds = _by_kind(first), _by_kind(second)
    found: list[EventChange] = []
    for kind in dict.fromkeys([*kinds, *other_kinds]):
        found += _of_kind(kind, kinds.get(kind, []), other_kinds.get(kind, []), loosely)
    return sorted(found, key=lambda one: (one.first if one.first is not None else one.second or 0, one.name))


def _unequal(a: EventLog, b: EventLog) -> tuple[Counter[tuple[int, str, str, str]], Counter[tuple[int, str, str, str]]]:
    """The events of each that the other does not have to the letter: data is read of these only."""
    there, here = Counter(a.fields()), Counter(b.fields())
    return there - here, here - there


def _by_kind(events: Counter[tuple[int, str, str, str]]) -> dict[_Kind, list[_Said]]:
    found: dict[_Kind, list[_Said]] = defaultdict(list)
    for row, name, source, data in sorted(events.elements()):
        found[_Kind(name, source, _words(data))].append(_Said(row, data))
    return found


def _fields(data: str) -> Mapping[str, Any]:
    if not data:
        return {}
    fields: dict[str, Any] = msgspec.json.decode(data)
    return fields


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _words(data: str) -> str:
    """What an event says that is no number, as text."""
    words = []
    for key, value in _fields(data).items():
        if not isinstance(value, dict | list) and not _is_number(value):
            words.append(f"{key} {value if isinstance(value, str) else shown_value(value)}")
    return ", ".join(words)


def _other_numbers(first: str, second: str) -> str:
    """The numbers that two events of a kind do not have in common."""
    mine, theirs = _fields(first), _fields(second)
    changed = []
    for key in dict.fromkeys([*mine, *theirs]):
        one, other = mine.get(key), theirs.get(key)
        if one != other:
            changed.append(f"{key} was {shown_value(one)}, now {shown_value(other)}")
    return ", ".join(changed)


def _of_kind(kind: _Kind, first: list[_Said], second: list[_Said], loosely: bool) -> list[EventChange]:
    there, here = _by_row(first), _by_row(second)
    found: list[EventChange] = []
    gone: list[int] = []
    new: list[int] = []
    for row in sorted(there.keys() | here.keys()):
        mine, theirs = there.get(row, []), here.get(row, [])
        # Said in the same row of both: what is not the same is what it carries.
        for one, other in zip(mine, theirs, strict=False):
            numbers = _other_numbers(one, other)
            if numbers and not loosely:
                found.append(EventChange(kind.name, kind.source, row, row, kind.words, numbers))
        gone += [row] * (len(mine) - len(theirs))
        new += [row] * (len(theirs) - len(mine))
    return found + _paired(kind, gone, new)


def _by_row(events: list[_Said]) -> dict[int, list[str]]:
    """The data of events by their rows."""
    found: dict[int, list[str]] = defaultdict(list)
    for one in events:
        found[one.row].append(one.data)
    return found


def _paired(kind: _Kind, gone: list[int], new: list[int]) -> list[EventChange]:
    found, i, j = [], 0, 0
    while i < len(gone) and j < len(new):
        # Where one side has more left, one of them has no partner: the one whose neighbour fits better.
        more_here = (len(gone) - i) - (len(new) - j)
        nearer_next_gone = more_here > 0 and i + 1 < len(gone) and abs(gone[i + 1] - new[j]) < abs(gone[i] - new[j])
        nearer_next_new = more_here < 0 and j + 1 < len(new) and abs(gone[i] - new[j + 1]) < abs(gone[i] - new[j])
        if nearer_next_gone or (gone[i] < new[j] - FARTHEST):
            found.append(EventChange(kind.name, kind.source, gone[i], None, kind.words))
            i += 1
        elif nearer_next_new or (new[j] < gone[i] - FARTHEST):
            found.append(EventChange(kind.name, kind.source, None, new[j], kind.words))
            j += 1
        else:
            found.append(EventChange(kind.name, kind.source, gone[i], new[j], kind.words))
            i, j = i + 1, j + 1
    for row in gone[i:]:
        found.append(EventChange(kind.name, kind.source, row, None, kind.words))
    for row in new[j:]:
        found.append(EventChange(kind.name, kind.source, None, row, kind.words))
    return found
