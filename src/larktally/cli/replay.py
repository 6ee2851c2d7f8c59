"""larktally replay TRACE FILE.py[:NAME]: the recorded inputs run again."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import NOT_KEPT, exit_with, report_errors, show
from larktally.cli.trace_options import tolerance_option, tolerances
from larktally.explain.replaying import replay
from larktally.runs.model_files import load_scenario_of
from larktally.traces.trace import load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("target", metavar="FILE.py[:NAME]")
@tolerance_option
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@report_errors
def command(trace_file: Path, target: str, allowed: tuple[str, ...], as_json: bool) -> None:
    """Run a trace's own inputs, seed and params again, and report the first divergence.

    The scenario is the one that the trace's header names, unless NAME names another.
    """
    trace = load_trace(trace_file)
    found = replay(trace, load_scenario_of(target, trace.header.scenario), tolerances(allowed))
    show(found, as_json)
    if not found.identical:
        exit_with(NOT_KEPT)
