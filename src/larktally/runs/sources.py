"""Where rows come from: a sim's own tuples, a program's columns, or what a user's object observes.

Chosen once, before the first frame, so that the loop has no look-ups.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple

from larktally.claims.claim import mentions_seen
from larktally.runs.observing import Observations
from larktally.runs.patterns import matching
from larktally.runs.rows import Columns
from larktally.runs.scenario import Scenario
from larktally.traces import Channel
from larktally.traces.columns import ChunkReader

__all__ = ["RowSource", "row_source"]


class RowSource(NamedTuple):
    """How a subject's rows are taken (`take`), made into columns, and stepped; which of its channels are kept."""

    channels: list[Channel]
    take: Callable[[], Any]
    columns: Columns
    step: Callable[[Any], Any]
    reader: ChunkReader
    kept: tuple[int, ...]
    batched: bool


def row_source(inner: Any, scenario: Scenario, only: Sequence[str] | None) -> RowSource:
    """The source of a subject's rows; `only` are patterns of the channels to keep. Raises LarkError for one that matches
    none: it would silently keep less than was meant."""
    channels, take, columns, closed, nan_ok = _of(inner, scenario)
    names = [channel.name.removeprefix("seen:") for channel in channels]
    wanted = frozenset(names if only is None else matching(names, only, "only="))
    kept = tuple(n for n, name in enumerate(names) if name in wanted)
    if len(kept) < len(channels):
        columns = _some(columns, frozenset(kept))
    chosen = [channels[n] for n in kept]
    batched = hasattr(inner, "step_many")
    return RowSource(chosen, take, columns, inner.step, ChunkReader(chosen, closed, nan_ok), kept, batched)


def _of(inner: Any, scenario: Scenario) -> tuple[list[Channel], Callable[[], Any], Columns, Iterable[str], Any]:
    """The channels, how a row is taken, how rows become columns, labels that are closed, and where NaN is allowed."""
    if not hasattr(inner, "seen_row") and not hasattr(inner, "step_many"):
        closed = dict(getattr(inner, "labels", None) or {})
        observed = Observations(inner, closed)
        return observed.channels, observed.take, observed.columns, closed, scenario.allow_nan
    channels, take, nan_ok = list(inner.channels), inner.row, scenario.allow_nan
    if hasattr(inner, "seen_row"):
        nan_ok = nan_ok or inner.nan_channels
        if scenario.seen or mentions_seen(scenario.claims):
            inner.watch_seen()
            channels += [Channel(f"seen:{c.name}", c.kind, c.labels) for c in channels]
            take = lambda: inner.row() + inner.seen_row()  # noqa: E731
    labels = [channel.name for channel in channels if channel.kind == "label"]
    return channels, take, lambda rows, first: zip(*rows, strict=True), labels, nan_ok


def _some(columns: Columns, kept: frozenset[int]) -> Columns:
    return lambda rows, first: [column for n, column in enumerate(columns(rows, first)) if n in kept]
