"""The scene of a sim: its level, its bodies and what else can be drawn, as plain data for pictures."""

from __future__ import annotations

from typing import Any

from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.attached_box import AttachedBox
from larktally.parts.space.body import Body
from larktally.parts.space.box import Round
from larktally.parts.space.door import Door
from larktally.parts.space.enclosure import Enclosure
from larktally.parts.space.fan_part import Fan
from larktally.parts.space.hitbox import Hitbox
from larktally.parts.space.platform import Platform
from larktally.parts.space.zone import Zone

__all__ = ["scene_of"]

# More boxes than these are a smear on a picture, and would make every header large.
MOST_DRAWN = 2000


def scene_of(sim: SimProtocol) -> dict[str, Any]:
    """Level and bodies as plain data, for pictures; without the boxes where there are very many."""
    scene = sim.level.plain(MOST_DRAWN)
    bodies = sim.parts_of(Body)
    # "before" is the trace format's own word for how far a body reaches below its anchor.
    scene["bodies"] = {body.name: {"size": body.size, "before": body.near.extent_low} for body in bodies}
    scene["platforms"] = {platform.name: list(platform.size) for platform in sim.parts_of(Platform)}
    doors = [door.name for door in sim.parts_of(Door)]
    # Only where there are any: the scenes of earlier traces say nothing of them.
    if doors:
        scene["doors"] = doors
    scene["enclosures"] = [enclosure.name for enclosure in sim.parts_of(Enclosure)]
    scene["zones"] = {zone.name: [[box.low, box.high] for box in zone.boxes] for zone in sim.parts_of(Zone)}
    rounds = {}
    for zone in sim.parts_of(Zone):
        discs = [[piece.centre, piece.radius] for piece in zone.boxes if isinstance(piece, Round)]
        if discs:
            rounds[zone.name] = discs
    if rounds:
        scene["rounds"] = rounds
    attached = {box.name: isinstance(box, Hitbox) for box in sim.parts_of(AttachedBox) if "box" in box.shows}
    if attached:
        scene["attached"] = attached
    fans = {}
    for one in sim.parts_of(Fan):
        fans[one.name] = {
            "body": one.body.name,
            "side": one.side,
            "rays": one.rays,
            "length": one.length,
            "inset": one.inset,
        }
    if fans:
        scene["fans"] = fans
    return scene
