"""Where a body stands in a row: its box, from the place that is recorded of it."""

from __future__ import annotations

import math
from typing import TypeAlias

from larktally.traces.trace import Trace

__all__ = ["Corners", "bodies_of", "body_box"]

Corners: TypeAlias = tuple[tuple[float, float], tuple[float, float]]


def bodies_of(trace: Trace) -> list[str]:
    """The bodies of a sim whose place is recorded."""
    found: list[str] = []
    for name in trace.header.scene.get("bodies", {}):
        if f"{name}.x" in trace.columns and f"{name}.y" in trace.columns:
            found.append(name)
    return found


def body_box(trace: Trace, name: str, row: int) -> Corners | None:
    """The low and the high corner of a body's box, in units; None where it is nowhere."""
    body = trace.header.scene["bodies"][name]
    x, y = float(trace[f"{name}.x"][row]) - body["before"][0], float(trace[f"{name}.y"][row]) - body["before"][1]
    if not (math.isfinite(x) and math.isfinite(y)):
        return None
    return (x, y), (x + body["size"][0], y + body["size"][1])
