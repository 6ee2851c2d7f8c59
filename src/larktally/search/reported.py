"""A tester's report made into a case: the scenario that plays it again, as small as it can be where a claim is broken in it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from larktally.claims.checking import check
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.shrink import shrink
from larktally.search.shrunk import Shrunk
from larktally.traces.marks import Mark, marks_of, without_marks
from larktally.traces.trace import Trace

__all__ = ["ReportedCase", "case_of", "differing_build", "scenario_line"]


@dataclass(frozen=True, slots=True, eq=False)
class ReportedCase:
    """A report's case: `scenario` plays it again, shrunk where a claim is broken, which `shrunk` tells; `marks` are the
    report's, and `claims` the names of those that it is judged by: the broken one, or all that it keeps."""

    scenario: Scenario
    marks: tuple[Mark, ...]
    claims: tuple[str, ...]
    shrunk: Shrunk | None

    @property
    def script(self) -> InputScript:
        """What is pressed."""
        return self.scenario.inputs


def case_of(report: Trace, scenario: Scenario, *, on_progress: Callable[[int, int], Any] | None = None) -> ReportedCase:
    """The case of a report, under a scenario's subject and claims.

    Raises LarkTallyError where the report cannot be run again, and SubjectFailed where its subject fails on the way.
    """
    again = Scenario.from_trace(without_marks(report), scenario).changed(
        claims=scenario.claims, measures=scenario.measures
    )
    marks = tuple(marks_of(report))
    if not scenario.claims:
        return ReportedCase(again, marks, (), None)
    tally = check(record(again), again.claims)
    broken = [result.name for result in tally if result.verdict == "broken"]
    if not broken:
        return ReportedCase(again, marks, tuple(result.name for result in tally if result.passed), None)
    shrunk = shrink(again, broken[0], on_progress=on_progress)
    return ReportedCase(shrunk.scenario.changed(claims=scenario.claims), marks, (broken[0],), shrunk)


def differing_build(report: Trace, now: Trace, build: str = "") -> str:
    """How the build that a report was made with differs from the one that plays it again; "" where it does not, as far as that is
    known. `build` is what today's is called."""
    was, today = report.header.made_with, now.header.made_with
    if was.get("build") and build and was["build"] != build:
        return f"another build: the report is of {was['build']}, this is {build}"
    program, program_now = report.header.program, now.header.program
    for word in ("version", "name"):
        if program.get(word) != program_now.get(word):
            return f"another build: the report's program is {program.get(word)}, this one is {program_now.get(word)}"
    if was.get("source") != today.get("source"):
        of = f" ({was['build']})" if was.get("build") else ""
        return f"another build: the model's file is not the one that the report was made with{of}"
    return ""


def scenario_line(case: ReportedCase, of: str, script: str) -> str:
    """The Python that makes the case from the scenario that is called `of`."""
    made = case.scenario
    parts = [
        f'inputs=lt.InputScript.from_csv({script}), frames={int(made.frames)}, rate="{made.rate}", seed={made.seed}'
    ]
    if made.params:
        parts.append(f"params={dict(made.params)!r}")
    if not all(type(value) in (bool, int, float, str) for value in made.params.values()):
        raise LarkTallyError(
            "the report has params that cannot be written as Python: only numbers, flags and texts can"
        )
    return f"{of}.changed({', '.join(parts)}, until=None)"
