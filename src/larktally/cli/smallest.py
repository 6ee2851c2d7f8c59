"""larktally smallest FILE.py[:NAME]: the fewest presses and frames with which a claim is still broken."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.claims import Tally
from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching
from larktally.cli.progress import progress
from larktally.runs import Smallest, find_breach, smallest
from larktally.runs.explaining.causes import causes_of_breaches, lines_by_claim
from larktally.runs.model_files import only_scenario


@click.command()
@click.argument("target", metavar="FILE.py[:NAME]")
@click.option("--claim", default="", metavar="NAME", help="The claim to break. [default: the first that is broken]")
@click.option(
    "--random", "tries", type=click.IntRange(1), metavar="N", help="First look for a breach in N random scripts."
)
@click.option("--most", default=500, show_default=True, type=click.IntRange(1), metavar="N", help="Runs to try.")
@click.option(
    "--out", type=click.Path(path_type=Path), metavar="FILE", help="Write its trace, or, as .csv, its script."
)
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@teaching
def command(target: str, claim: str, tries: int | None, most: int, out: Path | None, as_json: bool) -> None:
    """Look for the fewest presses and frames with which a scenario still breaks a claim.

    Exit status 1 where one is found, since a claim is not kept; 0 where no random script breaks one.
    """
    scenario = only_scenario(target)
    if tries is not None:
        with progress(f"{scenario.title}: random scripts") as watch:
            searched = find_breach(scenario, tries, claim, watch=watch)
        if searched.broken is None:
            found_none = {"claim": None, "tries": searched.tries, "untested": list(searched.untested)}
            print_json(found_none) if as_json else click.echo(f"{scenario.title}: {searched}")
            return
        scenario = searched.broken
    with progress(f"{scenario.title}: smaller runs") as watch:
        found = smallest(scenario, claim, most, watch=watch)
    if out is not None:
        found.scenario.inputs.to_csv(out) if out.suffix == ".csv" else found.trace.save(out)
    if as_json:
        print_json(found.plain())
    else:
        _print(found)
        if out is not None:
            click.echo(f"→ {out}")
    leave(NOT_KEPT)


def _print(found: Smallest) -> None:
    from larktally.views.tables import console, print_story

    out = console()
    out.print(found.headline, highlight=False, markup=False, soft_wrap=True)
    out.print()
    causes = lines_by_claim(causes_of_breaches(found.trace, found.scenario, Tally([found.result])))
    print_story(out, found.result, causes.get(found.result.name, ()))
