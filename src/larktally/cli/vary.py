"""larktally vary FILE[:NAME]: a scenario run with many values, its claims and measures as one table."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

import click

from larktally.cli.hands import executor_at, many_options, worker_count
from larktally.cli.outcome import NOT_KEPT, echo, exit_with, report_errors, show
from larktally.cli.progress import progress
from larktally.cli.selection import value_of
from larktally.errors import LarkTallyError
from larktally.inputs.shift import Shift
from larktally.runs.model_files import only_scenario
from larktally.runs.scenario import Scenario
from larktally.search.tune import tune
from larktally.search.tuned import Tuned
from larktally.search.vary import Varied, vary
from larktally.whole_files import check_target

MOST_VALUES = 100_000


@click.command()
@click.argument("target", metavar="FILE[:NAME]")
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
@click.option(
    "--wanted", default="", metavar="N|A..B", help="Which values of the one --param give this, by the one --measure."
)
@click.option("--step", default="", metavar="N", help="With --wanted: how far apart values are looked at first.")
@click.option(
    "--plot", "picture", type=click.Path(path_type=Path), metavar="FILE", help="Draw the measures over the one param."
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
    wanted: str,
    step: str,
    picture: Path | None,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """Run a scenario once for each combination of values, check its claims and read measures in each, and say where a
    claim turns.

    Exit status 1 where a claim is not kept in some run, or with --wanted no value gives it.
    """
    scenario = only_scenario(target)
    if picture is not None:
        check_target(picture)
    if wanted or step:
        if rates or seeds or shift or longer or jitter:
            raise LarkTallyError("--wanted goes with one --param and one --measure, and nothing else is varied")
        _tune(scenario, params, measures, wanted, step, picture, workers, cluster, as_json)
        return
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
    _draw(found, picture, as_json)
    if not found.passed:
        exit_with(NOT_KEPT)


def _tune(
    scenario: Scenario,
    params: tuple[str, ...],
    measures: tuple[str, ...],
    wanted: str,
    step: str,
    picture: Path | None,
    workers: str,
    cluster: str,
    as_json: bool,
) -> None:
    """The values of a param that give what is wanted of a measure."""
    if not wanted or len(params) != 1 or len(measures) != 1:
        raise LarkTallyError(
            "--wanted goes with one --param and one --measure: --param speed=300..460 --measure \"apex('wick.y')\" --wanted 80"
        )
    name, equals, span = params[0].partition("=")
    bounds, slash, own_step = span.partition("/")
    if not equals or ".." not in bounds:
        raise LarkTallyError(
            f"--wanted looks between two numbers: --param {name or 'speed'}=300..460, not {params[0]!r}"
        )
    apart = None
    if step or slash:
        (apart,) = _bounds("--step", step or own_step)[:1]
    sought = _bounds("--wanted", wanted)
    with executor_at(cluster) as executor, progress(scenario.title) as on_progress:
        found = tune(
            scenario,
            name.strip(),
            *_bounds(f"--param {name}", bounds),
            measure=measures[0],
            wanted=sought,
            step=apart,
            workers=worker_count(workers),
            executor=executor,
            on_progress=on_progress,
        )
    show(found, as_json)
    _draw(found, picture, as_json)
    if not found.found:
        exit_with(NOT_KEPT)


def _bounds(what: str, text: str) -> tuple[float, float]:
    """A..B as two numbers, N as the same number twice: whole where they are written so."""
    first, _, last = text.partition("..")
    found: list[float] = []
    for one in (first, last or first):
        number = value_of(one.strip())
        if isinstance(number, bool) or not isinstance(number, int | float):
            raise LarkTallyError(f"{what} takes a number, or A..B, not {text!r}")
        found.append(number)
    return found[0], found[1]


def _draw(found: Varied | Tuned, picture: Path | None, as_json: bool) -> None:
    """The measures over the param, where a picture is asked for."""
    if picture is None:
        return
    from larktally.views.measure_picture import draw_tuned, draw_varied
    from larktally.views.picture import save_picture

    if isinstance(found, Varied):
        save_picture(draw_varied(found), picture)
    else:
        save_picture(draw_tuned(found), picture)
    if not as_json:
        echo(f"drawn: {picture}")


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
