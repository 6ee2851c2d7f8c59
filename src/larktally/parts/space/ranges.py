"""Questions between bodies: how far, how near, touching, in front, within a radius."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import TypeAlias, TypeVar

from larktally.errors import ModelError
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box, gap_between, gap_to
from larktally.parts.space.moving_box import MovingBox
from larktally.parts.space.zone import Zone

__all__ = ["distance", "nearest", "touching", "in_front", "within_radius_ahead"]

Other: TypeAlias = "Body | MovingBox | Zone | Box"
T = TypeVar("T", bound="Body | MovingBox | Zone | Box")


def distance(one: Body, other: Other, between: str = "centre") -> float:
    """How far two are apart, in level units, between their centres, feet or edges (0 where they overlap or touch).

    The other is a body, a platform, an enclosure (its inside), a zone (its box that is nearest) or a box.
    """
    if between == "feet" and isinstance(other, Zone):
        return math.dist(one.feet, other.underside(other.nearest(one)))
    other = _nearest_box(one, other)
    if between == "edges":
        if isinstance(other, Box):
            return gap_to(other, one.low, one.high)
        return gap_between(one.low, one.high, other.low, other.high)
    if between == "centre":
        return math.dist(one.centre, other.centre)
    # A box has corners and a middle; which side of it is down, only a level knows.
    if between == "feet" and not isinstance(other, Box):
        return math.dist(one.feet, other.feet)
    raise ModelError(f"a distance is between 'centre', 'feet' or 'edges', not {between!r}")


def nearest(one: Body, others: Iterable[T], between: str = "centre") -> tuple[T, float] | None:
    """The nearest of others and how far it is, itself left out; the first of equals; None where there is no other."""
    found = []
    for n, other in enumerate(others):
        if other is not one:
            found.append((distance(one, other, between), n, other))
    if found:
        return (lambda best: (best[2], best[0]))(min(found, key=lambda item: item[:2]))
    return None


def touching(one: Body, others: T | Iterable[T]) -> list[T]:
    """Those of some others, or of one, that it overlaps or touches, itself left out."""
    several: Iterable[T]
    if isinstance(others, Body | MovingBox | Zone | Box):
        several = (others,)
    else:
        several = others
    found: list[T] = []
    for other in several:
        if other is not one and distance(one, other, "edges") == 0.0:
            found.append(other)
    return found


def in_front(one: Body, other: Other, facing: float) -> bool:
    """Whether another's centre is on the side that it faces: facing 1 is +x, -1 is -x."""
    return (_nearest_box(one, other).centre[0] - one.centre[0]) * facing > 0


def within_radius_ahead(one: Body, other: Other, ahead: float, radius: float, facing: float) -> bool:
    """Whether any of another's box is within a radius of the point `ahead` units from its centre on the side it faces."""
    if not radius >= 0:
        raise ModelError(f"a radius is 0 or more, not {radius!r}")
    point: Sequence[float] = (one.centre[0] + math.copysign(ahead, facing), *one.centre[1:])
    boxes: Sequence[Other] = (other,)
    if isinstance(other, Zone):
        boxes = other.boxes
    for piece in boxes:
        if isinstance(piece, Box):
            gap = gap_to(piece, point, point)
        else:
            gap = gap_between(piece.low, piece.high, point, point)
        if gap <= radius:
            return True
    return False


def _nearest_box(one: Body, other: Other) -> Body | MovingBox | Box:
    """A zone is drawn in pieces, and between them nothing is: what counts of it is the piece that is nearest."""
    if isinstance(other, Zone):
        return other.nearest(one)
    return other
