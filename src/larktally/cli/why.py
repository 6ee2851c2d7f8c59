"""larktally why TRACE FILE[:NAME] ROW: what made a row what it is."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import report_errors, show
from larktally.cli.selection import split_patterns
from larktally.explain.causes import causes
from larktally.runs.model_files import load_scenario_of
from larktally.traces.trace import load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("target", metavar="FILE[:NAME]")
@click.argument("row", metavar="ROW")
@click.option("--only", multiple=True, metavar="PATTERN", help="Only channels that match, and every write of them.")
@click.option("--json", "as_json", is_flag=True, help="Print the causes as JSON.")
@report_errors
def command(trace_file: Path, target: str, row: str, only: tuple[str, ...], as_json: bool) -> None:
    """What made a row what it is: what each machine decided and its guards read, and who set which value, in order, with
    file and line.

    Runs the recording again up to that row, which is a number, 70, or a time, 1.5s.
    """
    trace = load_trace(trace_file)
    found = causes(
        trace,
        load_scenario_of(target, trace.header.scenario),
        trace.row_at(int(row) if row.isdecimal() else row),
        split_patterns(only) or None,
    )
    show(found, as_json)
