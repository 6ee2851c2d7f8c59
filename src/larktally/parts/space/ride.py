"""Rides: what is known of a body that stands on something that moves, so that neither has to be swept."""

from __future__ import annotations

import math
from collections.abc import Sequence

from larktally.parts.space.box import Box
from larktally.parts.space.movers import Patch
from larktally.parts.space.room import Room
from larktally.parts.space.solid_query import SolidQuery
from larktally.parts.space.sweep import Contact, ExpandedBox, grow, pressed_onto

__all__ = ["Ride"]


class Ride:
    """A body on something that moves: the room in which it meets nothing but that, as long as nobody comes into some cells and
    the others that are in them stay where they are."""

    __slots__ = ("_box", "_carrier", "_cells", "_contacts", "_grown", "_near", "_others", "_room", "_vy")

    def __init__(self, near: SolidQuery, patch: Patch, carrier: int, others: Sequence[int], room: Room) -> None:
        movers = near.movers
        self._carrier = movers.all[carrier]
        self._near, self._room = near, room
        self._cells = [(cell, cell.arrivals) for cell, _ in patch.seen]
        self._others = [(number, movers.moves[number]) for number in others]
        # The carrier as it was last met, and what met the body then.
        self._box: Box | None = None
        self._grown: ExpandedBox
        self._contacts: list[Contact] = []
        self._vy = math.nan

    def was_disturbed(self, x: float, y: float, others: Sequence[int]) -> bool:
        """Whether it ended because the others that are near now came or moved, and not because the body is somewhere else."""
        moves = self._near.movers.moves
        return self._room.holds(x, y) and self._others != [(number, moves[number]) for number in others]

    def holds(self, x: float, y: float, next_x: float, next_y: float) -> bool:
        """Whether a way from a place to another meets nothing but the carrier."""
        # Walls may have come about it meanwhile.
        if self._near.moving or not (self._room.holds(x, y) and self._room.holds(next_x, next_y)):
            return False
        for cell, arrivals in self._cells:
            if cell.arrivals != arrivals:
                return False
        moves = self._near.movers.moves
        for number, before in self._others:
            if moves[number] != before:
                return False
        return True

    def pressed(self, x: float, y: float, vy: float, up_sign: float) -> list[Contact]:
        """What meets a body that stands at a place and is pressed down; nothing where it does not stand on the carrier."""
        boxes = self._carrier.provider()
        # A crate may come to be none, or one on a layer that the body does not stop at.
        if not boxes or not self._near.stops_at(boxes[0].layer):
            return []
        box = boxes[0]
        if box is not self._box or vy != self._vy:
            self._box, self._vy = box, vy
            self._grown = grow(box, self._near.extent_low, self._near.extent_high)
            self._contacts = pressed_onto(box, vy, up_sign)
        low, high, _ = self._grown
        surface = low[1]
        if up_sign > 0:
            surface = high[1]
        if y == surface and low[0] < x < high[0]:
            return self._contacts
        return []
