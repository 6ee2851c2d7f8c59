"""Rows and channels of a trace that a command's options choose, and the values that they give."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from larktally.errors import LarkTallyError
from larktally.names import matching
from larktally.traces.trace import Trace

__all__ = ["chosen_channels", "chosen_rows", "one_value", "split_patterns", "value_of"]


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


def one_value(text: str) -> tuple[str, Any]:
    """The name and the value of NAME=VALUE."""
    name, equals, value = text.partition("=")
    if not name.strip() or not equals or not value.strip():
        raise LarkTallyError(f"--param takes NAME=VALUE, such as leap=340 or rest=0.5s, not {text!r}")
    return name.strip(), value_of(value.strip())


def value_of(text: str) -> Any:
    """A number, true, false, or the text itself."""
    if text in ("true", "false"):
        return text == "true"
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            pass
    return text
