"""What moves by itself in a sim, and the bodies, found by where they stand: a look costs what is near, and not what is there."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple, Protocol, TypeAlias

from larktally.parts.space.box import Box
from larktally.parts.space.room import Corners

__all__ = ["Mover", "Movers", "Provider"]

#: Gives the boxes of something that moves, where they are now.
Provider: TypeAlias = Callable[[], Sequence[Box]]
_Key: TypeAlias = tuple[int, int, int, int]
# A region of more cells than that, or one that is not finite, is near everything.
MOST_CELLS = 64
# Bodies that cross a large level leave cells behind in which nothing is.
MOST_KNOWN = 50_000
EVERYWHERE: Corners = (-math.inf, -math.inf, math.inf, math.inf)


class Mover(Protocol):
    """A box that is solid to every body that stops at its layer, and says `Movers.moved` whenever it stands somewhere else."""

    @property
    def provider(self) -> Provider: ...
    @property
    def low(self) -> Sequence[float]: ...
    @property
    def high(self) -> Sequence[float]: ...


class Tracked(Protocol):
    """A body, which says `Movers.stand` whenever it may reach into other cells than it did."""

    def find_its_cells(self) -> None: ...


class Cell:
    """Who reaches into a cell, by number, how often one came, went, or moved in it, and how often one came; and which bodies
    do, by their numbers."""

    __slots__ = ("arrivals", "bodies", "changes", "numbers")

    def __init__(self) -> None:
        self.changes = self.arrivals = 0
        self.numbers: list[int] = []
        self.bodies: list[int] = []


class Patch(NamedTuple):
    """Some cells, each with what had changed in it when they were looked up, and how far they go."""

    seen: tuple[tuple[Cell, int], ...]
    bounds: Corners

    def is_as_it_was(self) -> bool:
        """Whether nothing came, went, or moved in it since."""
        for cell, changes in self.seen:
            if cell.changes != changes:
                return False
        return True


class Movers:
    """A uniform grid over the first two axes, with cells twice as large as the largest of `all` was when it was made."""

    def __init__(self) -> None:
        #: In the order in which they began, and how often each has moved.
        self.all: list[Mover] = []
        self.moves: list[int] = []
        #: The place of everything that moves, by its provider, in the order in which bodies meet it.
        self.order: dict[Provider, int] = {}
        #: The names of the bodies that take something along of the velocity of what carries them, when they leave it.
        self.leaving: set[str] = set()
        self._numbers: dict[Provider, int] = {}
        self._cell = 0.0
        self._cells: dict[tuple[int, int], Cell] = {}
        # The cells that each one is in, and their key; None for those that are near everything.
        self._keys: list[_Key | None] = []
        self._cells_in: list[list[Cell]] = []
        self._everywhere = Cell()
        # Of so many cells most have nothing in them any more.
        self._most = MOST_KNOWN
        # All bodies, in the order in which they were made, and the cells that each is in; as long as nobody asks for them, they
        # need not say where they are.
        self._tells_bodies = False
        self._bodies: list[Tracked] = []
        self._cells_with: list[list[Cell]] = []

    def enter(self, provider: Provider) -> None:
        """Gives what moves its place in the order."""
        self.order.setdefault(provider, len(self.order))

    def add(self, mover: Mover) -> None:
        """Adds one that is solid to every body that stops at its layer."""
        self.enter(mover.provider)
        number = self._numbers[mover.provider] = len(self.all)
        self.all.append(mover)
        self.moves.append(0)
        low, high = mover.low, mover.high
        if self._cell < _cell_for([(low, high)]):
            # The table is made anew, for all of them, when it is next asked.
            self._cell = 0.0
            return
        self._keys.append(None)
        self._cells_in.append([])
        self._put(number, self._key(low, high))

    def has(self, provider: Provider) -> bool:
        """Whether one of `all` gives its box by this function."""
        return provider in self._numbers

    def moved(self, mover: Mover) -> None:
        """Notes that one stands somewhere else, or has another size."""
        number = self._numbers[mover.provider]
        self.moves[number] += 1
        if not self._cell:
            return
        key, before = self._key(mover.low, mover.high), self._keys[number]
        for cell in self._cells_in[number]:
            cell.changes += 1
            if key != before:
                cell.numbers.remove(number)
        if key != before:
            self._put(number, key)

    def near(self, low: Sequence[float], high: Sequence[float]) -> list[Mover]:
        """Those that may reach into a region, in order."""
        if not self._cell:
            self._make()
        key = self._key(low, high)
        if key is None:
            return self.all
        numbers = _merged([cell.numbers for cell in self._known(key) if cell.numbers])
        return [self.all[number] for number in numbers]

    def add_body(self, body: Tracked) -> int:
        """Adds a body, before anything has begun; its number."""
        self._bodies.append(body)
        self._cells_with.append([])
        return len(self._bodies) - 1

    def stand(self, number: int, low: Sequence[float], high: Sequence[float]) -> Corners:
        """Notes the region in which a body may be met, by its number; within these bounds it is in the same cells."""
        if not self._cell:
            # They are found anew, for all of them, when the table is next asked.
            return EVERYWHERE
        key = self._key(low, high)
        for cell in self._cells_with[number]:
            cell.bodies.remove(number)
        self._cells_with[number] = self._cells_of(key)
        for cell in self._cells_with[number]:
            cell.bodies.append(number)
        return self._bounds(key)

    def bodies_near(self, low: Sequence[float], high: Sequence[float]) -> Sequence[Tracked]:
        """The bodies that may reach into a region, in order."""
        if not self._tells_bodies:
            self._tells_bodies = True
            self._cell = 0.0
        if not self._cell or len(self._cells) > self._most:
            self._make()
        key = self._key(low, high)
        if key is None:
            return self._bodies
        numbers = _merged([cell.bodies for cell in self._known(key) if cell.bodies])
        return [self._bodies[number] for number in numbers]

    def patch(self, low: Sequence[float], high: Sequence[float]) -> Patch | None:
        """The cells of a region; None for one that is near everything."""
        if not self._cell or len(self._cells) > self._most:
            self._make()
        key = self._key(low, high)
        if key is None:
            return None
        seen = [(cell, cell.changes) for cell in (self._everywhere, *self._cells_of(key))]
        return Patch(tuple(seen), self._bounds(key))

    def numbers_in(self, patch: Patch) -> list[int]:
        """Those that reach into some cells, by their places in `all`."""
        return sorted({number for cell, _ in patch.seen for number in cell.numbers})

    def corners_of(self, numbers: Iterable[int]) -> list[Corners]:
        """Where some of them stand, along the first two axes."""
        found = []
        for number in numbers:
            low, high = self.all[number].low, self.all[number].high
            found.append((low[0], low[1], high[0], high[1]))
        return found

    def _make(self) -> None:
        for cell in (self._everywhere, *self._cells.values()):
            # Who remembers one is told that it is none of these any more.
            cell.changes += 1
            cell.arrivals += 1
        corners = [(mover.low, mover.high) for mover in self.all]
        self._cell = _cell_for(corners)
        self._cells, self._everywhere = {}, Cell()
        self._keys, self._cells_in = [None] * len(corners), [[]] * len(corners)
        for number, (low, high) in enumerate(corners):
            self._put(number, self._key(low, high))
        if self._tells_bodies:
            self._cells_with = [[] for _ in self._bodies]
            for body in self._bodies:
                body.find_its_cells()
        self._most = MOST_KNOWN + 2 * len(self._cells)

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
        self._keys[number], self._cells_in[number] = key, self._cells_of(key)
        for cell in self._cells_in[number]:
            cell.changes += 1
            cell.arrivals += 1
            cell.numbers.append(number)

    def _bounds(self, key: _Key | None) -> Corners:
        """How far some cells go."""
        if key is None:
            return EVERYWHERE
        (first_x, last_x, first_y, last_y), size = key, self._cell
        return (first_x * size, first_y * size, (last_x + 1) * size, (last_y + 1) * size)

    def _known(self, key: _Key) -> list[Cell]:
        """The cells of a key in which somebody is, or was, and the one of those that are near everything."""
        first_x, last_x, first_y, last_y = key
        cells, found = self._cells, [self._everywhere]
        for x in range(first_x, last_x + 1):
            for y in range(first_y, last_y + 1):
                if (x, y) in cells:
                    found.append(cells[x, y])
        return found

    def _cells_of(self, key: _Key | None) -> list[Cell]:
        """The cells of a key, those in which nobody is yet, too."""
        if key is None:
            return [self._everywhere]
        first_x, last_x, first_y, last_y = key
        cells, found = self._cells, []
        for x in range(first_x, last_x + 1):
            for y in range(first_y, last_y + 1):
                cell = cells.get((x, y))
                if cell is None:
                    cell = cells[x, y] = Cell()
                found.append(cell)
        return found


def _merged(lists: Sequence[list[int]]) -> Sequence[int]:
    """The numbers of some lists, each once, in order."""
    # Most have nothing near, or what is in one cell.
    if len(lists) > 1:
        return sorted(set().union(*lists))
    return sorted(lists[0]) if lists else ()


def _cell_for(corners: Iterable[tuple[Sequence[float], Sequence[float]]]) -> float:
    """Twice the longest side of some boxes."""
    sides = [end - start for low, high in corners for start, end in zip(low, high, strict=True)]
    return 2.0 * max([1e-6, *filter(math.isfinite, sides)])
