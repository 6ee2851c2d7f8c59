"""Where what a claim awaited was decided against: the rows to look at, and which of them tells why it never came."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from larktally.claims.verdicts import Result
from larktally.explain.decisions import Why
from larktally.language.tree import Call, names_and_texts
from larktally.traces.trace import Trace

__all__ = ["Awaited", "awaited_of"]

# A second at 60 frames/s: what is decided later than that is hardly decided because of the trigger.
MOST_ROWS = 60


class Awaited(msgspec.Struct, frozen=True):
    """What a broken `follows` waited for: the rows from its trigger to where it failed, the machines that could have answered,
    the states and events that it names, and what its trigger names."""

    rows: range
    machines: tuple[str, ...]
    goals: frozenset[str]
    triggers: frozenset[str]

    def row_that_tells(self, decided: Mapping[int, tuple[Why, ...]]) -> int:
        """The first row in which a rule that leads there was looked at and lost; the trigger's where there is none."""
        for row in self.rows:
            for why in decided.get(row, ()):
                for decision in why.decisions:
                    for rule in decision.considered:
                        lost = rule.transition != decision.taken and (not rule.due or not rule.holds or decision.taken)
                        leads = rule.target in self.goals or any(name in rule.guard for name in self.triggers)
                        if lost and leads:
                            return row
        return self.rows[0]


def awaited_of(result: Result, trace: Trace) -> Awaited | None:
    """What a result awaited; None where it is no broken `follows` of a sim's machines."""
    tree = result.claim.tree
    if not (isinstance(tree, Call) and tree.name == "follows" and result.breaches and trace.header.machines):
        return None
    first = result.breaches[0]
    if first.trigger is None or first.row is None or first.row < first.trigger:
        return None
    read, goals = names_and_texts([tree.args[1]])
    machines = [name for name in trace.header.machines if name in read]
    if not machines and not goals & set(trace.header.events):
        return None
    if not machines:
        # Of an event who says it in this run; where nobody ever did, any machine might have.
        speakers = {source for _, name, source, _ in trace.events.fields() if name in goals}
        machines = [name for name in trace.header.machines if name in speakers] or list(trace.header.machines)
    rows = range(max(first.trigger, 1), min(first.row, first.trigger + MOST_ROWS, trace.rows - 1) + 1)
    _, triggers = names_and_texts([tree.args[0]])
    return Awaited(rows, tuple(machines), frozenset(goals), frozenset(triggers)) if rows else None
