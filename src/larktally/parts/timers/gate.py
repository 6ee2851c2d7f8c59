"""Gates and grace: what lets a touch count once, however long it lasts."""

from __future__ import annotations

from typing import ClassVar

from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.counted import CountedTimer
from larktally.summed import Style
from larktally.timing import Duration

__all__ = ["Gate", "Grace"]


class Gate(CountedTimer):
    """Ready, due, or locked until a time: one touch is due once, however long it lasts.

    `ask` in every row of a touch makes a ready gate due; the rule that acts takes it with `take`, which locks it for n
    frames. A touch that lasts longer than the lock does not open it: it becomes ready in the first row after the lock
    in whose row before nobody asked (with `once=False`, when the lock ends). n = 3, touched in rows 10 to 14:

    ====  =======  ======  ==========================
    row   gate     left    said
    ====  =======  ======  ==========================
    9     ready    0
    10    locked   3       due, taken
    11    locked   2
    12    locked   1
    13    locked   0       its time is over, the touch is not
    14    locked   0
    15    locked   0       nobody asks any more
    16    ready    0       ready
    ====  =======  ======  ==========================

    Channels: the gate's label, `left` (frames). Events: due, taken, ready, paused, resumed, stopped.
    """

    state_fields = (*CountedTimer.state_fields, "state", "once", "_asked")
    events: ClassVar[tuple[str, ...]] = ("due", "taken", "ready", "paused", "resumed", "stopped")

    def __init__(
        self, sim: SimProtocol, name: str, frames: Duration, *, once: bool = True, style: Style = None
    ) -> None:
        super().__init__(sim, name, frames, style)
        self.once = once
        self.state = "ready"
        # The frame of the last question: a touch that asks in each row is one touch.
        self._asked = -1

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(
            ChannelSpec("", "state", "label", ("ready", "due", "locked")), ChannelSpec("left", "left", "count")
        )

    def ask(self) -> bool:
        """A touch asks, in every row in which it lasts; whether the gate is due."""
        self._asked = self.sim.frame
        if self.state == "ready":
            self.state = "due"
            self.emit("due")
        return self.state == "due"

    def take(self) -> bool:
        """Takes what is due and locks the gate; whether anything was."""
        if self.state != "due":
            return False
        self.emit("taken")
        self.lock()
        return True

    def lock(self, frames: Duration | None = None) -> None:
        """Locks it from this row on, for its own length, or for another that is its own from now on."""
        if frames is not None:
            self.change(frames)
        self.state = "locked"
        self._begin_anew()

    def open(self) -> None:
        """Makes it ready at once."""
        self.state, self.left, self.running = "ready", 0, False

    def stop(self) -> None:
        super().stop()
        self.open()

    def step(self) -> None:
        if self.state != "locked" or self._started == self.sim.frame:
            return
        self._over()
        # Rules ask after the timers, so that the newest question known here is the one of the row before.
        if self.left == 0 and not (self.once and self._asked >= self.sim.frame - 1):
            self.state = "ready"
            self.emit("ready")

    def inlined(self) -> Inlined:
        return Inlined("if me.state == 'locked':\n    me.step()")


class Grace(Gate):
    """A hurt counts once, then none for n frames: `hurt` says whether one counts, and may be asked in every row.

    With n = 45 and a hurt in row 30, rows 30 to 74 are graced and the next may count in row 75; where the touch goes on
    all that while, it has to end first (`once=False`: it then counts again in row 75). A hurt that does not count is
    an event `spared`, once for each touch.

    Channels: the label ready, due or locked; `left` (frames); `active`. Events: hurt, spared, ready.
    """

    events = (*Gate.events, "hurt", "spared")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return (*super().channels(), ChannelSpec("active", "active", "flag"))

    @property
    def active(self) -> bool:
        """Whether a hurt would not count now."""
        return self.state == "locked"

    def hurt(self, **data: float | str) -> bool:
        """A hurt: whether it counts, which starts the grace. The data goes into the event `hurt`."""
        # Before asking, which notes this row: a touch is new where nobody asked in the row before.
        new = self._asked < self.sim.frame - 1
        if self.ask():
            self.take()
            self.emit("hurt", **data)
            return True
        if new:
            self.emit("spared", left=self.left)
        return False
