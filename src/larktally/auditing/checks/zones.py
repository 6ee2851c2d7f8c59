"""Zones inside of solids: nobody can ever be in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.parts.space.body import Body
from larktally.parts.space.zone import Zone

__all__ = ["look"]

NAME = "zone in a solid"


def look(seen: Seen) -> Iterator[Finding]:
    """A zone whose every box lies inside of one solid box of the level, as far as the bodies that it watches stop at that.

    Not: a zone that reaches out of the ground.
    """
    # Told by the scene first: building a sim takes longer than all other checks of a short run together.
    if not _may_be(seen.trace.header.scene) or seen.sim is None:
        return
    for zone in seen.sim.parts_of(Zone):
        watched = [body for body in zone.watched if isinstance(body, Body)]
        solid = []
        for box in seen.sim.level.boxes:
            if not box.one_way and all(body.near.stops_at(box.layer) for body in watched):
                solid.append(box)
        if watched and zone.boxes and all(any(_holds(box, piece) for box in solid) for piece in zone.boxes):
            told = "lies inside of a solid: no body that it watches can ever be in it"
            claim = f"eventually(event('entered', source={zone.name!r}))"
            yield Finding(NAME, zone.name, told, "sure", claim=claim, weight=2, more="larktally plot TRACE")


def _may_be(scene: Mapping[str, Any]) -> bool:
    """Whether any zone of a scene lies inside of a solid box, whoever stops at that."""
    solid = [box for box in scene.get("boxes", ()) if not box[3]]
    for pieces in scene.get("zones", {}).values():
        if all(any(_around(box, piece) for box in solid) for piece in pieces):
            return True
    return False


def _around(box: Sequence[Any], piece: Sequence[Any]) -> bool:
    sides = zip(box[0], piece[0], piece[1], box[1], strict=True)
    return all(a <= b and c <= d for a, b, c, d in sides)


def _holds(box: object, piece: object) -> bool:
    sides = zip(box.low, piece.low, piece.high, box.high, strict=True)  # type: ignore[attr-defined]
    return all(a <= b and c <= d for a, b, c, d in sides)
