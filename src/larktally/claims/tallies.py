"""The tallies of several traces as one report."""

from __future__ import annotations

from collections.abc import Mapping

from larktally.claims.story import VERDICT_TONES
from larktally.claims.verdicts import Tally
from larktally.report import Block, Line, Report, Table, Tone

__all__ = ["tallies_report"]

MOST_ACROSS = 5


def tallies_report(tallies: Mapping[str, Tally]) -> Report:
    """A table over all traces, the story of each claim that did not pass, and how many traces passed."""
    blocks: list[Block] = [_across(tallies) if len(tallies) <= MOST_ACROSS else _down(tallies)]
    for name, tally in tallies.items():
        for result in tally.failed:
            blocks += [Line(""), Line(name, tone="strong"), *result.report().blocks]
    passed = sum(tally.passed for tally in tallies.values())
    tone: Tone = "bad"
    if passed == len(tallies):
        tone = "good"
    return Report.of([*blocks, Line(""), Line(f"{passed} of {len(tallies)} traces passed", tone=tone)])


def _across(tallies: Mapping[str, Tally]) -> Table:
    """A line for each claim, a column for each trace."""
    claims = list(dict.fromkeys(result.name for tally in tallies.values() for result in tally))
    verdicts = []
    for tally in tallies.values():
        verdicts.append({result.name: result.verdict for result in tally})
    lines, tones = [], {}
    for n, claim in enumerate(claims):
        cells = []
        for found in verdicts:
            cells.append(found.get(claim, ""))
        lines.append([claim, *cells])
        worst = next((one for one in ("broken", "unfinished", "untested") if one in cells), "kept")
        tones[n] = VERDICT_TONES[worst]
    return Table(["claim", *tallies], lines, frozenset(range(len(tallies) + 1)), tones)


def _down(tallies: Mapping[str, Tally]) -> Table:
    """A line for each trace, where there are many."""
    lines = []
    for name, tally in tallies.items():
        failed = ", ".join(f"{result.name} ({result.verdict})" for result in tally.failed)
        lines.append([name, f"{len(tally) - len(tally.failed)} of {len(tally)}", failed])
    return Table(["trace", "passed", "not passed"], lines, frozenset({0, 1, 2}))
