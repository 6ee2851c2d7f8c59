"""The header of a recording: what the run was made from, read off the scenario and what is known of its subject; and a trace of
rows that no recorder took."""

from __future__ import annotations

import platform
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from larktally.runs.observers import RunStart
from larktally.runs.scenario import Scenario
from larktally.subjects.adapt import source_digest
from larktally.subjects.protocol import Value
from larktally.traces.columns import Channel, ChunkReader, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header
from larktally.traces.trace import Trace
from larktally.version import __version__

__all__ = ["header_of", "trace_of_rows"]


def header_of(
    scenario: Scenario,
    run: RunStart,
    *,
    channels: Iterable[Channel],
    inputs: tuple[str, ...],
    seen_events: Iterable[str],
    filtered: bool,
    end: str | None,
    stopped: str | None,
) -> Header:
    """The header of a run: the only place in which one is made."""
    info = run.info
    return Header(
        rate_text=str(scenario.rate),
        scenario=scenario.name,
        subject=run.name,
        seed=scenario.seed,
        params=dict(scenario.params),
        measures={one.name: one.note for one in scenario.measures},
        settings=dict(run.setup.settings),
        channels=tuple(channels),
        inputs=inputs,
        actions=tuple(info.actions),
        analog=info.actions.analog,
        # An object of a user's own need not declare its events; those that it emitted are known now.
        events=tuple(dict.fromkeys([*info.events, *seen_events])),
        order=info.order,
        unstepped=info.unstepped,
        machines=dict(info.machines),
        outlines=dict(info.outlines),
        level=info.level,
        scene=dict(info.scene),
        program=dict(info.program),
        allow_nan=scenario.allow_nan,
        filtered=filtered,
        end=end,
        stopped=stopped,
        made_with=_made_with(scenario),
    )


def trace_of_rows(
    scenario: Scenario,
    run: RunStart,
    columns: Sequence[Sequence[Value]],
    inputs: Mapping[str, npt.NDArray[np.float64]],
    events: EventLog,
    more: Sequence[Channel] = (),
) -> Trace:
    """Rows from row 0 on as a trace like any other, given channel by channel, `more` being channels after the subject's own."""
    reader = ChunkReader([*run.reader.channels, *more], nan_ok=True)
    stored = reader.arrays(columns, 0)
    channels = reader.finished()
    header = header_of(
        scenario,
        run,
        channels=channels,
        inputs=tuple(inputs),
        seen_events=events.names,
        filtered=False,
        end=None,
        stopped=None,
    )
    made = {one.name: Column(one, values) for one, values in zip(channels, stored, strict=True)}
    return Trace(header, made, dict(inputs), events, len(columns[0]))


def _made_with(scenario: Scenario) -> dict[str, str]:
    """Versions, and a digest of the file that the subject is written in: of two runs that differ, it may be the reason."""
    made = {"larktally": __version__, "python": platform.python_version()}
    source = source_digest(scenario.subject)
    if source:
        made["source"] = source
    return made
