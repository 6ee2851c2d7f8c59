"""A number of uses in the air that standing gives back: double and triple hops, a burst that is there once a flight."""

from __future__ import annotations

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body

__all__ = ["AirUses"]


class AirUses(Part):
    """So many uses until a body stands again. `use` takes one and says whether there was one; `most` = 2, used in rows 10 and
    14, asked for in row 18, landed in row 30:

    ====  ======  ================  ===================
    row   left    what use said     event
    ====  ======  ================  ===================
    9     2
    10    1       true              used left=1
    14    0       true              used left=0
    18    0       false             refused
    30    2                         given_back
    ====  ======  ================  ===================

    They are given back after motion in each row in which the body is grounded, so that a hop from the ground is asked of
    `body.grounded` first and takes none. `give_back()` does it elsewhere: at a rope, or for a hit. Channel: what is left.
    Events: used (left), refused, given_back. Raises ModelError where the body's level has no up.
    """

    phase = "zones"
    channel_specs = (ChannelSpec("", "left", "count"),)
    state_fields = ("left", "most")
    events = ("used", "refused", "given_back")

    def __init__(self, sim: SimProtocol, name: str, body: Body, most: int = 1) -> None:
        super().__init__(sim, name)
        if not isinstance(most, int) or isinstance(most, bool) or most < 1:
            raise ModelError(f"air uses {name!r} are a whole number, at least 1, not {most!r}")
        if not body.level.has_up:
            raise ModelError(f"air uses {name!r}: body {body.name!r} never stands, its level has no up")
        self.body = body
        self.left = self.most = most

    def use(self) -> bool:
        """Takes one, where one is left; whether there was."""
        if not self.left:
            self.emit("refused")
            return False
        self.left -= 1
        self.emit("used", left=self.left)
        return True

    def give_back(self) -> None:
        """All of them are there again."""
        if self.left < self.most:
            self.emit("given_back")
        self.left = self.most

    def step(self) -> None:
        if self.body.grounded:
            self.give_back()

    def inlined(self) -> Inlined:
        return Inlined("if me.body.grounded:\n    me.give_back()")
