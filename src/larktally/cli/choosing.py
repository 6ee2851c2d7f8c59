"""Rows and channels of a trace that a command's options choose."""

from __future__ import annotations

import re
from collections.abc import Sequence

from larktally.errors import LarkError
from larktally.runs.patterns import matching
from larktally.traces import Trace

__all__ = ["chosen_rows", "chosen_channels", "split_patterns"]


def chosen_rows(said: str | None, trace: Trace, otherwise: Sequence[int]) -> list[int]:
    """The rows of 40, 25..60, or several joined by commas; `otherwise` where nothing is said."""
    if said is None:
        return list(otherwise)
    rows: list[int] = []
    for part in said.split(","):
        found = re.fullmatch(r"\s*(\d{1,12})\s*(?:\.\.\s*(\d{1,12})\s*)?", part)
        if not found:
            raise LarkError(f"--frames takes a row, 40, or a span, 25..60, or several joined by commas, not {part!r}")
        first, last = int(found[1]), int(found[2] or found[1])
        if first > last or first >= trace.rows:
            raise LarkError(f"--frames {part}: this trace has rows 0..{trace.rows - 1}")
        rows += range(first, min(last, trace.rows - 1) + 1)
    return rows


def split_patterns(said: Sequence[str]) -> list[str]:
    """The patterns of --only, given several times or joined by commas."""
    return [pattern.strip() for one in said for pattern in one.split(",")]


def chosen_channels(patterns: Sequence[str], trace: Trace) -> list[str]:
    """The channels that match any of the patterns, in order; all where there are none."""
    if not patterns:
        return trace.channels
    return matching(trace.channels, split_patterns(patterns), "--only ")
