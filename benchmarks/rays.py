"""Many rays at once, against the NumPy slab test written out by hand for the same boxes."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

import larktally as lt

COUNT, LENGTH = 2_000, 200.0


def by_hand(origins: np.ndarray, directions: np.ndarray, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    one = (low - origins[:, None]) / directions[:, None]
    other = (high - origins[:, None]) / directions[:, None]
    enter = np.minimum(one, other).max(axis=2).clip(min=0.0)
    leave = np.maximum(one, other).min(axis=2)
    return np.where((enter < leave) & (enter <= LENGTH), enter, np.inf).min(axis=1)


def rows() -> Iterable[tuple[str, float, object, object]]:
    draw = np.random.default_rng(3)
    corners = draw.uniform(0, 1000, (200, 2))
    level = lt.Level([lt.geometry.box_at(tuple(corner), (16, 16)) for corner in corners])
    low, high = np.array([box.low for box in level.boxes]), np.array([box.high for box in level.boxes])
    origins, angles = draw.uniform(0, 1000, (COUNT, 2)), draw.uniform(0, 2 * np.pi, COUNT)
    directions = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    assert np.allclose(
        lt.geometry.many_rays(level, origins, directions, LENGTH)[0], by_hand(origins, directions, low, high)
    )
    yield (
        "2,000 rays among 200 boxes / the NumPy expression",
        3.0,
        lambda: lt.geometry.many_rays(level, origins, directions, LENGTH),
        lambda: by_hand(origins, directions, low, high),
    )
