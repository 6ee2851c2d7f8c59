"""Stopwatches: count up, note laps, stop at a finish."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.counted import SUM
from larktally.summed import Style, as_style
from larktally.timing import Rounding, whole_seconds

__all__ = ["Stopwatch"]


class Stopwatch(Part):
    """Counts up the frames since it was started; never in the step that started it.

    Started in row 10, a lap in row 12, finished in row 13:

    ====  ======  ========  ==================
    row   count   running   event
    ====  ======  ========  ==================
    10    0       true      started
    11    1       true
    12    2       true      lap
    13    3       false     finished
    14    3       false
    ====  ======  ========  ==================

    `seconds` is for a screen: whole seconds, rounded `show="down"` (the default), "up" or "nearest". A summed one shows
    the float that a game would have added up as `sum`.

    Channels: `count` (frames), `running`, `seconds`. Events: started, lap (number, count, split), finished (count),
    paused, resumed, stopped.
    """

    phase = "timers"
    state_fields = ("count", "running", "sum", "laps", "_lapped", "_started", "show")
    events: ClassVar[tuple[str, ...]] = ("started", "lap", "finished", "paused", "resumed", "stopped")

    def __init__(
        self, sim: SimProtocol, name: str, *, show: Rounding = "down", running: bool = False, style: Style = None
    ) -> None:
        super().__init__(sim, name)
        if show not in ("up", "down", "nearest"):
            raise ModelError(f"stopwatch {name!r}: show rounds 'up', 'down' or 'nearest', not {show!r}")
        self.show, self.runs_from_reset, self.style = show, running, as_style(style)
        self.count = 0
        self.running = False
        self.sum = 0.0
        self.laps = 0
        self._lapped = 0
        self._started = -1
        if self.style is not None:
            # The one float that a game adds in each frame, made once: rounded to its width as the game rounds it.
            self._step = self.style.kind(float(1 / sim.rate))
        else:
            self._step = np.float64(0.0)

    def channels(self) -> tuple[ChannelSpec, ...]:
        shown = (
            ChannelSpec("count", "count", "count"),
            ChannelSpec("running", "running", "flag"),
            ChannelSpec("seconds", "seconds", "count"),
        )
        if self.style is not None:
            return (*shown, SUM)
        return shown

    @property
    def seconds(self) -> int:
        """The whole seconds counted, for a screen."""
        return whole_seconds(self.count, self.sim.rate, self.show)

    def begin(self) -> None:
        if self.runs_from_reset:
            self.start()

    def start(self) -> None:
        """Starts from 0; a running one starts again."""
        self.count, self.sum, self.laps, self._lapped = 0, 0.0, 0, 0
        self.running, self._started = True, self.sim.frame
        self.emit("started")

    def restart(self) -> None:
        """Starts again from 0."""
        self.start()

    def lap(self) -> int:
        """Notes a lap; the frames since the one before, or since the start. It runs on."""
        split = self.count - self._lapped
        self.laps += 1
        self._lapped = self.count
        self.emit("lap", number=self.laps, count=self.count, split=split)
        return split

    def finish(self) -> int:
        """Stops at a finish, where it runs; the frames counted."""
        if self.running:
            self.running = False
            self.emit("finished", count=self.count)
        return self.count

    def pause(self) -> None:
        """Stands still from the next frame on."""
        if self.running:
            self.running = False
            self.emit("paused", count=self.count)

    def resume(self) -> None:
        """Goes on from where it stands."""
        if not self.running:
            self.running = True
            self.emit("resumed", count=self.count)

    def stop(self) -> None:
        """Stops, and stands at 0 again."""
        if self.running or self.count:
            self.emit("stopped", count=self.count)
        self.running, self.count, self.sum = False, 0, 0.0

    def step(self) -> None:
        if not self.running or self._started == self.sim.frame:
            return
        self.count += 1
        if self.style is not None:
            self.sum = float(self.style.kind(self.sum) + self._step)

    def inlined(self) -> Inlined:
        if self.style is not None:
            return Inlined("if me.running:\n    me.step()")
        return Inlined("if me.running and me._started != frame:\n    me.count += 1")
