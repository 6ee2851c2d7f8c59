"""larktally show TRACE: frames as a table."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from larktally.cli.outcome import print_json, report_errors
from larktally.cli.selection import chosen_channels, chosen_rows
from larktally.cli.trace_options import reading_options
from larktally.textfmt import printable
from larktally.traces.trace import Trace, load_trace

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
@click.option(
    "--level", "at_level", is_flag=True, help="Draw the level and the bodies in characters, at the first row chosen."
)
@click.option("--json", "as_json", is_flag=True, help="Print the rows as JSON.")
@report_errors
def command(
    trace_file: Path,
    frames: str | None,
    rate: str | None,
    mapping: Path | None,
    only: tuple[str, ...],
    events_only: bool,
    at_level: bool,
    as_json: bool,
) -> None:
    """Show a trace's frames: a strip of states and events, and a table of channels, inputs held and events; what changed
    stands out.
    """
    trace = load_trace(trace_file, rate=rate, mapping=mapping)
    rows = chosen_rows(frames, trace, range(min(FIRST_ROWS, trace.rows)))
    names = chosen_channels(only, trace)
    if as_json:
        print_json([_plain(trace, row, names) for row in rows])
        return
    from larktally.views.frames import print_events, print_frames
    from larktally.views.strips import print_level, print_strips
    from larktally.views.terminal import console

    out = console()
    out.print(printable(_title(trace)), highlight=False, markup=False, soft_wrap=True)
    if trace.header.order:
        out.print(
            printable(_order(trace)),
            highlight=False,
            markup=False,
            style="dim",
            no_wrap=True,
            overflow="ellipsis",
            crop=True,
        )
    if at_level:
        print_level(out, trace, rows[0])
        return
    # Without rows chosen the strip is of the whole run: it says which rows are worth asking for.
    print_strips(out, trace, rows if frames else range(trace.rows))
    out.print()
    if events_only:
        print_events(out, trace, rows if frames else range(trace.rows))
    else:
        print_frames(out, trace, rows, names)
        if frames is None and trace.rows > FIRST_ROWS:
            out.print(
                f"… and {trace.rows - FIRST_ROWS} more rows; --frames A..B shows others", highlight=False, markup=False
            )


def _order(trace: Trace) -> str:
    """The phases of a sim's frame in their order, each with what runs in it."""
    phases = []
    for phase in trace.header.order:
        runs = ", ".join(phase.parts)
        phases.append(f"{phase.phase} ({runs})" if runs else phase.phase)
    return f"order  {' → '.join(phases)}"


def _title(trace: Trace) -> str:
    header = trace.header
    if trace.rate:
        rate = f" at {trace.rate} frames/s"
    else:
        rate = ""
    if header.end:
        ended = f"; ended: {header.end}"
    else:
        ended = ""
    if header.stopped:
        stopped = f"; STOPPED: {header.stopped}"
    else:
        stopped = ""
    size = f"rows 0..{trace.rows - 1}{rate}, {len(trace.channels)} channels, {len(trace.events)} events"
    return f"{header.scenario or header.subject or 'trace'}: {size}{ended}{stopped}"


def _plain(trace: Trace, row: int, names: list[str]) -> dict[str, Any]:
    return {
        "frame": row,
        "channels": {name: trace.columns[name].at(row) for name in names},
        "inputs": {name: float(values[row]) for name, values in trace.inputs.items() if values[row]},
        "events": [{"name": e.name, "source": e.source, "data": e.data} for e in trace.events.between(row, row)],
    }
