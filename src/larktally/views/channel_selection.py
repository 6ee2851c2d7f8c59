"""Which channels tell a run at a glance: the machines of a sim, or the labels and flags of what is none."""

from __future__ import annotations

from collections.abc import Sequence

from larktally.traces.trace import Trace

__all__ = ["flags_worth_showing", "moves", "states_worth_showing"]

MOST = 4


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


def _of_kind(trace: Trace, kind: str) -> list[str]:
    return [n for n in trace.channels if trace.columns[n].channel.kind == kind and moves(trace, n)][:MOST]
