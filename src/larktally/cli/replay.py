"""larktally replay TRACE FILE.py[:NAME]: the recorded inputs run again."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching
from larktally.cli.reading import tolerance_option, tolerances
from larktally.errors import LarkError
from larktally.runs import Scenario, replay
from larktally.runs.model_files import load_scenarios
from larktally.traces import load_trace


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("target", metavar="FILE.py[:NAME]")
@tolerance_option
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@teaching
def command(trace_file: Path, target: str, allowed: tuple[str, ...], as_json: bool) -> None:
    """Run a trace's own inputs, seed and params again, and report the first divergence.

    The scenario is the one that the trace's header names, unless NAME names another.
    """
    trace = load_trace(trace_file)
    found = replay(trace, _scenario(target, trace.header.scenario), tolerances(allowed))
    if as_json:
        divergence = found.divergence
        print_json(
            {
                "identical": found.identical,
                "rows": trace.rows,
                "row": divergence and divergence.row,
                "what": divergence and divergence.what,
                "recorded": divergence and divergence.first,
                "replayed": divergence and divergence.second,
                "part": divergence and divergence.part,
                "added": found.added,
                "removed": found.removed,
            }
        )
    else:
        click.echo(str(found))
    if not found.identical:
        leave(NOT_KEPT)


def _scenario(target: str, named: str) -> Scenario:
    scenarios = load_scenarios(target)
    if len(scenarios) == 1:
        return scenarios[0]
    if not named:
        raise LarkError(f"{target} holds several scenarios and the trace names none; say {target}:NAME")
    return load_scenarios(target, named)[0]
