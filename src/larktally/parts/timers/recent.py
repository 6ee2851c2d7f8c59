"""What was true a moment ago: for leaving an edge, and a hop asked for a little late."""

from __future__ import annotations

from larktally.language.reading import Guard, Scope, compile_guard, in_scope
from larktally.parts.context import GuardContext, context_for
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.timing import Duration, frames_in

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
    channel_specs = (ChannelSpec("", "holds", "flag"),)
    state_fields = ("holds", "left", "keep")

    def __init__(self, sim: SimProtocol, name: str, when: str, keep: Duration) -> None:
        super().__init__(sim, name)
        self.when = when
        self.keep = frames_in(keep, sim.rate, what=f"recent {name!r}:")
        self.holds = False
        self.left = 0
        self._guard: Guard | None = None

    def forget(self) -> None:
        """Ends it at once: a hop has been taken from the edge."""
        # Not 0: the condition may still hold in this row, and the next look would take it up again.
        self.holds, self.left = False, -1

    def begin(self) -> None:
        sim = self.sim
        text = in_scope(self.when, self.scope, sim.names, sim.parts, self.name)
        self._guard = compile_guard(text, Scope(sim.names, sim.bindings, sim), f"recent {self.name!r}")
        self._now = context_for(sim, self.name, GuardContext, self.clock)

    def after_begin(self) -> None:
        self.step()

    def step(self) -> None:
        if self._guard is not None and self._guard(self._now):
            self.holds, self.left = True, self.keep
        else:
            self.holds = self.left > 0
            self.left = max(self.left - 1, 0)
