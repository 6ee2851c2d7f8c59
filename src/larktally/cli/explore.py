"""larktally explore FILE[:NAME]: inputs that reach what the scenario's own script does not."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, echo, exit_with, report_errors, show
from larktally.cli.progress import progress
from larktally.cli.selection import split_patterns
from larktally.runs.model_files import only_scenario
from larktally.runs.targets import split_target
from larktally.search.explore import explore
from larktally.search.kept_finds import keep_finds


@click.command()
@click.argument("target", metavar="FILE[:NAME]")
@click.option("--runs", default=500, show_default=True, type=click.IntRange(1), metavar="N", help="Runs to make.")
@click.option("--seconds", type=click.FloatRange(0, min_open=True), metavar="S", help="Seconds to take at most.")
@click.option("--frames", type=click.IntRange(1), metavar="N", help="Frames of a run at most. [default: 600 or more]")
@click.option("--actions", multiple=True, metavar="NAME,…", help="The actions that may be pressed. [default: all]")
@click.option("--seed", default=0, show_default=True, type=click.IntRange(0), help="Another seed searches otherwise.")
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    metavar="DIR",
    help="Keep each thing found there, as a script and a scenario.",
)
@many_options
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@report_errors
def command(
    target: str,
    runs: int,
    seconds: float | None,
    frames: int | None,
    actions: tuple[str, ...],
    seed: int,
    out: Path | None,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Look for inputs that reach every state and rule, or break a claim, and say what stayed out of reach and why.

    With --out DIR each is kept as an input script, with a file of scenarios that larktally run takes. Exit status 1 where a claim
    is broken.
    """
    scenario = only_scenario(target)
    with executor_at(cluster) as executor, progress(scenario.title) as on_progress:
        found = explore(
            scenario,
            runs=runs,
            seconds=seconds,
            frames=frames,
            actions=[name for name in split_patterns(actions) if name],
            seed=seed,
            workers=worker_count(workers),
            executor=executor,
            on_progress=on_progress,
        )
    show(found, as_json)
    if out is not None and not found.found:
        if not as_json:
            echo(f"nothing was found, so nothing is kept in {out}")
    elif out is not None:
        path, name = split_target(target)
        written = keep_finds(found, out, path, name or scenario.title)
        if not as_json:
            echo(f"kept: {written}, and a script for each; larktally run {written} runs them")
    if not found.passed:
        exit_with(NOT_KEPT)
