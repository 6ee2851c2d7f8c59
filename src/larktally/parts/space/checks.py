"""Checks of the numbers that bodies, platforms and zones are made from."""

from __future__ import annotations

import math
from collections.abc import Sequence

from larktally.errors import ModelError

__all__ = ["number", "numbers", "size_of"]


def number(part: str, what: str, value: float, low: float = -math.inf, high: float = math.inf) -> float:
    """A finite number in [low, high], as a float; raises ModelError naming the part and what it is for."""
    plain = isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)
    if not plain or not low <= value <= high:
        if low == -math.inf:
            bounds = ""
        else:
            if high == math.inf:
                bounds = f" of at least {low:g}"
            else:
                bounds = f" in [{low:g}, {high:g}]"
        raise ModelError(f"{part}: {what} is a finite number{bounds}, not {value!r}")
    return float(value)


def numbers(part: str, what: str, values: Sequence[float], count: int) -> tuple[float, ...]:
    """So many finite numbers."""
    if isinstance(values, str) or not hasattr(values, "__len__") or len(values) != count:
        raise ModelError(f"{part}: {what} is {count} numbers, not {values!r}")
    return tuple(number(part, what, value) for value in values)


def size_of(part: str, values: Sequence[float], count: int) -> tuple[float, ...]:
    """A size: so many numbers above 0."""
    found = numbers(part, "size", values, count)
    if not all(side > 0 for side in found):
        raise ModelError(f"{part}: size is above 0 along every axis, not {tuple(values)}")
    return found
