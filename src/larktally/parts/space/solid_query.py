"""Which solids a body could meet: the still ones of the cells it is in, grown by its extent, and what moves by itself."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from larktally.parts.space.level import Level
from larktally.parts.space.movers import Movers, Patch, Provider
from larktally.parts.space.room import Corners, Room
from larktally.parts.space.sweep import ExpandedBox, grow

__all__ = ["Region", "SolidQuery"]

# A body flush with the edge of its cells is inside of both: without a margin it would miss what stands in the next.
TOUCH = 1e-9
# More than any rounding of a position: what is farther away than that cannot be touched.
REACH = 1.0
# What carries and what holds inside stops every body; a crate only those that stop at its layer.
ALWAYS_MET = frozenset(("platform", "enclosure"))
# Of bodies of one size that cross a large level: some megabytes at most.
MOST_REMEMBERED = 2_000
# So many cells on each side of a body are looked at together, so that it is some steps until the next look.
MARGIN = 2


class Region(NamedTuple):
    """Some cells of the level: their solids as a body meets them, between which positions those are all that it can meet, and
    strictly between which it is inside of the level, too."""

    solids: tuple[ExpandedBox, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]
    outside: tuple[tuple[float, ...], tuple[float, ...]]
    in_bounds: bool


class SolidQuery:
    """Finds solids for one body. The solids of its cells are good for as long as its whole way stays inside them.

    `here` is where it was found last: the cells, and `still`, the solids of them. `in_bounds` says that whatever stays inside
    these cells is inside the level; a position strictly between the two of `outside` is inside of both. `movers` are what moves
    and is solid to whoever stops at its layer (platforms, doors, crates), `moving` what gives the boxes of other things that
    move (walls around it): these are asked every time. Of `movers` the body's `own` and those `left_out` do not count.
    """

    def __init__(
        self,
        level: Level,
        extent_low: Sequence[float],
        extent_high: Sequence[float],
        layers: frozenset[str] | None,
        movers: Movers,
    ) -> None:
        self.level, self.layers, self.movers = level, layers, movers
        self.extent_low, self.extent_high = tuple(extent_low), tuple(extent_high)
        self.moving: list[Provider] = []
        self.own: Provider | None = None
        self.left_out: Sequence[Provider] = ()
        self._regions: dict[tuple[int, ...], Region] = level.looked_up((self.extent_low, self.extent_high, layers))
        self._be_in(self._nowhere())

    def meets(self, provider: Provider) -> bool:
        """Whether the body stops at what moves by itself and gives its boxes by this function."""
        return provider in self.moving or self.movers.has(provider)

    def stops_at(self, layer: str) -> bool:
        """Whether the body stops at solids of a layer."""
        return self.layers is None or layer in self.layers or layer in ALWAYS_MET

    def around(self, x: float, y: float) -> Region:
        """The solids about a place, some cells farther on each side than a body that stands there reaches."""
        # Not a number is nowhere, and infinite is in no cell.
        if not (math.isfinite(x) and math.isfinite(y)):
            return self._nowhere()
        (left, below), (right, above) = self.extent_low, self.extent_high
        margin = MARGIN * self.level.grid.cell
        low, high = (x - left - margin, y - below - margin), (x + right + margin, y + above + margin)
        return self._region_of(self.level.grid.key(low, high))

    def stand(self, number: int, x: float, y: float) -> Room:
        """Says that the body stands at a place, by its number; the places about it at which it is in the same cells."""
        (left, below), (right, above) = self.extent_low[:2], self.extent_high[:2]
        # Farther than it may be touched: whoever looks for what may touch it looks into these cells alone.
        reach = 2 * REACH
        first, bottom, last, top = self.movers.stand(
            number, (x - left - reach, y - below - reach), (x + right + reach, y + above + reach)
        )
        # And less than that, so that one that stands at an edge is not in other cells in every frame.
        slack = 1.5 * REACH
        return Room((first + left + slack, bottom + below + slack, last - right - slack, top - above - slack), (), x, y)

    def patch_at(self, x: float, y: float) -> Patch | None:
        """The cells of what moves from which something may touch a body that stands at a place; None for all of them."""
        (left, below), (right, above) = self.extent_low, self.extent_high
        return self.movers.patch((x - left - REACH, y - below - REACH), (x + right + REACH, y + above + REACH))

    def others_in(self, patch: Patch) -> list[int]:
        """What of all that moves reaches into some cells, beside the body itself."""
        movers = self.movers
        return [number for number in movers.numbers_in(patch) if movers.all[number].provider is not self.own]

    def clear_of(self, numbers: Iterable[int], patch: Patch, x: float, y: float) -> Room:
        """The places about one from which none of some that move is touched, and nothing that reaches into none of some cells;
        for as long as these are as they were."""
        (left, below), (right, above) = self.extent_low, self.extent_high
        first, bottom, last, top = patch.bounds
        bounds = (first + left + REACH, bottom + below + REACH, last - right - REACH, top - above - REACH)
        boxes: list[Corners] = []
        for box_left, low, box_right, high in self.movers.corners_of(numbers):
            boxes.append(
                (box_left - right - REACH, low - above - REACH, box_right + left + REACH, high + below + REACH)
            )
        return Room(bounds, boxes, x, y)

    def reaches(self, x: float, y: float, next_x: float, next_y: float) -> bool:
        """Whether a step from a place to another stays inside the level, with the solids of its cells as `still`."""
        if not (self._inside(x, y) and self._inside(next_x, next_y)):
            self._look((x, y), (next_x - x, next_y - y))
        return self._inside(x, y) and self._inside(next_x, next_y)

    def _inside(self, x: float, y: float) -> bool:
        """Whether a position is inside the level, and inside the cells whose solids are `still`."""
        low, high = self.outside
        return low[0] < x < high[0] and low[1] < y < high[1]

    def solids(
        self,
        position: Sequence[float],
        move: Sequence[float],
        through_one_way: bool = False,
        ignoring: Provider | None = None,
    ) -> Sequence[ExpandedBox]:
        """Every solid that a move from a position could meet; `ignoring` gives the boxes of one that does not count."""
        low, high = self._low, self._high
        if not (
            low[0] <= position[0] + move[0] <= high[0]
            and low[1] <= position[1] + move[1] <= high[1]
            and low[0] <= position[0] <= high[0]
            and low[1] <= position[1] <= high[1]
            and (len(move) == 2 or (low[2] <= position[2] + move[2] <= high[2] and low[2] <= position[2] <= high[2]))
        ):
            # Once a body leaves its cells, which is every some frames: otherwise some comparisons answer.
            self._look(position, move)
        solids = self.still
        if self.moving or self.movers.all:
            solids += self.moving_solids(position, move, ignoring)
        if through_one_way:
            solids = tuple(solid for solid in solids if not solid.box.one_way)
        return solids

    def moving_solids(
        self, position: Sequence[float], move: Sequence[float], ignoring: Provider | None = None
    ) -> tuple[ExpandedBox, ...]:
        """What moves by itself and might be touched, where it is now: asked for every time, as none of it stays where it was."""
        # Told by the first two axes.
        (x, y), (end_x, end_y) = position[:2], (position[0] + move[0], position[1] + move[1])
        before, after = self.extent_low, self.extent_high
        first_low, first_high = min(x, end_x) - before[0] - REACH, max(x, end_x) + after[0] + REACH
        second_low, second_high = min(y, end_y) - before[1] - REACH, max(y, end_y) + after[1] + REACH
        providers = self.moving
        if self.movers.all:
            near = self.movers.near((first_low, second_low), (first_high, second_high))
            providers = [mover.provider for mover in near]
            if self.moving:
                # Of two that are met at the same time the first one counts, whatever it is.
                providers = sorted([*providers, *self.moving], key=self.movers.order.__getitem__)
        found = []
        for boxes in providers:
            if boxes is ignoring or boxes is self.own or boxes in self.left_out:
                continue
            for box in boxes():
                # The other way round: NaN is near everything, so that trouble is told.
                corner, end = box.low, box.high
                if corner[0] > first_high or end[0] < first_low or corner[1] > second_high or end[1] < second_low:
                    continue
                # Most are out by now, and not worth being grown.
                if self.layers is None or self.stops_at(box.layer):
                    found.append(grow(box, before, after))
        return tuple(found)

    def _nowhere(self) -> Region:
        # NaN is inside of nothing, so that the next question looks the cells up.
        nowhere = (math.nan,) * len(self.extent_low)
        return Region((), nowhere, nowhere, (nowhere, nowhere), False)

    def _be_in(self, region: Region) -> None:
        self.here = region
        self.still, self._low, self._high, self.outside, self.in_bounds = region

    def _look(self, position: Sequence[float], move: Sequence[float]) -> None:
        """Looks up the cells that a move goes through, and how far their solids are good for."""
        low, high = [], []
        for p, displacement, before, after in zip(position, move, self.extent_low, self.extent_high, strict=True):
            end = p + displacement
            # What is not finite is told as trouble by the body; here it must only not raise in floor().
            if not (math.isfinite(p) and math.isfinite(end)):
                self._be_in(self._nowhere())
                return
            low.append(min(p, end) - before - TOUCH)
            high.append(max(p, end) + after + TOUCH)
        self._be_in(self._region_of(self.level.grid.key(low, high)))

    def _region_of(self, key: tuple[int, ...]) -> Region:
        """The region of some cells, looked up once."""
        region = self._regions.get(key)
        if region is None:
            if len(self._regions) >= MOST_REMEMBERED:
                self._regions.clear()
            region = self._regions[key] = self._region(key)
        return region

    def _region(self, key: tuple[int, ...]) -> Region:
        grid, level = self.level.grid, self.level
        low, high = [], []
        for i, (before, after) in enumerate(zip(self.extent_low, self.extent_high, strict=True)):
            low.append(key[2 * i] * grid.cell + before + TOUCH)
            high.append((key[2 * i + 1] + 1) * grid.cell - after - TOUCH)
        found = []
        for box in grid.boxes_in(key):
            if self.layers is None or box.layer in self.layers:
                found.append(grow(box, self.extent_low, self.extent_high))
        # Just outside of both: whether whole cells are inside of the level few can say that are at its edge.
        below, above, in_bounds = [], [], True
        for first, a, b, last in zip(level.low, low, high, level.high, strict=True):
            below.append(math.nextafter(max(a, first), -math.inf))
            above.append(math.nextafter(min(b, last), math.inf))
            in_bounds = in_bounds and first <= a and b <= last
        return Region(tuple(found), tuple(low), tuple(high), (tuple(below), tuple(above)), in_bounds)
