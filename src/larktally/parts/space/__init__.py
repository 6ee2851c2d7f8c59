"""Levels, boxes, sweeps and bodies: where things are, how they move, and what they meet."""

from larktally.parts.space.body import Body
from larktally.parts.space.hop import apex, launch_for
from larktally.parts.space.level import Box, Level

__all__ = ["Body", "Box", "Level", "apex", "launch_for"]
