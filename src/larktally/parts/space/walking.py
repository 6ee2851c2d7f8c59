"""The steps that most are, told from what the steps before them found: along a floor, off it, and through the air."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from larktally.parts.noted import noted
from larktally.parts.space.box import Box
from larktally.parts.space.floor import Floor, floor_under
from larktally.parts.space.hop import Integrator
from larktally.parts.space.movers import Patch
from larktally.parts.space.ride import Ride
from larktally.parts.space.riding import RidingBox
from larktally.parts.space.room import Corners, Room
from larktally.parts.space.solid_query import Region
from larktally.parts.space.sweep import ExpandedBox, clear, pressed_onto

__all__ = ["STEP", "WalkingBox"]

# Floors that a body remembers, and rooms.
MOST_KNOWN = 16
# A plain step as lines: on along a floor or through the air, as far as the step before found that nothing changes there.
# Whatever could make it another one forgets the way, or is asked here.
STEP = """\
x, y, move = me._x, me._y, me.vx / rate
next_x = x
if move:
    next_x = x + move
if me.limit or moving:
    pass
elif movers and not me.is_clear(x, next_x, y):
    if me.ride and me.rides(x, next_x, y):
        continue
elif me.grounded:
    floor = me._floor
    if floor and me.gravity == floor.gravity and y == floor.y and not me.vy:
        if floor.low < x < floor.high and floor.first < next_x < floor.last:
            me._x = me._left[0] = next_x
            me.vy = 0.0
            continue
else:
    room = me._room
    if room and room.left < x < room.right and room.left < next_x < room.right and room.low < y < room.high:
        vy, gravity = me.vy, me.gravity
        if gravity:
            vy = vy - gravity * up_sign / rate
        next_y = y + vy / rate
        if room.low < next_y < room.high and (not movers or me.is_clear(x, next_x, next_y)):
            me._x, me._y, me.vy = next_x, next_y, vy
            me._left = [next_x, next_y]
            continue
