"""What moves by itself in a sim, found by where it stands: a look costs what is near, and not what is there."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Sequence
from typing import Protocol, TypeAlias

from larktally.parts.space.box import Box

__all__ = ["Mover", "Movers", "Provider"]

#: Gives the boxes of something that moves, where they are now.
Provider: TypeAlias = Callable[[], Iterable[Box]]
_Key: TypeAlias = tuple[int, int, int, int]
# A region of more cells than that, or one that is not finite, is near everything.
MOST_CELLS = 64


class Mover(Protocol):
    """A box that is solid to every body, and says `Movers.moved` whenever it stands somewhere else."""

    @property
    def provider(self) -> Provider: ...
    @property
    def box(self) -> Box: ...


class Movers:
    """A uniform grid over the first two axes, with cells twice as large as the largest of `all` was when it was made."""

    def __init__(self) -> None:
        #: In the order in which they began.
        self.all: list[Mover] = []
        #: The place of everything that moves, by its provider, in the order in which bodies meet it.
        self.order: dict[Provider, int] = {}
        self._numbers: dict[Provider, int] = {}
        self._cell = 0.0
        self._cells: dict[tuple[int, int], list[int]] = {}
        # The cells that each one is in; None for those that are near everything.
        self._keys: list[_Key | None] = []
        self._everywhere: list[int] = []

    def enter(self, provider: Provider) -> None:
        """Gives what moves its place in the order."""
        self.order.setdefault(provider, len(self.order))

    def add(self, mover: Mover) -> None:
        """Adds one that is solid to every body."""
        self.enter(mover.provider)
        self._numbers[mover.provider] = len(self.all)
        self.all.append(mover)
        # The table is made anew, for all of them, when it is next asked.
        self._cell = 0.0

    def has(self, provider: Provider) -> bool:
        """Whether one of `all` gives its box by this function."""
        return provider in self._numbers

    def moved(self, mover: Mover) -> None:
        """Notes that one stands somewhere else, or has another size."""
        if not self._cell:
            return
        number, box = self._numbers[mover.provider], mover.box
        key, before = self._key(box.low, box.high), self._keys[number]
        if key != before:
            for cell in self._cells_of(before):
                cell.remove(number)
            self._put(number, key)

    def near(self, low: Sequence[float], high: Sequence[float]) -> list[Mover]:
        """Those that may reach into a region, in order."""
        if not self._cell:
            self._make()
        key = self._key(low, high)
        if key is None:
            return self.all
        found = set(self._everywhere)
        for place in _places(key):
            found.update(self._cells.get(place, ()))
        return [self.all[number] for number in sorted(found)]

    def _make(self) -> None:
        boxes = [mover.box for mover in self.all]
        sides = [end - start for box in boxes for start, end in zip(box.low, box.high, strict=True)]
        self._cell = 2.0 * max([1e-6, *filter(math.isfinite, sides)])
        self._cells, self._everywhere, self._keys = {}, [], [None] * len(boxes)
        for number, box in enumerate(boxes):
            self._put(number, self._key(box.low, box.high))

    def _key(self, low: Sequence[float], high: Sequence[float]) -> _Key | None:
        """The first and the last cell of a region along x, and along y; None where it is near everything."""
        cell = self._cell
        try:
            key = (
                math.floor(low[0] / cell),
                math.floor(high[0] / cell),
                math.floor(low[1] / cell),
                math.floor(high[1] / cell),
            )
        except (ValueError, OverflowError):
            # What is not finite.
            return None
        if (key[1] - key[0] + 1) * (key[3] - key[2] + 1) > MOST_CELLS:
            return None
        return key

    def _put(self, number: int, key: _Key | None) -> None:
        self._keys[number] = key
        for cell in self._cells_of(key):
            cell.append(number)

    def _cells_of(self, key: _Key | None) -> list[list[int]]:
        """Who is in each of some cells."""
        if key is None:
            return [self._everywhere]
        return [self._cells.setdefault(place, []) for place in _places(key)]


def _places(key: _Key) -> Iterable[tuple[int, int]]:
    first_x, last_x, first_y, last_y = key
    return itertools.product(range(first_x, last_x + 1), range(first_y, last_y + 1))
