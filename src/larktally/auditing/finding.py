"""Findings: something odd that no claim asked about, with what it is about, in which rows, and the claim that would pin it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Literal, TypeAlias

import msgspec
from msgspec.structs import replace

__all__ = ["Certainty", "Finding", "folded", "ranked", "rows_text", "why_command"]

# Two checks that see the same fault see it in the same row, or read it a step apart.
SAME_ROW = 2
# The two checks that put a saved state back.
SAVED_AND_LATE = {"saved state", "late"}

Certainty: TypeAlias = Literal["sure", "likely"]


class Finding(msgspec.Struct, frozen=True):
    """One finding of a check.

    `about` is the part, rule or channel, `message` what is odd of it, with numbers; `rows` are the first rows in which it shows,
    `count` how many there are. `place` is a line of code where one can be named, `claim` the text that would pin it from now on,
    `more` the command that shows more; `weight` is how bad it is, the worst 3; `also` is what other checks say of the same fault.
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
    also: tuple[Finding, ...] = ()

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
            "also": [one.plain() for one in self.also],
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


def folded(findings: Iterable[Finding]) -> list[Finding]:
    """Ranked findings with the same fault told once: what another check says of the same part from the same row on stands beside
    the first."""
    kept: list[Finding] = []
    for one in findings:
        for place, other in enumerate(kept):
            if _same_fault(one, other):
                kept[place] = replace(other, also=(*other.also, one))
                break
        else:
            kept.append(one)
    return kept


def _same_fault(one: Finding, other: Finding) -> bool:
    if one.check == other.check or not one.rows or not other.rows:
        return False
    if {one.check, other.check} == SAVED_AND_LATE:
        # Whichever row shows it, what is not put back is one fault.
        return one.about == other.about
    return one.about.split()[:1] == other.about.split()[:1] and abs(one.rows[0] - other.rows[0]) <= SAME_ROW


def rows_text(rows: Sequence[int], count: int) -> str:
    """The rows of a finding: 54, 55, 56 and 20 more."""
    listed = ", ".join(map(str, rows[:3]))
    if count > 3:
        listed += f" and {count - 3} more"
    return f"rows {listed}" if count > 1 else f"row {listed}"


def why_command(row: int) -> str:
    """The command that tells what made a row what it is, for a finding's `more`."""
    return f"larktally why TRACE FILE.py {row}"
