"""What a claim comes to: verdict, breaches, margin, and the tally of many."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, overload

from larktally.errors import LarkError, unknown_name

if TYPE_CHECKING:
    from larktally.claims.claim import Claim
    from larktally.claims.signals import Reading

__all__ = ["Verdict", "Breach", "Judgement", "Result", "Tally", "LISTED"]

Verdict: TypeAlias = Literal["kept", "broken", "vacuous", "unfinished"]
LISTED = 100


@dataclass(frozen=True, slots=True)
class Breach:
    """Where a claim failed: the row that raised the obligation, and the row in which it failed; None for neither."""

    trigger: int | None
    row: int | None


@dataclass(frozen=True, slots=True)
class Judgement:
    """A property over one trace: obligations that arose, how many failed, the first of them, how many stayed open.

    `margin` is the signed slack of the one comparison that was judged, negative where broken; None where there is none.
    `waiting` is, where some stayed open, the row that raised the first of them and the row in which all are decided, None
    where no row is sure to be that.
    """

    obligations: int
    broken: int = 0
    breaches: tuple[Breach, ...] = ()
    open: int = 0
    margin: float | None = None
    can_be_vacuous: bool = False
    waiting: Breach | None = None

    @property
    def verdict(self) -> Verdict:
        """broken, else unfinished, else vacuous, else kept."""
        if self.broken:
            return "broken"
        if self.open:
            return "unfinished"
        return "vacuous" if self.can_be_vacuous and not self.obligations else "kept"


@dataclass(frozen=True, slots=True)
class Result:
    """One claim's verdict over one trace."""

    claim: Claim
    judgement: Judgement
    reading: Reading = field(repr=False, compare=False)

    @property
    def name(self) -> str:
        """The claim's name."""
        return self.claim.name

    @property
    def verdict(self) -> Verdict:
        """kept, broken, vacuous or unfinished."""
        return self.judgement.verdict

    @property
    def breaches(self) -> tuple[Breach, ...]:
        """The first 100 breaches."""
        return self.judgement.breaches

    @property
    def broken(self) -> int:
        """How many obligations failed."""
        return self.judgement.broken

    @property
    def obligations(self) -> int:
        """How many obligations arose."""
        return self.judgement.obligations

    @property
    def open(self) -> int:
        """How many obligations were still open when the trace ended."""
        return self.judgement.open

    @property
    def margin(self) -> float | None:
        """The signed slack of the comparison judged, in the channel's unit; None where it has none."""
        return self.judgement.margin

    @property
    def passed(self) -> bool:
        """Whether it is kept, or has a verdict that the claim allows aloud."""
        return self.verdict == "kept" or self.verdict in self.claim.allow

    def plain(self) -> dict[str, Any]:
        """The result as plain data, for JSON."""
        return {
            "name": self.name,
            "that": self.claim.text,
            "verdict": self.verdict,
            "passed": self.passed,
            "obligations": self.obligations,
            "broken": self.broken,
            "breaches": [{"trigger": breach.trigger, "row": breach.row} for breach in self.breaches],
            "open": self.open,
            "margin": self.margin,
        }

    def __str__(self) -> str:
        from larktally.claims.story import story

        return story(self)


class Tally(Sequence[Result]):
    """The verdicts of a set of claims over a trace; `assert tally.passed, tally` tells the story.

    tally["name"] is one claim's result; iteration goes in the order of the claims.
    """

    def __init__(self, results: Sequence[Result]) -> None:
        self._results = tuple(results)

    @property
    def passed(self) -> bool:
        """Whether every claim is kept or allowed aloud. No claims at all is an error: nothing was checked."""
        if not self._results:
            raise LarkError("a tally of no claims: nothing was checked")
        return all(result.passed for result in self._results)

    @property
    def failed(self) -> tuple[Result, ...]:
        """The results that did not pass."""
        return tuple(result for result in self._results if not result.passed)

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
        raise LarkError(unknown_name("claim", key, (result.name for result in self._results)))

    def __iter__(self) -> Iterator[Result]:
        return iter(self._results)

    def __str__(self) -> str:
        from larktally.claims.story import tally_text

        return tally_text(self)
