"""Why a row is what it is: decisions, writes and lines, found by running a recording again and watching one step."""

from larktally.runs.explaining.causes import Causes, causes
from larktally.runs.explaining.deciding import Why, why
from larktally.runs.explaining.writers import Written, who_wrote

__all__ = ["Causes", "Why", "Written", "causes", "who_wrote", "why"]
