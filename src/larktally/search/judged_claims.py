"""The claims of a scenario over the runs of a search: which were broken by what, and which were never put to the test."""

from __future__ import annotations

from collections.abc import Iterable

from larktally.claims.checking import check
from larktally.claims.claim import Claim
from larktally.claims.verdicts import Tally
from larktally.errors import SubjectFailed
from larktally.inputs.script import InputScript
from larktally.runs.record import record
from larktally.runs.scenario import Scenario

__all__ = ["JudgedClaims"]


class JudgedClaims:
    """`broken` are the claims that some run broke, each with the scenario that does; `untested` those that no run put to the
    test.

    Judged are runs that reached something new, and of the others every so-manieth.
    """

    def __init__(self, scenario: Scenario, claims: Iterable[Claim], every: int) -> None:
        self._scenario, self._claims, self._every = scenario, tuple(claims), every
        self.broken: dict[str, Scenario] = {}
        self.untested = dict.fromkeys(one.name for one in self._claims)

    @property
    def any_left(self) -> bool:
        """Whether there is a claim that is not broken yet."""
        return len(self.broken) < len(self._claims)

    def judge(self, inputs: InputScript, last: int, new: bool, run: int) -> None:
        """The claims that are not broken yet, over a run as far as its last row."""
        if not self.any_left or last < 1 or not (new or run % self._every == 0):
            return
        made = self._scenario.changed(inputs=inputs.keep(1, last), frames=last, until=None)
        for result in self._tally(made):
            if result.verdict != "untested":
                self.untested.pop(result.name, None)
            if result.verdict != "broken":
                continue
            whole = made
            if last < int(self._scenario.frames):
                # What is to come before the scenario's own end may come after this one's.
                whole = made.changed(frames=self._scenario.frames)
            if whole is made or any(one.verdict == "broken" and one.name == result.name for one in self._tally(whole)):
                self.broken[result.name] = whole

    def _tally(self, made: Scenario) -> Tally:
        left = [one for one in self._claims if one.name not in self.broken]
        try:
            return check(record(made), left)
        except SubjectFailed:
            return Tally([])
