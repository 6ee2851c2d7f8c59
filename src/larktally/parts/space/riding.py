"""Who stands on what moves: what a body takes along of its carrier's velocity when it leaves it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, Protocol, TypeAlias, runtime_checkable

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.noted import noted
from larktally.parts.space.positioned_box import PositionedBox
from larktally.parts.space.steered_box import SteeredBox
from larktally.parts.space.sweep import Contact
from larktally.timing import Duration, frames_in

__all__ = ["LEAVES", "Leaves", "RidingBox"]

Leaves: TypeAlias = Literal["nothing", "whole", "upward"]
LEAVES: tuple[Leaves, ...] = ("nothing", "whole", "upward")


@runtime_checkable
class Carrier(Protocol):
    """What carries bodies, as they see it."""

    def carries(self, body: PositionedBox) -> bool: ...


class RidingBox(SteeredBox):
    """What is carried, and keeps something of it."""

    leaves_with: Leaves = noted("_leaves_with", "_note_leaving", "What of its carrier's velocity it takes along.")
    leaves_within: int
    contacts: list[Contact]
    _carrier: str
    _carried: list[float]
    _carried_left: int

    def _begin_riding(self, what: str, leaves_with: Leaves, leaves_within: Duration) -> None:
        if leaves_with not in LEAVES:
            raise ModelError(unknown_name("leaves_with", leaves_with, LEAVES, what))
        if leaves_with != "nothing" and not self.level.has_up:
            raise ModelError(f"{what} leaves no carrier: nothing is carried in a level without an up")
        self.leaves_with = leaves_with
        self.leaves_within = frames_in(leaves_within, self.sim.rate, what=f"{what}: leaves_within")
        # The velocity of what carried it last, and for how many rows it still counts; [] where nothing did.
        self._carrier, self._carried, self._carried_left = "", [], 0

    def _note_leaving(self) -> None:
        self.sim.movers.leaving.discard(self.name)
        if self.leaves_with != "nothing":
            self.sim.movers.leaving.add(self.name)

    def put(self, *position: float) -> None:
        super().put(*position)
        # Taken away, it takes nothing along.
        self._carried = []

    def carried_by(self, carrier: str, velocity: Sequence[float]) -> None:
        """Notes what carried it in this row, and how fast that went."""
        if carrier != self._carrier:
            self._carrier, self._carried = carrier, []
        if any(velocity) or not self._carried:
            self._carried, self._carried_left = list(velocity), self.leaves_within
        elif self._carried_left > 0:
            self._carried_left -= 1
        else:
            self._carried = list(velocity)

    def _look_at_carrier(self) -> None:
        """Whether it is still carried, at the end of its motion: it may have walked off, into the air or onto other ground."""
        if not self.grounded:
            self._take_along()
            return
        carrier = self.sim.parts[self._carrier]
        # In the row in which it goes over the edge it has still met it.
        met = any(contact.box.called == self._carrier for contact in self.contacts)
        if not (met or (isinstance(carrier, Carrier) and carrier.carries(self))):
            self._carried = []

    def _take_along(self) -> None:
        """What it keeps of the velocity of what carried it, when it leaves that."""
        carried, self._carried = self._carried, []
        if not self.grounded and carried:
            kept = list(carried)
            if self.leaves_with == "upward":
                upward = max(carried[self.up] * self.up_sign, 0.0) * self.up_sign
                kept = [upward if i == self.up else 0.0 for i in range(len(carried))]
            self.set_velocity([v + more for v, more in zip(self._place_and_speed()[1], kept, strict=True)])
