"""The first divergence: the first row and channel where two traces differ, and what stood around it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from larktally.claims.story import shown_value
from larktally.timing import seconds_at
from larktally.traces import Column, Trace

__all__ = ["Divergence", "first_divergence", "differs"]


@dataclass(frozen=True, slots=True)
class Divergence:
    """Where two traces part: the row; the channel with both values, or what else differs; the events around."""

    row: int
    what: str
    first: str
    second: str
    also: tuple[str, ...] = ()
    around: tuple[str, ...] = ()
    seconds: float | None = None

    def __str__(self) -> str:
        time = f" ({self.seconds:.3f} s)" if self.seconds is not None else ""
        lines = [f"first divergence in row {self.row}{time}: {self.what} was {self.first}, now {self.second}"]
        if self.also:
            more = f" and {len(self.also) - 6} more" if len(self.also) > 6 else ""
            lines.append(f"  in the same row: {', '.join(self.also[:6])}{more}")
        lines += [f"  {line}" for line in self.around]
        return "\n".join(lines)


def differs(a: Column, b: Column, rows: int) -> npt.NDArray[np.bool_]:
    """For each of the first rows, whether two columns differ in bits (labels: in their strings)."""
    first, second = a.stored[:rows], b.stored[:rows]
    if a.channel.kind != b.channel.kind:
        return np.ones(rows, dtype=np.bool_)
    if a.channel.kind == "number":
        return np.asarray(first.view(np.int64) != second.view(np.int64))
    if a.channel.kind == "label" and a.channel.labels != b.channel.labels:
        return np.asarray(a.values[:rows] != b.values[:rows], dtype=np.bool_)
    return np.asarray(first != second)


def first_divergence(a: Trace, b: Trace) -> Divergence | None:
    """The first row in which a channel that both have, an input, an event, or the very existence of the row differs."""
    rows = min(a.rows, b.rows)
    found: dict[str, int] = {}
    for name in a.columns.keys() & b.columns.keys():
        different = differs(a.columns[name], b.columns[name], rows)
        if different.any():
            found[name] = int(different.argmax())
    for name in a.inputs.keys() & b.inputs.keys():
        different = a.inputs[name][:rows] != b.inputs[name][:rows]
        if different.any():
            found[f"input:{name}"] = int(different.argmax())
    event_row = _first_other_event(a, b)
    row = min(
        [*found.values(), *([event_row] if event_row is not None else []), *([rows] if a.rows != b.rows else [])],
        default=None,
    )
    if row is None:
        return None
    order = [*a.columns, *(f"input:{name}" for name in a.inputs)]
    there = sorted((name for name, first in found.items() if first == row), key=order.index)
    return _told(a, b, row, there, event_row == row)


def _told(a: Trace, b: Trace, row: int, there: list[str], events: bool) -> Divergence:
    seconds = seconds_at(row, a.rate) if a.rate else None
    said_a, said_b = _said(a, row), _said(b, row)
    around = []
    if said_a != said_b:
        around = [f"events were {said_a or 'none'}", f"events now {said_b or 'none'}"]
    elif said_a:
        around = [f"events in both: {said_a}"]
    held = [name for name, values in a.inputs.items() if row < a.rows and abs(values[row]) >= 0.5]
    around.append(f"inputs held: {', '.join(held) or 'none'}")
    if there:
        name, *also = there
        first, second = (_value(trace, name, row) for trace in (a, b))
        return Divergence(row, name, first, second, tuple(also), tuple(around), seconds)
    if events:
        return Divergence(row, "the row's events", said_a or "none", said_b or "none", (), tuple(around[2:]), seconds)
    return Divergence(row, "the length", f"{a.rows} rows", f"{b.rows} rows", (), (), seconds)


def _value(trace: Trace, name: str, row: int) -> str:
    if name.startswith("input:"):
        return shown_value(float(trace.inputs[name.removeprefix("input:")][row]))
    value = trace.columns[name].at(row)
    return repr(value) if isinstance(value, float) else shown_value(value)


def _said(trace: Trace, row: int) -> str:
    return ", ".join(str(event).split(": ", 1)[1] for event in trace.events.between(row, row))


def _first_other_event(a: Trace, b: Trace) -> int | None:
    rows = min(a.rows, b.rows)
    left = list(zip(a.events.rows, a.events.names, a.events.sources, a.events.data, strict=True))
    right = list(zip(b.events.rows, b.events.names, b.events.sources, b.events.data, strict=True))
    if left == right:
        return None
    for one, other in zip(left, right, strict=False):
        if one != other:
            row = min(one[0], other[0])
            return row if row < rows else None
    longer = left if len(left) > len(right) else right
    row = longer[min(len(left), len(right))][0]
    return row if row < rows else None
