"""Frames in a terminal: a row a frame, changes standing out, inputs and events beside them."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from larktally.textfmt import printable, shown_value
from larktally.timing import seconds_at
from larktally.traces.trace import Trace
from larktally.views.terminal import plain_table

__all__ = ["print_frames", "print_events"]

_EVENTS_WIDTH = 34


def print_frames(out: Console, trace: Trace, rows: Sequence[int], names: Sequence[str]) -> None:
    """A table of rows; channels that do not fit the width are named under it."""
    cells = {}
    for name in names:
        cells[name] = [_cell(trace, name, row) for row in rows]
    # Whole columns or none: a number that is cut off is a wrong number.
    shown, left_out = _fitting(out.width, names, cells)
    table = plain_table("row", *(["s"] if trace.rate else []), *shown, "inputs", "events")
    for column in table.columns[: len(shown) + 1 + bool(trace.rate)]:
        column.justify = "right"
        column.no_wrap = True
    for n, row in enumerate(rows):
        time = []
        if trace.rate:
            time = [Text(f"{seconds_at(row, trace.rate):.3f}", style="dim")]
        values = []
        for name in shown:
            values.append(_styled(trace, name, row, cells[name][n]))
        table.add_row(
            Text(str(row), style="dim"),
            *time,
            *values,
            Text(_held(trace, row)),
            Text(_emitted(trace, row), style="magenta"),
        )
    out.print(table)
    if left_out:
        out.print(Text(f"not shown for want of width: {', '.join(left_out)} (choose with --only)", style="dim"))


def print_events(out: Console, trace: Trace, rows: Sequence[int]) -> None:
    """A line for each event of the rows."""
    wanted = set(rows)
    table = plain_table("row", *(["s"] if trace.rate else []), "event", "source", "data")
    table.columns[0].justify = "right"
    count = 0
    for event in trace.events:
        if event.row in wanted:
            time = []
            if trace.rate:
                time = [f"{seconds_at(event.row, trace.rate):.3f}"]
            details = " ".join(f"{printable(key)}={_plain(value)}" for key, value in event.data.items())
            table.add_row(str(event.row), *time, Text(event.name, style="magenta"), Text(event.source), Text(details))
            count += 1
    out.print(table if count else Text("no events in these rows"))


def _cell(trace: Trace, name: str, row: int) -> str:
    value = trace.columns[name].at(row)
    if isinstance(value, str):
        # A line break would make two lines of the row.
        return printable(value).replace("\n", "\\n")
    return shown_value(value)


def _styled(trace: Trace, name: str, row: int, text: str) -> Text:
    changed = row > 0 and trace.columns[name].at(row) != trace.columns[name].at(row - 1)
    return Text(text, style="bold" if changed else "dim")


def _held(trace: Trace, row: int) -> str:
    held = []
    for name, values in trace.inputs.items():
        value = float(values[row])
        if value:
            held.append(name if value == 1 else f"{name}={value:g}")
    return " ".join(held)


def _emitted(trace: Trace, row: int) -> str:
    return ", ".join(
        f"{event.name}({event.source})" if event.source else event.name for event in trace.events.between(row, row)
    )


def _plain(value: object) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{printable(key)}: {_plain(inner)}" for key, inner in value.items()) + "}"
    return shown_value(value)


def _fitting(width: int, names: Sequence[str], cells: dict[str, list[str]]) -> tuple[list[str], list[str]]:
    """The channels that fit beside row, time, inputs and events."""
    room = width - 16 - _EVENTS_WIDTH
    shown: list[str] = []
    for n, name in enumerate(names):
        needed = max([len(name), *map(len, cells[name])]) + 2
        if needed > room and shown:
            return shown, list(names[n:])
        shown.append(name)
        room -= needed
    return shown, []
