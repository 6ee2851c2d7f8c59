"""Findings: something odd that no claim asked about, with what it is about, in which rows, and the claim that would pin it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias

__all__ = ["Certainty", "Finding", "ranked", "rows_text"]

Certainty: TypeAlias = Literal["sure", "likely"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One finding of a check.

    `about` is the part, rule or channel, `message` what is odd of it, with numbers; `rows` are the first rows in which it shows,
    `count` how many there are. `place` is a line of code where one can be named, `claim` the text that would pin it from now on,
    `more` the command that shows more; `weight` is how bad it is, the worst 3.
    """

    check: str
    about: str
    message: str
    certainty: Certainty = "likely"
    rows: tuple[int, ...] = ()
    count: int = 0
    place: str = ""
    claim: str = ""
    more: str = ""
    weight: int = 2
    also: tuple[str, ...] = field(default=())

    @property
    def identity(self) -> str:
        """What stays the same when rows and lines change: the check and what it is about."""
        return f"{self.check} {self.about}"

    def plain(self) -> dict[str, Any]:
        """The finding as plain data, for JSON."""
        return {
            "check": self.check,
            "about": self.about,
            "message": self.message,
            "certainty": self.certainty,
            "rows": list(self.rows),
            "count": self.count,
            "place": self.place,
            "claim": self.claim,
            "more": self.more,
            "identity": self.identity,
        }

    def __str__(self) -> str:
        return f"{self.about}: {self.message}"


def ranked(findings: Iterable[Finding]) -> list[Finding]:
    """Findings as they are read: the sure ones first, then the worst, then the earliest; one identity once."""
    first: dict[str, Finding] = {}
    for one in findings:
        first.setdefault(one.identity, one)

    def place(one: Finding) -> tuple[bool, int, int]:
        row = one.rows[0] if one.rows else 0
        return one.certainty != "sure", -one.weight, row

    return sorted(first.values(), key=place)


def rows_text(rows: Sequence[int], count: int) -> str:
    """The rows of a finding: 54, 55, 56 and 20 more."""
    listed = ", ".join(map(str, rows[:3]))
    if count > 3:
        listed += f" and {count - 3} more"
    return f"rows {listed}" if count > 1 else f"row {listed}"
