"""Chain counters: 0, 1, 2, 0, … on each use, back to 0 where the next use comes too late."""

from __future__ import annotations

from typing import ClassVar, TypeVar

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.condition import Condition
from larktally.parts.timers.counted import CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["Chain"]

T = TypeVar("T")


class Chain(CountedTimer):
    """Which step of a chain comes next: 0 first; each `use` moves it on, and opens n frames for the next one.

    Three steps, n = 3, used in rows 10 and 12, and then not in time:

    ====  ======  ======  =================  ===================
    row   step    left    what use returned  event
    ====  ======  ======  =================  ===================
    9     0       0
    10    1       3       0                  used step=0
    11    1       2
    12    2       3       1                  used step=1
    13    2       2
    14    2       1
    15    0       0                          lapsed step=2
    ====  ======  ======  =================  ===================

    `use` returns the step that is taken now, read before the counter moves: pick a speed or an animation by that.
    `runs_while="wick.grounded"`, read in the timers phase, lets the time run only while it holds, so that a chain of
    hops does not lapse in mid-hop.

    Channels: the step that comes next, `left` (frames). Events: used (step), lapsed (step), broken_off.
    """

    events: ClassVar[tuple[str, ...]] = ("used", "lapsed", "broken_off", "paused", "resumed", "stopped")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        steps: int,
        within: Duration,
        *,
        runs_while: str | None = None,
        style: Style = None,
    ) -> None:
        super().__init__(sim, name, within, style)
        if not isinstance(steps, int) or isinstance(steps, bool) or steps < 2:
            raise ModelError(f"chain {name!r} has a whole number of steps, at least 2, not {steps!r}")
        self.steps = steps
        self.next = 0
        self._condition = Condition(self, runs_while)

    state_fields = (*CountedTimer.state_fields, "next", "steps")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(ChannelSpec("", "next", "count"), ChannelSpec("left", "left", "count"))

    def begin(self) -> None:
        self._condition.begin()

    def use(self) -> int:
        """Takes the next step; its number, from 0, as it was before the counter moved."""
        # Read before the counter moves: an animation picked after it is one step late.
        step = self.next
        self.next = (step + 1) % self.steps
        self._begin_anew()
        self.emit("used", step=step)
        return step

    def pick(self, *values: T) -> T:
        """Takes the next step and returns its own value: `wick.launch(vy=hops.pick(300, 340, 400))`."""
        if len(values) != self.steps:
            raise ModelError(f"chain {self.name!r} has {self.steps} steps, and pick was given {len(values)} values")
        return values[self.use()]

    def break_off(self) -> None:
        """Back to step 0 at once."""
        if self.next or self.left:
            self.emit("broken_off", step=self.next)
        self.next, self.left, self.running = 0, 0, False

    def stop(self) -> None:
        self.break_off()

    def step(self) -> None:
        if self.running and self._condition.holds() and self._over():
            self.emit("lapsed", step=self.next)
            self.next = 0
