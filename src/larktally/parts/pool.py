"""Pools: a fixed number of slots for things that come and go, each with its channels in every row."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from types import SimpleNamespace
from typing import TYPE_CHECKING, Any

from larktally.errors import ModelError
from larktally.parts.part import Part, Shown

if TYPE_CHECKING:
    from larktally.parts.builders import Under
    from larktally.parts.sim import Sim

__all__ = ["Pool", "Slot"]

_BLANK = {"number": math.nan, "count": 0, "flag": False, "label": "absent"}


class Slot(Part):
    """One place of a pool. While it is free its parts stand still, and read NaN, 0, false or `absent`."""

    shown = (Shown("", "present", "flag"),)
    kept = ("present",)

    def __init__(self, sim: Sim, name: str) -> None:
        super().__init__(sim, name)
        self.present = False
        self.parts: list[Part] = []
        self.things: Any = None
        self.shadow: list[tuple[SimpleNamespace, Part, tuple[Shown, ...]]] = []
        self._fresh: dict[str, dict[str, Any]] = {}

    def begin(self) -> None:
        self._fresh = {part.name: part.save() for part in self.parts}

    def renew(self) -> None:
        """Puts every part of the slot back to how it was built."""
        for part in self.parts:
            part.load(self._fresh[part.name])

    def show(self) -> None:
        """Copies what its parts show into what the row reads, or blanks where it is free."""
        for shown, part, channels in self.shadow:
            for _, attribute, kind, _ in channels:
                setattr(shown, attribute, getattr(part, attribute) if self.present else _BLANK[kind])


class Pool(Part):
    """`slots` places, each built once by `build(view)`; `spawn` takes the first free one, `remove` frees it.

    Events: spawned (slot), removed (slot), full. Channels: `present` of each slot, beside those of its parts.
    """

    events = ("spawned", "removed", "full")

    def __init__(self, sim: Sim, name: str, build: Callable[[Under], Any], slots: int) -> None:
        super().__init__(sim, name)
        if not isinstance(slots, int) or slots < 1:
            raise ModelError(f"pool {name!r} has a number of slots, at least 1, not {slots!r}")
        self.slots = [Slot(sim, f"{name}.{n}.present") for n in range(slots)]
        self._build = build

    def fill(self) -> None:
        """Builds the parts of every slot, under its name."""
        for slot in self.slots:
            self.sim.add(slot)
            before = set(self.sim.parts)
            slot.things = self._build(self.sim.under(slot.name.removesuffix(".present")))
            slot.parts = [part for name, part in self.sim.parts.items() if name not in before]
            for part in slot.parts:
                part.slot = slot
                slot.shadow.append((SimpleNamespace(), part, part.channels()))

    def spawn(self) -> Any:
        """What `build` returned for the first free slot, renewed; None where all are taken, which is an event `full`."""
        for n, slot in enumerate(self.slots):
            if not slot.present:
                slot.renew()
                slot.present = True
                self.say("spawned", slot=n)
                return slot.things
        self.say("full")
        return None

    def remove(self, things: Any) -> None:
        """Frees the slot of what `spawn` returned; raises ModelError where it is free already."""
        for n, slot in enumerate(self.slots):
            if slot.things is things and slot.present:
                slot.present = False
                self.say("removed", slot=n)
                return
        raise ModelError(f"pool {self.name!r}: that is in none of its slots now")

    def __iter__(self) -> Iterator[Any]:
        """What is present, in the order of the slots."""
        return iter([slot.things for slot in self.slots if slot.present])

    def __len__(self) -> int:
        return sum(slot.present for slot in self.slots)
