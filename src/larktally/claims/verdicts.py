"""What a claim comes to: its result over one trace, and the tally of many."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import overload

from larktally.claims.claim import Claim
from larktally.claims.story import explain_result, tally_report
from larktally.errors import LarkTallyError
from larktally.language.columns import Evaluator
from larktally.language.judgement import Breach, Judgement, Verdict
from larktally.names import unknown_name
from larktally.report import Report

__all__ = ["Result", "Tally"]


@dataclass(frozen=True, slots=True)
class Result:
    """One claim's verdict over one trace."""

    claim: Claim
    judgement: Judgement
    evaluator: Evaluator = field(repr=False, compare=False)

    @property
    def name(self) -> str:
        """The claim's name."""
        return self.claim.name

    @property
    def verdict(self) -> Verdict:
        """kept, broken, untested or unfinished."""
        return self.judgement.verdict

    @property
    def breaches(self) -> tuple[Breach, ...]:
        """The first 100 breaches."""
        return self.judgement.breaches

    @property
    def breach_rows(self) -> list[int]:
        """The rows of the first 100 breaches, in order, each once."""
        return sorted({one.row for one in self.breaches if one.row is not None})

    @property
    def broken(self) -> int:
        """How many cases failed."""
        return self.judgement.broken

    @property
    def cases(self) -> int:
        """How many cases arose."""
        return self.judgement.cases

    @property
    def open(self) -> int:
        """How many cases were still open when the trace ended."""
        return self.judgement.open

    @property
    def margin(self) -> float | None:
        """The signed slack of the comparison judged, in the channel's unit; None where it has none."""
        return self.judgement.margin

    @property
    def passed(self) -> bool:
        """Whether it is kept, or has a verdict that the claim allows aloud."""
        return self.verdict == "kept" or self.verdict in self.claim.allow

    def plain(self) -> dict[str, object]:
        """The result as plain data, for JSON."""
        return {
            "name": self.name,
            "that": self.claim.text,
            "verdict": self.verdict,
            "passed": self.passed,
            "cases": self.cases,
            "broken": self.broken,
            "breaches": [{"trigger": breach.trigger, "row": breach.row} for breach in self.breaches],
            "open": self.open,
            "margin": self.margin,
        }

    def report(self, causes: Sequence[str] = ()) -> Report:
        """What was claimed, what decided it, and the rows around; `causes` are lines that say why."""
        return explain_result(self, causes)

    def __str__(self) -> str:
        return self.report().text()


class Tally(Sequence[Result]):
    """The verdicts of a set of claims over a trace; `assert tally.passed, tally` tells the story.

    tally["name"] is one claim's result; iteration goes in the order of the claims.
    """

    def __init__(self, results: Sequence[Result]) -> None:
        self._results = tuple(results)

    @property
    def passed(self) -> bool:
        """Whether every claim is kept or allowed aloud. No claims at all is an error: nothing was checked."""
        # A suite that lost its claims would pass for ever.
        if not self._results:
            raise LarkTallyError("a tally of no claims: nothing was checked")
        return all(result.passed for result in self._results)

    @property
    def failed(self) -> tuple[Result, ...]:
        """The results that did not pass."""
        found = []
        for result in self._results:
            if not result.passed:
                found.append(result)
        return tuple(found)

    @property
    def breach_rows(self) -> list[int]:
        """The rows in which some claim is broken, in order, each once."""
        return sorted({row for result in self._results for row in result.breach_rows})

    def plain(self) -> list[dict[str, object]]:
        """Every result as plain data, for JSON."""
        return [result.plain() for result in self._results]

    def report(self, causes: Mapping[str, Sequence[str]] | None = None) -> Report:
        """A line for each claim, then the story of each that did not pass; `causes` are lines that say why, by claim."""
        return tally_report(self._results, causes or {})

    def __len__(self) -> int:
        return len(self._results)

    @overload
    def __getitem__(self, key: int | str) -> Result: ...
    @overload
    def __getitem__(self, key: slice) -> Tally: ...
    def __getitem__(self, key: int | str | slice) -> Result | Tally:
        if isinstance(key, slice):
            return Tally(self._results[key])
        if isinstance(key, int):
            return self._results[key]
        for result in self._results:
            if result.name == key:
                return result
        raise LarkTallyError(unknown_name("claim", key, (result.name for result in self._results)))

    def __iter__(self) -> Iterator[Result]:
        return iter(self._results)

    def __str__(self) -> str:
        return self.report().text()
