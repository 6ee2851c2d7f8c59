"""Why a row is what it is, found by running a recording again and watching one step; and what some runs visited."""

from larktally.explain.causes import Causes, causes
from larktally.explain.coverage import Coverage, coverage
from larktally.explain.decisions import Why, why
from larktally.explain.noting_writers import who_wrote
from larktally.explain.writes import Write

__all__ = ["Causes", "Coverage", "Why", "Write", "causes", "coverage", "who_wrote", "why"]
