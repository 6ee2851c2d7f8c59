"""larktally show TRACE: frames as a table."""

from __future__ import annotations

import fnmatch
import re
from pathlib import Path
from typing import Any

import click

from larktally.cli.outcome import print_json, teaching
from larktally.cli.reading import reading_options
from larktally.errors import LarkError, did_you_mean
from larktally.traces import Trace, load_trace

FIRST_ROWS = 20


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.option(
    "--frames",
    "frames",
    metavar="A..B",
    help="Rows to show: 40, 25..60, or several joined by commas. [default: the first 20]",
)
@reading_options
@click.option("--only", multiple=True, metavar="PATTERN", help="Only channels that match, such as 'wick.*'.")
@click.option("--events", "events_only", is_flag=True, help="Only the events, a line each.")
@click.option("--json", "as_json", is_flag=True, help="Print the rows as JSON.")
@teaching
def command(
    trace_file: Path,
    frames: str | None,
    rate: str | None,
    mapping: Path | None,
    only: tuple[str, ...],
    events_only: bool,
    as_json: bool,
) -> None:
    """Show a trace's frames as a table: channels, inputs held, events; what changed stands out."""
    trace = load_trace(trace_file, rate=rate, mapping=mapping)
    rows = _rows(frames, trace)
    names = _chosen(only, trace)
    if as_json:
        print_json([_plain(trace, row, names) for row in rows])
        return
    from larktally.views.frames import print_events, print_frames
    from larktally.views.tables import console

    out = console()
    out.print(_title(trace), highlight=False, markup=False, soft_wrap=True)
    if events_only:
        print_events(out, trace, rows if frames else list(range(trace.rows)))
    else:
        print_frames(out, trace, rows, names)
        if frames is None and trace.rows > FIRST_ROWS:
            out.print(
                f"… and {trace.rows - FIRST_ROWS} more rows; --frames A..B shows others", highlight=False, markup=False
            )


def _title(trace: Trace) -> str:
    header = trace.header
    rate = f" at {trace.rate} frames/s" if trace.rate else ""
    ended = f"; ended: {header.end}" if header.end else ""
    stopped = f"; STOPPED: {header.stopped}" if header.stopped else ""
    size = f"rows 0..{trace.rows - 1}{rate}, {len(trace.channels)} channels, {len(trace.events)} events"
    return f"{header.scenario or header.subject or 'trace'}: {size}{ended}{stopped}"


def _rows(frames: str | None, trace: Trace) -> list[int]:
    if frames is None:
        return list(range(min(FIRST_ROWS, trace.rows)))
    rows: list[int] = []
    for part in frames.split(","):
        found = re.fullmatch(r"\s*(\d{1,12})\s*(?:\.\.\s*(\d{1,12})\s*)?", part)
        if not found:
            raise LarkError(f"--frames takes a row, 40, or a span, 25..60, or several joined by commas, not {part!r}")
        first, last = int(found[1]), int(found[2] or found[1])
        if first > last or first >= trace.rows:
            raise LarkError(f"--frames {part}: this trace has rows 0..{trace.rows - 1}")
        rows += range(first, min(last, trace.rows - 1) + 1)
    return rows


def _chosen(only: tuple[str, ...], trace: Trace) -> list[str]:
    if not only:
        return trace.channels
    for pattern in only:
        if not fnmatch.filter(trace.channels, pattern):
            raise LarkError(f"--only {pattern!r} matches no channel{did_you_mean(pattern, trace.channels)}")
    return [name for name in trace.channels if any(fnmatch.fnmatchcase(name, pattern) for pattern in only)]


def _plain(trace: Trace, row: int, names: list[str]) -> dict[str, Any]:
    return {
        "frame": row,
        "channels": {name: trace.columns[name].at(row) for name in names},
        "inputs": {name: float(values[row]) for name, values in trace.inputs.items() if values[row]},
        "events": [{"name": e.name, "source": e.source, "data": e.data} for e in trace.events.between(row, row)],
    }
