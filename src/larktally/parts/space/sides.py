"""Sides of a body: what stands flush with which of them, and the limits of its speed by axis or direction."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.space.checks import number
from larktally.parts.space.level import Level
from larktally.parts.space.sweep import ExpandedBox

__all__ = ["checked_limits", "limited", "side_names", "touched_sides"]

_SIDES = {"x": ("left", "right"), "y": ("below", "above"), "z": ("front", "back")}


def side_names(level: Level) -> tuple[str, ...]:
    """The names of a body's sides, two an axis, the one toward the lower numbers first; above is where the level's up is."""
    found: list[str] = []
    for i, axis in enumerate(level.axes):
        first, second = _SIDES[axis]
        if level.has_up and i == level.up_axis:
            first, second = "below", "above"
            if level.up_sign < 0:
                first, second = second, first
        elif axis == "y" and level.has_up:
            first, second = _SIDES["z"]
        found += [first, second]
    return tuple(found)


def touched_sides(
    position: Sequence[float], solids: Collection[ExpandedBox], up: int, up_sign: float
) -> tuple[bool, ...]:
    """Of each side whether a solid stands flush with it, in the order of `side_names`: exactly, as a sweep leaves a body.

    A corner that meets a corner touches nothing. A one-way box has one side, the one on which it holds.
    """
    found = [False] * (2 * len(position))
    for low, high, box in solids:
        for i, p in enumerate(position):
            if p != high[i] and p != low[i]:
                continue
            if not all(low[j] < q < high[j] for j, q in enumerate(position) if j != i):
                continue
            if box.one_way and (i != up or p != (high if up_sign > 0 else low)[i]):
                continue
            found[2 * i] |= p == high[i]
            found[2 * i + 1] |= p == low[i]
    return tuple(found)


def checked_limits(what: str, level: Level, limits: Mapping[str, float]) -> dict[str, float]:
    """The limits of a body's speed by axis ("x": both ways) or direction ("up", "down"); raises ModelError for another."""
    known = tuple(level.axes)
    if level.has_up:
        known += ("up", "down")
    found = {}
    for name, most in limits.items():
        if name in ("up", "down") and not level.has_up:
            raise ModelError(f"{what} has a limit {name!r}, and this level has no up")
        if name not in known:
            raise ModelError(unknown_name("axis or direction", name, known, f"the limit of {what}"))
        found[name] = number(what, f"limit of {name}", most, 0.0)
    return found


def limited(velocity: list[float], limits: Mapping[str, float], level: Level) -> None:
    """Holds a velocity within its limits."""
    for name, most in limits.items():
        if name in ("up", "down"):
            i, toward = level.up_axis, level.up_sign
            if name == "down":
                toward = -toward
            # Only that way: faster up than `down` allows is no matter of it.
            if velocity[i] * toward > most:
                velocity[i] = math.copysign(most, toward)
        else:
            i = level.axes.index(name)
            velocity[i] = max(-most, min(most, velocity[i]))
