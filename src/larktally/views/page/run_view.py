"""A run as the page has it: its columns packed, and beside them all that the page shows of it, as plain data."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np

from larktally.auditing.finding import Finding
from larktally.claims.named import MeasureReading
from larktally.claims.story import headline
from larktally.claims.verdicts import Result, Tally
from larktally.runs.numbers import TurnableNumber
from larktally.traces.events import EventLog
from larktally.traces.trace import Trace
from larktally.views.bodies import bodies_of
from larktally.views.channel_selection import lanes_of, moves
from larktally.views.page.packing import QUICK, Packing

__all__ = ["RunView", "packed_runs"]

MOST_LINES, MOST_HITBOXES = 2, 3


@dataclass(frozen=True, slots=True)
class RunView:
    """A run with what was found out about it: verdicts, measures, findings, the numbers that its model asked for, and why it
    stopped, where its subject failed, and notes of claims and measures that do not fit it. `name` is what the page calls it."""

    trace: Trace
    tally: Tally | None = None
    measures: Sequence[MeasureReading] = ()
    findings: Sequence[Finding] = ()
    numbers: Sequence[TurnableNumber] = ()
    failure: str = ""
    notes: Sequence[str] = ()
    name: str = ""
    # Which keys the actions are bound to: {"hop": ["Space"]}.
    keys: dict[str, list[str]] | None = None

    def described(self, packing: Packing) -> dict[str, Any]:
        """All of it as plain data; its columns go into the packing."""
        trace, header = self.trace, self.trace.header
        rate = None if trace.rate is None else float(trace.rate)
        return {
            "name": self.name or header.scenario or header.subject or "a run",
            "subject": header.subject,
            "rate": rate,
            "rateText": header.rate_text,
            "rows": trace.rows,
            "end": header.end,
            "stopped": self.failure or header.stopped,
            "notes": list(self.notes),
            "seed": header.seed,
            "params": {name: _json(value) for name, value in header.params.items()},
            "scene": _json(header.scene),
            "actions": [
                {"name": name, "analog": name in header.analog, "keys": (self.keys or {}).get(name, [])}
                for name in header.actions
            ],
            "lanes": _lanes(trace),
            "lines": _lines(trace),
            "columns": [
                {"name": name, "kind": one.channel.kind, "labels": one.channel.labels, **packing.column(one.stored)}
                for name, one in trace.columns.items()
            ],
            "inputs": [{"name": name, **packing.column(values)} for name, values in trace.inputs.items()],
            "events": _events(trace.events, packing),
            "claims": [_claim(result) for result in self.tally or ()],
            "measures": [_json(one.plain()) for one in self.measures],
            "findings": [_json(one.plain()) for one in self.findings],
            "numbers": [_json(one.plain()) for one in self.numbers],
        }


def packed_runs(views: Sequence[RunView], level: int = QUICK, beside: Mapping[str, Any] | None = None) -> bytes:
    """Some runs as the page takes them, the first the one that is looked at, and what stands beside them."""
    packing = Packing()
    runs = [view.described(packing) for view in views]
    return packing.packed({"runs": runs, **(beside or {})}, level)


def _claim(result: Result) -> dict[str, Any]:
    story = ""
    if not result.passed:
        story = result.report().text()
    found: dict[str, Any] = _json(
        {**result.plain(), "headline": headline(result), "rows": result.breach_rows, "story": story}
    )
    return found


def _lanes(trace: Trace) -> list[list[str]]:
    """What has a lane from the first: what a picture of the run has, and the hitboxes that open."""
    if not trace.rows:
        return []
    lanes = [list(lane) for lane in lanes_of(trace, range(trace.rows))]
    boxes = []
    for name, strikes in trace.header.scene.get("attached", {}).items():
        if strikes and f"{name}.open" in trace.columns and moves(trace, f"{name}.open"):
            boxes.append(["flag", f"{name}.open"])
    before = sum(kind in ("state", "flag") for kind, _ in lanes)
    return lanes[:before] + [one for one in boxes if one not in lanes][:MOST_HITBOXES] + lanes[before:]


def _lines(trace: Trace) -> list[str]:
    """The channels that are drawn as lines from the first: the height and speed of the first body, or the first numbers that
    move."""
    found: list[str] = []
    if not trace.rows:
        return found
    bodies = bodies_of(trace)
    if bodies:
        found = [f"{bodies[0]}.{one}" for one in ("y", "vx") if f"{bodies[0]}.{one}" in trace.columns]
    for name in trace.channels:
        if trace.columns[name].channel.kind == "number" and name not in found and moves(trace, name):
            found.append(name)
    return found[:MOST_LINES]


def _events(log: EventLog, packing: Packing) -> dict[str, Any]:
    """Events with each name and source once; their data as the JSON text that it is."""
    names, sources = list(dict.fromkeys(log.names)), list(dict.fromkeys(log.sources))
    return {
        "names": names,
        "sources": sources,
        "row": packing.column(np.array(log.rows, dtype=np.int64)),
        "name": packing.column(_places(log.names, names)),
        "source": packing.column(_places(log.sources, sources)),
        "data": log.data if any(log.data) else [],
    }


def _places(texts: Iterable[str], among: Sequence[str]) -> np.ndarray:
    place = {text: n for n, text in enumerate(among)}
    return np.array([place[text] for text in texts], dtype=np.int64)


def _json(value: Any) -> Any:
    """As JSON has it: numbers that it has no word for are null."""
    value = msgspec.to_builtins(value)
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {str(key): _json(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_json(each) for each in value]
    return value
