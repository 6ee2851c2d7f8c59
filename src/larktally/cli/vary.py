"""larktally vary FILE.py[:NAME]: a scenario run with many values, its claims and measures as one table."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from typing import Any

import click

from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, exit_with, report_errors, show
from larktally.cli.progress import progress
from larktally.cli.selection import value_of
from larktally.errors import LarkTallyError
from larktally.inputs.shift import Shift
from larktally.runs.model_files import only_scenario
from larktally.search.vary import Varied, vary

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
@click.option(
    "--shift",
    default="",
    metavar="PRESS",
    help="A press placed before and after what falls without it: \"hop @ event('landed') = -12..12\", or event('landed') #2.",
)
@click.option("--longer", default="", metavar="VALUES", help="For how many frames a press of one frame is held: 1..10.")
@click.option(
    "--jitter",
    type=click.IntRange(0, 600),
    default=0,
    metavar="N",
    help="Move and lengthen each press by up to N frames.",
)
@many_options
@click.option("--json", "as_json", is_flag=True, help="Print the runs as JSON.")
@report_errors
def command(
    target: str,
    params: tuple[str, ...],
    rates: str,
    seeds: str,
    measures: tuple[str, ...],
    shift: str,
    longer: str,
    jitter: int,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Run a scenario once for each combination of values, check its claims and read measures in each, and say where a
    claim turns.

    Exit status 1 where a claim is not kept in some run.
    """
    scenario = only_scenario(target)
    tried = dict(_param(text) for text in params)
    try:
        with executor_at(cluster) as executor, progress(scenario.title) as on_progress:
            found = vary(
                scenario,
                tried,
                rates=[rate.strip() for rate in rates.split(",") if rate.strip()],
                seeds=_values("--seed", seeds) if seeds else (),
                measures=measures,
                shift=Shift.from_text(shift) if shift else None,
                held=_values("--longer", longer) if longer else (),
                jitter=jitter,
                workers=worker_count(workers),
                executor=executor,
                on_progress=on_progress,
            )
    except KeyboardInterrupt as interrupt:
        done: Varied = getattr(interrupt, "varied", Varied([]))
        # What was done until then is worth its reading.
        if done:
            show(done, as_json)
        raise
    show(found, as_json)
    if not found.passed:
        exit_with(NOT_KEPT)


def _param(text: str) -> tuple[str, list[Any]]:
    name, equals, values = text.partition("=")
    if not name or not equals or not values:
        raise LarkTallyError(f"--param takes NAME=VALUES, such as speed=300..460/20 or rest=0.5s,0.8s, not {text!r}")
    return name.strip(), _values(f"--param {name}", values)


def _values(what: str, text: str) -> list[Any]:
    """Values joined by commas, each a number, true, false or a text; A..B/STEP is a row of numbers, both ends included."""
    found: list[Any] = []
    for part in text.split(","):
        for value in _part(what, part.strip()):
            found.append(value)
    return found


def _part(what: str, text: str) -> list[Any]:
    first, dots, rest = text.partition("..")
    if not dots:
        return [value_of(text)]
    last, _, step = rest.partition("/")
    try:
        # Decimals: 0.1 added ten times as floats is not 1, and the last value would be missing.
        low, high, by = Decimal(first), Decimal(last), Decimal(step or "1")
    except InvalidOperation:
        raise LarkTallyError(f"{what}: a row of numbers is A..B or A..B/STEP, not {text!r}") from None
    if not all(number.is_finite() for number in (low, high, by)) or by <= 0 or high < low:
        raise LarkTallyError(f"{what}: {text!r} goes up from A to B by a step above 0")
    # A step with a zero too many is a slip that would run until tomorrow.
    if (high - low) / by > MOST_VALUES:
        raise LarkTallyError(f"{what}: {text!r} are more than {MOST_VALUES} values")
    found: list[Any] = []
    for n in range(int((high - low) / by) + 1):
        found.append(value_of(str(low + by * n)))
    return found
