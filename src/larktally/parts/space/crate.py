"""Crates: bodies that other bodies stop at, stand on, and push."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import ClassVar

from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box
from larktally.parts.space.checks import number
from larktally.parts.space.solid_box import SolidBox
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
    and it stops short of who cannot give way. Bodies that name `layers`
    stop at it only where they name its `layer`. `solid = False`, set by a rule, lets everybody through until it is set again.

    Channels and events are a body's.
    """

    runs_first = True
    state_fields: ClassVar[tuple[str, ...]] = (*Body.state_fields, "solid", "share")

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
        # What it pushes goes after it; the body's short way knows nothing of that.
        self._short = False

    def solid_boxes(self) -> tuple[Box, ...]:
        """What other bodies meet of it: nothing where it is not solid."""
        if not self.solid or not self.takes_part:
            return ()
        return (Box(self.low, self.high, self.layer, False, self.name),)

    def begin(self) -> None:
        self.sim.movers.enter(self.provider)
        for body in self.sim.parts_of(Body):
            if body is not self:
                body.near.moving.append(self.provider)
        super().begin()

    def step(self) -> None:
        for i, axis in enumerate(self.axes):
            if not self.level.has_up or i != self.up:
                self._be_pushed(i, axis)
        start = self.low
        with self._without_riders():
            super().step()
        self._drag(start)

    def shift(self, move: Sequence[float], ignoring: Callable[[], Iterable[Box]] | None = None) -> list[Contact]:
        start = self.low
        with self._without_riders():
            met = super().shift(move, ignoring)
        self._drag(start)
        return met

    @contextlib.contextmanager
    def _without_riders(self) -> Iterator[None]:
        """Leaves out the crates that stand on it: they go with it, and are no ceiling to it."""
        moving = self.near.moving
        bodies = [body for body in self.sim.parts_of(Crate) if body is not self]
        self._shell.position = list(self.low)
        riders = [crate.provider for crate in self._shell.standing(bodies, on_top=True) if isinstance(crate, Crate)]
        self.near.moving = [boxes for boxes in moving if boxes not in riders]
        try:
            yield
        finally:
            self.near.moving = moving

    def _be_pushed(self, i: int, axis: str) -> None:
        """Takes the speed at which it is pushed along an axis; on the ground none where nobody does."""
        pushes = [0.0, 0.0]
        if self.solid:
            for body in self._shell.others():
                speed = body.speed_along(i)
                # Exactly flush, as a sweep leaves a body at its side.
                if self._flush(body, i, speed):
                    pushes[speed < 0] = max(pushes[speed < 0], abs(speed))
        speed = (pushes[0] - pushes[1]) * self.share
        if speed or self.grounded or not self.level.has_up:
            self.halt(axis)
            self.push(**{f"v{axis}": speed})

    def _flush(self, body: Body, i: int, speed: float) -> bool:
        """Whether a body stands flush with the side that its speed along an axis leads to."""
        if not speed or not body.near.meets(self.provider):
            return False
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
