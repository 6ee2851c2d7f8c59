"""Pools: a fixed number of slots for things that come and go, each with its channels in every row."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from types import SimpleNamespace
from typing import Any

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol

__all__ = ["Pool", "Slot"]

_BLANK = {"number": math.nan, "count": 0, "flag": False, "label": "absent"}


class Slot(Part):
    """One place of a pool. While it is free its parts stand still, and read NaN, 0, false or `absent`."""

    channel_specs = (ChannelSpec("", "present", "flag"),)
    state_fields = ("present",)
    derived_fields = ("_blank",)

    def __init__(self, sim: SimProtocol, name: str) -> None:
        super().__init__(sim, name)
        self.present = False
        self.parts: list[Part] = []
        self.things: Any = None
        self.shadow: list[tuple[SimpleNamespace, Part, tuple[ChannelSpec, ...]]] = []
        self._fresh: dict[str, dict[str, Any]] = {}
        # Whether what the row reads is blank already: most slots are free, and stay so.
        self._blank = False

    # Not in the constructor: the parts of a slot are built under its name, so that the slot is there first.
    def take_over(self, things: Any, parts: Sequence[Part]) -> None:
        """Takes what was built for it: `things` is what `spawn` hands out, `parts` all that were registered."""
        self.things = things
        self.parts = list(parts)
        for part in self.parts:
            part.slot = self
            self.shadow.append((SimpleNamespace(), part, part.channels()))

    def begin(self) -> None:
        self._fresh = {part.name: part.save() for part in self.parts}

    def renew(self) -> None:
        """Puts every part of the slot back to how it was built."""
        for part in self.parts:
            part.load(self._fresh[part.name])

    def step(self) -> None:
        """Copies what its parts show into what the row reads, or blanks where it is free: at the end of every row.

        A row reads these copies by the names that the parts' channels declare, hence the `getattr` and `setattr`.
        """
        if not self.present and self._blank:
            return
        self._blank = not self.present
        for shown, part, channels in self.shadow:
            for _, attribute, kind, _, holder, _ in channels:
                if self.present:
                    setattr(shown, attribute, getattr(holder or part, attribute))
                else:
                    setattr(shown, attribute, _BLANK[kind])

    def inlined(self) -> Inlined:
        return Inlined("if me.present or not me._blank:\n    me.step()")


class Pool(Part):
    """`slots` places, each built once by `build(view)`; `spawn` takes the first free one, `remove` frees it.

    Events: spawned (slot), removed (slot), full. Channels: `present` of each slot, beside those of its parts.
    """

    events = ("spawned", "removed", "full")

    def __init__(self, sim: SimProtocol, name: str, slots: int) -> None:
        super().__init__(sim, name)
        if not isinstance(slots, int) or slots < 1:
            raise ModelError(f"pool {name!r} has a number of slots, at least 1, not {slots!r}")
        self.slots = [Slot(sim, f"{name}.{n}.present") for n in range(slots)]

    def spawn(self) -> Any:
        """What `build` returned for the first free slot, renewed; None where all are taken, which is an event `full`."""
        for n, slot in enumerate(self.slots):
            if not slot.present:
                slot.renew()
                slot.present = True
                self.emit("spawned", slot=n)
                return slot.things
        self.emit("full")
        return None

    def remove(self, things: Any) -> None:
        """Frees the slot of what `spawn` returned; raises ModelError where it is free already."""
        for n, slot in enumerate(self.slots):
            if slot.things is things and slot.present:
                slot.present = False
                self.emit("removed", slot=n)
                return
        raise ModelError(f"pool {self.name!r}: that is in none of its slots now")

    def __iter__(self) -> Iterator[Any]:
        """What is present, in the order of the slots."""
        return iter([slot.things for slot in self.slots if slot.present])

    def __len__(self) -> int:
        return sum(slot.present for slot in self.slots)
