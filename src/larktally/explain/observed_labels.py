"""Label channels of what is no sim, as if they were machines: the changes that were seen stand in place of rules."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from larktally.errors import LarkTallyError
from larktally.traces.outline import Outline, Rule
from larktally.traces.trace import Trace

__all__ = ["change_name", "label_channel", "observed_changes", "observed_outline"]


def label_channel(trace: Trace, name: str) -> str:
    """The label channel that is asked for, where it is no machine's; "" where a machine is."""
    if name in trace.header.outlines or (not name and trace.header.outlines):
        return ""
    labels = [one for one in trace.channels if trace.columns[one].channel.kind == "label"]
    if name in labels:
        return name
    if not name and len(labels) == 1:
        return labels[0]
    if not name and labels:
        raise LarkTallyError(f"say which label: {', '.join(labels)}")
    return ""


def observed_changes(trace: Trace, channel: str) -> list[tuple[int, str, str]]:
    """The changes of a label channel: the row in which each is seen, what it was, and what it is."""
    column = trace.column(channel)
    labels, codes = column.channel.labels, column.stored
    found = []
    for row in (np.flatnonzero(codes[1:] != codes[:-1]) + 1).tolist():
        found.append((row, labels[int(codes[row - 1])], labels[int(codes[row])]))
    return found


def observed_outline(runs: Iterable[Trace], channel: str) -> Outline:
    """A label channel as if it were a machine: its labels, and a rule for each change that was seen, the first first."""
    labels: dict[str, None] = {}
    rules: dict[str, Rule] = {}
    start = ""
    for trace in runs:
        if channel not in trace.columns or trace.columns[channel].channel.kind != "label":
            raise LarkTallyError(f"a trace has no label channel {channel!r}")
        labels |= dict.fromkeys(trace.column(channel).channel.labels)
        if not start and trace.rows:
            start = str(trace.column(channel).at(0))
        for row, before, after in observed_changes(trace, channel):
            name = change_name(before, after)
            if name not in rules:
                rules[name] = Rule(name=name, sources=(before,), target=after, asks=f"seen first in row {row}")
    return Outline(
        name=channel, states=tuple(labels), start=start or next(iter(labels), ""), rules=tuple(rules.values())
    )


def change_name(before: str, after: str) -> str:
    return f"{before} → {after}"
