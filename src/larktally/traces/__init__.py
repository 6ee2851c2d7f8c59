"""What a run leaves behind: the trace and its files."""

from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog, TraceEvent
from larktally.traces.files import load_trace
from larktally.traces.header import Header
from larktally.traces.trace import Trace

__all__ = ["Channel", "Column", "EventLog", "Header", "Trace", "TraceEvent", "load_trace"]
