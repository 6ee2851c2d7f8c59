"""Tables for the terminal: verdicts, and the story of what did not pass."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from larktally.claims.story import deciding, headline, rows_around
from larktally.claims.verdicts import Result, Tally

if TYPE_CHECKING:
    from larktally.programs import Vetting

__all__ = ["console", "tally_table", "tallies_table", "print_stories", "print_vetting", "plain_table", "VERDICT_STYLES"]

VERDICT_STYLES = {"kept": "green", "broken": "bold red", "vacuous": "bold magenta", "unfinished": "bold magenta"}
PIPED_WIDTH = 400
MOST_ACROSS = 5


def console() -> Console:
    """A console that is as wide as the terminal, or wide enough for whole lines where output is piped."""
    if sys.stdout.isatty() or "COLUMNS" in os.environ:
        return Console()
    return Console(width=PIPED_WIDTH, no_color=True)


def plain_table(*columns: str, **options: Any) -> Table:
    """A table without lines: columns apart by two spaces."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", **options)
    for column in columns:
        table.add_column(column)
    return table


def tally_table(tally: Tally) -> Table:
    """A line for each claim: verdict, name, obligations, margin."""
    table = plain_table("verdict", "claim", "obligations", "margin")
    table.columns[2].justify = table.columns[3].justify = "right"
    table.columns[0].no_wrap = True
    for result in tally:
        allowed = " (allowed)" if result.passed and result.verdict != "kept" else ""
        failed = f"{result.broken} of " if result.broken else f"{result.open} open of " if result.open else ""
        table.add_row(
            Text(result.verdict + allowed, style=VERDICT_STYLES[result.verdict]),
            Text(result.name),
            f"{failed}{result.obligations}",
            "" if result.margin is None else f"{result.margin:g}",
        )
    return table


def tallies_table(tallies: Mapping[str, Tally]) -> Table:
    """A line for each claim, a column for each trace; where there are many traces, a line for each of them instead."""
    claims = list(dict.fromkeys(result.name for tally in tallies.values() for result in tally))
    verdicts = {name: {result.name: result for result in tally} for name, tally in tallies.items()}
    if len(tallies) <= MOST_ACROSS:
        table = plain_table("claim", *tallies)
        for claim in claims:
            table.add_row(Text(claim), *(_verdict(found.get(claim)) for found in verdicts.values()))
        return table
    table = plain_table("trace", "passed", "not passed")
    for name, tally in tallies.items():
        failed = Text(", ".join(f"{result.name} ({result.verdict})" for result in tally.failed), style="bold red")
        table.add_row(Text(name), f"{len(tally) - len(tally.failed)} of {len(tally)}", failed)
    return table


def _verdict(result: Result | None) -> Text:
    return Text(result.verdict, style=VERDICT_STYLES[result.verdict]) if result is not None else Text("")


def print_stories(out: Console, tally: Tally, causes: Mapping[str, Sequence[str]] | None = None) -> None:
    """The story of each claim that did not pass, then the sum of all; `causes` are lines that say why, by claim."""
    for result in tally.failed:
        out.print()
        print_story(out, result, (causes or {}).get(result.name, ()))
    passed = len(tally) - len(tally.failed)
    style = "green" if not tally.failed else "bold red"
    out.print()
    out.print(Text(f"{passed} of {len(tally)} claims passed", style=style))


def print_story(out: Console, result: Result, causes: Sequence[str] = ()) -> None:
    """What was claimed, what decided it, the rows around the first breach, and lines that say why."""
    out.print(Text.assemble((result.verdict.upper(), VERDICT_STYLES[result.verdict]), "  ", (result.name, "bold")))
    out.print(Text(f"  claimed  {result.claim.text}"))
    if result.claim.why:
        out.print(Text(f"  because  {result.claim.why}"))
    out.print(Text(f"  found    {headline(result)}"))
    if not result.breaches:
        return
    for text, value in deciding(result, result.breaches[0]):
        out.print(Text(f"           {text} = {value}"))
    around = rows_around(result, result.breaches[0])
    if around:
        table = plain_table(*around[0], show_header=True)
        for column in table.columns:
            column.justify = "right"
        for line in around[1:]:
            table.add_row(*map(Text, line), style="bold red" if line[0] == ">" else None)
        out.print(table)
    if result.broken > 1:
        rows = ", ".join(str(breach.row) for breach in result.breaches[1:9])
        more = f" and {result.broken - 9} more" if result.broken > 9 else ""
        out.print(Text(f"  also in rows {rows}{more}"))
    for at, cause in enumerate(causes):
        out.print(Text(f"  {'' if at else 'why':<9}{cause}"))


def print_vetting(out: Console, vetting: Vetting) -> None:
    """A line for each thing that was looked at; what fails with what was found and where the page says so."""
    for finding in vetting.findings:
        mark = ("holds", "green") if finding.holds else ("FAILS", "bold red")
        found = f": {finding.found}" if finding.holds and finding.found else ""
        out.print(Text.assemble(mark, "  ", finding.what, (found, "dim")))
        if not finding.holds:
            for line in finding.found.splitlines():
                out.print(Text(f"       {line}"))
            out.print(Text(f"       docs/programs.md, {finding.section!r}", style="dim"))
    held = sum(finding.holds for finding in vetting.findings)
    out.print()
    style = "green" if vetting.passed else "bold red"
    out.print(Text(f"{vetting.name}: {held} of {len(vetting.findings)} lines hold", style=style))
