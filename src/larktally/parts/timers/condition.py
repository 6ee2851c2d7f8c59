"""A condition, in the claim language, under which a part of the timers phase counts."""

from __future__ import annotations

from larktally.language.reading import Guard, Scope, compile_guard, in_scope
from larktally.parts.context import GuardContext, context_for
from larktally.parts.part import Part

__all__ = ["Condition"]


class Condition:
    """Text that is compiled when the run begins; without a text it always holds. It is read as values stand: in the
    timers phase of row k those are the ones that row k-1 ended with, but for parts that were stepped before."""

    def __init__(self, part: Part, text: str | None) -> None:
        self._part, self.text = part, text
        self._guard: Guard | None = None

    def begin(self) -> None:
        """Compiles it; raises ModelError naming the part where the text does not fit its sim."""
        if self.text is None:
            return
        part, sim = self._part, self._part.sim
        text = in_scope(self.text, part.scope, sim.names, sim.parts, part.name)
        what = f"{type(part).__name__.lower()} {part.name!r}"
        self._guard = compile_guard(text, Scope(sim.names, sim.bindings, sim), what)
        self._now = context_for(sim, part.name, GuardContext, part.clock)

    def holds(self) -> bool:
        """Whether it holds now."""
        return self._guard is None or bool(self._guard(self._now))
