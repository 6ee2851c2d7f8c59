"""larktally replay TRACE FILE[:NAME]: the recorded inputs run again."""

from __future__ import annotations

from pathlib import Path

import click

from larktally.cli.outcome import NOT_KEPT, echo, exit_with, report_errors, show
from larktally.cli.trace_options import tolerance_option, tolerances
from larktally.explain.replaying import Replay, replay
from larktally.runs.model_files import load_scenario_of
from larktally.search.reported import differing_build
from larktally.textfmt import printable
from larktally.traces.marks import marks_of
from larktally.traces.trace import Trace, load_trace

MOST_MARKS, AROUND, MOST_CHANNELS = 5, 3, 7


@click.command()
@click.argument("trace_file", metavar="TRACE", type=click.Path(path_type=Path))
@click.argument("target", metavar="FILE[:NAME]")
@tolerance_option
@click.option("--build", default="", metavar="WORD", help="What the build is called that it runs on now.")
@click.option("--json", "as_json", is_flag=True, help="Print the outcome as JSON.")
@report_errors
def command(trace_file: Path, target: str, allowed: tuple[str, ...], build: str, as_json: bool) -> None:
    """Run a trace's own inputs, seed and params again, and report the first divergence.

    The scenario is the one that the trace's header names, unless NAME names another. Of a report that was kept while playing
    it says first whether the build is another, and shows the rows that were marked.
    """
    trace = load_trace(trace_file)
    found = replay(trace, load_scenario_of(target, trace.header.scenario), tolerances(allowed))
    if not as_json:
        _show_report(trace, found, build)
    show(found, as_json)
    if not found.identical:
        exit_with(NOT_KEPT)


def _show_report(trace: Trace, found: Replay, build: str) -> None:
    """What a report says before all else: another build, and the rows around each mark, as they are now."""
    other = differing_build(trace, found.replayed, build)
    marks = marks_of(trace)
    # A trace that is no report is replayed to see what changed: that the file did is no news.
    if other and (marks or "build" in trace.header.made_with):
        echo(other)
    for mark in marks[:MOST_MARKS]:
        echo(f"marked in row {mark.row}: {printable(mark.note) or 'nothing was typed'}")
        first, last = max(mark.row - AROUND, 0), min(mark.row + AROUND, found.replayed.rows - 1)
        if first <= last:
            from larktally.views.frames import print_frames
            from larktally.views.terminal import console

            print_frames(console(), found.replayed, range(first, last + 1), _told(found.replayed))
    if len(marks) > MOST_MARKS:
        echo(f"and {len(marks) - MOST_MARKS} marks more")
    if marks:
        echo(f"what made a row so: larktally why TRACE FILE.py {marks[0].row}")


def _told(trace: Trace) -> list[str]:
    """The channels that tell a row at a glance."""
    from larktally.views.bodies import bodies_of
    from larktally.views.channel_selection import states_worth_showing

    names = states_worth_showing(trace)
    for body in bodies_of(trace)[:1]:
        names += [f"{body}.{one}" for one in ("x", "y", "vx", "vy") if f"{body}.{one}" in trace.columns]
    return names[:MOST_CHANNELS] or trace.channels[:MOST_CHANNELS]
