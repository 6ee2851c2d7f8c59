"""Angles: differences that go the short way round, where a channel says what a whole turn is."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

__all__ = ["short_way", "turned"]

Numbers = npt.NDArray[np.float64]


def short_way(difference: float, full: float) -> float:
    """The same for one difference of angles.

    >>> short_way(340.0, 360.0), short_way(-180.0, 360.0)
    (-20.0, 180.0)
    """
    if -full / 2 < difference <= full / 2:
        return difference
    return full / 2 - (full / 2 - difference) % full


def turned(difference: Numbers, full: float | None) -> Numbers:
    """A difference of angles as the signed short way, in (-full/2, full/2]; of other numbers (None) as it is.

    >>> turned(np.array([340.0, -340.0, 180.0, -180.0]), 360).tolist()
    [-20.0, 20.0, 180.0, 180.0]
    """
    if full is None:
        return difference
    with np.errstate(invalid="ignore"):
        # Counted from the far side, so that half a turn is the positive one, and what is in range keeps its bits.
        wrapped = full / 2 - np.mod(full / 2 - difference, full)
    inside = (difference > -full / 2) & (difference <= full / 2)
    return np.where(inside, difference, wrapped)
