"""A box that belongs to a body and goes where it goes, mirrored by its facing."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.checks import numbers, size_of, words_of
from larktally.parts.value import Value

__all__ = ["AttachedBox"]


class AttachedBox(Part):
    """A box of `size` whose centre is `offset` from a body's, on the side that `facing` (a value of 1 or -1) says.
    `shows="box"` records and draws where it stands: channels x, y, width, height (z, depth)."""

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        body: Body,
        size: Sequence[float],
        offset: Sequence[float],
        facing: Value | None,
        shows: Iterable[str] = (),
    ) -> None:
        super().__init__(sim, name)
        self.shows = words_of(repr(name), shows, ("box",))
        self.body, self.facing = body, facing
        self.size = size_of(name, size, len(body.axes))
        self.offset = numbers(name, "offset", offset, len(body.axes))

    def channels(self) -> tuple[ChannelSpec, ...]:
        if "box" not in self.shows:
            return self.channel_specs
        found = list(self.channel_specs)
        for axis, side in zip(self.body.axes, ("width", "height", "depth"), strict=False):
            found += [ChannelSpec(axis, axis, "number"), ChannelSpec(side, side, "number")]
        return tuple(found)

    x = property(lambda self: self.low[0])
    y = property(lambda self: self.low[1])
    z = property(lambda self: self.low[2])
    width = property(lambda self: self.size[0])
    height = property(lambda self: self.size[1])
    depth = property(lambda self: self.size[2])

    @property
    def low(self) -> tuple[float, ...]:
        """Its minimum corner."""
        mirror = 1
        if self.facing is not None:
            mirror = self.facing.value
        offsets = []
        for i, along in enumerate(self.offset):
            offsets.append(along * mirror if i == 0 else along)
        found = []
        for c, along, side in zip(self.body.centre, offsets, self.size, strict=True):
            found.append(c + along - side / 2)
        return tuple(found)

    @property
    def high(self) -> tuple[float, ...]:
        """Its maximum corner."""
        found = []
        for low, side in zip(self.low, self.size, strict=True):
            found.append(low + side)
        return tuple(found)
