"""larktally check TRACE CLAIMS.toml: the tally of a trace or a log."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.claims import check, load_claims
from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching
from larktally.cli.reading import reading_options
from larktally.traces import load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("claims_file", metavar="CLAIMS.toml", type=click.Path(path_type=Path))
@reading_options
@click.option("--tag", "tags", multiple=True, help="Only claims with this tag.")
@click.option("--json", "as_json", is_flag=True, help="Print the verdicts as JSON.")
@teaching
def command(
    trace_file: Path, claims_file: Path, rate: str | None, mapping: Path | None, tags: tuple[str, ...], as_json: bool
) -> None:
    """Check the claims of a TOML file on a trace, or on a log from elsewhere."""
    trace = load_trace(trace_file, rate=rate, mapping=mapping)
    tally = check(trace, load_claims(claims_file, trace.channels, tags))
    if as_json:
        print_json([result.plain() for result in tally])
    else:
        from larktally.views.tables import console, print_stories, tally_table

        out = console()
        out.print(tally_table(tally))
        print_stories(out, tally)
    if not tally.passed:
        leave(NOT_KEPT)
