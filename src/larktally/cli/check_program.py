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
@click.option(
    "--inputs",
    "script",
    type=click.Path(path_type=Path),
    metavar="FILE.csv",
    help="A script of your own that is played too: action, start, frames, value.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
@report_errors
def command(
    words: tuple[str, ...],
    folder: Path | None,
    over: str,
    rate: str | None,
    within: str,
    script: Path | None,
    as_json: bool,
) -> None:
    """Check a program: use each of its actions alone and all together, in short and long messages, again after all that may
    have left something behind, from saved states, in other processes, at other rates and with other params; send what a
    careless caller would; and say line by line what holds and what was never exercised. Exit status 1 where a must
    fails or is untested. Options of this command come before COMMAND.
    """
    from larktally.subjects.programs.check import check_program

    inputs = None
    if script is not None:
        from larktally.inputs.script import InputScript

        inputs = InputScript.from_csv(script)
    found = check_program(words, folder=folder, over=over, rate=rate, within=within, inputs=inputs)
    show(found, as_json)
    if not found.passed:
        exit_with(NOT_KEPT)
