"""What the properties that may count in a clock's ticks have in common."""

from __future__ import annotations

from larktally.language.ticks import check_clock
from larktally.language.tree import Call, Text
from larktally.language.typecheck import Checker

__all__ = ["clock_fits"]


def clock_fits(checker: Checker, node: Call) -> None:
    """Raises ClaimError for an `on=` that names no clock."""
    on = node.option("on")
    if isinstance(on, Text):
        check_clock(checker, on, on.value)
