"""Checks of the numbers that bodies, platforms and zones are made from."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from larktally.errors import ModelError
from larktally.names import one_or_many, unknown_name

__all__ = ["number", "numbers", "size_of", "words_of"]


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


def words_of(what: str, given: str | Iterable[str], known: Sequence[str]) -> tuple[str, ...]:
    """What shows= asks for; raises ModelError for a word that is not known there."""
    wanted = one_or_many(given)
    for word in wanted:
        if word not in known:
            raise ModelError(unknown_name("word", word, known, f"shows= of {what}"))
    return wanted


def size_of(part: str, values: Sequence[float], count: int) -> tuple[float, ...]:
    """A size: so many numbers above 0."""
    found = numbers(part, "size", values, count)
    if not all(side > 0 for side in found):
        raise ModelError(f"{part}: size is above 0 along every axis, not {tuple(values)}")
    return found
