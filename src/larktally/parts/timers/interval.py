"""Intervals, delays and openings: every n frames, once after n frames, and open for n frames."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from larktally.errors import ModelError
from larktally.parts.part import Shown
from larktally.parts.timers.condition import Condition
from larktally.parts.timers.timed import Timed
from larktally.summed import Style
from larktally.timing import Duration

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Interval", "Delay", "Opening"]


class Interval(Timed):
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
        sim: Sim,
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

    kept = (*Timed.kept, "due")

    def channels(self) -> tuple[Shown, ...]:
        return self._channels(Shown("left", "left", "count"), Shown("due", "due", "flag"))

    def begin(self) -> None:
        self._condition.begin()
        self._begin()

    def start(self) -> None:
        """Begins to count anew."""
        self._begin_anew()

    def step(self) -> None:
        self.due = False
        if not self._condition.holds():
            if self.otherwise == "reset" and self.running:
                self.start()
            return
        if self._over():
            self.due = True
            self.say("due")
            self._begin()


class Delay(Timed):
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

    def __init__(self, sim: Sim, name: str, frames: Duration, *, style: Style = None) -> None:
        super().__init__(sim, name, frames, style)
        self.due = False

    kept = (*Timed.kept, "due")

    def channels(self) -> tuple[Shown, ...]:
        return self._channels(Shown("left", "left", "count"), Shown("due", "due", "flag"))

    def start(self) -> None:
        """Starts it; one that waits already starts again."""
        self._begin_anew()
        self.say("started", left=self.left)

    def call_off(self) -> bool:
        """Calls it off; whether it was waiting."""
        if not self.left:
            return False
        self.say("called_off", left=self.left)
        self.left, self.running = 0, False
        return True

    def step(self) -> None:
        self.due = False
        if self._over():
            self.due = True
            self.say("due")


class Opening(Timed):
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
        self, sim: Sim, name: str, frames: Duration, *, runs_while: str | None = None, style: Style = None
    ) -> None:
        super().__init__(sim, name, frames, style)
        self._condition = Condition(self, runs_while)

    def channels(self) -> tuple[Shown, ...]:
        return self._channels(Shown("left", "left", "count"), Shown("open", "is_open", "flag"))

    @property
    def is_open(self) -> bool:
        """Whether it is open now."""
        return self.left > 0

    def begin(self) -> None:
        self._condition.begin()

    def open(self, **data: Any) -> None:
        """Opens it for its whole length, anew where it is open."""
        self._begin_anew()
        self.say("opened", **data)

    def take(self) -> bool:
        """Takes what it is open for, and shuts it; whether it was open."""
        if not self.left:
            return False
        self.left, self.running = 0, False
        self.say("taken")
        return True

    def step(self) -> None:
        if self.running and self._condition.holds() and self._over():
            self.say("closed")
