"""Where a body is: its position by its anchor, its corners, centre and feet, and moving it by a sweep."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, TypeAlias

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.noted import noted
from larktally.parts.part import Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.box import Box, middle_of
from larktally.parts.space.checks import numbers, size_of
from larktally.parts.space.floor import Floor
from larktally.parts.space.level import Level
from larktally.parts.space.movers import Provider
from larktally.parts.space.ride import Ride
from larktally.parts.space.room import Room
from larktally.parts.space.solid_query import ALWAYS_MET, SolidQuery
from larktally.parts.space.sweep import Contact, overlapping, sweep

__all__ = ["Anchor", "PositionedBox", "ANCHORS", "layers_of"]

Anchor: TypeAlias = Literal["corner", "centre", "feet"]
ANCHORS: tuple[Anchor, ...] = ("corner", "centre", "feet")


class PositionedBox(Part):
    """A box of `size` in a level, at x, y (and z): the place of its `anchor`, which is its minimum corner by default."""

    # What its plain steps read and set in every frame: quicker than what is in a dict.
    __slots__ = (
        "_floor",
        "_left",
        "_room",
        "_same_cells",
        "_x",
        "_y",
        "contacts",
        "gravity",
        "grounded",
        "limit",
        "ride",
        "vx",
        "vy",
    )
    # Whoever sets them: what carries and pushes has to find it where it is. Its own steps say so once for both.
    x: float = noted("_x", "_stand_anew", "Where its anchor is along x.")
    y: float = noted("_y", "_stand_anew", "Where its anchor is along y.")
    z: float
    # Where it is in the cells in which it was found; None as long as nobody asks for bodies.
    _same_cells: Room | None
    # How far it may go before anything changes for it, where that is known: along its floor, through the air, or on what moves.
    _floor: Floor | None
    _room: Room | None
    ride: Ride | None
    _blocked: Room | None = None

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        size: Sequence[float],
        at: Sequence[float],
        anchor: str,
        layers: Iterable[str] | None,
        layer: str = "",
    ) -> None:
        super().__init__(sim, name)
        self.forget_way()
        what = f"body {name!r}"
        self.level: Level = sim.level
        self.axes = self.level.axes
        self.size = size_of(what, size, len(self.axes))
        if anchor not in ANCHORS:
            raise ModelError(unknown_name("anchor", anchor, ANCHORS, what))
        if anchor == "feet" and not self.level.has_up:
            raise ModelError(f"{what} is placed by its feet, and this level has no up; anchor='centre'")
        self.up, self.up_sign = self.level.up_axis, self.level.up_sign
        extent_low = _extent_below(anchor, self.size, self.up, self.up_sign)
        extent_high = tuple(side - reach for side, reach in zip(self.size, extent_low, strict=True))
        if layer in ALWAYS_MET:
            raise ModelError(f"{what} cannot stand on the layer {layer!r}: those are met by every body")
        # A rule may move it to another; the one that it was made on stays a name that may be asked for.
        self.layer = self.first_layer = layer
        met = None
        if layers is not None:
            met = self.level.check_layers(layers, layers_of(sim))
        self.near = SolidQuery(self.level, extent_low, extent_high, met, sim.movers)
        self.falls_through = False
        self._same_cells = None
        self.set_position(numbers(what, "at", at, len(self.axes)))
        self._number = sim.movers.add_body(self)

    def forget_way(self) -> None:
        """Says that its next step is no plain one, such as the step before was: it is to be looked at as a whole."""
        self._floor = self._room = self.ride = None

    @property
    def position(self) -> tuple[float, ...]:
        """x and y (and z), of its anchor."""
        if len(self.axes) == 2:
            return (self.x, self.y)
        return (self.x, self.y, self.z)

    def set_position(self, position: Sequence[float]) -> None:
        """Sets x and y (and z)."""
        if len(self.axes) == 2:
            self._x, self._y = position
        else:
            self._x, self._y, self.z = position
        self._stand_anew()

    def _stand_anew(self) -> None:
        """Is told after every change of its place, but for those of which it is known that it stays in its cells."""
        same = self._same_cells
        if same is not None and not same.holds(self._x, self._y):
            self.find_its_cells()

    def find_its_cells(self) -> None:
        """Says where it is, to what asks for bodies."""
        self._same_cells = self.near.stand(self._number, self._x, self._y)

    @property
    def low(self) -> tuple[float, ...]:
        """Its minimum corner."""
        found = []
        for p, reach in zip(self.position, self.near.extent_low, strict=True):
            found.append(p - reach)
        return tuple(found)

    @property
    def high(self) -> tuple[float, ...]:
        """Its maximum corner."""
        found = []
        for p, reach in zip(self.position, self.near.extent_high, strict=True):
            found.append(p + reach)
        return tuple(found)

    @property
    def centre(self) -> tuple[float, ...]:
        """Its middle."""
        return middle_of(self.low, self.high)

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside; raises ModelError in a level without an up."""
        return self.level.underside(f"body {self.name!r}", self.low, self.high)

    def would_overlap(self, offset: Sequence[float], layers: Iterable[str] | None = None) -> list[Box]:
        """The solids it would overlap if it stood `offset` away; it stays where it is. One-way boxes do not count.

        `layers` are those that count; without them, those that it stops at itself.
        """
        wanted = self.level.check_layers(layers, {*ALWAYS_MET, *layers_of(self.sim)})
        offsets = numbers(f"body {self.name!r}", "offset", offset, len(self.axes))
        there = [p + off for p, off in zip(self.position, offsets, strict=True)]
        # Layers that are asked for by name count whatever it stops at itself.
        near = self.near
        if wanted is not None:
            near = SolidQuery(self.level, near.extent_low, near.extent_high, wanted, near.movers)
            near.moving, near.own, near.left_out = self.near.moving, self.near.own, self.near.left_out
        # One-way boxes are no obstacle to standing somewhere, only to falling there.
        solids = near.solids(there, [0.0] * len(there), through_one_way=True)
        found: list[Box] = []
        for s in solids:
            if (wanted is None or s.box.layer in wanted) and overlapping(there, s):
                found.append(s.box)
        return found

    def shift(self, move: Sequence[float], ignoring: Provider | None = None) -> list[Contact]:
        """Moves it by a sweep, without touching its velocity; the contacts that stopped it. `ignoring` does not count."""
        position, displacement = list(self.position), list(move)
        solids = self.near.solids(position, displacement, through_one_way=self.falls_through, ignoring=ignoring)
        # With a velocity of its own: being shifted takes none away.
        contacts = sweep(position, displacement, [0.0] * len(displacement), solids, self.up, self.up_sign)
        self.set_position(position)
        return contacts


def layers_of(sim: SimProtocol) -> set[str]:
    """The layers on which bodies stand that were made so far, and the one on which crates do by themselves."""
    found = {"crate"}
    for body in sim.parts_of(PositionedBox):
        found |= {body.layer, body.first_layer}
    return found - {""}


def _extent_below(anchor: str, size: Sequence[float], up: int, sign: float) -> tuple[float, ...]:
    """How far a body reaches below its anchor along each axis."""
    if anchor == "corner":
        return (0.0,) * len(size)
    feet = 1.0
    if sign > 0:
        feet = 0.0
    found = []
    for i, side in enumerate(size):
        found.append(side * (feet if anchor == "feet" and i == up else 0.5))
    return tuple(found)
