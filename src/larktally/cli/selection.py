"""Rows and channels of a trace that a command's options choose."""

from __future__ import annotations

import re
from collections.abc import Sequence

from larktally.errors import LarkTallyError
from larktally.names import matching
from larktally.traces.trace import Trace

__all__ = ["chosen_rows", "chosen_channels", "split_patterns"]


def chosen_rows(given: str | None, trace: Trace, otherwise: Sequence[int], option: str = "--frames") -> list[int]:
    """The rows of 40, 25..60, every tenth of a span 70..130/10, or several joined by commas; `otherwise` where nothing is
    said."""
    if given is None:
        return list(otherwise)
    rows: list[int] = []
    for part in given.split(","):
        found = re.fullmatch(r"\s*(\d{1,12})\s*(?:\.\.\s*(\d{1,12})\s*(?:/\s*(\d{1,12})\s*)?)?", part)
        if not found or found[3] == "0":
            raise LarkTallyError(
                f"{option} takes a row, 40, a span, 25..60, every tenth of one, 70..130/10, or several joined by commas, "
                f"not {part!r}"
            )
        first, last = int(found[1]), int(found[2] or found[1])
        if first > last or first >= trace.rows:
            raise LarkTallyError(f"{option} {part}: this trace has rows 0..{trace.rows - 1}")
        rows += range(first, min(last, trace.rows - 1) + 1, int(found[3] or 1))
    return rows


def split_patterns(given: Sequence[str]) -> list[str]:
    """The patterns of --only, given several times or joined by commas."""
    found: list[str] = []
    for one in given:
        for pattern in one.split(","):
            found.append(pattern.strip())
    return found


def chosen_channels(patterns: Sequence[str], trace: Trace) -> list[str]:
    """The channels that match any of the patterns, in order; all where there are none."""
    if not patterns:
        return trace.channels
    return matching(trace.channels, split_patterns(patterns), "--only ")
