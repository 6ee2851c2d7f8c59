"""What is done with subjects: scenarios, recording, replaying, comparing."""

from larktally.runs.deciding import Why, why
from larktally.runs.live import Live, run_to
from larktally.runs.recording import record
from larktally.runs.replaying import Replay, replay
from larktally.runs.scenario import Scenario

__all__ = ["Live", "Replay", "Scenario", "Why", "record", "replay", "run_to", "why"]
