"""The runs of a search, judged: which claims were broken by what, which were never put to the test, and what was odd."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable

from larktally.auditing.finding import Finding
from larktally.auditing.looking import oddities
from larktally.claims.checking import check
from larktally.claims.claim import Claim
from larktally.errors import SubjectFailed
from larktally.inputs.script import InputScript
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["MOST_ODD", "JudgedRuns"]

# Of a model that is odd in many ways, the first will do.
MOST_ODD = 12


class JudgedRuns:
    """`broken` are the claims that some run broke, each with the scenario that does; `untested` those that no run put to the
    test; `odd` what an audit is sure of in some run and not in the scenario's own, with the scenario that shows it.

    Judged are runs that reached something new, and of the others every so-manieth.
    """

    def __init__(self, scenario: Scenario, claims: Iterable[Claim], every: int, audited: bool = False) -> None:
        self._scenario, self._claims, self._every, self._audited = scenario, tuple(claims), every, audited
        self.broken: dict[str, Scenario] = {}
        self.untested = dict.fromkeys(one.name for one in self._claims)
        self.odd: dict[str, tuple[Finding, Scenario]] = {}
        self._known: set[str] = set()
        if audited:
            with contextlib.suppress(SubjectFailed):
                self._known = {one.identity for one in oddities(record(scenario), scenario)}

    @property
    def any_left(self) -> bool:
        """Whether there is a claim that is not broken yet."""
        return len(self.broken) < len(self._claims)

    def judge(self, inputs: InputScript, last: int, new: bool, run: int) -> None:
        """A run as far as its last row, by the claims that are not broken yet, and for what is odd in it."""
        due = new or run % self._every == 0
        audited = self._audited and due and len(self.odd) < MOST_ODD
        claimed = self.any_left and due
        if last < 1 or not (audited or claimed):
            return
        made = self._scenario.changed(inputs=inputs.keep(1, last), frames=last, until=None)
        try:
            trace = record(made)
        except SubjectFailed:
            return
        if claimed:
            self._claim(trace, made)
        if audited:
            for one in oddities(trace, made):
                if one.certainty == "sure" and one.identity not in self._known:
                    self.odd.setdefault(one.identity, (one, made))

    def _claim(self, trace: Trace, made: Scenario) -> None:
        left = [one for one in self._claims if one.name not in self.broken]
        for result in check(trace, left):
            if result.verdict != "untested":
                self.untested.pop(result.name, None)
            if result.verdict == "broken":
                self._note(result.claim, made)

    def _note(self, claim: Claim, made: Scenario) -> None:
        whole = made
        if int(made.frames) < int(self._scenario.frames):
            # What is to come before the scenario's own end may come after this one's.
            whole = made.changed(frames=self._scenario.frames)
            try:
                if check(record(whole), [claim])[0].verdict != "broken":
                    return
            except SubjectFailed:
                return
        self.broken[claim.name] = whole
