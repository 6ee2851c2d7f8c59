"""Arithmetic of single numbers as IEEE 754 has it, where Python's own operators raise or answer otherwise.

Each is what the NumPy function of the same name gives for float64; a differential test holds them equal.
"""

from __future__ import annotations

import math

__all__ = ["divided", "floor_divided", "greater", "modulo", "power", "smaller"]


def divided(x: float, y: float) -> float:
    """x / y; infinite, or NaN for 0 / 0, where y is 0."""
    try:
        return x / y
    except ZeroDivisionError:
        if x == 0 or x != x:
            return math.nan
        return math.copysign(math.inf, x) * math.copysign(1.0, y)


def floor_divided(x: float, y: float) -> float:
    """The floor of x / y."""
    if y == 0:
        return divided(x, y)
    # NumPy's answer for inf // y, where Python raises or gives nan by another way.
    if not math.isfinite(x):
        return math.nan
    return float(x) // y


def modulo(x: float, y: float) -> float:
    """What is left of x after whole multiples of y, with the sign of y; NaN where y is 0 or x infinite."""
    if y == 0 or not math.isfinite(x):
        return math.nan
    return float(x) % y


def power(x: float, y: float) -> float:
    """x to the power of y."""
    try:
        return math.pow(x, y)
    except OverflowError:
        # Only an odd whole power of a negative number is negative.
        if x < 0 and y % 2 == 1:
            return -math.inf
        return math.inf
    except ValueError:
        pass
    # What is left is a negative number to a fraction, which has no real value, and 0 to something below 0.
    if x != 0:
        return math.nan
    if y % 2 == 1:
        return math.copysign(math.inf, x)
    return math.inf


def smaller(x: float, y: float) -> float:
    """The smaller one, the first of equals; NaN where either is."""
    if x != x or y != y:
        return math.nan
    if y < x:
        return y
    return x


def greater(x: float, y: float) -> float:
    """The greater one, the first of equals; NaN where either is."""
    if x != x or y != y:
        return math.nan
    if y > x:
        return y
    return x
