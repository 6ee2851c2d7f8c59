"""larktally check-program COMMAND …: whether a program in another language is a good subject."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import NOT_KEPT, exit_with, report_errors, show


@click.command(context_settings={"ignore_unknown_options": True})
@click.argument("words", metavar="COMMAND …", nargs=-1, required=True, type=click.UNPROCESSED)
@click.option("--folder", type=click.Path(path_type=Path), help="Where to start it.")
@click.option("--over", default="stdio", show_default=True, help="How it is spoken to: stdio, tcp:PORT or listen.")
@click.option("--rate", help="Frames per second to run it at. [default: the first that it accepts]")
@click.option("--within", default="5s", show_default=True, help="How long each message may take.")
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
@report_errors
def command(
    words: tuple[str, ...], folder: Path | None, over: str, rate: str | None, within: str, as_json: bool
) -> None:
    """Vet a program: speak every method to it, send what a careless caller would, run the same inputs twice and after a
    load, and report line by line what holds. Options of this command come before COMMAND.
    """
    from larktally.subjects.programs.check import check_program

    found = check_program(words, folder=folder, over=over, rate=rate, within=within)
    show(found, as_json)
    if not found.passed:
        exit_with(NOT_KEPT)
