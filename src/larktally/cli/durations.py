"""larktally durations TIME …: in which frame each time ends, exact and summed, at several rates."""

from __future__ import annotations

from typing import Any

import click

from larktally.cli.outcome import print_json, teaching
from larktally.timing import Rate, as_rate, frames_in


@click.command()
@click.argument("times", metavar="TIME …", nargs=-1, required=True)
@click.option(
    "--rates",
    default="30,50,60,90,120,144,240,60000/1001",
    show_default=True,
    metavar="R,R,…",
    help="Frames per second, joined by commas.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the table as JSON.")
@teaching
def command(times: tuple[str, ...], rates: str, as_json: bool) -> None:
    """In which frame each TIME (0.1s, 350ms, 9f) ends at each rate: counted exactly, and as float steps summed.

    A sum counts down to 0 or up to the time t, and ends with <= 0, < 0, >= t or > t, in 64 or 32 bits.
    """
    from larktally.summed import durations

    wanted = [as_rate(rate) for rate in rates.split(",")]
    rows = durations(times, wanted)
    if as_json:
        print_json([_plain(row) for row in rows])
        return
    from larktally.views.durations import print_durations
    from larktally.views.tables import console

    print_durations(console(), rows, _sums(times, wanted))


def _plain(row: Any) -> dict[str, Any]:
    return {
        "duration": row.duration,
        "rate": row.rate,
        "exact": str(row.exact),
        "frames": row.exact_frames,
        "over_in": row.over_in,
        "summed": row.styles,
    }


def _sums(times: tuple[str, ...], rates: list[Rate]) -> dict[str, int]:
    """Several times one after the other, each rounded up: in which frame the last ends, at each rate."""
    if len(times) < 2:
        return {}
    return {str(rate): sum(frames_in(_up(time), rate) for time in times) for rate in rates}


def _up(time: str) -> str:
    return time if time.rstrip().endswith(("up", "down", "nearest", "f")) or time.strip().isdigit() else f"{time} up"
