"""What a check of a program found: whether it is a good subject, line by line, and what of it was never exercised.

A line holds, fails, or is untested where nothing happened that could have made it fail. What a recording relies on is a
must; how a program takes what this library never sends is advice.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

from larktally.report import Block, Line, Report, Tone

__all__ = ["CheckedLine", "ProgramCheck", "Verdict"]

Verdict: TypeAlias = Literal["holds", "fails", "untested"]
_TONES: dict[str, Tone] = {"holds": "good", "fails": "bad", "untested": "odd"}


@dataclass(frozen=True, slots=True)
class CheckedLine:
    """One line of a check: what was looked at, its verdict, what was found, where the page says so; `must` where a recording
    relies on it, and advice otherwise."""

    what: str
    verdict: Verdict
    found: str
    section: str
    must: bool = True

    @property
    def holds(self) -> bool:
        """Whether it was looked at and holds."""
        return self.verdict == "holds"


@dataclass(frozen=True, slots=True)
class ProgramCheck:
    """What a check of a program found; `passed` where every must holds. `name` is what the program calls itself."""

    name: str
    lines: tuple[CheckedLine, ...]

    @property
    def passed(self) -> bool:
        """Whether every must holds."""
        return all(line.holds for line in self.lines if line.must)

    def report(self) -> Report:
        """The musts and then the advice, a line each; of what does not hold what was found and where the page says so."""
        blocks: list[Block] = []
        for must, title in ((True, "must"), (False, "advice")):
            lines = [line for line in self.lines if line.must is must]
            blocks += [Line(f"{title}:"), *(block for line in lines for block in _told(line))]
        tone: Tone = "bad"
        if self.passed:
            tone = "good"
        blocks += [Line(""), Line(f"{self.name}: {self._sum()}", tone=tone)]
        return Report.of(blocks)

    def plain(self) -> dict[str, Any]:
        """The check as plain data, for JSON."""
        lines = []
        for line in self.lines:
            lines.append(
                {
                    "what": line.what,
                    "verdict": line.verdict,
                    "must": line.must,
                    "found": line.found,
                    "section": line.section,
                }
            )
        return {"name": self.name, "passed": self.passed, "lines": lines}

    def __str__(self) -> str:
        return self.report().text()

    def _sum(self) -> str:
        counts = []
        for must, word in ((True, "musts"), (False, "pieces of advice")):
            lines = [line for line in self.lines if line.must is must]
            text = f"{sum(line.holds for line in lines)} of {len(lines)} {word} hold"
            untested = sum(line.verdict == "untested" for line in lines)
            if untested:
                text += f", {untested} untested"
            counts.append(text)
        return "; ".join(counts)


def _told(line: CheckedLine) -> list[Block]:
    found = ""
    if line.holds and line.found:
        found = f": {line.found}"
    word = {"holds": "holds", "fails": "FAILS", "untested": "untested"}[line.verdict]
    blocks: list[Block] = [Line(f"  {word:8}  {line.what}{found}", tone=_TONES[line.verdict])]
    if not line.holds:
        for text in line.found.splitlines():
            blocks.append(Line(f"            {text}"))
        blocks.append(Line(f"            docs/programs.md, {line.section!r}", tone="quiet"))
    return blocks
