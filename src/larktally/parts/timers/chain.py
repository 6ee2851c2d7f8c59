"""Chain counters: 0, 1, 2, 0, … on each use, back to 0 where the next use comes too late."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import ClassVar, TypeVar

from larktally.errors import ClaimError, ModelError
from larktally.language.parsing import parse
from larktally.language.tree import Call, Text
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

    `opens_on="event('landed', source='wick')"`: the frames for the next step are counted from that event on and not from the
    use; until it falls nothing lapses. Three steps within 3 frames, used in rows 10 and 22, landed in rows 20 and 40:

    ====  ======  ======  ==============
    row   step    left    event
    ====  ======  ======  ==============
    10    1       0       used step=0
    20    1       3       opened
    21    1       2
    22    2       0       used step=1
    40    2       3       opened
    43    0       0       lapsed step=2
    ====  ======  ======  ==============

    `within=("12f", "6f", "2f")` gives each step its own: those after step 0, 1 and 2 was taken.

    Channels: the step that comes next, `left` (frames). Events: used (step), lapsed (step), broken_off, opened.
    """

    events: ClassVar[tuple[str, ...]] = ("used", "lapsed", "broken_off", "paused", "resumed", "stopped")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        steps: int,
        within: Duration | Sequence[Duration],
        *,
        runs_while: str | None = None,
        opens_on: str | None = None,
        style: Style = None,
    ) -> None:
        # The frames after each step, where every step has its own.
        self._own: tuple[Duration, ...] = ()
        if not isinstance(within, str | int | Fraction):
            self._own = tuple(within)
            if len(self._own) != steps:
                raise ModelError(
                    f"chain {name!r} has {steps!r} steps, and within= has {len(self._own)} lengths: one for each"
                )
            within = self._own[0]
        super().__init__(sim, name, within, style)
        for one in self._own:
            self._length(one)
        if not isinstance(steps, int) or isinstance(steps, bool) or steps < 2:
            raise ModelError(f"chain {name!r} has a whole number of steps, at least 2, not {steps!r}")
        self.steps = steps
        self.next = 0
        self._condition = Condition(self, runs_while)
        self.opens_on = opens_on
        self._event = _event_of(name, opens_on)
        # Whether a step was taken whose window has not opened yet.
        self.waiting = False

    state_fields = (*CountedTimer.state_fields, "next", "steps", "waiting")

    def event_names(self) -> tuple[str, ...]:
        return self.events if self.opens_on is None else (*self.events, "opened")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(ChannelSpec("", "next", "count"), ChannelSpec("left", "left", "count"))

    def begin(self) -> None:
        self._condition.begin()
        if self._event is not None:
            event, source = self._event
            if source is not None and f"{self.scope}.{source}" in self.sim.parts:
                source = f"{self.scope}.{source}"
            self.sim.listen(event, source, self._open)

    def use(self) -> int:
        """Takes the next step; its number, from 0, as it was before the counter moved."""
        # Read before the counter moves: an animation picked after it is one step late.
        step = self.next
        self.next = (step + 1) % self.steps
        if self._own:
            self.change(self._own[step])
        if self.opens_on is None:
            self._begin_anew()
        else:
            self.left, self.running, self.waiting = 0, False, True
        self.emit("used", step=step)
        return step

    def pick(self, *values: T) -> T:
        """Takes the next step and returns its own value: `wick.launch(vy=hops.pick(300, 340, 400))`."""
        if len(values) != self.steps:
            raise ModelError(f"chain {self.name!r} has {self.steps} steps, and pick was given {len(values)} values")
        return values[self.use()]

    def _open(self) -> None:
        """The event has fallen that the window of the step taken waits for."""
        if self.waiting and self.takes_part:
            self.waiting = False
            self._begin_anew()
            self.emit("opened")

    def break_off(self) -> None:
        """Back to step 0 at once."""
        if self.next or self.left or self.waiting:
            self.emit("broken_off", step=self.next)
        self.next, self.left, self.running, self.waiting = 0, 0, False, False

    def stop(self) -> None:
        self.break_off()

    def step(self) -> None:
        if self.running and self._condition.holds() and self._over():
            self.emit("lapsed", step=self.next)
            self.next = 0


def _event_of(name: str, text: str | None) -> tuple[str, str | None] | None:
    """The event that a text names, and its source: the text is event('landed') or event('landed', source='wick')."""
    if text is None:
        return None
    try:
        match parse(text):
            case Call("event", (Text(event),), ()):
                return event, None
            case Call("event", (Text(event),), (("source", Text(source)),)):
                return event, source
    except ClaimError as error:
        raise ModelError(f"chain {name!r}: opens_on: {error}") from None
    raise ModelError(f"chain {name!r} opens on an event: opens_on=\"event('landed', source='wick')\", not {text!r}")
