"""Frames in a terminal: a row a frame, changes standing out, inputs and events beside them."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from larktally.textfmt import printable, shown_value
from larktally.timing import seconds_at
from larktally.traces.events import TraceEvent
from larktally.traces.trace import Trace
from larktally.views.terminal import plain_table

__all__ = ["print_frames", "print_events"]

_EVENTS_WIDTH = 34
EVENTS_AT_ONCE = 1000


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
    """A line for each event of the rows, EVENTS_AT_ONCE laid out together: of a day of events the first are seen at once."""
    wanted = rows if isinstance(rows, range) and rows.step == 1 else frozenset(rows)
    lines = (line for line in map(_event_line, trace.events) if line[0] in wanted)
    widths: list[int] = []
    for piece in iter(lambda: list(itertools.islice(lines, EVENTS_AT_ONCE)), []):
        table = []
        for row, name, source, data in piece:
            time = []
            if trace.rate:
                time = [f"{seconds_at(row, trace.rate):.3f}"]
            table.append([str(row), *time, name, source, data])
        if not widths:
            head = ["row", *(["s"] if trace.rate else []), "event", "source", "data"]
            widths = [max(map(len, cells)) for cells in zip(head, *table, strict=True)]
            out.print(Text(_aligned(head, widths), style="dim"), no_wrap=True, overflow="ignore", crop=False)
        # What comes later may be wider, and nothing narrower: columns that jump are hard to read.
        widths = [max(width, *map(len, cells)) for width, *cells in zip(widths, *table, strict=True)]
        text = Text("\n").join(_event_text(cells, widths) for cells in table)
        out.print(text, no_wrap=True, overflow="ignore", crop=False)
    if not widths:
        out.print(Text("no events in these rows"))


def _event_line(event: TraceEvent) -> tuple[int, str, str, str]:
    details = " ".join(f"{printable(key)}={_plain(value)}" for key, value in event.data.items())
    return event.row, printable(event.name), printable(event.source), details


def _event_text(cells: Sequence[str], widths: Sequence[int]) -> Text:
    line = Text(_aligned(cells, widths))
    # The name is the last but two; what stands before it, and the space between.
    start = sum(widths[:-3]) + 2 * len(widths[:-3])
    line.stylize("magenta", start, start + len(cells[-3]))
    return line


def _aligned(cells: Sequence[str], widths: Sequence[int]) -> str:
    first, *rest = (cell.ljust(width) for cell, width in zip(cells, widths, strict=True))
    return "  ".join([first.strip().rjust(widths[0]), *rest]).rstrip()


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
