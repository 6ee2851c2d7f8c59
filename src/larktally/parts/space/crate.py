"""Crates: bodies that other bodies stop at, stand on, and push."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from typing import ClassVar

from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.checks import number
from larktally.parts.space.movers import Provider
from larktally.parts.space.solid_box import SolidBox
from larktally.parts.space.solid_query import REACH
from larktally.parts.space.sweep import Contact

__all__ = ["Crate"]


class _Shell(SolidBox):
    """What of a crate pushes and carries others: it goes after the crate, as far as they give way."""

    def __init__(self, crate: Crate) -> None:
        super().__init__(crate.sim, crate.name, crate.size, False)
        self._crate = crate
        self.provider = crate.provider

    def may_meet(self, body: Body) -> bool:
        return super().may_meet(body) and body is not self._crate and body.near.stops_at(self._crate.layer)


class Crate(Body):
    """A body that is solid to the others: they stop at it, stand on it and are carried, and push it.

    It is pushed where a body stands flush with its side and has a velocity toward it when the crate moves, which is before
    the other bodies do: it goes at `share` of that speed (of two from both sides, the difference), and the body with it. On
    the ground it stands where nobody pushes it. It falls, and is carried, as a body is; who is in its way is pushed in turn,
    it stops short of who cannot give way, and at another crate. Bodies that name `layers` stop at it only where they name its
    `layer`. `solid = False`, set by a rule, lets everybody through until it is set again.

    Channels and events are a body's.
    """

    runs_first = True
    state_fields: ClassVar[tuple[str, ...]] = (*Body.state_fields, "solid", "share")
    derived_fields: ClassVar[tuple[str, ...]] = (*Body.derived_fields, "_stood")
    # Where it was when the others were last told, once they meet it.
    _stood: tuple[float, float] | None = None

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        *,
        size: Sequence[float],
        at: Sequence[float],
        gravity: float = 0.0,
        share: float = 0.5,
        layers: Iterable[str] | None = None,
        layer: str = "crate",
    ) -> None:
        super().__init__(sim, name, size=size, at=at, gravity=gravity, layers=layers, layer=layer)
        self.share = number(f"crate {name!r}", "share", share, 0.0, 1.0)
        self.solid = True
        # One and the same function for every body, so that one that is pushed can leave it out.
        self.provider = self.solid_boxes
        self._shell = _Shell(self)

    def solid_boxes(self) -> tuple[Box, ...]:
        """What other bodies meet of it: nothing where it is not solid."""
        if not self.solid or not self.takes_part:
            return ()
        return (Box(self.low, self.high, self.layer, False, self.name),)

    def _stand_anew(self) -> None:
        super()._stand_anew()
        place = self._stood
        # It is set in every frame, and most stand.
        if place is not None and (place[0] != self.x or place[1] != self.y):
            self._stood = (self.x, self.y)
            self.sim.movers.moved(self)

    def begin(self) -> None:
        self._stood = (self.x, self.y)
        self.sim.movers.add(self)
        self.near.own = self.provider
        super().begin()

    def step(self) -> None:
        crates = self._crates_near()
        near = [*self._bodies_near(), *crates]
        for i, axis in enumerate(self.axes):
            if not self.level.has_up or i != self.up:
                self._be_pushed(i, axis, near)
        start = self.low
        with self._without_riders(crates):
            super().step()
        self._drag(start)

    def shift(self, move: Sequence[float], ignoring: Provider | None = None) -> list[Contact]:
        start = self.low
        with self._without_riders(self._crates_near()):
            met = super().shift(move, ignoring)
        self._drag(start)
        return met

    def _look_for_ride(self, box: Box, x: float, y: float) -> None:
        """It has none: what stands on it has to be taken along, too."""

    def _crates_near(self) -> list[Crate]:
        """The other crates near to where it stands, by what is known of where these are; its shell stands there from now on."""
        self._shell.position = self.low
        found = []
        low, high = [p - REACH for p in self.low], [p + REACH for p in self.high]
        for mover in self.sim.movers.near(low, high):
            if isinstance(mover, Crate) and mover is not self:
                found.append(mover)
        return found

    def _bodies_near(self) -> list[Body]:
        """The bodies near to where it stands that are no crates."""
        return [body for body in self._shell.bodies_near(self.low) if not isinstance(body, Crate)]

    @contextlib.contextmanager
    def _without_riders(self, crates: Sequence[Crate]) -> Iterator[None]:
        """Leaves out the crates that stand on it: they go with it, and are no ceiling to it."""
        before, riders = self.near.left_out, self._shell.standing(crates, on_top=True)
        self.near.left_out = (*before, *(crate.provider for crate in riders))
        try:
            yield
        finally:
            self.near.left_out = before

    def _be_pushed(self, i: int, axis: str, near: Sequence[Body]) -> None:
        """Takes the speed at which it is pushed along an axis; on the ground none where nobody does."""
        pushes = [0.0, 0.0]
        if self.solid:
            for body in near:
                speed = body.speed_along(i)
                # Exactly flush, as a sweep leaves a body at its side.
                if speed and self._shell.may_meet(body) and self._flush(body, i, speed):
                    pushes[speed < 0] = max(pushes[speed < 0], abs(speed))
        speed = (pushes[0] - pushes[1]) * self.share
        if speed or self.grounded or not self.level.has_up:
            self.halt(axis)
            self.push(**{f"v{axis}": speed})

    def _flush(self, body: Body, i: int, speed: float) -> bool:
        """Whether a body stands flush with the side that its speed along an axis leads to."""
        side = body.position[i]
        if side != (self.low[i] - body.near.extent_high[i] if speed > 0 else self.high[i] + body.near.extent_low[i]):
            return False
        for j, (low, high) in enumerate(zip(self.low, self.high, strict=True)):
            if j != i and not (body.low[j] < high and low < body.high[j]):
                return False
        return True

    def _drag(self, start: Sequence[float]) -> None:
        """Pushes and carries others after it has moved; back to where there is room, where one cannot give way."""
        goal = self.low
        if not self.solid or goal == tuple(start):
            return
        self._shell.position = list(start)
        if self._shell.lead_by(goal):
            return
        self.set_position(self._shell.position)
        for i, axis in enumerate(self.axes):
            if self._shell.position[i] != goal[i]:
                self.halt(axis)
