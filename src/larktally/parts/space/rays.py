"""Rays: what is met in a direction, how far, where, and with which normal. One, a fan from a body's side, or many at once.

Slab test (Kay and Kajiya, "Ray tracing complex scenes", 1986). A ray that starts inside a box meets it at distance 0.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.errors import ModelError
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.parts.space.box import Box, Round, middle_of
from larktally.parts.space.crate import Crate
from larktally.parts.space.enclosure import Enclosure
from larktally.parts.space.level import Level
from larktally.parts.space.moving_box import MovingBox
from larktally.parts.space.positioned_box import layers_of
from larktally.parts.space.solid_query import ALWAYS_MET, REACH
from larktally.parts.space.zone import Zone

__all__ = ["Hit", "ray", "fan", "many_rays"]

MOST_PAIRS = 4_000_000


class Hit(NamedTuple):
    """What a ray met: distance from its origin, the point, the normal of the surface, the box or part, and, where it was
    one of a fan, which of its rays (0 is the first along the edge)."""

    distance: float
    point: tuple[float, ...]
    normal: tuple[int, ...]
    what: Any
    ray: int = 0


Target: TypeAlias = "Body | MovingBox | Zone | Box"
# A thing's corners, and the thing itself, which the hit names.
_Thing: TypeAlias = tuple[Sequence[float], Sequence[float], Any]


def ray(
    where: Level | SimProtocol,
    origin: Sequence[float],
    direction: Sequence[float],
    length: float,
    *,
    layers: Iterable[str] | None = None,
    bodies: Iterable[Target] = (),
    ignore: Iterable[Any] = (),
) -> Hit | None:
    """The nearest box or body within `length` along a direction (of any length but 0), or None.

    `where` is a level, or a sim: then its platforms and the walls of its enclosures are met too, on the layers `platform`
    and `enclosure`, its crates, and of the other bodies those on a layer that is named. `layers` are those that count (None:
    all), `bodies` further things to meet, bodies, platforms, enclosures (their walls), zones or boxes; `ignore` are those
    that do not count. Raises ModelError for a direction of no length, or what is not finite.
    """
    if isinstance(where, Level):
        scene = _Scene(where, layers, bodies, ignore)
    else:
        scene = _Scene(where.level, layers, bodies, ignore, where)
    size = math.hypot(*direction)
    if not (size > 0 and math.isfinite(size) and all(map(math.isfinite, origin)) and length >= 0):
        raise ModelError(f"a ray has a finite origin, a direction and a length, not {origin}, {direction}, {length}")
    # By dividing each component, as many_rays does: both give the same bits.
    unit = [component / size for component in direction]
    end = [p + component * length for p, component in zip(origin, unit, strict=True)]
    low, high = list(map(min, origin, end)), list(map(max, origin, end))
    if not isinstance(where, Level):
        movers, crates = _movers_near(where, low, high)
        scene.add_movers(movers)
        scene.add_bodies(_seen(where, layers, crates))
    scene.look_at(low, high)
    return scene.nearest_hit(origin, unit, length)


class _Scene:
    """What rays may meet: gathered once, however many of them look."""

    def __init__(
        self,
        level: Level,
        layers: Iterable[str] | None,
        bodies: Iterable[Target],
        ignore: Iterable[Any],
        sim: SimProtocol | None = None,
    ) -> None:
        self.grid = level.grid
        #: What of all that is near enough to be met.
        self.near: list[_Thing] = []
        self.wanted = None
        if layers is not None:
            known = set(ALWAYS_MET)
            if sim is not None:
                known |= layers_of(sim)
            self.wanted = level.check_layers(layers, known)
        self.ignored = list(ignore)
        self.others: list[_Thing] = []
        self.named = list(bodies)
        for target in self.named:
            if not self._is_ignored(target):
                self.others.extend(_things_of(target))

    def add_movers(self, movers: Iterable[MovingBox]) -> None:
        """Platforms and the like, on the layers that count."""
        for mover in movers:
            for box in mover.solid_boxes():
                if self._counts(box, mover):
                    self.others.append((box.low, box.high, mover))

    def add_bodies(self, bodies: Iterable[Body]) -> None:
        """Crates on the layers that count, and every other body on a layer that is named."""
        for body in bodies:
            seen = self.wanted is not None and body.layer in self.wanted
            if isinstance(body, Crate):
                seen = body.solid and (seen or self.wanted is None)
            if seen and body.takes_part and not self._is_ignored(body) and not _holds(self.named, body):
                self.others.append((body.low, body.high, body))

    def look_at(self, low: Sequence[float], high: Sequence[float]) -> None:
        """Gathers what may be met in a region: once for all the rays that stay inside of it."""
        things: list[_Thing] = []
        # Boxes in the level's order, then what moves, then the bodies as given: of two equally near the first counts.
        for box in self.grid.boxes_in(self.grid.key(low, high)):
            if self._counts(box, box):
                things.append((box.low, box.high, box))
        self.near = [thing for thing in (*things, *self.others) if not _apart(low, high, thing[0], thing[1])]

    def nearest_hit(self, origin: Sequence[float], unit: Sequence[float], length: float) -> Hit | None:
        """The nearest thing along a ray, of what was gathered about it."""
        best: Hit | None = None
        for box_low, box_high, what in self.near:
            found = _meet(origin, unit, length, box_low, box_high, what)
            if found is not None and (best is None or found.distance < best.distance):
                best = found
        return best

    def _counts(self, box: Box, what: Any) -> bool:
        """Whether a box is on one of the layers that count, and what it belongs to is not ignored."""
        return (self.wanted is None or box.layer in self.wanted) and not self._is_ignored(what)

    def _is_ignored(self, what: Any) -> bool:
        return _holds(self.ignored, what)


def _apart(
    low: Sequence[float], high: Sequence[float], other_low: Sequence[float], other_high: Sequence[float]
) -> bool:
    """Whether two boxes are so far apart that no rounding makes them touch; not where a corner is not a number."""
    for i, start in enumerate(low):
        if other_low[i] > high[i] + REACH or other_high[i] < start - REACH:
            return True
    return False


def _holds(things: Iterable[Any], what: Any) -> bool:
    """Whether one of them is this very thing."""
    return any(what is one for one in things)


def fan(
    body: Body,
    side: str,
    rays: int,
    length: float,
    *,
    inset: float = 0.5,
    layers: Iterable[str] | None = None,
    bodies: Iterable[Target] = (),
    ignore: Iterable[Any] = (),
) -> list[Hit]:
    """The hits of `rays` parallel rays from one side of a body ("+x", "-y", …), spread evenly over its edge.

    The rays begin `inset` inside the body, so that one standing flush still sees the ground, and keep `inset` from both
    ends of the edge. `length` and each hit's distance count from the edge: below 0 where the edge is inside of what was
    met, so that moving the body by the distance puts the edge on the surface; -inset, and no normal, where what was met
    reaches over the ray's beginning. The platforms, enclosures and crates that stop the body are met too, and bodies
    on a layer that is named. Exactly the rays that met something are in the list, in order along the edge, each with its
    number as `ray`. Raises ModelError for fewer
    than 2 rays, a side that is no axis, or an inset that leaves nothing of the body.
    """
    axes = body.axes
    if len(side) != 2 or side[0] not in "+-" or side[1] not in axes:
        raise ModelError(f"a fan looks along an axis, such as '-y' or '+x', not {side!r}")
    if not isinstance(rays, int) or rays < 2:
        raise ModelError(f"a fan has at least 2 rays, not {rays!r}")
    if not 0 <= inset * 2 <= min(body.size):
        raise ModelError(f"an inset of {inset!r} leaves nothing of a body of size {body.size}")
    axis, sign = axes.index(side[1]), 1 if side[0] == "+" else -1
    direction = [float(sign) if i == axis else 0.0 for i in range(len(axes))]
    if sign > 0:
        edge = body.high[axis]
    else:
        edge = body.low[axis]
    # It starts inside of the body that it looks out of.
    scene = _Scene(body.level, layers, bodies, [*ignore, body], body.sim)
    hits = []
    origins = _origins(body, axis, edge - sign * inset, rays, inset)
    low, high = list(map(min, *origins)), list(map(max, *origins))
    far = sign * (length + inset)
    low[axis], high[axis] = min(low[axis], low[axis] + far), max(high[axis], high[axis] + far)
    if not (all(map(math.isfinite, (*low, *high))) and length + inset >= 0):
        raise ModelError(f"a fan looks from where its body is, along a length, not from {low} along {length!r}")
    movers, crates = _movers_near(body.sim, low, high)
    scene.add_movers(mover for mover in movers if body.near.meets(mover.solid_boxes))
    # Not the crates that it walks through.
    seen = _seen(body.sim, layers, crates)
    scene.add_bodies(one for one in seen if not isinstance(one, Crate) or body.near.stops_at(one.layer))
    scene.look_at(low, high)
    for n, origin in enumerate(origins):
        found = scene.nearest_hit(origin, direction, length + inset)
        if found is not None:
            # A flush edge is 0.0 away on every side, and not -0.0 on two of them.
            hits.append(Hit(sign * (found.point[axis] - edge) + 0.0, found.point, found.normal, found.what, n))
    return hits


def _movers_near(
    sim: SimProtocol, low: Sequence[float], high: Sequence[float]
) -> tuple[Sequence[MovingBox], Sequence[Crate]]:
    """What moves by itself, and the crates, that may reach into a region, in the order in which they were made."""
    movers, boxes, crates = sim.movers, sim.parts_of(MovingBox), sim.parts_of(Crate)
    # As long as not all of them have begun nobody knows where they are.
    if len(movers.order) < len(boxes) + len(crates):
        return boxes, crates
    near = movers.near([p - REACH for p in low], [p + REACH for p in high])
    found: list[MovingBox] = [mover for mover in near if isinstance(mover, MovingBox)]
    # Few, and in no table.
    found += sim.parts_of(Enclosure)
    found.sort(key=lambda box: movers.order[box.solid_boxes])
    return found, [mover for mover in near if isinstance(mover, Crate)]


def _seen(sim: SimProtocol, layers: Iterable[str] | None, crates: Sequence[Crate]) -> Sequence[Body]:
    """The bodies that rays may meet: without layers crates alone, however many others there are."""
    if layers is None:
        return crates
    return sim.parts_of(Body)


def _things_of(target: Target) -> list[_Thing]:
    """What a ray meets of one that it was given."""
    boxes: Sequence[Any] = (target,)
    if isinstance(target, MovingBox):
        boxes = target.solid_boxes()
    elif isinstance(target, Zone):
        boxes = target.boxes
        if any(isinstance(box, Round) for box in boxes):
            raise ModelError(f"a ray meets boxes, and zone {target.name!r} is round: ask lt.geometry.distance")
    found: list[_Thing] = []
    for box in boxes:
        found.append((box.low, box.high, target))
    return found


def many_rays(
    level: Level,
    origins: npt.ArrayLike,
    directions: npt.ArrayLike,
    length: float,
    *,
    layers: Iterable[str] | None = None,
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """(distances, boxes) of n rays: float64, infinite where nothing is met; int64 indices into level.boxes, or -1.

    origins and directions are n x axes; directions need not be of length 1. Costs O(n · boxes) in whole arrays.
    """
    start = np.asarray(origins, dtype=np.float64)
    unit = np.asarray(directions, dtype=np.float64)
    if start.ndim != 2 or start.shape[1] != len(level.axes) or start.shape != unit.shape:
        raise ModelError(
            f"origins and directions are n x {len(level.axes)} numbers, not {start.shape} and {unit.shape}"
        )
    wanted = level.check_layers(layers)
    chosen = np.array([n for n, box in enumerate(level.boxes) if wanted is None or box.layer in wanted], dtype=np.int64)
    distances, indices = np.full(len(start), np.inf), np.full(len(start), -1, dtype=np.int64)
    if not len(chosen) or not len(start):
        return distances, indices
    unit = unit / np.linalg.norm(unit, axis=1, keepdims=True)
    low = np.array([level.boxes[n].low for n in chosen])
    high = np.array([level.boxes[n].high for n in chosen])
    # In parts, so that a million rays among a thousand boxes need no array of a thousand million.
    step = max(1, MOST_PAIRS // len(chosen))
    for first in range(0, len(start), step):
        part = slice(first, first + step)
        enter = _enter_times(start[part], unit[part], low, high, length)
        nearest = enter.argmin(axis=1)
        distances[part] = enter[np.arange(len(nearest)), nearest]
        indices[part] = np.where(np.isfinite(distances[part]), chosen[nearest], -1)
    return distances, indices


def _enter_times(start: Any, unit: Any, low: Any, high: Any, length: float) -> npt.NDArray[np.float64]:
    """Rays x boxes: the distance at which each ray enters each box, infinite where it does not."""
    enter = np.zeros((len(start), len(low)))
    leave = np.full((len(start), len(low)), float(length))
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        for i in range(start.shape[1]):
            # Divided as `ray` divides: the inverse of a tiny direction is infinite, and 0 times that is no number.
            one, other = (
                (low[:, i] - start[:, i, None]) / unit[:, i, None],
                (high[:, i] - start[:, i, None]) / unit[:, i, None],
            )
            # A ray along a face gives 0 / 0 = NaN: fmin and fmax let the other slab decide, and touching counts not.
            along = unit[:, i, None] == 0.0
            outside = along & ((start[:, i, None] <= low[:, i]) | (start[:, i, None] >= high[:, i]))
            np.fmax(enter, np.where(along, 0.0, np.minimum(one, other)), out=enter)
            np.fmin(leave, np.where(along, np.inf, np.maximum(one, other)), out=leave)
            leave[outside] = -1.0
    return np.where((enter < leave) | ((enter == leave) & (enter == length)), enter, np.inf)


def _meet(
    origin: Sequence[float],
    unit: Sequence[float],
    length: float,
    low: Sequence[float],
    high: Sequence[float],
    what: Any,
) -> Hit | None:
    # A ray that starts inside of a box meets it at once, at distance 0 and with no normal.
    enter, leave, axis = 0.0, math.inf, -1
    for i, component in enumerate(unit):
        if component == 0.0:
            if not low[i] < origin[i] < high[i]:
                return None
            continue
        if component > 0:
            near, far = (low[i], high[i])
        else:
            near, far = (high[i], low[i])
        first, last = (near - origin[i]) / component, (far - origin[i]) / component
        if first >= enter:
            enter, axis = first, i
        leave = min(leave, last)
    if enter >= leave or enter > length:
        return None
    surface = high
    if axis >= 0 and unit[axis] > 0:
        surface = low
    point = [p + component * enter for p, component in zip(origin, unit, strict=True)]
    normal = [0] * len(unit)
    if axis >= 0:
        # On the surface itself, not beside it by the rounding of the way there.
        point[axis] = surface[axis]
        normal[axis] = -1 if unit[axis] > 0 else 1
    return Hit(enter, tuple(point), tuple(normal), what)


def _origins(body: Body, axis: int, level: float, rays: int, inset: float) -> list[tuple[float, ...]]:
    """Points spread evenly along the edge of a side; along the first of its axes, in the middle of the others."""
    # In a room of three axes a fan is a row of rays, not a field of them.
    along = next(i for i in range(len(body.axes)) if i != axis)
    corner, end = body.low, body.high
    low, high = corner[along] + inset, end[along] - inset
    places = [low + (high - low) * n / (rays - 1) for n in range(rays)]
    middle = middle_of(corner, end)
    found: list[tuple[float, ...]] = []
    for place in places:
        origin = list(middle)
        origin[axis], origin[along] = level, place
        found.append(tuple(origin))
    return found
