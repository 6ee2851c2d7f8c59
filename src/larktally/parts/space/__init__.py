"""Levels, boxes, sweeps and bodies: where things are, how they move, and what they meet."""

from larktally.parts.space.body import Body
from larktally.parts.space.hop import apex, launch_for
from larktally.parts.space.level import Box, Level, box_at
from larktally.parts.space.ranges import distance, in_front, nearest, touching, within_radius_ahead
from larktally.parts.space.rays import Hit, fan, many_rays, ray

__all__ = [
    "Body",
    "Box",
    "Hit",
    "Level",
    "apex",
    "box_at",
    "distance",
    "fan",
    "in_front",
    "launch_for",
    "many_rays",
    "nearest",
    "ray",
    "touching",
    "within_radius_ahead",
]
