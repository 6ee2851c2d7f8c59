"""Hurtboxes: where a body can be struck, a box for each place, told apart by name and tags."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from larktally.names import one_or_many
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.attached_box import AttachedBox
from larktally.parts.space.body import Body
from larktally.parts.value import Value

__all__ = ["Hurtbox"]


class Hurtbox(AttachedBox):
    """A box of `size` whose centre is `offset` from the body's, mirrored by `facing`, at which hitboxes strike the body.

    `tags` are words of your own, told in the event ("head"); `team` is left alone by hitboxes of the same team. Shut it
    with `shut()` where it cannot be struck for a while, and `open()` it again. Channel: `open`.
    """

    channel_specs = (ChannelSpec("open", "is_open", "flag"),)
    state_fields = ("is_open", "size", "offset", "team")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        body: Body,
        *,
        size: Sequence[float],
        offset: Sequence[float],
        tags: Iterable[str] = (),
        team: str = "",
        facing: Value | None = None,
        shows: Iterable[str] = (),
    ) -> None:
        super().__init__(sim, name, body, size, offset, facing, shows)
        self.tags, self.team = one_or_many(tags), team
        self.is_open = True

    def open(self) -> None:
        """Lets it be struck again."""
        self.is_open = True

    def shut(self) -> None:
        """Nothing strikes it until it is opened."""
        self.is_open = False
