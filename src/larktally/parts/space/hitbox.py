"""Attached boxes: a box that belongs to a body, mirrored by its facing, and strikes each target once for each opening."""

from __future__ import annotations

from collections.abc import Sequence

from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import overlap
from larktally.parts.space.checks import numbers, size_of
from larktally.parts.value import Value
from larktally.timing import Duration, frames_in

__all__ = ["Hitbox"]


class Hitbox(Part):
    """A box of `size` whose centre is `offset` from the body's, on the side that `facing` (a value of 1 or -1) says.

    While it is open, each target that it overlaps after motion is struck once: an event `struck` (target). `open(n)`
    shuts it by itself: opened in the machines of row k for n frames, it strikes in rows k..k+n-1. Channels: `open`,
    `struck` (targets since it opened).
    """

    phase = "zones"
    channel_specs = (ChannelSpec("open", "is_open", "flag"), ChannelSpec("struck", "count", "count"))
    state_fields = ("is_open", "count", "size", "offset", "_left", "_done")
    events = ("struck",)

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        targets: Sequence[Body],
        facing: Value | None = None,
    ) -> None:
        super().__init__(sim, name)
        self.body, self.targets, self.facing = body, tuple(targets), facing
        self.size = size_of(name, size, len(body.axes))
        self.offset = numbers(name, "offset", offset, len(body.axes))
        self.is_open = False
        self.count = 0
        self._left = 0
        self._done: list[str] = []

    def open(self, frames: Duration | None = None) -> None:
        """Opens it, for so many frames or until it is shut; targets can be struck anew."""
        self.is_open = True
        if frames is None:
            self._left = -1
        else:
            self._left = frames_in(frames, self.sim.rate, least=1, what=f"strike {self.name!r}:")
        self._done, self.count = [], 0

    def shut(self) -> None:
        """Shuts it."""
        self.is_open = False

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

    def step(self) -> None:
        if not self.is_open:
            return
        # Asked before counting: opened for n frames, it is open in its own row and n - 1 rows after it.
        if self._left == 0:
            self.is_open = False
            return
        low, high = self.low, self.high
        for target in self.targets:
            if target.name not in self._done and overlap(low, high, target.low, target.high):
                # Once an opening: a blow that lasts five frames is one blow.
                self._done.append(target.name)
                self.count += 1
                self.emit("struck", target=target.name)
        self._left -= 1