me.step()"""


class WalkingBox(RidingBox):
    """A box that walks and flies in plain steps, where nothing else comes in between."""

    # The short way knows nothing of these, and a rule may set them at any time.
    falls_through: bool = noted("_falls_through", "forget_way", "Whether one-way boxes let it through.")
    probe: float | None = noted("_probe", "forget_way", "How far below its end it looks for ground.")
    bounce: float = noted("_bounce", "forget_way", "The share of its speed that it keeps where it is thrown back.")
    integrator: Integrator = noted("_integrator", "forget_way", "How its motion is summed.")
    on_contact: Any = noted("_on_contact", "forget_way", "What is called for each contact.")
    leader: Callable[[], list[float] | None] | None = noted(
        "_leader", "forget_way", "What gives the way of a frame, or None."
    )
    touching: list[list[int]]
    # The cells that it is in of what moves, and between which places it touches nothing of that.
    _patch: Patch | None = None
    _clear: Room | None = None
    # Where a ride was looked for in vain.
    _no_ride: Room | None = None
    _left: list[float]
    _known_floors: list[Floor]
    _known_rooms: list[Room]
    _trouble: list[str]
    _was_grounded: bool

    def after_load(self) -> None:
        self.forget_way()

    def find_its_cells(self) -> None:
        super().find_its_cells()
        # Plain steps and rides stay where it is clear without saying so: that was cut to the cells that it was in before.
        self._clear = self.ride = None

    def is_clear(self, x: float, next_x: float, y: float) -> bool:
        """Whether a way at a height is known to be clear of everything that moves and may be solid to it."""
        clear, patch = self._clear, self._patch
        if clear is None or patch is None or not (clear.left < x < clear.right and clear.left < next_x < clear.right):
            return False
        return clear.low < y < clear.high and patch.is_as_it_was()

    def _look_for_movers(self, x: float, y: float) -> None:
        """Finds how far it is clear of what moves."""
        patch = self.near.patch_at(x, y)
        # Not worth it where something goes by in every row: only cells in which all stood since it last looked.
        if patch is None or patch != self._patch:
            self._patch, self._clear = patch, None
            return
        found = self.near.clear_of(self.near.others_in(patch), patch, x, y)
        self._clear = found if found.clear else None

    def rides(self, x: float, next_x: float, y: float) -> bool:
        """Whether it went on along what it rides on, pressed down onto it, and met nothing else."""
        ride, vy = self.ride, self.vy
        if ride is None or not (self.grounded and ride.holds(x, y, next_x, y)):
            return False
        if self.gravity:
            vy = vy - self.gravity * self.up_sign / self._rate
        contacts = vy * self.up_sign < 0 and ride.pressed(x, y, vy, self.up_sign)
        if not contacts:
            return False
        self.contacts = contacts
        self._x, self.vy, self._left = next_x, 0.0, [next_x, y]
        return True

    def ride_to(self, x: float, y: float) -> None:
        """Stands at a place at which its ride still holds."""
        self._x, self._y = x, y

    def _look_for_ride(self, box: Box, x: float, y: float) -> None:
        """Finds how far it meets nothing else where it rides on a box."""
        if self._no_ride is not None and self._no_ride.holds(x, y):
            return
        near, room, patch = self.near, self._room_at(x, y), self.near.patch_at(x, y)
        if room is None or patch is None:
            return
        others = near.others_in(patch)
        carrier = next((number for number in others if box in near.movers.all[number].provider()), None)
        if carrier is None:
            # It has gone by.
            return
        others.remove(carrier)
        about = near.clear_of(others, patch, x, y)
        # Not worth it where others go by.
        if about.clear and not (self.ride and self.ride.was_disturbed(x, y, others)):
            self._no_ride, self.ride = None, Ride(near, patch, carrier, others, room.within(about))
        else:
            self._no_ride, self.ride = about, None

    def _walked_or_flew(self) -> bool:
        """The frames that most are, told from what was known: a step along the one floor it stands on, off it, or through the
        air where nothing is met. The same numbers as the sweep's, at a third of its cost; False where it is neither.
        """
        # Each test here is one that the whole way would have to come out the same under; tests/test_space.py runs both ways
        # against each other. Anything that is not plain goes the whole way.
        near, x, y = self.near, self._x, self._y
        if (
            self.limit
            or self._trouble
            or self.touching
            or self.falls_through
            or self._gravity_later
            or self.integrator != "semi-implicit"
            or self.probe is not None
            or self.on_contact is not None
            or self.leader is not None
        ):
            return False
        vy, gravity, rate = self.vy, self.gravity, self._rate
        if gravity:
            vy = vy - gravity * self.up_sign / rate
        # A way of 0 is not added: -0.0 + 0.0 is 0.0, and the sweep leaves the position as it is.
        move_x, move_y = self.vx / rate, vy / rate
        next_x, next_y = x + move_x if move_x else x, y + move_y if move_y else y
        movers: Sequence[ExpandedBox] = ()
        if near.moving or (near.movers.all and not (self.is_clear(x, next_x, y) and self.is_clear(x, next_x, next_y))):
            movers = near.moving_solids((x, y), (move_x, move_y))
            if not movers and not near.moving:
                self._look_for_movers(x, y)
        if self.grounded:
            return near.reaches(x, y, next_x, next_y) and self._walked(next_x, vy, movers)
        if movers:
            return False
        if self._was_grounded:
            return self._took_off(move_x, move_y, next_x, next_y, vy)
        room = self._room
        if not room or not room.holds(x, y):
            room = self._room = self._room_at(x, y)
        if (room and room.holds(next_x, next_y)) or self._passes_all(move_x, move_y, next_x, next_y):
            self._fly(next_x, next_y, vy)
            return True
        return False

    def _walked(self, next_x: float, vy: float, movers: Sequence[ExpandedBox]) -> bool:
        """Whether it went on along the floor that it stands on, pressed down with the speed `vy`."""
        x, y, up_sign = self._x, self._y, self.up_sign
        if not self._was_grounded or vy * up_sign >= 0 or self.bounce:
            return False
        if movers:
            # In the next frame they stand somewhere else.
            floor = floor_under(self.near.here, x, y, up_sign, movers)
        else:
            floor = self._floor = self._floor_at(x, y)
        if floor is None or not floor.first < next_x < floor.last:
            return False
        # Gravity presses it into the floor in each frame, and the sweep would say so as a contact at time 0.
        if vy != floor.vy:
            floor.vy = vy
            floor.contacts = pressed_onto(floor.box, vy, up_sign)
        floor.gravity = math.nan
        if not self.vy:
            floor.gravity = self.gravity
        self.contacts = floor.contacts
        self._x, self.vy, self._left = next_x, 0.0, [next_x, y]
        self._stand_anew()
        if self._carried:
            self._look_at_carrier()
        if len(movers) == 1 and not self.near.moving:
            self._look_for_ride(movers[0].box, next_x, y)
        return True

    def _took_off(self, move_x: float, move_y: float, next_x: float, next_y: float, vy: float) -> bool:
        """Whether it left what it stood on, and met nothing."""
        if not self._passes_all(move_x, move_y, next_x, next_y):
            return False
        self._fly(next_x, next_y, vy)
        self._was_grounded = False
        self._room = self._room_at(next_x, next_y)
        self.emit("left_ground")
        return True

    def _fly(self, next_x: float, next_y: float, vy: float) -> None:
        self.contacts = []
        self._x, self._y, self.vy, self._left = next_x, next_y, vy, [next_x, next_y]
        self._stand_anew()

    def _passes_all(self, move_x: float, move_y: float, next_x: float, next_y: float) -> bool:
        """Whether a step stays inside the level, and beside each of the still solids."""
        near, x, y = self.near, self._x, self._y
        if not near.reaches(x, y, next_x, next_y):
            return False
        for low, high, _ in near.still:
            if not (clear(y, move_y, next_y, low[1], high[1]) or clear(x, move_x, next_x, low[0], high[0])):
                return False
        return True

    def _room_at(self, x: float, y: float) -> Room | None:
        """The room in the air about it; None where it is in the way of something, or may touch it."""
        for room in self._known_rooms:
            if room.holds(x, y):
                return room
        if self._blocked is not None and self._blocked.holds(x, y):
            return None
        found = _room_in(self.near.around(x, y), x, y)
        if not found.clear:
            self._blocked = found
            return None
        if len(self._known_rooms) == MOST_KNOWN:
            self._known_rooms.clear()
        self._known_rooms.append(found)
        return found

    def _floor_at(self, x: float, y: float) -> Floor | None:
        """The floor under it, and how far it goes: known from before, for who walks to and fro, or looked for."""
        for floor in self._known_floors:
            if y == floor.y and floor.low < x < floor.high:
                return floor
        found = floor_under(self.near.here, x, y, self.up_sign)
        if found is not None:
            if len(self._known_floors) == MOST_KNOWN:
                self._known_floors.clear()
            self._known_floors.append(found)
        return found


def _room_in(region: Region, x: float, y: float) -> Room:
    boxes: list[Corners] = []
    for (left, low), (right, high), _ in region.solids:
        boxes.append((left, low, right, high))
    (left, low), (right, high) = region.outside
    return Room((left, low, right, high), boxes, x, y)
