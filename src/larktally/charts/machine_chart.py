"""A machine as people read it: its rules in the order in which they are tried, what is odd, and what some runs visited."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from larktally.charts.inspecting import Finding, findings, priorities
from larktally.explain.coverage import Coverage
from larktally.report import Block, Line, Report, Table
from larktally.traces.outline import BACK, STAY, Outline

__all__ = ["MachineChart"]

_HEAD = ["state", "tried", "to", "condition", "rule", "does"]


@dataclass(frozen=True, slots=True)
class MachineChart:
    """A machine's outline, with what some runs visited of it where that is known."""

    outline: Outline
    coverage: Coverage | None = None

    def plain(self) -> dict[str, Any]:
        """All of it as plain data, for JSON."""
        return {
            "machine": self.outline.name,
            "rules": priorities(self.outline),
            "findings": [finding._asdict() for finding in self._findings()],
            "coverage": self.coverage.plain() if self.coverage is not None else None,
        }

    def report(self) -> Report:
        """The rules by state, the findings, and the coverage where there is one."""
        outline = self.outline
        size = f"{len(outline.leaves)} states, {len(outline.rules)} rules, starts {outline.start!r}, {outline.order}"
        blocks: list[Block] = [Line(f"{outline.name}: {size}", tone="strong"), self._rules()]
        for finding in self._findings():
            blocks.append(Line(f"look at: {finding.message}", tone="odd"))
        found = Report.of(blocks)
        if self.coverage is None:
            return found
        return found + Report.of([Line("")]) + self.coverage.report()

    def _findings(self) -> list[Finding]:
        """What is odd of the rules, but for what the runs show to be well: a state that `go` enters was visited, one that
        `go` leaves was left."""
        found = []
        for finding in findings(self.outline):
            if self.coverage is None or finding.about not in self._seen_to_be_well(finding.kind):
                found.append(finding)
        return found

    def _seen_to_be_well(self, kind: str) -> set[str]:
        if self.coverage is None:
            return set()
        if kind == "unreachable":
            return {state.state for state in self.coverage.states if state.visits}
        if kind == "no way out":
            return {before for before, after in self.coverage.pairs if before != after}
        return set()

    def _rules(self) -> Table:
        shown = {BACK: "back", STAY: "stay"}
        lines, before = [], ""
        for rule in priorities(self.outline):
            # A state's name stands once, before the first of its rules.
            if rule["state"] == before:
                state = ""
            else:
                state = rule["state"]
            before = rule["state"]
            target = shown.get(rule["to"], rule["to"])
            lines.append([state, str(rule["rank"]), target, rule["condition"], rule["rule"], rule["does"]])
        return Table(_HEAD, lines, frozenset(range(len(_HEAD))))
