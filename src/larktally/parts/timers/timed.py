"""What counts down has in common: a length, the frames left, and the one rule of when it moves.

Started in step k with n frames, `left` is n at the end of row k and n-1 at the end of row k+1; it reaches 0 in row k+n.
It never moves in the step that started it. It counts the ticks of its clock, or every frame where it has none.
"""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING, Any, ClassVar

from larktally.errors import ModelError
from larktally.parts.part import Part, Shown
from larktally.summed import Style, Summed, as_style, frames_of
from larktally.timing import Duration, exact_seconds, frames_in

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Timed", "SUM"]

SUM = Shown("sum", "sum", "number")


class Timed(Part):
    """A part with one count of frames. `style="summed"`, or an lt.Summed, keeps a float beside it as a game's own code
    would, shown as `sum`, and the time is over when that float says so; `left` is then the frames until it does."""

    phase = "timers"
    kept: ClassVar[tuple[str, ...]] = ("frames", "left", "running", "sum", "_started", "_seconds", "_carry")

    def __init__(self, sim: Sim, name: str, frames: Duration, style: Style = None) -> None:
        super().__init__(sim, name)
        self.style: Summed | None = as_style(style)
        self.left = 0
        self.running = False
        self.sum = 0.0
        self._started = -1
        self._carry = 0.0
        self._seconds = ""
        self.frames = self._length(frames)

    @property
    def kind(self) -> str:
        """What messages call it."""
        return type(self).__name__.lower()

    def pause(self) -> None:
        """Stands still, from the next frame on, until it is resumed; where it does not run this changes nothing."""
        if self.running:
            self.running = False
            self.say("paused", left=self.left)

    def resume(self) -> None:
        """Goes on where it was paused."""
        if not self.running and self.left:
            self.running = True
            self.say("resumed", left=self.left)

    def stop(self) -> None:
        """Ends it before its time: nothing is left, and its end is not said."""
        if self.left:
            self.say("stopped", left=self.left)
        self.left, self.running, self._carry = 0, False, 0.0

    def change(self, frames: Duration) -> None:
        """Another length, from the next start on."""
        self.frames = self._length(frames)

    def _length(self, frames: Duration) -> int:
        """A length in whole frames; a summed one is kept in seconds too, and need not be whole."""
        what = f"{self.kind} {self.name!r}:"
        if self.style is None:
            return frames_in(frames, self.sim.rate, least=1, what=what)
        seconds = exact_seconds(frames, self.sim.rate, what=what)
        if seconds <= 0:
            raise ModelError(f"{what} {frames!r} is no time at all")
        self._seconds = str(seconds)
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

    def _begin_sum(self, style: Summed) -> tuple[int, float]:
        seconds, carry = Fraction(self._seconds), self._carry
        return frames_of(seconds, self.sim.rate, style, carry)[0], style.first(seconds, carry)

    def _over(self) -> bool:
        """One frame on, where it runs and was not started in this very step; whether its time is over now."""
        if not self.running or self._started == self.sim.frame:
            return False
        if self.style is not None:
            return self._sum_over(self.style)
        self.left -= 1
        if self.left:
            return False
        self.running = False
        return True

    def _sum_over(self, style: Summed) -> bool:
        seconds = Fraction(self._seconds)
        self.sum = style.next(self.sum, self.sim.rate)
        self.left -= 1
        if not style.over(self.sum, seconds):
            return False
        self._carry = style.carry(self.sum, seconds)
        self.left, self.running = 0, False
        return True

    def _channels(self, *shown: Shown) -> tuple[Shown, ...]:
        return (*shown, SUM) if self.style is not None else shown

    def load(self, saved: dict[str, Any]) -> None:
        for name, value in saved.items():
            setattr(self, name, value)
