"""Levels: solid boxes on named layers, one-way platforms and zones, from text rows or from lists of boxes."""

from __future__ import annotations

import functools
import hashlib
import math
import textwrap
from collections.abc import Hashable, Iterable, Mapping, Sequence
from typing import Any

import msgspec

from larktally.errors import ModelError
from larktally.names import did_you_mean, one_or_many
from larktally.parts.space.box import Box, Point
from larktally.parts.space.grid import Grid

__all__ = ["Level", "box_at"]

_EMPTY = ". "
# Of sizes of bodies, for what is kept for each: a search over sizes tries thousands.
MOST_SIZES = 16


class Level:
    """The still world: which axes there are, which way is up, and the boxes in it.

    2-D levels have x and y with y up and the origin at the bottom left, unless `up` says otherwise ("-y" for y down);
    3-D levels have `axes="xyz"` and z up. `up=None` is a level seen from above: nothing is ground, nothing carries, and
    all sides of a wall are alike; gravity and one-way boxes are errors there. Everything is in level units.
    """

    def __init__(
        self,
        boxes: Iterable[Box] = (),
        zones: Mapping[str, Sequence[Box]] | None = None,
        *,
        axes: str = "xy",
        up: str | None = "",
    ) -> None:
        if axes not in ("xy", "xyz"):
            raise ModelError(f"a level has the axes 'xy' or 'xyz', not {axes!r}")
        self.axes = axes
        self.up_axis, self.up_sign = _up_of(axes, up)
        self.has_up = up is not None
        self.boxes: tuple[Box, ...] = tuple(self._checked(box) for box in boxes)
        self.zones = {name: tuple(self._checked(box) for box in parts) for name, parts in (zones or {}).items()}
        self.grid = Grid(self.boxes, len(axes))
        self.low, self.high = self._bounds()
        # What bodies of one size found in it: the next one of that size, of this run or another, need not look again.
        self._looked_up: dict[Hashable, dict[Any, Any]] = {}

    def looked_up(self, by: Hashable) -> dict[Any, Any]:
        """What was looked up in this level, and kept, by bodies that are alike in `by`."""
        if by not in self._looked_up and len(self._looked_up) >= MOST_SIZES:
            self._looked_up.clear()
        return self._looked_up.setdefault(by, {})

    @classmethod
    def from_rows(
        cls,
        rows: str,
        *,
        cell: float,
        solid: str = "#",
        one_way: str = "=",
        layers: Mapping[str, str] | None = None,
        zones: Mapping[str, str] | None = None,
        up: str | None = "+y",
    ) -> Level:
        """A 2-D level drawn in text: each character is a square of `cell` units; '.' and ' ' are empty.

        `layers` maps further characters to the layer of their solid boxes, `zones` to the name of a zone. One character may
        stand in several of them, and several for one zone: with one_way="=M", zones={"H": "ladder", "M": "ladder"} an M is a
        ladder that goes through a plank. Squares side by side are joined into larger boxes. Raises ModelError naming the row and
        column of what does not fit.
        """
        if not (isinstance(cell, int | float) and math.isfinite(cell) and cell > 0):
            raise ModelError(f"cell is the side of a square in units, above 0, not {cell!r}")
        drawn = _rows(rows)
        legend = {character: "solid" for character in solid} | dict(layers or {})
        known = {*_EMPTY, *legend, *one_way, *(zones or {})}
        for number, row in enumerate(drawn, 1):
            for column, character in enumerate(row, 1):
                if character not in known:
                    raise ModelError(
                        f"level row {number}, column {column}: {character!r} stands for nothing; "
                        f"the legend has {' '.join(sorted(known - set(_EMPTY)))}"
                    )
        lines = drawn
        # Text is read from its top, and row 0 of a level lies at the bottom.
        if up != "-y":
            lines = drawn[::-1]
        boxes: list[Box] = []
        for character, layer in legend.items():
            boxes += [Box(low, high, layer) for low, high in _rectangles(lines, character, cell)]
        for character in one_way:
            # Not joined upward: each row of planks is one to land on.
            boxes += [Box(low, high, "solid", True) for low, high in _rectangles(lines, character, cell, tall=False)]
        named: dict[str, list[Box]] = {}
        for name in dict.fromkeys((zones or {}).values()):
            # A zone may stand in cells of several characters: a ladder, and the ladder where it goes through a plank.
            characters = "".join(character for character, of in (zones or {}).items() if of == name)
            found = []
            for low, high in _rectangles(lines, characters, cell):
                found.append(Box(low, high, "zone", name=name))
            named[name] = found
        # In an order that hangs on where boxes are, not on which character was read first: the order decides between two
        # met at once.
        level = cls(sorted(boxes, key=lambda box: (box.low, box.high)), named, up=up)
        corner = (len(drawn[0]) * float(cell), len(drawn) * float(cell))
        # A hop out of the picture's top is no mistake; a fall through its floor is.
        level.low, level.high = level._open_above((0.0, 0.0), corner)
        return level

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that its boxes stand on."""
        return tuple(dict.fromkeys(box.layer for box in self.boxes))

    @functools.cached_property
    def digest(self) -> str:
        """SHA-256 over axes, up and boxes: the same for the same level."""
        content = (self.axes, self.up_axis, self.up_sign, [_plain(box) for box in self.boxes])
        zones = [(name, [_plain(box) for box in parts]) for name, parts in self.zones.items()]
        return hashlib.sha256(msgspec.json.encode([content, zones])).hexdigest()

    def underside(self, what: str, low: Point, high: Point) -> Point:
        """The middle of the underside of a box from `low` to `high`; raises ModelError in a level without an up."""
        if not self.has_up:
            raise ModelError(f"{what} has no feet: its level has no up")
        down = high
        if self.up_sign > 0:
            down = low
        found = []
        for i, (start, end) in enumerate(zip(low, high, strict=True)):
            found.append(down[i] if i == self.up_axis else (start + end) / 2)
        return tuple(found)

    def plain(self, most: int) -> dict[str, object]:
        """Axes, up and boxes as plain data; no boxes where there are more than `most`."""
        if len(self.boxes) <= most:
            boxes = [_plain(box) for box in self.boxes]
        else:
            boxes = []
        up = None
        if self.has_up:
            up = "+-"[self.up_sign < 0] + self.axes[self.up_axis]
        return {
            "axes": self.axes,
            "up": up,
            "boxes": boxes,
        }

    def check_layers(self, layers: Iterable[str] | None, known: Iterable[str] = ()) -> frozenset[str] | None:
        """The layers as a set, None for all; raises ModelError for one that does not exist."""
        if layers is None:
            return None
        wanted = one_or_many(layers)
        there = {*self.layers, *known}
        for layer in wanted:
            if layer not in there:
                raise ModelError(
                    f"no layer {layer!r} in this level{did_you_mean(layer, there)}; there are: {sorted(there)}"
                )
        return frozenset(wanted)

    def _checked(self, box: Box) -> Box:
        low, high = tuple(map(float, box.low)), tuple(map(float, box.high))
        if len(low) != len(self.axes) or len(high) != len(self.axes):
            raise ModelError(
                f"box {box.name or low}: a level with the axes {self.axes} has boxes of {len(self.axes)} numbers"
            )
        if not all(map(math.isfinite, low + high)):
            raise ModelError(f"box {box.name or low}..{high}: its corners are not all finite")
        if not all(a < b for a, b in zip(low, high, strict=True)):
            raise ModelError(f"box {box.name or low}: low {low} is not below high {high} along every axis")
        if box.one_way and not self.has_up:
            raise ModelError(f"box {box.name or low} is one-way, and this level has no up: nothing comes from above")
        return Box(low, high, box.layer, box.one_way, box.name)

    def _bounds(self) -> tuple[Point, Point]:
        if not self.boxes:
            return (-math.inf,) * len(self.axes), (math.inf,) * len(self.axes)
        lows = zip(*(box.low for box in self.boxes), strict=True)
        highs = zip(*(box.high for box in self.boxes), strict=True)
        return self._open_above(tuple(map(min, lows)), tuple(map(max, highs)))

    def _open_above(self, low: Point, high: Point) -> tuple[Point, Point]:
        """Bounds without a lid: what leaps above the level is not lost."""
        if not self.has_up:
            return low, high
        if self.up_sign > 0:
            return low, tuple(math.inf if i == self.up_axis else side for i, side in enumerate(high))
        return tuple(-math.inf if i == self.up_axis else side for i, side in enumerate(low)), high


def _up_of(axes: str, up: str | None) -> tuple[int, float]:
    """Which axis is up and with which sign; without an up an axis that does not exist, so that no axis is taken for it."""
    if up is None:
        return len(axes), 0.0
    up = up or f"+{axes[-1]}"
    if len(up) != 2 or up[0] not in "+-" or up[1] not in axes:
        raise ModelError(f"up is a sign and an axis, such as '+y' or '-y', or None, not {up!r}")
    if up[0] == "+":
        return axes.index(up[1]), 1.0
    return axes.index(up[1]), -1.0


def box_at(
    corner: Sequence[float], size: Sequence[float], layer: str = "solid", one_way: bool = False, name: str = ""
) -> Box:
    """A box from its minimum corner and its size; raises ModelError for a size that is not above 0, or of other axes."""
    if len(corner) != len(size):
        raise ModelError(
            f"box {name or tuple(corner)}: a corner and a size have a number an axis each, not {tuple(size)}"
        )
    if not all(isinstance(side, int | float) and math.isfinite(side) and side > 0 for side in size):
        raise ModelError(f"box {name or tuple(corner)}: sizes are finite and above 0, not {tuple(size)}")
    high = tuple(float(low) + float(side) for low, side in zip(corner, size, strict=True))
    return Box(tuple(map(float, corner)), high, layer, one_way, name)


def _rows(rows: str) -> list[str]:
    drawn = [row.rstrip() for row in textwrap.dedent(rows).splitlines()]
    while drawn and not drawn[0]:
        drawn.pop(0)
    while drawn and not drawn[-1]:
        drawn.pop()
    if not drawn:
        raise ModelError("a level has at least one row")
    for number, row in enumerate(drawn, 1):
        if len(row) != len(drawn[0]):
            raise ModelError(
                f"level row {number} has {len(row)} characters, row 1 has {len(drawn[0])}; write '.' for empty"
            )
    return drawn


def _rectangles(lines: list[str], characters: str, cell: float, tall: bool = True) -> list[tuple[Point, Point]]:
    """Runs of some characters as rectangles, equal runs of neighbouring lines joined; line 0 is at y = 0."""
    done: list[tuple[Point, Point]] = []
    growing: dict[tuple[int, int], int] = {}
    for y, line in enumerate([*lines, ""]):
        runs = set(_runs(line, characters))
        for run in [run for run in growing if run not in runs or not tall]:
            first = growing.pop(run)
            done.append(((run[0] * float(cell), first * float(cell)), (run[1] * float(cell), y * float(cell))))
        for run in sorted(runs):
            growing.setdefault(run, y)
    return done


def _runs(line: str, characters: str) -> list[tuple[int, int]]:
    runs, start = [], None
    for x, found in enumerate(line + "\0"):
        if found in characters and start is None:
            start = x
        elif found not in characters and start is not None:
            runs.append((start, x))
            start = None
    return runs


def _plain(box: Box) -> list[object]:
    return [box.low, box.high, box.layer, box.one_way, box.name]
