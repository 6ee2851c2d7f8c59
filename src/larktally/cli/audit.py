"""larktally audit FILE.py[:NAME]: whether runs repeat themselves, and whether a saved state is all of the state."""

from __future__ import annotations

from typing import Any

import click

from larktally.auditing.rewind import audit
from larktally.cli.outcome import NOT_KEPT, echo, exit_with, print_json, report_errors
from larktally.runs.model_files import load_scenarios, split_target


@click.command()
@click.argument("target", metavar="FILE.py[:NAME]")
@click.option("--every", type=click.IntRange(1), metavar="N", help="Restore in every Nth row. [default: ten rows]")
@click.option(
    "--frames",
    type=click.IntRange(1),
    default=30,
    show_default=True,
    metavar="N",
    help="Frames run after each restore.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the audit as JSON.")
@report_errors
def command(target: str, every: int | None, frames: int, as_json: bool) -> None:
    """Audit scenarios: the same run again here and in fresh processes, and from a saved state put back.

    What comes out otherwise is named with its row, its values, and what load did not put back.
    """
    results: list[dict[str, Any]] = []
    passed = True
    for scenario in load_scenarios(target):
        found = audit(scenario, every, frames=frames, file=split_target(target)[0])
        passed = passed and found.passed
        results.append({"scenario": scenario.title, **found.plain()})
        if not as_json:
            echo(f"{scenario.title}")
            echo("\n".join(f"  {line}" for line in str(found).splitlines()))
    if as_json:
        print_json(results)
    if not passed:
        exit_with(NOT_KEPT)
