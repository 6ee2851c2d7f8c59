"""Replaying: the trace's own inputs, seed, rate and params run again, and the first row where anything differs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from larktally.comparing.divergence import Divergence, first_divergence
from larktally.comparing.tolerance import Tolerances, tolerances_for
from larktally.errors import SubjectFailed
from larktally.explain.causes import Causes, causes_of_divergence
from larktally.explain.following import runs_alike
from larktally.report import Report
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike
from larktally.traces.marks import without_marks
from larktally.traces.trace import Trace

__all__ = ["Replay", "replay"]

# Values that a second recording would hold: an hour of a sim with a dozen channels.
LONG = 1 << 22


@dataclass(frozen=True, slots=True)
class Replay:
    """A recording and its run again; `identical` where every channel, event and input agrees bit for bit. Of a long one that is
    identical, `replayed` is the recording itself.

    `added` and `removed` are channels that only the new run, or only the recording, has. `causes` is what made the
    channels that diverged what they are now: who set them and what the machines decided, for a sim.
    """

    recorded: Trace
    replayed: Trace
    divergence: Divergence | None
    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    causes: Causes | None = None

    @property
    def identical(self) -> bool:
        """Whether both hold the same channels, rows and events."""
        return self.divergence is None and not self.added and not self.removed

    def _lines(self) -> list[str]:
        """What came of it, a line each."""
        lines = []
        if self.added:
            lines.append(f"channels that the recording does not have: {', '.join(self.added)}")
        if self.removed:
            lines.append(f"channels that the run does not have any more: {', '.join(self.removed)}")
        if self.divergence is not None:
            lines.append(str(self.divergence))
            if self.causes is not None:
                lines.append(self.causes.told())
        elif not lines:
            size = (
                f"{self.recorded.rows} rows, {len(self.recorded.channels)} channels, {len(self.recorded.events)} events"
            )
            lines.append(f"identical: {size}")
        else:
            lines.append("what both have is identical")
        return "\n".join(lines).splitlines()

    def plain(self) -> dict[str, Any]:
        """The outcome as plain data, for JSON."""
        divergence = self.divergence
        return {
            "identical": self.identical,
            "rows": self.recorded.rows,
            "row": divergence and divergence.row,
            "what": divergence and divergence.what,
            "recorded": divergence and divergence.first,
            "replayed": divergence and divergence.second,
            "part": divergence and divergence.part,
            "added": self.added,
            "removed": self.removed,
            "causes": self.causes and self.causes.plain(),
        }

    def report(self) -> Report:
        """What came of it."""
        return Report.of_lines(self._lines())

    def __str__(self) -> str:
        return self.report().text()


def replay(trace: Trace, scenario: Scenario | SubjectLike, tolerance: Tolerances = None) -> Replay:
    """Runs a trace's own inputs, seed, rate and params again and compares every row, exactly or by a tolerance.

    `tolerance` is a number, an lt.Tolerance, or one for each channel pattern. A recording made by another version of the
    gameplay is compared in the channels that both have; what was added and removed is named.

    Raises SubjectFailed where the subject fails in a row that the recording has, and LarkTallyError for a trace that cannot
    be run again.
    """
    # What a player marked no subject emits.
    trace = without_marks(trace)
    again = Scenario.from_trace(trace, scenario)
    # Of a run of hours a second one need not be held to see that it is the same; where it is not, the way below tells how.
    if tolerance is None and trace.rows * len(trace.columns) > LONG and _whole(trace) and runs_alike(trace, again):
        return Replay(trace, trace, None)
    try:
        found = record(again)
    except SubjectFailed as failure:
        # A run that fails after the recording's end, as that one did, still has all of its rows.
        if failure.trace is None or failure.trace.rows < trace.rows:
            raise
        found = failure.trace
    # A recording that kept some channels is compared in those.
    only = set(trace.channels)
    added: tuple[str, ...] = ()
    if _whole(trace):
        added = tuple(name for name in found.channels if name not in only)
    removed = tuple(name for name in trace.channels if name not in found.columns)
    both = []
    for name in trace.channels:
        if name in found.columns:
            both.append(name)
    divergence = first_divergence(trace, found, tolerances_for(tolerance, both))
    return Replay(trace, found, divergence, added, removed, causes_of_divergence(found, scenario, divergence))


def _whole(trace: Trace) -> bool:
    """Whether a trace holds all channels that its subject showed (it may have been recorded with only=)."""
    return not trace.header.filtered
