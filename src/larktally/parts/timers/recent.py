"""What was true a moment ago: for leaving an edge, and a hop asked for a little late."""

from __future__ import annotations

from typing import TYPE_CHECKING

from larktally.parts.guards import Guard, compile_guard, in_scope
from larktally.parts.part import Part, Shown
from larktally.timing import Duration, frames_in

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Recent"]


class Recent(Part):
    """Whether a condition holds, or did within the last n frames; `forget` ends it at once.

    It is looked at in the timers phase, so that the machines of row k see row k-1's end. keep = 2, true up to row 5:

    ====  ===========  =====
    row   condition    holds
    ====  ===========  =====
    5     true         true
    6     false        true
    7     false        true
    8     false        true
    9     false        false
    ====  ===========  =====
    """

    phase = "timers"
    shown = (Shown("", "holds", "flag"),)
    kept = ("holds", "left")

    def __init__(self, sim: Sim, name: str, when: str, keep: Duration) -> None:
        super().__init__(sim, name)
        self.when = when
        self.keep = frames_in(keep, sim.rate, what=f"recent {name!r}:")
        self.holds = False
        self.left = 0
        self._guard: Guard | None = None

    def forget(self) -> None:
        """Ends it at once: a hop has been taken from the edge."""
        self.holds, self.left = False, -1

    def begin(self) -> None:
        sim = self.sim
        text = in_scope(self.when, self.scope, sim.words, sim.parts)
        self._guard = compile_guard(text, sim.words, sim.sources, sim.count_said, f"recent {self.name!r}")
        self._now = sim.now_for(self.name)

    def look(self) -> None:
        self.step()

    def step(self) -> None:
        if self._guard is not None and self._guard(self._now):
            self.holds, self.left = True, self.keep
        else:
            self.holds = self.left > 0
            self.left = max(self.left - 1, 0)
