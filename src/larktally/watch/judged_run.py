"""A scenario run and judged, as far as it comes: what stands on the page of one that is watched."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from larktally.auditing.finding import Finding, folded
from larktally.auditing.looking import oddities
from larktally.claims.checking import check
from larktally.claims.named import MeasureReading, read_measures
from larktally.claims.verdicts import Tally
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.explain.wrong_kind import line_that_set
from larktally.inputs.actions import Action
from larktally.inputs.script import InputScript
from larktally.language.judgement import Verdict
from larktally.runs.failed_story import failed_story
from larktally.runs.numbers import AskedNumbers, TurnableNumber
from larktally.runs.observers import RunObserver, RunStart
from larktally.runs.record import record_watched
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace
from larktally.views.page.run_view import RunView

__all__ = ["JudgedRun", "judged", "judged_trace", "turned"]

_ORDER: tuple[Verdict, ...] = ("broken", "untested", "unfinished", "kept")


@dataclass(frozen=True, slots=True)
class JudgedRun:
    """A run of a scenario with its verdicts, measures and findings, the numbers that its model asked for, its actions with their
    keys, and what is told of it where its subject failed on the way."""

    scenario: Scenario
    trace: Trace
    tally: Tally
    measures: tuple[MeasureReading, ...] = ()
    findings: tuple[Finding, ...] = ()
    numbers: tuple[TurnableNumber, ...] = ()
    actions: tuple[Action, ...] = ()
    failure: str = ""
    # Measures that could not be read, and claims that do not fit: told once, with the rest of the run.
    notes: tuple[str, ...] = field(default=())

    @property
    def passed(self) -> bool | None:
        """Whether it came to its end and every claim passed; None where there is no claim, and False where one could not be
        judged."""
        if self.failure or self.notes:
            return False
        if not self.tally:
            return None
        return self.tally.passed

    @property
    def sentence(self) -> str:
        """What it came to: 2 broken, 14 kept."""
        if self.failure:
            return self.failure.splitlines()[0]
        if self.notes and not self.tally:
            return self.notes[0].splitlines()[0]
        verdicts = [result.verdict for result in self.tally]
        counts = [f"{verdicts.count(one)} {one}" for one in _ORDER if one in verdicts]
        return ", ".join(counts) or "no claims"

    @property
    def view(self) -> RunView:
        """The run as the page has it."""
        keys = {action.name: list(action.keys) for action in self.actions}
        return RunView(
            self.trace,
            self.tally,
            self.measures,
            self.findings,
            self.numbers,
            failure=self.failure,
            notes=self.notes,
            name=self.scenario.title,
            keys=keys,
        )


class _Actions(RunObserver):
    """Watches a run for the actions of its subject."""

    found: tuple[Action, ...] = ()

    def begin(self, run: RunStart) -> None:
        self.found = run.info.actions.all()


def turned(
    scenario: Scenario, params: Mapping[str, Any], rate: str | None, script: tuple[InputScript, int] | None = None
) -> Scenario:
    """A scenario with some of its numbers turned; at another rate, and under another script for so many frames, where there is
    one."""
    made = scenario.turned(params, rate)
    if script is None:
        return made
    return made.changed(inputs=script[0], frames=script[1], until=None)


def judged(scenario: Scenario) -> JudgedRun:
    """Runs a scenario and judges it. A subject that fails on the way leaves the rows up to there, and its story; raises
    LarkTallyError where it fails in its first step, or before."""
    numbers, actions = AskedNumbers(scenario.params), _Actions()
    failure = ""
    try:
        trace = record_watched(scenario, [numbers, actions])
    except SubjectFailed as failed:
        failure = "\n".join(filter(None, (failed_story(failed), line_that_set(scenario, failed))))
        # Row 0 alone, before any step, shows nothing that the run before it does not.
        if failed.trace is None or failed.trace.rows < 2:
            raise LarkTallyError(failure) from failed
        trace = failed.trace
    return judged_trace(scenario, trace, numbers.found, actions.found, failure)


def judged_trace(
    scenario: Scenario,
    trace: Trace,
    numbers: Sequence[TurnableNumber] = (),
    actions: Sequence[Action] = (),
    failure: str = "",
) -> JudgedRun:
    """A trace of a scenario, judged."""
    notes = []
    tally = Tally([])
    try:
        if scenario.claims:
            tally = check(trace, scenario.claims)
    except LarkTallyError as error:
        notes.append(str(error))
    measures: list[MeasureReading] = []
    for one in scenario.measures:
        try:
            measures += read_measures(trace, [one])
        except LarkTallyError as error:
            notes.append(str(error))
    return JudgedRun(
        scenario,
        trace,
        tally,
        tuple(measures),
        tuple(folded(oddities(trace, scenario))),
        tuple(numbers),
        tuple(actions),
        failure,
        tuple(notes),
    )
