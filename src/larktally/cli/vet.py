"""larktally vet COMMAND …: whether a program in another language is a good subject."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching


@click.command(context_settings={"ignore_unknown_options": True})
@click.argument("words", metavar="COMMAND …", nargs=-1, required=True, type=click.UNPROCESSED)
@click.option("--folder", type=click.Path(path_type=Path), help="Where to start it.")
@click.option("--over", default="stdio", show_default=True, help="How it is spoken to: stdio, tcp:PORT or listen.")
@click.option("--rate", help="Frames per second to run it at. [default: the first that it accepts]")
@click.option("--within", default="5s", show_default=True, help="How long each message may take.")
@click.option("--json", "as_json", is_flag=True, help="Print the findings as JSON.")
@teaching
def command(
    words: tuple[str, ...], folder: Path | None, over: str, rate: str | None, within: str, as_json: bool
) -> None:
    """Vet a program: speak every method to it, send what a careless caller would, run the same inputs twice and after a
    load, and report line by line what holds. Options of this command come before COMMAND.
    """
    from larktally.programs import vet

    found = vet(words, folder=folder, over=over, rate=rate, within=within)
    if as_json:
        plain: list[dict[str, Any]] = [
            {"what": f.what, "holds": f.holds, "found": f.found, "section": f.section} for f in found.findings
        ]
        print_json({"name": found.name, "passed": found.passed, "findings": plain})
    else:
        from larktally.views.tables import console, print_vetting

        print_vetting(console(), found)
    if not found.passed:
        leave(NOT_KEPT)
