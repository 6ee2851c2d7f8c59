"""What an audit found, as data and as a report."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import msgspec

from larktally.auditing.finding import Finding
from larktally.report import Block, Line, Report, Tone
from larktally.textfmt import plural

if TYPE_CHECKING:
    from larktally.auditing.rewind import RewindAudit

__all__ = ["Audit"]

MOST_SHOWN = 7
# In characters: a list of checks that a terminal would break where it pleases.
WIDEST = 110


class Audit(msgspec.Struct, frozen=True):
    """What an audit found: `findings`, the most telling first; `ran` the checks that looked, `skipped` those that did not, with
    why; `unmet` what the scenario says is intended and nothing found; `accepted` how many were left out as accepted before.

    `rerun` is what running again came to, None where it was not.
    """

    findings: tuple[Finding, ...]
    ran: tuple[str, ...]
    skipped: tuple[tuple[str, str], ...] = ()
    rerun: RewindAudit | None = None
    unmet: tuple[str, ...] = ()
    accepted: int = 0

    @property
    def passed(self) -> bool:
        """Whether nothing sure was found."""
        return all(one.certainty != "sure" for one in self.findings)

    @property
    def every(self) -> list[Finding]:
        """All findings, each by itself: those too that are told beside another of the same fault."""
        return [each for one in self.findings for each in (one, *one.also)]

    def plain(self) -> dict[str, Any]:
        """The audit as plain data, for JSON."""
        rerun = None
        if self.rerun is not None:
            rerun = self.rerun.plain()
        return {
            "passed": self.passed,
            "findings": [one.plain() for one in self.findings],
            "ran": list(self.ran),
            "skipped": dict(self.skipped),
            "unmet": list(self.unmet),
            "accepted": self.accepted,
            "rerun": rerun,
        }

    def report(self, everything: bool = False) -> Report:
        """The most telling findings, each with its evidence and the claim that pins it; then which checks ran, and which not."""
        return Report.of(self._blocks(everything))

    def _blocks(self, everything: bool) -> Iterator[Block]:
        shown: Sequence[Finding] = self.findings
        if not everything:
            shown = self.findings[:MOST_SHOWN]
        for one in shown:
            tone: Tone = "odd"
            if one.certainty == "sure":
                tone = "bad"
            yield Line(f"{one.certainty:<7}{one.check}: {one}", tone=tone)
            for other in one.also:
                yield Line(f"{other.check}: {other.message}", "also", indent=1)
            if one.place:
                yield Line(one.place, "at", indent=1)
            if one.claim:
                yield Line(one.claim, "pin it", indent=1)
            if one.more:
                yield Line(one.more, "more", indent=1)
        left = len(self.findings) - len(shown)
        if left:
            yield Line(f"and {plural(left, 'finding')} more (--all)", tone="odd")
        if not self.findings:
            yield Line("nothing found", tone="good")
        for text in self.unmet:
            yield Line(f"intended, and not found: {text}", tone="odd")
        if self.accepted:
            yield Line(f"{plural(self.accepted, 'finding')} accepted before", tone="quiet")
        for line in textwrap.wrap(f"looked for: {', '.join(self.ran)}", WIDEST, subsequent_indent="  "):
            yield Line(line, tone="quiet")
        for name, why in self.skipped:
            yield Line(f"not looked for: {name}: {why}", tone="quiet")
        if self.rerun is not None:
            for line in self.rerun.lines():
                yield Line(line)

    def __str__(self) -> str:
        return self.report().text()
