"""larktally check TRACE CLAIMS.toml: the tally of a trace, of a log, or of every trace in a folder."""

from __future__ import annotations

import time
from pathlib import Path

import click

from larktally.claims.checking import check
from larktally.claims.files import load_claims
from larktally.claims.tallies import tallies_report
from larktally.claims.verdicts import Tally
from larktally.cli.outcome import NOT_KEPT, exit_with, print_json, report_errors
from larktally.cli.trace_options import reading_options
from larktally.errors import LarkTallyError
from larktally.traces.formats import FORMATS
from larktally.traces.trace import Trace, load_trace
from larktally.views.junit import Suite, write_junit


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("claims_file", metavar="CLAIMS.toml", type=click.Path(path_type=Path))
@reading_options
@click.option(
    "--against", type=click.Path(path_type=Path), metavar="TRACE", help="A second trace, for claims that say same."
)
@click.option("--tag", "tags", multiple=True, help="Only claims with this tag.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the verdicts as JUnit XML too.")
@click.option("--json", "as_json", is_flag=True, help="Print the verdicts as JSON.")
@report_errors
def command(
    trace_file: Path,
    claims_file: Path,
    rate: str | None,
    mapping: Path | None,
    against: Path | None,
    tags: tuple[str, ...],
    junit: Path | None,
    as_json: bool,
) -> None:
    """Check the claims of a TOML file on a trace, on a log from elsewhere, or on every trace in a folder."""
    several = trace_file.is_dir()
    if several:
        files = _traces_in(trace_file)
    else:
        files = [trace_file]
    other = None
    if against is not None:
        other = load_trace(against)
    tallies: dict[str, Tally] = {}
    suites: list[Suite] = []
    for file in files:
        name = file.name if several else str(file)
        began = time.perf_counter()
        try:
            trace: Trace = load_trace(file, rate=rate, mapping=mapping)
            # Read for each trace: `for_each` goes by the channels that this one has.
            tallies[name] = check(trace, load_claims(claims_file, trace.channels, tags), against=other)
        except LarkTallyError as error:
            if junit is not None:
                write_junit(junit, [*suites, Suite(name, None, time.perf_counter() - began, str(error))])
            raise
        suites.append(Suite(name, tallies[name], time.perf_counter() - began))
    if junit is not None:
        write_junit(junit, suites)
    if as_json:
        plain = {name: tally.plain() for name, tally in tallies.items()}
        print_json(plain if several else plain[str(trace_file)])
    else:
        _print(tallies, several)
    if not all(tally.passed for tally in tallies.values()):
        exit_with(NOT_KEPT)


def _traces_in(folder: Path) -> list[Path]:
    # Only what says by itself that it is a trace: a CSV in the folder may be anything.
    suffixes = []
    for one in FORMATS:
        if one.first_bytes:
            suffixes.append(one.suffix)
    files = sorted(path for path in folder.iterdir() if path.suffix in suffixes)
    if not files:
        raise LarkTallyError(f"{folder}: no trace in this folder ({', '.join(suffixes)})")
    return files


def _print(tallies: dict[str, Tally], several: bool) -> None:
    from larktally.views.terminal import console, print_report

    if several:
        print_report(console(), tallies_report(tallies))
        return
    (tally,) = tallies.values()
    print_report(console(), tally.report())
