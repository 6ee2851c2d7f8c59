"""larktally check TRACE CLAIMS.toml: the tally of a trace, of a log, or of every trace in a folder."""

from __future__ import annotations

import time
from pathlib import Path

import click

from larktally.claims.files import load_rules
from larktally.claims.named import measures_table
from larktally.claims.rules_over_runs import RulesOverRuns
from larktally.cli.outcome import BAD_INPUT, NOT_KEPT, exit_with, print_json, report_errors
from larktally.cli.printing import show_report
from larktally.cli.trace_options import reading_options
from larktally.errors import LarkTallyError
from larktally.report import Line, Report
from larktally.traces.files import traces_in
from larktally.traces.trace import Trace, load_trace
from larktally.views.junit import write_junit, write_junit_over_runs
from larktally.views.suite import Suite


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("claims_file", metavar="CLAIMS.toml", type=click.Path(path_type=Path))
@reading_options
@click.option(
    "--against", type=click.Path(path_type=Path), metavar="TRACE", help="A second trace, for claims that say same."
)
@click.option("--tag", "tags", multiple=True, help="Only claims with this tag.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the verdicts as JUnit XML too.")
@click.option("--all", "everything", is_flag=True, help="Of a folder: a line for each trace, and every story.")
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
    everything: bool,
    as_json: bool,
) -> None:
    """Check the claims of a TOML file on a trace, on a log from elsewhere, or on every trace in a folder."""
    several = trace_file.is_dir()
    if several:
        files = traces_in(trace_file)
    else:
        files = [trace_file]
    other = None
    if against is not None:
        other = load_trace(against)
    began = time.perf_counter()
    judged = RulesOverRuns()
    for file in files:
        name = file.name if several else str(file)
        try:
            trace: Trace = load_trace(file, rate=rate, mapping=mapping)
            # Read for each trace: `for_each` goes by the channels that this one has.
            judged.add(name, trace, load_rules(claims_file, trace.channels, tags), against=other)
        except LarkTallyError as error:
            if not several:
                if junit is not None:
                    write_junit(junit, [Suite(name, None, time.perf_counter() - began, str(error))])
                raise
            judged.failed(name, str(error))
    seconds = time.perf_counter() - began
    if several:
        _told_over_runs(judged, str(trace_file), seconds, junit, as_json, everything)
    else:
        _told_of_one(judged, str(trace_file), seconds, junit, as_json)


def _told_of_one(judged: RulesOverRuns, name: str, seconds: float, junit: Path | None, as_json: bool) -> None:
    """Shows the verdicts of one trace."""
    (tally,), readings = judged.tallies.values(), judged.readings[name]
    if not tally and not readings:
        raise LarkTallyError("[[across]] is over several runs, and this is one: give a folder of traces")
    if junit is not None:
        write_junit(junit, [Suite(name, tally, seconds)])
    if as_json:
        print_json(tally.plain())
    else:
        blocks = tally.report().blocks if tally else ()
        if readings:
            blocks += (Line(""), measures_table(readings))
        show_report(Report.of(blocks))
    if tally and not tally.passed:
        exit_with(NOT_KEPT)


def _told_over_runs(
    judged: RulesOverRuns, name: str, seconds: float, junit: Path | None, as_json: bool, everything: bool
) -> None:
    """Shows what each claim comes to over all runs."""
    tallies = judged.over_all()
    if junit is not None:
        write_junit_over_runs(junit, name, tallies, seconds)
    if as_json:
        print_json(tallies.plain() | {"measures": judged.measures_plain()})
    else:
        show_report(tallies.report(everything) + judged.measures_report())
    if tallies.errors:
        exit_with(BAD_INPUT)
    if not tallies.passed:
        exit_with(NOT_KEPT)
