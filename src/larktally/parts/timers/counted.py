"""What counts down has in common: a length, the frames left, and the one rule of when it moves.

Started in step k with n frames, `left` is n at the end of row k and n-1 at the end of row k+1; it reaches 0 in row k+n.
It never moves in the step that started it. It counts the ticks of its clock, or every frame where it has none.
"""

from __future__ import annotations

from fractions import Fraction
from typing import ClassVar

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.summed import Style, SummedTimer, as_style, clock_at, frames_of, frames_on_clock
from larktally.timing import Duration, exact_seconds, frames_in

__all__ = ["COUNTED_DOWN", "CountedTimer", "SUM", "WHILE_RUNNING"]

SUM = ChannelSpec("sum", "sum", "number")
# The step of a timer that does nothing while it does not run.
WHILE_RUNNING = Inlined("if me.running:\n    me.step()")
# What `_over` does with one that is not summed, as lines; `over` is what is done when its time is over.
COUNTED_DOWN = """\
if me.running and me._started != frame:
    me.left = left = me.left - 1
    if not left:
        me.running = False
        {over}"""


class CountedTimer(Part):
    """A part with one count of frames. `style="summed"`, or an lt.SummedTimer, keeps a float beside it as a game's own code
    would, shown as `sum`, and the time is over when that float says so; `left` is then the frames until it does."""

    phase = "timers"
    state_fields: ClassVar[tuple[str, ...]] = (
        "frames", "written", "left", "running", "sum", "_started", "_seconds", "_carry",
    )  # fmt: skip

    def __init__(self, sim: SimProtocol, name: str, frames: Duration, style: Style = None) -> None:
        super().__init__(sim, name)
        self.style: SummedTimer | None = as_style(style)
        self.left = 0
        self.running = False
        self.sum = 0.0
        self._started = -1
        self._carry = 0.0
        # Text of an exact fraction: it is part of the saved state, and a float would round it.
        self._seconds = ""
        self.frames = self._length(frames)
        #: Its length as it was written: a time that was rounded is no whole number of frames.
        self.written = frames

    @property
    def kind(self) -> str:
        """What messages call it."""
        return type(self).__name__.lower()

    def pause(self) -> None:
        """Stands still, from the next frame on, until it is resumed; where it does not run this changes nothing."""
        if self.running:
            self.running = False
            self.emit("paused", left=self.left)

    def resume(self) -> None:
        """Goes on where it was paused."""
        if not self.running and self.left:
            self.running = True
            self.emit("resumed", left=self.left)

    def stop(self) -> None:
        """Ends it before its time: nothing is left, and its end is not said."""
        if self.left:
            self.emit("stopped", left=self.left)
        self.left, self.running, self._carry = 0, False, 0.0

    def change(self, frames: Duration) -> None:
        """Another length, from the next start on."""
        self.frames = self._length(frames)
        self.written = frames

    def _length(self, frames: Duration) -> int:
        """A length in whole frames; a summed one is kept in seconds too, and need not be whole."""
        what = f"{self.kind} {self.name!r}:"
        if self.style is None:
            return frames_in(frames, self.sim.rate, least=1, what=what)
        # A game that sums floats can be given a time that is no whole number of frames: where it ends is what is asked.
        seconds = exact_seconds(frames, self.sim.rate, what=what)
        if seconds <= 0:
            raise ModelError(f"{what} {frames!r} is no time at all")
        self._seconds = str(seconds)
        if self.style.direction == "clock":
            return frames_on_clock(0, self.style.target(0.0, seconds), self.sim.rate, self.style)
        return frames_of(seconds, self.sim.rate, self.style)[0]

    def _begin(self) -> None:
        """Begins to count its whole length."""
        self.left, self.running, self._started = self.frames, True, self.sim.frame
        if self.style is not None:
            self.left, self.sum = self._begin_sum(self.style)

    def _begin_anew(self) -> None:
        """Begins to count its whole length, with nothing carried over from the time before."""
        self._carry = 0.0
        self._begin()

    def _begin_sum(self, style: SummedTimer) -> tuple[int, float]:
        seconds, carry = Fraction(self._seconds), self._carry
        if style.direction == "clock":
            now = clock_at(self._tick, self.sim.rate, style.width)
            # Where the clock has to be takes the place of what is carried over.
            self._carry = style.target(now, seconds, carry)
            return frames_on_clock(self._tick, self._carry, self.sim.rate, style), now
        return frames_of(seconds, self.sim.rate, style, carry)[0], style.first(seconds, carry)

    def _over(self) -> bool:
        """One frame on, where it runs and was not started in this very step; whether its time is over now."""
        # A timer that a rule starts in the phase before its own must not lose a frame in the step that started it.
        if not self.running or self._started == self.sim.frame:
            return False
        if self.style is not None:
            return self._sum_over(self.style)
        self.left -= 1
        if self.left:
            return False
        self.running = False
        return True

    def _sum_over(self, style: SummedTimer) -> bool:
        seconds = Fraction(self._seconds)
        self.left -= 1
        if style.direction == "clock":
            return self._clock_over(style)
        checked_first = style.check == "before"
        over = checked_first and style.over(self.sum, seconds)
        if not over:
            self.sum = style.next(self.sum, self.sim.rate)
        if not (over or (not checked_first and style.over(self.sum, seconds))):
            return False
        self._carry = style.carry(self.sum, seconds)
        self.left, self.running = 0, False
        return True

    def _clock_over(self, style: SummedTimer) -> bool:
        self.sum = clock_at(self._tick, self.sim.rate, style.width)
        if not style.reached(style.kind(self.sum), style.kind(self._carry)):
            # The clock went on while it was paused.
            self.left = max(self.left, 1)
            return False
        self.left, self.running = 0, False
        return True

    def _channels(self, *shown: ChannelSpec) -> tuple[ChannelSpec, ...]:
        if self.style is not None:
            return (*shown, SUM)
        return shown
