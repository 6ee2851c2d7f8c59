"""Questions of space, for rules and for numbers of a model: rays, distances, and hops in closed form."""

from larktally.parts.space.hop import apex, launch_for
from larktally.parts.space.level import box_at
from larktally.parts.space.ranges import distance, in_front, nearest, touching, within_radius_ahead
from larktally.parts.space.rays import Hit, fan, many_rays, ray

__all__ = [
    "Hit",
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
