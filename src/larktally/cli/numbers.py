"""larktally numbers FILE …: the named measures and windows of all scenarios, one a line, and what they were before."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.farm import chosen_scenarios
from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import SUBJECT_FAILED, echo, exit_with, print_json, report_errors, show
from larktally.cli.progress import progress
from larktally.search.named_numbers import numbers
from larktally.views.number_tables import check_suffix, load_numbers, save_numbers
from larktally.whole_files import check_target

KEPT = "numbers.csv"


@click.command()
@click.argument("targets", metavar="FILE[:NAME]|FOLDER …", nargs=-1, required=True)
@click.option(
    "--claims",
    "rules",
    type=click.Path(path_type=Path),
    metavar="RULES.toml",
    help="The [[measure]] tables of this file too, windows (with shift) among them.",
)
@click.option("--match", default="", metavar="PATTERN", help="Only the scenarios whose name matches, such as 'rope*'.")
@click.option(
    "--before",
    is_flag=False,
    flag_value=KEPT,
    default=None,
    metavar="[NUMBERS.csv]",
    help="Say what they were, by a file that --out wrote; without a name numbers.csv.",
)
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write them to a .csv, .md or .html file; what a CSV held is what they were before.",
)
@many_options
@click.option("--json", "as_json", is_flag=True, help="Print the numbers as JSON.")
@report_errors
def command(
    targets: tuple[str, ...],
    rules: Path | None,
    match: str,
    before: str | None,
    out: Path | None,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Read the named measures and windows of all scenarios of files and folders, one a line, in a designer's words.

    Exit status 3 where a subject failed. What is wanted of a number is shown, and is no claim.
    """
    if out is not None:
        check_suffix(out)
        check_target(out)
    known = None
    if before is not None:
        known = load_numbers(Path(before))
    elif out is not None and out.suffix == ".csv" and out.exists():
        known = load_numbers(out)
    scenarios = chosen_scenarios(targets, match, "")
    with executor_at(cluster) as executor, progress("numbers") as on_progress:
        found = numbers(
            scenarios,
            rules,
            before=known,
            workers=worker_count(workers),
            executor=executor,
            on_progress=on_progress,
        )
    if out is not None:
        save_numbers(found, out)
    if as_json:
        print_json(found.plain())
    else:
        show(found, False)
        if out is not None:
            echo(f"written: {out}")
    if found.failed:
        exit_with(SUBJECT_FAILED)
