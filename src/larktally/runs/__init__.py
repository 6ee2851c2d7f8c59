"""What is done with subjects: scenarios, recording, replaying, comparing."""

from larktally.runs.recording import record
from larktally.runs.replaying import Replay, replay
from larktally.runs.scenario import Scenario

__all__ = ["Replay", "Scenario", "record", "replay"]
