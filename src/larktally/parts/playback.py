"""A recording led into a body: a ghost that goes where the recording went, by a sweep, and is let go at its end."""

from __future__ import annotations

import math

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.space.body import Body
from larktally.traces.trace import Trace

__all__ = ["Playback"]


class Playback(Part):
    """Leads a body along what a trace recorded of `of`, another body's name; between the rows of a thinned recording on a line.

    `play()` in row k leads it to the recording's row 0 in that row's motion, to row n in row k+n, by a sweep: where a solid is
    in the way it stays behind, and `off` says how far. In the row of the last it says `finished`, and from the next on the
    body goes by its own velocity again, as after `stop()`. Frames count and not seconds, whatever the recording's rate.

    Channels: `frame` (of the recording), `running`, `off`. Events: started, finished. Raises ModelError for a trace that does not
    hold that body's place.
    """

    phase = "animations"
    channel_specs = (
        ChannelSpec("frame", "frame", "count"),
        ChannelSpec("running", "running", "flag"),
        ChannelSpec("off", "off", "number"),
    )
    state_fields = ("frame", "running", "_started")
    events = ("started", "finished")

    def __init__(self, sim: SimProtocol, name: str, trace: Trace, body: Body, of: str) -> None:
        super().__init__(sim, name)
        self.body, self.of = body, of
        self._places = []
        for axis in body.axes:
            channel = f"{of}.{axis}"
            if channel not in trace.columns:
                raise ModelError(
                    f"playback {name!r}: {unknown_name('channel', channel, trace.columns, 'the recording')}"
                )
            self._places.append(channel)
        if not trace.rows:
            raise ModelError(f"playback {name!r}: the recording has no rows")
        self._trace = trace
        self.last = int(trace.row_frames[-1])
        self.frame, self.running, self._started = 0, False, -1
        body.leader = self._way

    def play(self) -> None:
        """Begins at the recording's row 0, in this row."""
        self.frame, self.running, self._started = 0, True, self.sim.frame
        self.emit("started")

    def stop(self) -> None:
        """Lets the body go."""
        self.running = False

    @property
    def off(self) -> float:
        """How far the body is from where the recording was; 0 where it does not run."""
        if not self.running:
            return 0.0
        return math.dist(self.body.position, self._goal())

    def step(self) -> None:
        if not self.running or self._started == self.sim.frame:
            return
        if self.frame >= self.last:
            self.running = False
            return
        self.frame += 1
        if self.frame == self.last:
            self.emit("finished")

    def _goal(self) -> list[float]:
        return [float(self._trace.at(channel, self.frame)) for channel in self._places]

    def _way(self) -> list[float] | None:
        """The displacement that leads there; None where the body is left to itself."""
        if not self.running:
            return None
        return [goal - p for goal, p in zip(self._goal(), self.body.position, strict=True)]
