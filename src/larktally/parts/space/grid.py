"""A uniform grid under the still boxes of a level: which of them are near a region, whatever their number."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from math import floor

from larktally.parts.space.box import Box

__all__ = ["Grid"]

# A ground of a whole level would stand in as many cells as the level has: it is looked at everywhere instead.
MOST_CELLS_OF_A_BOX = 4096


class Grid:
    """Cells twice as large as the median box. A region's boxes are found once and remembered, by its cells.

    A look-up costs O(cells of the region) the first time, and one dictionary access after that.
    """

    def __init__(self, boxes: Sequence[Box], axes: int) -> None:
        self.boxes = boxes
        self.axes = range(axes)
        sides = sorted(max(box.high[i] - box.low[i] for i in self.axes) for box in boxes)
        # Twice the median side: a region of a body's size is then one to four cells, each with a box or two.
        self.cell = max(2.0 * sides[len(sides) // 2] if sides else 1.0, 1e-6)
        self._cells: dict[tuple[int, ...], list[int]] = {}
        self._everywhere: list[int] = []
        self._remembered: dict[tuple[int, ...], tuple[Box, ...]] = {}
        for index, box in enumerate(boxes):
            self._place(index, box)

    def key(self, low: Sequence[float], high: Sequence[float]) -> tuple[int, ...]:
        """The cells that a region covers: first and last along each axis, one axis after the other."""
        cell = self.cell
        # Written out for a plane, which most levels are: no list is made, and no loop runs.
        if len(low) == 2:
            return (floor(low[0] / cell), floor(high[0] / cell), floor(low[1] / cell), floor(high[1] / cell))
        found = []
        for i in self.axes:
            for side in (low, high):
                found.append(floor(side[i] / cell))
        return tuple(found)

    def boxes_in(self, key: tuple[int, ...]) -> tuple[Box, ...]:
        """The boxes that touch the cells of a key, in the level's order."""
        found = self._remembered.get(key)
        if found is None:
            if len(self._remembered) >= 100_000:
                self._remembered.clear()
            found = self._remembered[key] = self._find(key)
        return found

    def _find(self, key: tuple[int, ...]) -> tuple[Box, ...]:
        ranges = [range(key[2 * i], key[2 * i + 1] + 1) for i in self.axes]
        indices = set(self._everywhere)
        wanted = 1
        for cells in ranges:
            wanted *= len(cells)
        # A very long move covers more cells than have anything in them: those that have are then fewer to look at.
        if wanted > len(self._cells):
            for cell, there in self._cells.items():
                if all(place in cells for place, cells in zip(cell, ranges, strict=True)):
                    indices.update(there)
        else:
            for cell in itertools.product(*ranges):
                indices.update(self._cells.get(cell, ()))
        # In the level's order, whatever the set's: of two boxes met at the same time the first one counts.
        return tuple(self.boxes[index] for index in sorted(indices))

    def _place(self, index: int, box: Box) -> None:
        key = self.key(box.low, box.high)
        ranges = [range(key[2 * i], key[2 * i + 1] + 1) for i in self.axes]
        count = 1
        for cells in ranges:
            count *= len(cells)
        if count > MOST_CELLS_OF_A_BOX:
            self._everywhere.append(index)
            return
        for cell in itertools.product(*ranges):
            self._cells.setdefault(cell, []).append(index)
