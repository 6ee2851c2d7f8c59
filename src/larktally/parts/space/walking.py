"""The two steps that most are, told from what the steps before them found: along a floor, and through the air."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from larktally.parts.noted import noted
from larktally.parts.space.clearances import Floor, Gap, floor_under
from larktally.parts.space.hop import Integrator
from larktally.parts.space.riding import RidingBox
from larktally.parts.space.sweep import ExpandedBox, clear, contact_at

__all__ = ["STEP", "WalkingBox"]

# Floors that a body remembers.
MOST_KNOWN = 16
# A plain step as lines: on along a floor or through the air, as far as the step before found that nothing changes there.
# Whatever could make it another one forgets the way, or is asked here.
STEP = """\
x, y, move = me.x, me.y, me.vx / rate
next_x = x
if move:
    next_x = x + move
if me.limit or moving or movers:
    pass
elif me.grounded:
    floor = me._floor
    if floor and me.gravity == floor.gravity and y == floor.y and not me.vy:
        if floor.low < x < floor.high and floor.first < next_x < floor.last:
            me.x = me._left[0] = next_x
            me.vy = 0.0
            continue
else:
    gap = me._gap
    if gap and gap.clear and gap.left < x < gap.right and gap.left < next_x < gap.right and gap.low < y < gap.high:
        vy, gravity = me.vy, me.gravity
        if gravity:
            vy = vy - gravity * up_sign / rate
        next_y = y + vy / rate
        if gap.low < next_y < gap.high:
            me.x, me.y, me.vy = next_x, next_y, vy
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
    _left: list[float]
    _known_floors: list[Floor]
    _trouble: list[str]
    _was_grounded: bool

    def after_load(self) -> None:
        self.forget_way()

    def _walked_or_flew(self) -> bool:
        """The two frames that most are, told from what was known: a step along the one floor it stands on, or through
        the air where nothing is met. The same numbers as the sweep's, at a third of its cost; False where it is neither.
        """
        # Each test here is one that the whole way would have to come out the same under; tests/test_space.py runs both ways
        # against each other. Anything that is not plain goes the whole way.
        near, x, y, grounded = self.near, self.x, self.y, self.grounded
        if (
            self.limit
            or self._trouble
            or self.touching
            or self.falls_through
            or self._gravity_later
            or self._carried
            or grounded is not self._was_grounded
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
        if near.moving or near.movers.all:
            movers = near.moving_solids((x, y), (move_x, move_y))
        if not near.reaches(x, y, next_x, next_y):
            return False
        if grounded:
            if vy * self.up_sign >= 0 or self.bounce:
                return False
            if movers:
                # In the next frame they stand somewhere else.
                floor = floor_under(near, x, y, self.up_sign, movers)
            else:
                floor = self._floor = self._floor_at(x, y)
            if floor is None or not floor.first < next_x < floor.last:
                return False
            # Gravity presses it into the floor in each frame, and the sweep would say so as a contact at time 0.
            if vy != floor.vy:
                floor.vy = vy
                floor.contacts = [contact_at(1, 1 if self.up_sign > 0 else -1, floor.box, 0.0, abs(vy))]
            floor.gravity = math.nan
            if not self.vy:
                floor.gravity = gravity
            self.contacts = floor.contacts
            self.x, self.vy, self._left = next_x, 0.0, [next_x, y]
            return True
        if movers:
            return False
        gap = self._gap
        if not gap or not gap.low < y < gap.high or not (gap.left < x < gap.right or not gap.clear):
            gap = self._gap = Gap(near, y)
        if not (gap.clear and gap.left < next_x < gap.right and gap.low < next_y < gap.high):
            for low, high, _ in near.still:
                if not (clear(y, move_y, next_y, low[1], high[1]) or clear(x, move_x, next_x, low[0], high[0])):
                    return False
        self.contacts = []
        self.x, self.y, self.vy, self._left = next_x, next_y, vy, [next_x, next_y]
        return True

    def _floor_at(self, x: float, y: float) -> Floor | None:
        """The floor under it, and how far it goes: known from before, for who walks to and fro, or looked for."""
        for floor in self._known_floors:
            if y == floor.y and floor.low < x < floor.high:
                return floor
        found = floor_under(self.near, x, y, self.up_sign)
        if found is not None:
            if len(self._known_floors) == MOST_KNOWN:
                self._known_floors.clear()
            self._known_floors.append(found)
        return found
