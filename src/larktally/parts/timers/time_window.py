"""Time windows: open for n frames, so that what comes in them counts."""

from __future__ import annotations

from typing import Any, ClassVar

from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.condition import Condition
from larktally.parts.timers.counted import WHILE_RUNNING, CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["TimeWindow"]


class TimeWindow(CountedTimer):
    """Open for n frames: what comes in them counts.

    n = 3, opened in row 10: open in the rows 10, 11 and 12.

    ====  =====  ======  ========
    row   left   open    event
    ====  =====  ======  ========
    10    3      true    opened
    11    2      true
    12    1      true
    13    0      false   closed
    ====  =====  ======  ========

    `runs_while`, text in the claim language read in the timers phase, lets its time run only while it holds.

    Channels: `left` (frames), `open`. Events: opened, closed, taken, paused, resumed, stopped.
    """

    events: ClassVar[tuple[str, ...]] = ("opened", "closed", "taken", "paused", "resumed", "stopped")

    def __init__(
        self, sim: SimProtocol, name: str, frames: Duration, *, runs_while: str | None = None, style: Style = None
    ) -> None:
        super().__init__(sim, name, frames, style)
        self._condition = Condition(self, runs_while)

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(ChannelSpec("left", "left", "count"), ChannelSpec("open", "is_open", "flag"))

    @property
    def is_open(self) -> bool:
        """Whether it is open now."""
        return self.left > 0

    def begin(self) -> None:
        self._condition.begin()

    def open(self, **data: Any) -> None:
        """Opens it for its whole length, anew where it is open."""
        self._begin_anew()
        self.emit("opened", **data)

    def take(self) -> bool:
        """Takes what it is open for, and shuts it; whether it was open."""
        if not self.left:
            return False
        self.left, self.running = 0, False
        self.emit("taken")
        return True

    def step(self) -> None:
        if self.running and self._condition.holds() and self._over():
            self.emit("closed")

    def inlined(self) -> Inlined:
        return WHILE_RUNNING
