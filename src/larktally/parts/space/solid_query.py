"""Which solids a body could meet: the still ones of the cells it is in, grown by its extent, and what moves by itself."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence

from larktally.parts.space.box import Box
from larktally.parts.space.level import Level
from larktally.parts.space.sweep import ExpandedBox, grow

__all__ = ["SolidQuery"]

# A body flush with the edge of its cells is inside of both: without a margin it would miss what stands in the next.
TOUCH = 1e-9
# More than any rounding of a position: what is farther away than that cannot be touched.
REACH = 1.0
# What carries and what holds inside stops every body; a crate only those that stop at its layer.
ALWAYS_MET = frozenset(("platform", "enclosure"))
# Of a body that crosses a large level: some megabytes at most.
MOST_REMEMBERED = 10_000


class SolidQuery:
    """Finds solids for one body. The solids of its cells are good for as long as its whole way stays inside them.

    `in_bounds` says that whatever stays inside these cells is inside the level; a position from `inner_low` to `inner_high` is
    inside of both; `moving` are functions that return the
    boxes of things that move (platforms, walls), asked for every time.
    """

    def __init__(
        self, level: Level, extent_low: Sequence[float], extent_high: Sequence[float], layers: frozenset[str] | None
    ) -> None:
        self.level, self.layers = level, layers
        self.extent_low, self.extent_high = tuple(extent_low), tuple(extent_high)
        self.moving: list[Callable[[], Iterable[Box]]] = []
        self.still: tuple[ExpandedBox, ...] = ()
        # NaN is inside of nothing, so that the first question looks the cells up.
        self._low: tuple[float, ...] = (math.nan,) * len(self.extent_low)
        self._high: tuple[float, ...] = (math.nan,) * len(self.extent_low)
        self.inner_low = self.inner_high = self._low
        self.in_bounds = False
        self._grown: dict[tuple[int, ...], tuple[ExpandedBox, ...]] = {}

    def meets(self, provider: Callable[[], Iterable[Box]]) -> bool:
        """Whether the body stops at what moves by itself and gives its boxes by this function."""
        return provider in self.moving

    def stops_at(self, layer: str) -> bool:
        """Whether the body stops at solids of a layer."""
        return self.layers is None or layer in self.layers or layer in ALWAYS_MET

    def inside(self, x: float, y: float) -> bool:
        """Whether a position is inside the level, and inside the cells whose solids are `still`."""
        low, high = self.inner_low, self.inner_high
        return low[0] <= x <= high[0] and low[1] <= y <= high[1]

    def moves_near(self, x: float, y: float, next_x: float, next_y: float) -> bool:
        """Whether anything that moves by itself stands where a step from a place to another might meet it."""
        return any(True for _ in self._boxes_near((x, y), (next_x - x, next_y - y), None))

    def solids(
        self,
        position: Sequence[float],
        move: Sequence[float],
        inside: bool = False,
        through_one_way: bool = False,
        ignoring: Callable[[], Iterable[Box]] | None = None,
    ) -> Sequence[ExpandedBox]:
        """Every solid that a move from a position could meet; `inside` says that the position is where it was before.

        `ignoring` is one of `moving` that does not count.
        """
        low, high = self._low, self._high
        if not (
            low[0] <= position[0] + move[0] <= high[0]
            and low[1] <= position[1] + move[1] <= high[1]
            and (inside or (low[0] <= position[0] <= high[0] and low[1] <= position[1] <= high[1]))
            and (len(move) == 2 or (low[2] <= position[2] + move[2] <= high[2] and low[2] <= position[2] <= high[2]))
        ):
            # Once a body leaves its cells, which is every some frames: otherwise four comparisons answer.
            self.still = self._find(position, move)
        solids = self.still
        if self.moving:
            solids += self._moving_solids(position, move, ignoring)
        if through_one_way:
            solids = tuple(solid for solid in solids if not solid.box.one_way)
        return solids

    def _moving_solids(
        self, position: Sequence[float], move: Sequence[float], ignoring: Callable[[], Iterable[Box]] | None
    ) -> tuple[ExpandedBox, ...]:
        """What moves by itself, where it is now: asked for every time, as none of it stays where it was."""
        found = []
        for box in self._boxes_near(position, move, ignoring):
            found.append(grow(box, self.extent_low, self.extent_high))
        return tuple(found)

    def _boxes_near(
        self, position: Sequence[float], move: Sequence[float], ignoring: Callable[[], Iterable[Box]] | None
    ) -> Iterator[Box]:
        """The boxes of what moves that a way might touch: the others are not worth being grown, and most are others."""
        low, high = [], []
        for p, displacement, before, after in zip(position, move, self.extent_low, self.extent_high, strict=True):
            low.append(min(p, p + displacement) - before - REACH)
            high.append(max(p, p + displacement) + after + REACH)
        first_low, second_low, first_high, second_high = low[0], low[1], high[0], high[1]
        for boxes in self.moving:
            if boxes is ignoring:
                continue
            for box in boxes():
                # Told by the first two axes, and the other way round: NaN is near everything, so that trouble is told.
                corner, end = box.low, box.high
                if corner[0] > first_high or end[0] < first_low or corner[1] > second_high or end[1] < second_low:
                    continue
                if self.layers is None or self.stops_at(box.layer):
                    yield box

    def _find(self, position: Sequence[float], move: Sequence[float]) -> tuple[ExpandedBox, ...]:
        """Looks up the cells that a move goes through, and how far their solids are good for."""
        self._low = self._high = (math.nan,) * len(position)
        self.inner_low = self.inner_high = self._low
        self.in_bounds = False
        spans = list(zip(position, move, self.extent_low, self.extent_high, strict=True))
        low = [min(p, p + displacement) - before - TOUCH for p, displacement, before, _ in spans]
        high = [max(p, p + displacement) + after + TOUCH for p, displacement, _, after in spans]
        grid = self.level.grid
        # What is not finite is told as trouble by the body; here it must only not raise in floor().
        if not all(map(math.isfinite, low + high)):
            return ()
        key, cell = grid.key(low, high), grid.cell
        self._low = tuple(key[2 * i] * cell + reach + TOUCH for i, reach in enumerate(self.extent_low))
        self._high = tuple((key[2 * i + 1] + 1) * cell - reach - TOUCH for i, reach in enumerate(self.extent_high))
        # Positions inside of both: in_bounds asks that of whole cells, which few are at the edge of a level.
        self.inner_low = tuple(map(max, self._low, self.level.low))
        self.inner_high = tuple(map(min, self._high, self.level.high))
        bounds = zip(self.level.low, self._low, self._high, self.level.high, strict=True)
        self.in_bounds = all(first <= a and b <= last for first, a, b, last in bounds)
        solids = self._grown.get(key)
        if solids is None:
            if len(self._grown) >= MOST_REMEMBERED:
                self._grown.clear()
            wanted = [box for box in grid.boxes_in(key) if self.layers is None or box.layer in self.layers]
            solids = self._grown[key] = tuple(grow(box, self.extent_low, self.extent_high) for box in wanted)
        return solids
