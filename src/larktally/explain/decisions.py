"""Why a machine did what it did in one row: every rule that was considered, in order, and what its guard read."""

from __future__ import annotations

from collections.abc import Iterable
from types import CodeType
from typing import Any

import msgspec

from larktally.code_places import place_said
from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.names import unknown_name
from larktally.parts.machine import Machine
from larktally.parts.sim import Sim
from larktally.parts.transition import RuleTrial
from larktally.runs.live import Live, run_to
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike
from larktally.textfmt import aligned, plural, shown_value
from larktally.traces.trace import Trace

__all__ = ["Why", "Decision", "Watched", "why", "machine_of", "machine_names"]


class Decision(msgspec.Struct, frozen=True):
    """One round of a machine's step: the rules in the order tried, and the name of the one taken, or None."""

    considered: tuple[RuleTrial, ...]
    taken: str | None

    @property
    def others(self) -> tuple[RuleTrial, ...]:
        """The rules that were due and held as well, and were out-ranked by the one taken."""
        found = []
        for one in self.considered:
            if one.due and one.holds and one.transition != self.taken:
                found.append(one)
        return tuple(found)


class Why(msgspec.Struct, frozen=True):
    """What a machine considered in a row: the state it was in and for how long, what was asked of it by `go`, its
    decisions (more than one where it settles), and the state that it was in after."""

    machine: str
    row: int
    before: str
    age: int
    after: str
    asked: tuple[str, ...]
    decisions: tuple[Decision, ...]
    changed: tuple[dict[str, Any], ...]

    @property
    def taken(self) -> tuple[str, ...]:
        """The names of the transitions taken, "go" for one that was asked for."""
        # What an event told counts more than what was considered: `go` is in no rule.
        gone = tuple(change["by"] for change in self.changed)
        listed = []
        for d in self.decisions:
            if d.taken is not None and d.taken not in gone:
                listed.append(d.taken)
        # A rule that stays says no `changed`, so that only the decision tells of it.
        stayed = tuple(listed)
        return gone + stayed

    def plain(self) -> dict[str, Any]:
        """The decisions as plain data, for JSON."""
        rules = []
        for decision in self.decisions:
            rules.append([{**one._asdict(), "taken": one.transition == decision.taken} for one in decision.considered])
        return {
            "machine": self.machine,
            "row": self.row,
            "before": self.before,
            "age": self.age,
            "after": self.after,
            "asked": list(self.asked),
            "taken": list(self.taken),
            "decisions": rules,
        }

    def __str__(self) -> str:
        stayed = f"{self.before} for {plural(self.age, 'frame')}"
        lines = [f"row {self.row}, {self.machine}: {stayed}; then {self._outcome()}"]
        if self.asked:
            lines.append(f"  asked for with go: {', '.join(self.asked)}")
        for decision in self.decisions:
            table = [["", "rule", "to", "guard", "result", "values read", "at"]]
            for one in decision.considered:
                table.append(_line(one, decision.taken))
            if decision.considered:
                for line in aligned(table, left=True):
                    lines.append(f"  {line}")
            else:
                lines.append("  no rule leaves this state")
            if decision.taken and decision.others:
                names = ", ".join(repr(one.transition) for one in decision.others)
                lines.append(f"  true as well, out-ranked by {decision.taken!r}: {names}")
        return "\n".join(lines)

    def _outcome(self) -> str:
        if not self.taken:
            return "nothing was taken"
        return f"{self.after} by {', '.join(repr(name) for name in self.taken)}"


def why(trace: Trace, scenario: Scenario | SubjectLike, row: int, machine: str = "") -> Why:
    """Which transitions a machine considered in a row, what each guard read, and which was taken.

    Runs the recording again up to that row. `machine` may be left out where the sim has one. Raises LarkTallyError for row
    0, in which nothing is considered, and for a machine or row that does not exist.
    """
    if row == 0:
        raise LarkTallyError("in row 0 a machine enters its start state and considers nothing; ask for row 1 or later")
    trace.check_row(row)
    live = run_to(trace, scenario, row - 1)
    watched = Watched(machine_of(live, machine))
    return watched.why(row, live.step())


class Watched:
    """A machine whose next step is looked at: from now on, until `why` is asked."""

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._before, self._age = machine.state, machine.age + 1
        self._decisions: list[Decision] = []
        self._asked: list[str] = []
        machine.observe_rules(lambda considered, taken: self._decisions.append(Decision(tuple(considered), taken)))
        machine.observe_requests(self._note_request)

    def _note_request(self, state: str, asked: tuple[CodeType, int] | None) -> None:
        by = ""
        if asked is not None:
            by = f" by {place_said(asked)}"
        self._asked.append(state + by)

    def why(self, row: int, emitted: Iterable[Event]) -> Why:
        """What it considered in the step that has just been made, of all that was emitted in it; and looks no longer."""
        machine = self._machine
        machine.observe_rules(None)
        machine.observe_requests(None)
        changed = tuple(dict(e.data) for e in emitted if e.name == "changed" and e.source == machine.name)
        asked, decisions = tuple(self._asked), tuple(self._decisions)
        return Why(machine.name, row, self._before, self._age, machine.state, asked, decisions, changed)


def machine_of(live: Live, name: str) -> Machine:
    """A run's machine by name, or its only one."""
    names = machine_names(live.sim)
    if not name and len(names) == 1:
        name = names[0]
    if not name:
        raise LarkTallyError(f"say which machine: {', '.join(names) or 'this sim has none'}")
    part = live.sim.parts.get(name)
    if not isinstance(part, Machine):
        raise LarkTallyError(unknown_name("machine", name, names, "this sim"))
    return part


def machine_names(sim: Sim) -> list[str]:
    """The names of a sim's machines, in order."""
    return list(sim.machines())


def _line(one: RuleTrial, taken: str | None) -> list[str]:
    if not one.due:
        result = one.note
    elif not one.holds:
        result = "false"
    else:
        result = "true"
        if one.transition == taken:
            result = "taken"
    read = ", ".join(f"{text} = {shown_value(value)}" for text, value in one.read.items())
    mark = ""
    if one.transition == taken:
        mark = ">"
    return [mark, one.transition, one.target, one.guard or "(always)", result, read, one.place]
