"""Levels, boxes, sweeps and bodies: where things are, how they move, and what they meet."""
