"""The first divergence: the first row and channel where two traces differ, and what stood around it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec.structs import asdict

from larktally.comparing.tolerance import Tolerance, apart
from larktally.textfmt import shown_value
from larktally.timing import seconds_at
from larktally.traces.columns import Column
from larktally.traces.trace import Trace

__all__ = ["Divergence", "first_divergence", "part_of", "shown_exactly"]


class Divergence(msgspec.Struct, frozen=True):
    """Where two traces part: the row; the channel with both values, or what else differs; the events around; and which
    part of the sim holds the channel, with the phase that it runs in."""

    row: int
    what: str
    first: str
    second: str
    also: tuple[str, ...] = ()
    around: tuple[str, ...] = ()
    seconds: float | None = None
    part: str = ""

    def plain(self) -> dict[str, Any]:
        """The divergence as plain data, for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        return self.told(())

    def told(self, sides: tuple[str, str] | tuple[()]) -> str:
        """The divergence in words; `sides` are what the two traces are called, where one is not what the other was."""
        time = ""
        if self.seconds is not None:
            time = f" ({self.seconds:.3f} s)"
        values = f"was {self.first}, now {self.second}"
        around = list(self.around)
        if sides:
            values = f"is {self.first} in {sides[0]}, {self.second} in {sides[1]}"
            around = [
                line.replace("events were", f"events in {sides[0]}:").replace("events now", f"events in {sides[1]}:")
                for line in around
            ]
        lines = [f"first divergence in row {self.row}{time}: {self.what} {values}"]
        if self.also:
            if len(self.also) > 6:
                more = f" and {len(self.also) - 6} more"
            else:
                more = ""
            lines.append(f"  in the same row: {', '.join(self.also[:6])}{more}")
        if self.part:
            lines += [f"  held by {self.part}"]
        lines += [f"  {line}" for line in around]
        return "\n".join(lines)


def first_divergence(a: Trace, b: Trace, tolerances: Mapping[str, Tolerance] | None = None) -> Divergence | None:
    """The first row in which a channel that both have, an input, an event, or the very existence of the row differs.

    Channels are compared exactly, or by their tolerance.
    """
    rows, exact = min(a.rows, b.rows), Tolerance()
    found: dict[str, int] = {}
    for name in a.columns.keys() & b.columns.keys():
        different = apart(a.columns[name], b.columns[name], rows, (tolerances or {}).get(name, exact))
        if different.any():
            found[name] = int(different.argmax())
    for name in a.inputs.keys() & b.inputs.keys():
        different = a.inputs[name][:rows] != b.inputs[name][:rows]
        if different.any():
            found[f"input:{name}"] = int(different.argmax())
    event_row = _first_other_event(a, b, loosely=any(not one.exact for one in (tolerances or {}).values()))
    row = min(
        [*found.values(), *([event_row] if event_row is not None else []), *([rows] if a.rows != b.rows else [])],
        default=None,
    )
    if row is None:
        return None
    order = [*a.columns, *(f"input:{name}" for name in a.inputs)]
    # In recording order, so that the same two traces always name the same channel first.
    there = sorted((name for name, first in found.items() if first == row), key=order.index)
    return _told(a, b, row, there, event_row == row)


def _told(a: Trace, b: Trace, row: int, there: list[str], events: bool) -> Divergence:
    if a.rate:
        seconds = seconds_at(row, a.rate)
    else:
        seconds = None
    emitted_a, emitted_b = _emitted(a, row), _emitted(b, row)
    around = []
    if emitted_a != emitted_b:
        around = [f"events were {emitted_a or 'none'}", f"events now {emitted_b or 'none'}"]
    elif emitted_a:
        around = [f"events in both: {emitted_a}"]
    held = [name for name, values in a.inputs.items() if row < a.rows and abs(values[row]) >= 0.5]
    around.append(f"inputs held: {', '.join(held) or 'none'}")
    if there:
        name, *also = there
        first, second = (_value(trace, name, row) for trace in (a, b))
        return Divergence(
            row, name, first, second, tuple(also), tuple(around), seconds, _holder(b, name) or _holder(a, name)
        )
    if events:
        return Divergence(
            row, "the row's events", emitted_a or "none", emitted_b or "none", (), tuple(around[2:]), seconds
        )
    return Divergence(row, "the length", f"{a.rows} rows", f"{b.rows} rows", (), (), seconds)


def part_of(trace: Trace, channel: str) -> str:
    """The part that a channel belongs to, in a trace of a sim; "" in any other."""
    parts = [part for phase in trace.header.order for part in phase.parts]
    # The longest name: `wick.gait.age` is of the machine, not of the body, and `wick.facing` a value of its own.
    parts += trace.header.unstepped
    return max((part for part in parts if channel == part or channel.startswith(part + ".")), key=len, default="")


def _holder(trace: Trace, channel: str) -> str:
    """The part that a channel belongs to and the phase in which it runs."""
    owner = part_of(trace, channel)
    if owner in trace.header.unstepped:
        return f"{owner}, which rules and hooks set"
    for phase in trace.header.order:
        if owner and owner in phase.parts:
            return f"{owner}, in the phase {phase.phase!r}"
    return ""


def shown_exactly(column: Column, row: int) -> str:
    """A value with all its digits: two that differ in the last bit must not look alike."""
    value = column.at(row)
    if isinstance(value, float):
        return repr(value)
    return shown_value(value)


def _value(trace: Trace, name: str, row: int) -> str:
    if name.startswith("input:"):
        return shown_value(float(trace.inputs[name.removeprefix("input:")][row]))
    return shown_exactly(trace.columns[name], row)


def _emitted(trace: Trace, row: int) -> str:
    return ", ".join(str(event).split(": ", 1)[1] for event in trace.events.between(row, row))


def _first_other_event(a: Trace, b: Trace, loosely: bool) -> int | None:
    """The first row whose events differ; `loosely` leaves out the numbers that they carry."""
    rows = min(a.rows, b.rows)
    left, right = _event_fields(a, loosely), _event_fields(b, loosely)
    # Nearly always, and one comparison in C.
    if left == right:
        return None
    for one, other in zip(left, right, strict=False):
        if one != other:
            row = min(one[0], other[0])
            if row < rows:
                return row
            return None
    longer = right
    if len(left) > len(right):
        longer = left
    row = longer[min(len(left), len(right))][0]
    if row < rows:
        return row
    return None


def _event_fields(trace: Trace, loosely: bool) -> list[tuple[int, str, str, str]]:
    """What tells two events apart; loosely without their data, which holds the very numbers that a tolerance is for."""
    if not loosely:
        return list(trace.events.fields())
    found: list[tuple[int, str, str, str]] = []
    for row, name, source, _ in trace.events.fields():
        found.append((row, name, source, ""))
    return found
