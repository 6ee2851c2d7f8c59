"""larktally vary FILE.py[:NAME]: a scenario run with many values, its claims and measures as one table."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

import click

from larktally.cli.outcome import NOT_KEPT, leave, print_json, teaching
from larktally.cli.progress import progress
from larktally.errors import LarkError
from larktally.runs import vary
from larktally.runs.model_files import only_scenario

if TYPE_CHECKING:
    from larktally.runs import Varied

MOST_VALUES = 100_000


@click.command()
@click.argument("target", metavar="FILE.py[:NAME]")
@click.option(
    "--param",
    "params",
    multiple=True,
    metavar="NAME=VALUES",
    help="speed=300..460/20 (from, to, step) or rest=0.5s,0.8s.",
)
@click.option("--rate", "rates", metavar="R,…", default="", help="Frames per second to try: 30,60,120.")
@click.option("--seed", "seeds", metavar="VALUES", default="", help="Seeds to try: 0..9.")
@click.option("--measure", "measures", multiple=True, metavar="TEXT", help="A measure to read: \"apex('wick.y')\".")
@click.option("--json", "as_json", is_flag=True, help="Print the runs as JSON.")
@teaching
def command(
    target: str, params: tuple[str, ...], rates: str, seeds: str, measures: tuple[str, ...], as_json: bool
) -> None:
    """Run a scenario once for each combination of values, check its claims and read measures in each, and say where a
    claim turns.

    Exit status 1 where a claim is not kept in some run.
    """
    scenario = only_scenario(target)
    tried = dict(_param(said) for said in params)
    with progress(scenario.title) as watch:
        found = vary(
            scenario,
            tried,
            rates=[rate.strip() for rate in rates.split(",") if rate.strip()],
            seeds=_values("--seed", seeds) if seeds else (),
            measures=measures,
            watch=watch,
        )
    if as_json:
        print_json(found.plain())
    else:
        _print(found)
    if not found.passed:
        leave(NOT_KEPT)


def _print(found: Varied) -> None:
    from rich.text import Text

    from larktally.views.tables import console, plain_table

    out = console()
    heading, *lines = found.table()
    table = plain_table(*heading)
    for column in table.columns[:-1]:
        column.justify = "right"
    for line, run in zip(lines, found, strict=True):
        table.add_row(*map(Text, line[:-1]), Text(line[-1], style="green" if run.kept else "bold red"))
    out.print(table)
    out.print()
    out.print("\n".join(found.summary()), highlight=False, markup=False)


def _param(said: str) -> tuple[str, list[Any]]:
    name, equals, values = said.partition("=")
    if not name or not equals or not values:
        raise LarkError(f"--param takes NAME=VALUES, such as speed=300..460/20 or rest=0.5s,0.8s, not {said!r}")
    return name.strip(), _values(f"--param {name}", values)


def _values(what: str, said: str) -> list[Any]:
    """Values joined by commas, each a number, true, false or a text; A..B/STEP is a row of numbers, both ends included."""
    return [value for part in said.split(",") for value in _part(what, part.strip())]


def _part(what: str, said: str) -> list[Any]:
    first, dots, rest = said.partition("..")
    if not dots:
        return [_value(said)]
    last, _, step = rest.partition("/")
    try:
        low, high, by = Decimal(first), Decimal(last), Decimal(step or "1")
    except InvalidOperation:
        raise LarkError(f"{what}: a row of numbers is A..B or A..B/STEP, not {said!r}") from None
    if not all(number.is_finite() for number in (low, high, by)) or by <= 0 or high < low:
        raise LarkError(f"{what}: {said!r} goes up from A to B by a step above 0")
    if (high - low) / by > MOST_VALUES:
        raise LarkError(f"{what}: {said!r} are more than {MOST_VALUES} values")
    return [_value(str(low + by * n)) for n in range(int((high - low) / by) + 1)]


def _value(said: str) -> Any:
    if said in ("true", "false"):
        return said == "true"
    for kind in (int, float):
        try:
            return kind(said)
        except ValueError:
            pass
    return said
