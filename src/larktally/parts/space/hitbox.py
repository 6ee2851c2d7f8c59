"""Hitboxes: attached boxes that strike who they overlap, once for each opening or every n frames, and what a trade does."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Literal, TypeAlias

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.attached_box import AttachedBox
from larktally.parts.space.body import Body
from larktally.parts.space.box import overlap
from larktally.parts.space.hurtbox import Hurtbox
from larktally.parts.value import Value
from larktally.timing import Duration, frames_in

__all__ = ["Hitbox", "Trade"]

Trade: TypeAlias = Literal["both", "higher", "clash"]
TRADES: tuple[Trade, ...] = ("both", "higher", "clash")


class Hitbox(AttachedBox):
    """A box of `size` whose centre is `offset` from the body's, on the side that `facing` (a value of 1 or -1) says.

    While it is open, each target that it overlaps after motion is struck once: an event `struck` (target). `open(n)`
    shuts it by itself: opened in the machines of row k for n frames, it strikes in rows k..k+n-1. With `again="6f"` a target
    that it still overlaps is struck anew every so many frames.

    A target is a body, or a Hurtbox of one: of the hurtboxes of one body the first named that it overlaps counts, and the
    event says which (hurtbox, and tags where it has some). Hurtboxes of its own `team` are left alone, and its own body.

    Where two hitboxes would strike each other's body in the same row, that is a trade. `trade="both"`: both blows land.
    `"higher"`: the one with the lower `rank` is `beaten` (by), and is spent; where both have the same, both land. `"clash"`: the
    same, but with equal ranks neither lands, and both say `clashed` (against). Where the two disagree, "clash" goes before
    "higher", and that before "both". A `rank` that is given stands in the event.

    `shows="box"` records where it stands, for claims and pictures: x, y, width, height.

    Channels: `open`, `struck` (targets since it opened). Events: struck (target, and hurtbox, tags, rank), beaten, clashed.
    """

    phase = "zones"
    channel_specs = (ChannelSpec("open", "is_open", "flag"), ChannelSpec("struck", "count", "count"))
    state_fields = ("is_open", "count", "size", "offset", "rank", "_left", "_done", "_before", "_looked")
    events = ("struck",)

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        targets: Sequence[Body | Hurtbox],
        facing: Value | None = None,
        again: Duration | None = None,
        team: str = "",
        rank: int | None = None,
        trade: Trade = "both",
        shows: Iterable[str] = (),
    ) -> None:
        super().__init__(sim, name, body, size, offset, facing, shows)
        self.targets = tuple(targets)
        if trade not in TRADES:
            raise ModelError(unknown_name("trade", trade, TRADES, f"hitbox {name!r}"))
        self.again = 0
        if again is not None:
            self.again = frames_in(again, sim.rate, least=1, what=f"hitbox {name!r}: again")
        self.team, self.rank, self.trade = team, rank, trade
        self.is_open = False
        self.count = 0
        self._left = 0
        # When each body was struck last in this opening.
        self._done: dict[str, int] = {}
        # What it was when it was looked at last, and in which frame: another hitbox may ask after this one has struck.
        self._before: list[Any] = []
        self._looked = -1

    def event_names(self) -> tuple[str, ...]:
        if self.trade == "both" and self.rank is None:
            return self.events
        return (*self.events, "beaten", "clashed")

    def open(self, frames: Duration | None = None) -> None:
        """Opens it, for so many frames or until it is shut; targets can be struck anew."""
        self.is_open = True
        if frames is None:
            self._left = -1
        else:
            self._left = frames_in(frames, self.sim.rate, least=1, what=f"strike {self.name!r}:")
        self._done, self.count = {}, 0

    def shut(self) -> None:
        """Shuts it."""
        self.is_open = False

    def step(self) -> None:
        self._before, self._looked = [self.is_open and self._left != 0, dict(self._done)], self.sim.frame
        if not self.is_open:
            return
        # Asked before counting: opened for n frames, it is open in its own row and n - 1 rows after it.
        if self._left == 0:
            self.is_open = False
            return
        low, high = self.low, self.high
        for target in self.targets:
            body = _owner(target)
            if self._may_strike(target, body, self._done) and overlap(low, high, target.low, target.high):
                # Once an opening: a blow that lasts five frames is one blow. One that is beaten is spent, too.
                self._done[body.name] = self._tick
                if self._lands(body):
                    self.count += 1
                    self.emit("struck", **self._told(target, body))
        self._left -= 1

    def _may_strike(self, target: Body | Hurtbox, body: Body, done: dict[str, int]) -> bool:
        """Whether a target counts at all now, wherever it stands."""
        if isinstance(target, Hurtbox) and not self._reaches(target):
            return False
        last = done.get(body.name)
        return last is None or (self.again > 0 and self._tick - last >= self.again)

    def _reaches(self, hurtbox: Hurtbox) -> bool:
        friend = self.team != "" and hurtbox.team == self.team
        return hurtbox.is_open and hurtbox.takes_part and hurtbox.body is not self.body and not friend

    def _told(self, target: Body | Hurtbox, body: Body) -> dict[str, Any]:
        told: dict[str, Any] = {"target": body.name}
        if isinstance(target, Hurtbox):
            told["hurtbox"] = target.name
            if target.tags:
                told["tags"] = list(target.tags)
        if self.rank is not None:
            told["rank"] = self.rank
        return told

    def _lands(self, body: Body) -> bool:
        """Whether its blow against a body lands: it does unless a hitbox of that body strikes back in this very row and wins."""
        lands = True
        for other in self.sim.parts_of(Hitbox):
            if other.body is not body or not other.takes_part:
                continue
            policy = max(self.trade, other.trade, key=TRADES.index)
            if policy == "both" or not other.strikes_now(self.body):
                continue
            mine, theirs = self.rank or 0, other.rank or 0
            if mine < theirs:
                self.emit("beaten", by=other.name)
                lands = False
            elif mine == theirs and policy == "clash":
                self.emit("clashed", against=other.name)
                lands = False
        return lands

    def strikes_now(self, body: Body) -> bool:
        """Whether it would strike a body in this row, or has just done so."""
        if self._looked == self.sim.frame:
            is_open, done = self._before
        else:
            is_open, done = self.is_open and self._left != 0, self._done
        if not is_open:
            return False
        low, high = self.low, self.high
        for target in self.targets:
            owner = _owner(target)
            if owner is body and self._may_strike(target, owner, done) and overlap(low, high, target.low, target.high):
                return True
        return False


def _owner(target: Body | Hurtbox) -> Body:
    """The body that is struck."""
    return target.body if isinstance(target, Hurtbox) else target
