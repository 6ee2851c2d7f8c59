"""What every part has in common: a dotted name, channels, and a state that is saved and restored without further code."""

from __future__ import annotations

import copy
import re
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

from larktally.errors import ModelError
from larktally.traces.columns import Kind

if TYPE_CHECKING:
    from larktally.parts.pool import Slot
    from larktally.parts.sim import Sim
    from larktally.parts.timers.clock import Clock

__all__ = ["Part", "Shown", "check_part_name"]

_NAME = re.compile(r"[A-Za-z_]\w*(\.\w+)*")


class Shown(NamedTuple):
    """A channel of a part: what follows the part's name ("" for the name itself), the attribute read, its kind."""

    suffix: str
    attribute: str
    kind: Kind
    labels: tuple[str, ...] = ()


class Part:
    """Something registered with a sim under a dotted name.

    `phase` is where in the frame its `step` runs ("" for never), `shown` its channels, `kept` the attributes that are
    its state: plain data, saved and loaded as they are. `events` are the names that it may say;
    `early` parts run before the others of their phase. `scope` is the name of the view that it was built in: its text
    may use names below it.
    """

    phase: ClassVar[str] = ""
    shown: ClassVar[tuple[Shown, ...]] = ()
    kept: ClassVar[tuple[str, ...]] = ()
    events: ClassVar[tuple[str, ...]] = ()
    early: ClassVar[bool] = False

    def __init__(self, sim: Sim, name: str) -> None:
        self.sim = sim
        self.name = name
        self.clock: Clock | None = None
        self.slot: Slot | None = None
        self.scope = ""

    def channels(self) -> tuple[Shown, ...]:
        """What it shows in every row."""
        return self.shown

    def event_names(self) -> tuple[str, ...]:
        """What it may say."""
        return self.events

    def begin(self) -> None:
        """Runs once, after every part of the sim is there and before row 0 is recorded."""

    def look(self) -> None:
        """Runs once, after every part has begun."""

    def step(self) -> None:
        """One frame on, in the part's phase."""

    def save(self) -> dict[str, Any]:
        """Its state, as plain data that shares nothing with the part."""
        return {name: copy.deepcopy(getattr(self, name)) for name in self.kept}

    def load(self, saved: dict[str, Any]) -> None:
        """Puts a saved state back, into this same object."""
        for name in self.kept:
            setattr(self, name, saved[name])

    def say(self, event: str, **data: Any) -> None:
        """Says an event from this part."""
        self.sim.say(event, self.name, data)

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.name}>"


def check_part_name(name: object) -> str:
    """The name, where a part may have it: letters, digits and _ in parts joined by dots, a letter first."""
    if not isinstance(name, str) or not _NAME.fullmatch(name):
        raise ModelError(f"a part's name is words joined by dots, such as 'wick.burst' or 'moth.2', not {name!r}")
    return name
