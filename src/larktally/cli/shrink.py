"""larktally shrink FILE[:NAME]: the fewest presses and frames with which a claim is still broken."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from larktally.claims.verdicts import Tally
from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, echo, exit_with, print_json, report_errors
from larktally.cli.printing import show_report
from larktally.cli.progress import progress
from larktally.explain.causes import causes_of_breaches, lines_by_claim
from larktally.report import Report
from larktally.runs.model_files import only_scenario
from larktally.search.breaches import find_breach
from larktally.search.shrink import shrink
from larktally.search.shrunk import Shrunk


@click.command()
@click.argument("target", metavar="FILE[:NAME]")
@click.option("--claim", default="", metavar="NAME", help="The claim to break. [default: the first that is broken]")
@click.option(
    "--explore", "tries", type=click.IntRange(1), metavar="N", help="First look for a breach, in at most N runs."
)
@click.option("--most", default=500, show_default=True, type=click.IntRange(1), metavar="N", help="Runs to try.")
@click.option(
    "--out", type=click.Path(path_type=Path), metavar="FILE", help="Write its trace, or, as .csv, its script."
)
@many_options
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@report_errors
def command(
    target: str,
    claim: str,
    tries: int | None,
    most: int,
    out: Path | None,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Look for the fewest presses and frames with which a scenario still breaks a claim.

    Exit status 1 where one is found, since a claim is not kept; 0 where no run of the search breaks one.
    """
    scenario = only_scenario(target)
    with executor_at(cluster) as executor:
        who: dict[str, Any] = {"workers": worker_count(workers), "executor": executor}
        if tries is not None:
            with progress(f"{scenario.title}: looking for a breach") as on_progress:
                searched = find_breach(scenario, tries, claim, on_progress=on_progress, **who)
            if searched.broken is None:
                found_none = {"claim": None, "tries": searched.tries, "untested": list(searched.untested)}
                if as_json:
                    print_json(found_none)
                else:
                    echo(f"{scenario.title}: {searched}")
                return
            scenario = searched.broken
        with progress(f"{scenario.title}: smaller runs") as on_progress:
            found = shrink(scenario, claim, most, on_progress=on_progress, **who)
    if out is not None:
        if out.suffix == ".csv":
            found.scenario.inputs.to_csv(out)
        else:
            found.trace.save(out)
    if as_json:
        print_json(found.plain())
    else:
        _print(found)
        if out is not None:
            echo(f"→ {out}")
    exit_with(NOT_KEPT)


def _print(found: Shrunk) -> None:
    causes = lines_by_claim(causes_of_breaches(found.trace, found.scenario, Tally([found.result])))
    headline = Report.of_lines(found.headline.splitlines())
    show_report(headline + found.result.report(causes.get(found.result.name, ())))
