"""Which channels tell a run at a glance: the machines of a sim, or the labels and flags of what is none."""

from __future__ import annotations

from collections.abc import Sequence

from larktally.traces.trace import Trace

__all__ = ["flags_worth_showing", "lanes_of", "moves", "states_worth_showing"]

MOST = 4
MOST_LANES, MOST_TIMERS = 11, 3
# Said so often, or told by a lane already, that a lane of them would hide the others.
_COMMON = ("changed", "bumped", "tick", "paused", "resumed", "entered", "left")


def states_worth_showing(trace: Trace) -> list[str]:
    """The machines of a sim; of any other trace the first labels that are not the same in all rows."""
    if trace.header.order:
        found: list[str] = []
        for name in trace.header.machines:
            if name in trace.columns:
                found.append(name)
        return found
    return _of_kind(trace, "label")


def flags_worth_showing(trace: Trace) -> list[str]:
    """The first flags that are not the same in all rows, where the trace is not a sim's, whose flags follow its machines."""
    if trace.header.order:
        return []
    return _of_kind(trace, "flag")


def moves(trace: Trace, name: str, rows: Sequence[int] | None = None) -> bool:
    """Whether a channel is not the same in all of some rows."""
    stored = trace.columns[name].stored
    if rows is not None and len(rows):
        stored = stored[rows[0] : rows[-1] + 1]
    return bool(len(stored)) and bool((stored != stored[0]).any())


def lanes_of(trace: Trace, rows: range, only: Sequence[str] = ()) -> list[tuple[str, str]]:
    """What has a lane, as (kind, name): machines, or the labels and flags of what is no sim; timers that run, inputs, and the
    first events that are emitted."""
    machines = []
    for name in states_worth_showing(trace):
        if moves(trace, name, rows):
            machines.append(name)
    flags = [name for name in flags_worth_showing(trace) if moves(trace, name, rows)]
    timers = []
    for name in trace.channels:
        if name.endswith(".left") and moves(trace, name, rows):
            timers.append(name)
    emitted = set(trace.events.between(rows.start, rows.stop - 1).names).difference(_COMMON)
    events = [name for name in dict.fromkeys([*trace.header.events, *trace.events.names]) if name in emitted]
    lanes = [("state", name) for name in machines] + [("flag", name) for name in flags]
    lanes += [("timer", name) for name in timers[:MOST_TIMERS]]
    if any(values[rows.start : rows.stop].any() for values in trace.inputs.values()):
        lanes += [("inputs", "inputs")]
    # Two lanes of events at least: they are what most claims are about.
    return lanes + [("event", name) for name in events[: max(MOST_LANES - len(lanes), 2)]]


def _of_kind(trace: Trace, kind: str) -> list[str]:
    return [n for n in trace.channels if trace.columns[n].channel.kind == kind and moves(trace, n)][:MOST]
