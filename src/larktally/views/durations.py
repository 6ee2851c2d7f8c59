"""Durations for the terminal: a line for each time and rate, a column for each way to sum it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.text import Text

from larktally.summed import DurationRow
from larktally.views.tables import plain_table

__all__ = ["print_durations"]


def print_durations(out: Console, rows: Sequence[DurationRow], sums: Mapping[str, int]) -> None:
    """The table; frames in which a sum ends too late or too early stand out, with by how much."""
    styles = list(rows[0].styles)
    table = plain_table("time", "rate", "exact\nframes", "ends in\nframe", *(_stacked(style) for style in styles))
    for column in table.columns[1:]:
        column.justify = "right"
    before = ""
    for row in rows:
        time = "" if row.duration == before else row.duration
        before = row.duration
        exact = str(row.exact_frames) if row.exact_frames is not None else f"{float(row.exact):.4g}"
        cells = [_frame(row, style) for style in styles]
        table.add_row(Text(time, style="bold"), Text(row.rate), Text(exact), Text(str(row.over_in)), *cells)
    out.print(table)
    apart = sum(bool(row.apart) for row in rows)
    out.print()
    out.print(
        Text(
            f"{apart} of {len(rows)} lines part from the exact frame in some style; +1 is one frame late, -1 one early."
        )
    )
    if sums:
        joined = ", ".join(f"{frames} at {rate}" for rate, frames in sums.items())
        out.print(Text(f"One after the other, each rounded up, they end in frame {joined}."))


def _stacked(style: str) -> str:
    width, way, sign = style.split(" ", 2)
    return f"{width}\n{way}\n{sign}"


def _frame(row: DurationRow, style: str) -> Text:
    off = row.apart.get(style)
    return (
        Text(f"{row.styles[style]} ({off:+d})", style="bold magenta")
        if off
        else Text(f"{row.styles[style]}", style="dim")
    )
