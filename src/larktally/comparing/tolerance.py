"""How far two values may be apart and still count as the same: exactly, absolutely, by a share, or by units in the last place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeAlias

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError
from larktally.names import matching
from larktally.traces.columns import Column
from larktally.turning import turned

__all__ = ["Tolerance", "Tolerances", "apart", "tolerances_for"]


class Tolerance(msgspec.Struct, frozen=True):
    """Two numbers agree where |a - b| <= absolute, or <= relative * max(|a|, |b|), or they are at most `ulps` float64
    values apart. NaN agrees with NaN. Without any of the three, the bits have to be the same (so that -0.0 is not 0.0)."""

    absolute: float = 0.0
    relative: float = 0.0
    ulps: int = 0

    def __post_init__(self) -> None:
        for value in (self.absolute, self.relative, self.ulps):
            if isinstance(value, bool) or not value >= 0 or value == float("inf"):
                raise LarkTallyError(f"a tolerance is a finite number of at least 0, not {value!r}")

    @property
    def exact(self) -> bool:
        """Whether only the same bits agree."""
        return not (self.absolute or self.relative or self.ulps)


Tolerances: TypeAlias = "float | Tolerance | Mapping[str, float | Tolerance] | None"
_EXACT = Tolerance()


def tolerances_for(given: Tolerances, channels: list[str]) -> dict[str, Tolerance]:
    """The tolerance of each channel: one for all, or by pattern (the first that matches counts).

    Raises LarkTallyError for a pattern that matches no channel: it would silently do nothing.
    """
    if given is None:
        return dict.fromkeys(channels, _EXACT)
    if not isinstance(given, Mapping):
        return dict.fromkeys(channels, _as_tolerance(given))
    found: dict[str, Tolerance] = {}
    for pattern, tolerance in given.items():
        for name in matching(channels, [pattern], "tolerance "):
            # The first pattern that matches counts, as in a list of rules.
            found.setdefault(name, _as_tolerance(tolerance))
    return {name: found.get(name, _EXACT) for name in channels}


def _as_tolerance(given: float | Tolerance) -> Tolerance:
    if isinstance(given, Tolerance):
        return given
    return Tolerance(absolute=given)


def apart(a: Column, b: Column, rows: int, tolerance: Tolerance = _EXACT) -> npt.NDArray[np.bool_]:
    """For each of the first rows, whether two columns differ: numbers by the tolerance, everything else by value."""
    return differing(a, b, slice(0, rows), slice(0, rows), tolerance)


def differing(a: Column, b: Column, at_a: Any, at_b: Any, tolerance: Tolerance) -> npt.NDArray[np.bool_]:
    """The same for chosen rows of each."""
    first, second = a.stored[at_a], b.stored[at_b]
    kinds = {a.channel.kind, b.channel.kind}
    full = a.channel.wraps or b.channel.wraps
    if full and kinds <= {"number", "count"}:
        return _angles_apart(first.astype(np.float64), second.astype(np.float64), tolerance, full)
    if kinds == {"number"} and tolerance.exact:
        # Compared as bits: quick, NaN is NaN, and -0.0 is not 0.0.
        return np.asarray(first.view(np.int64) != second.view(np.int64))
    if kinds <= {"number", "count"} and (len(kinds) > 1 or not tolerance.exact):
        return _numbers_apart(first.astype(np.float64), second.astype(np.float64), tolerance)
    if len(kinds) > 1:
        return np.ones(len(first), dtype=np.bool_)
    if kinds == {"label"} and a.channel.labels != b.channel.labels:
        return np.asarray(a.values[at_a] != b.values[at_b], dtype=np.bool_)
    return np.asarray(first != second)


def _angles_apart(first: Any, second: Any, tolerance: Tolerance, full: float) -> npt.NDArray[np.bool_]:
    """Angles by the short way between them: 0 and a whole turn are the same, and a share is one of a whole turn."""
    with np.errstate(all="ignore"):
        off = np.abs(turned(first - second, full))
        near = off <= max(tolerance.absolute, tolerance.relative * full)
    return np.asarray(~(near | (np.isnan(first) & np.isnan(second)) | (first == second)))


def _numbers_apart(first: Any, second: Any, tolerance: Tolerance) -> npt.NDArray[np.bool_]:
    with np.errstate(all="ignore"):
        off = np.abs(first - second)
        allowed = np.maximum(tolerance.absolute, tolerance.relative * np.maximum(np.abs(first), np.abs(second)))
        # Equal infinities are the same, and their difference is no number.
        near = (first == second) | ((off <= allowed) & np.isfinite(off))
    if tolerance.ulps:
        places = np.abs(_ordered(first) - _ordered(second))
        near |= (places >= 0) & (places <= tolerance.ulps) & np.isfinite(first) & np.isfinite(second)
    return np.asarray(~(near | (np.isnan(first) & np.isnan(second))))


def _ordered(numbers: Any) -> Any:
    """Float64 values as integers in the same order: neighbours are 1 apart."""
    bits = numbers.view(np.int64)
    # The bits of floats as whole numbers in the floats' own order, so that neighbours differ by 1 across zero too.
    return np.where(bits < 0, np.int64(-(2**63)) - bits, bits)
