"""What is done with subjects: scenarios, recording, replaying, rewinding, comparing, baselines."""

from larktally.runs.auditing import Audit, audit
from larktally.runs.baselines import BaselineResult, Baselines
from larktally.runs.beside import side_by_side
from larktally.runs.comparing import Comparison, compare
from larktally.runs.explaining import Causes, Why, Written, causes, who_wrote, why
from larktally.runs.live import Live, run_to
from larktally.runs.recording import record
from larktally.runs.replaying import Replay, replay
from larktally.runs.scenario import Scenario
from larktally.runs.smallest import Searched, Smallest, find_breach, smallest
from larktally.runs.together import Together
from larktally.runs.tolerance import Tolerance
from larktally.runs.varying import Variant, Varied, vary

__all__ = [
    "Audit",
    "BaselineResult",
    "Baselines",
    "Causes",
    "Comparison",
    "Live",
    "Replay",
    "Scenario",
    "Searched",
    "Smallest",
    "Together",
    "Tolerance",
    "Variant",
    "Varied",
    "Why",
    "Written",
    "audit",
    "causes",
    "compare",
    "find_breach",
    "record",
    "replay",
    "run_to",
    "side_by_side",
    "smallest",
    "vary",
    "who_wrote",
    "why",
]
