"""Intervals and delays: due every n frames, and once after n frames."""

from __future__ import annotations

from typing import ClassVar, Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.condition import Condition
from larktally.parts.timers.counted import CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["Interval", "Delay"]


class Interval(CountedTimer):
    """Due every n frames for as long as a condition holds, from row 0 on.

    n = 3, with no condition:

    ====  =====  ======
    row   left   due
    ====  =====  ======
    0     3      false
    1     2      false
    2     1      false
    3     3      true
    4     2      false
    6     3      true
    ====  =====  ======

    `runs_while` is text in the claim language, read in the timers phase: row k sees row k-1's end. While it does not hold
    the count waits (`otherwise="wait"`) or begins anew (`otherwise="reset"`). Machines of the row see `due`.

    Channels: `left` (frames), `due`. Events: due, paused, resumed, stopped.
    """

    events: ClassVar[tuple[str, ...]] = ("due", "paused", "resumed", "stopped")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        frames: Duration,
        *,
        runs_while: str | None = None,
        otherwise: Literal["wait", "reset"] = "wait",
        style: Style = None,
    ) -> None:
        super().__init__(sim, name, frames, style)
        if otherwise not in ("wait", "reset"):
            raise ModelError(f"interval {name!r}: otherwise is 'wait' or 'reset', not {otherwise!r}")
        self.otherwise, self.due = otherwise, False
        self._condition = Condition(self, runs_while)

    state_fields = (*CountedTimer.state_fields, "due", "otherwise")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(ChannelSpec("left", "left", "count"), ChannelSpec("due", "due", "flag"))

    def begin(self) -> None:
        self._condition.begin()
        # At once, so that no frame is lost between two: n frames apart, whatever n.
        self._begin()

    def start(self) -> None:
        """Begins to count anew."""
        self._begin_anew()

    def step(self) -> None:
        # Due is a matter of one row.
        self.due = False
        if not self._condition.holds():
            if self.otherwise == "reset" and self.running:
                self.start()
            return
        if self._over():
            self.due = True
            self.emit("due")
            self._begin()


class Delay(CountedTimer):
    """Due once, n frames after it was started, unless it is called off.

    n = 3, started in row 10:

    ====  =====  ======  ========
    row   left   due     event
    ====  =====  ======  ========
    10    3      false   started
    11    2      false
    12    1      false
    13    0      true    due
    14    0      false
    ====  =====  ======  ========

    Channels: `left` (frames), `due`. Events: started, due, called_off (left), paused, resumed, stopped.
    """

    events: ClassVar[tuple[str, ...]] = ("started", "due", "called_off", "paused", "resumed", "stopped")

    def __init__(self, sim: SimProtocol, name: str, frames: Duration, *, style: Style = None) -> None:
        super().__init__(sim, name, frames, style)
        self.due = False

    state_fields = (*CountedTimer.state_fields, "due")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(ChannelSpec("left", "left", "count"), ChannelSpec("due", "due", "flag"))

    def start(self) -> None:
        """Starts it; one that waits already starts again."""
        self._begin_anew()
        self.emit("started", left=self.left)

    def call_off(self) -> bool:
        """Calls it off; whether it was waiting."""
        if not self.left:
            return False
        self.emit("called_off", left=self.left)
        self.left, self.running = 0, False
        return True

    def step(self) -> None:
        self.due = False
        if self._over():
            self.due = True
            self.emit("due")

    def inlined(self) -> Inlined:
        return Inlined("me.due = False\nif me.running:\n    me.step()")
