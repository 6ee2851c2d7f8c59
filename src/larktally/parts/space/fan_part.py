"""A fan of rays that looks out of a body in every row: what each of them sees is a channel."""

from __future__ import annotations

import math
from collections.abc import Iterable

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.rays import Target, fan

__all__ = ["Fan"]


class _Ray:
    """One ray of a fan, as a channel reads it."""

    def __init__(self, owner: Fan, number: int) -> None:
        self._owner, self._number = owner, number

    @property
    def value(self) -> float:
        return self._owner.distances[self._number]


class Fan(Part):
    """Parallel rays of a length from one side of a body ("+x", "-y", …), looked along after motion in every row.

    The same rays as lt.geometry.fan: they begin `inset` inside the body, and each distance counts from its edge, below 0 where
    the edge is sunk; a ray that meets nothing is infinite. Channels: `.0`, `.1`, … the distance of each ray, `nearest`, `hits`
    (how many met something). Rules read the same names, as the row before ended.
    """

    phase = "zones"
    state_fields = ("distances", "length", "inset")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        body: Body,
        side: str,
        rays: int,
        length: float,
        *,
        inset: float = 0.5,
        layers: Iterable[str] | None = None,
        bodies: Iterable[Target] = (),
    ) -> None:
        super().__init__(sim, name)
        self.body, self.side, self.rays, self.length, self.inset = body, side, rays, length, inset
        self.layers, self.bodies = layers if layers is None else tuple(layers), tuple(bodies)
        # What no fan can be is told where it is built, and not in the row that first looks.
        if not isinstance(length, int | float) or not 0 <= length < math.inf:
            raise ModelError(f"fan {name!r}: a length is a finite number, 0 or more, not {length!r}")
        fan(body, side, rays, length, inset=inset, layers=self.layers, bodies=self.bodies)
        self.distances = [math.inf] * rays

    def channels(self) -> tuple[ChannelSpec, ...]:
        rays = [ChannelSpec(str(n), "value", "number", (), _Ray(self, n)) for n in range(self.rays)]
        return (*rays, ChannelSpec("nearest", "nearest", "number"), ChannelSpec("hits", "hits", "count"))

    @property
    def nearest(self) -> float:
        """The least distance, infinite where nothing is met."""
        return min(self.distances)

    @property
    def hits(self) -> int:
        """How many rays met something."""
        return sum(distance != math.inf for distance in self.distances)

    def begin(self) -> None:
        self.step()

    def step(self) -> None:
        distances = [math.inf] * self.rays
        for hit in fan(
            self.body, self.side, self.rays, self.length, inset=self.inset, layers=self.layers, bodies=self.bodies
        ):
            distances[hit.ray] = hit.distance
        self.distances = distances
