"""larktally durations TIME …: in which frame each time ends, exact and summed, at several rates."""

from __future__ import annotations

import click

from larktally.cli.outcome import report_errors, show
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
@report_errors
def command(times: tuple[str, ...], rates: str, as_json: bool) -> None:
    """In which frame each TIME (0.1s, 350ms, 9f) ends at each rate: counted exactly, and as float steps summed.

    A sum counts down to 0 or up to the time t, and ends with <= 0, < 0, >= t or > t, in 64 or 32 bits.
    """
    from larktally.summed import durations
    from larktally.summed_report import DurationsReport

    wanted = []
    for rate in rates.split(","):
        wanted.append(as_rate(rate))
    show(DurationsReport(durations(times, wanted), _sums(times, wanted)), as_json)


def _sums(times: tuple[str, ...], rates: list[Rate]) -> dict[str, int]:
    """Several times one after the other, each rounded up: in which frame the last ends, at each rate."""
    if len(times) < 2:
        return {}
    found: dict[str, int] = {}
    for rate in rates:
        found[str(rate)] = sum(frames_in(_up(time), rate) for time in times)
    return found


def _up(time: str) -> str:
    if time.rstrip().endswith(("up", "down", "nearest", "f")) or time.strip().isdigit():
        return time
    return f"{time} up"
