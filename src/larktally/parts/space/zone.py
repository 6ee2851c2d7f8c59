"""Zones: regions that bodies enter, are inside of, and leave; gathered once, snapped to, or the end of a run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from larktally.errors import ModelError
from larktally.parts.part import Part, Shown
from larktally.parts.space.level import Box

if TYPE_CHECKING:
    from larktally.parts.sim import Sim
    from larktally.parts.space.body import Body

__all__ = ["Zone"]


class Zone(Part):
    """A region of one or more boxes, looked at after motion for every body that asked.

    A channel for each watched body says whether it is inside (`rope.wick`). With `once` the first to enter uses it up
    (`used`). With `ends` entering it ends the run with that reason. Events: entered, left (body), gathered (body),
    snap_stopped (body, on). Raises ModelError for a zone without a box.
    """

    phase = "zones"
    events = ("entered", "left", "gathered", "snap_stopped")

    def __init__(self, sim: Sim, name: str, boxes: Sequence[Box], watch: Sequence[Body], once: bool, ends: str) -> None:
        super().__init__(sim, name)
        if not boxes:
            raise ModelError(f"zone {name!r} has no box")
        self.boxes = tuple(boxes)
        self.watched = tuple(watch)
        self.once, self.ends = once, ends
        self.used = False
        self.holds = {body.name: False for body in self.watched}
        self._before = dict(self.holds)

    def channels(self) -> tuple[Shown, ...]:
        watched = tuple(Shown(body.name, f"_in_{n}", "flag") for n, body in enumerate(self.watched))
        return (*watched, Shown("used", "used", "flag")) if self.once else watched

    @property
    def low(self) -> tuple[float, ...]:
        """The minimum corner of all its boxes."""
        return tuple(map(min, zip(*(box.low for box in self.boxes), strict=True)))

    @property
    def high(self) -> tuple[float, ...]:
        """The maximum corner of all its boxes."""
        return tuple(map(max, zip(*(box.high for box in self.boxes), strict=True)))

    @property
    def centre(self) -> tuple[float, ...]:
        """The middle of its corners."""
        return tuple((low + high) / 2 for low, high in zip(self.low, self.high, strict=True))

    @property
    def feet(self) -> tuple[float, ...]:
        """The middle of its underside."""
        up, sign = self.sim.level.up_axis, self.sim.level.up_sign
        down = self.low if sign > 0 else self.high
        return tuple(down[i] if i == up else p for i, p in enumerate(self.centre))

    def inside(self, body: Body) -> bool:
        """Whether a watched body was inside when the zone was last looked at."""
        if body.name not in self.holds:
            raise ModelError(f"zone {self.name!r} does not watch {body.name!r}; name it in watch=")
        return self.holds[body.name]

    def snap(self, body: Body, axis: str = "x") -> bool:
        """Leads a body to the centre line along an axis, by a sweep; whether it got there. A solid that stops it is an
        event `snap_stopped`."""
        i = body.axes.index(axis) if axis in body.axes else -1
        if i < 0:
            raise ModelError(f"zone {self.name!r}: no axis {axis!r}; there are {', '.join(body.axes)}")
        move = [self.centre[n] - body.centre[n] if n == i else 0.0 for n in range(len(body.axes))]
        met = body.shift(move)
        if met:
            self.say("snap_stopped", body=body.name, on=met[0].box.name or met[0].box.layer)
        return not met

    def begin(self) -> None:
        self.step()

    def step(self) -> None:
        for n, body in enumerate(self.watched):
            inside = not self.used and self._overlaps(body)
            if inside and not self.holds[body.name]:
                self._enter(body)
                inside = not self.used
            elif self.holds[body.name] and not inside:
                self.say("left", body=body.name)
            self.holds[body.name] = inside
            setattr(self, f"_in_{n}", inside)

    def save(self) -> dict[str, Any]:
        return {"holds": dict(self.holds), "used": self.used}

    def load(self, saved: dict[str, Any]) -> None:
        self.holds, self.used = dict(saved["holds"]), saved["used"]
        for n, body in enumerate(self.watched):
            setattr(self, f"_in_{n}", self.holds[body.name])

    def _enter(self, body: Body) -> None:
        self.say("entered", body=body.name)
        if self.once:
            self.used = True
            self.say("gathered", body=body.name)
        if self.ends:
            self.sim.say("end", self.name, {"reason": self.ends})

    def _overlaps(self, body: Body) -> bool:
        low, high = body.low, body.high
        return any(
            all(a < d and c < b for a, b, c, d in zip(low, high, box.low, box.high, strict=True)) for box in self.boxes
        )
