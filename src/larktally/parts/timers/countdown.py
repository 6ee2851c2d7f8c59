"""Countdowns: from a start value down to 0, with a screen's whole seconds beside the exact frames."""

from __future__ import annotations

from fractions import Fraction
from typing import ClassVar, Literal

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Inlined
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.counted import WHILE_RUNNING, CountedTimer
from larktally.summed import Style
from larktally.timing import Duration, Rounding, exact_seconds, frames_in, whole_seconds

__all__ = ["Countdown"]


class Countdown(CountedTimer):
    """Counts from its length to 0 and stops there: the night bell.

    n = 3, started in row 10, paused by a rule of row 11 and resumed by one of row 13:

    ====  =====  ========  ==================
    row   left   running   event
    ====  =====  ========  ==================
    9     0      false
    10    3      true      started
    11    2      false     paused
    12    2      false
    13    2      true      resumed
    14    1      true
    15    0      false     over
    ====  =====  ========  ==================

    `each="frame"` or `each="second"` says `tick` in each frame, or whenever the whole seconds shown change;
    `last="10s"` says `last` in the row in which so much is left, in the first where there never was more. `seconds` is
    for a screen: the whole seconds left of the time as it was written, rounded `show="up"` (the default: 1 until it is
    over), "down" or "nearest".

    Channels: `left` (frames), `running`, `seconds`. Events: started, tick (left, seconds), last, over, paused, resumed,
    stopped, added, refused (time added to one that is over).
    """

    events: ClassVar[tuple[str, ...]] = (
        "started",
        "tick",
        "last",
        "over",
        "paused",
        "resumed",
        "stopped",
        "added",
        "refused",
    )

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        frames: Duration,
        *,
        each: Literal["frame", "second"] | None = None,
        last: Duration | None = None,
        show: Rounding = "up",
        running: bool = False,
        style: Style = None,
    ) -> None:
        super().__init__(sim, name, frames, style)
        if each not in (None, "frame", "second"):
            raise ModelError(f"countdown {name!r}: each is 'frame' or 'second', not {each!r}")
        if show not in ("up", "down", "nearest"):
            raise ModelError(f"countdown {name!r}: show rounds 'up', 'down' or 'nearest', not {show!r}")
        self.each, self.show, self.runs_from_reset = each, show, running
        if last is None:
            self.last = 0
        else:
            self.last = frames_in(last, sim.rate, least=1, what=f"last of countdown {name!r}:")
        # The whole seconds that a screen showed last: a tick is where they change.
        self._told = 0
        # What its frames are more than the time that was written, "4s nearest" at a rate of 60000/1001: so many parts of a
        # frame, so many to one. Two whole numbers, as they are read in every row.
        self._surplus, self._parts = 0, 1

    state_fields = (*CountedTimer.state_fields, "each", "show", "last", "_told", "_surplus", "_parts")

    def channels(self) -> tuple[ChannelSpec, ...]:
        return self._channels(
            ChannelSpec("left", "left", "count"),
            ChannelSpec("running", "running", "flag"),
            ChannelSpec("seconds", "seconds", "count"),
        )

    @property
    def seconds(self) -> int:
        """The whole seconds left, for a screen."""
        if not self.left:
            return 0
        # A time that was rounded down ends a little later than its frames: until then a screen shows what is left of it.
        shown = whole_seconds(max(self.left * self._parts - self._surplus, 0), self.sim.rate, self.show, self._parts)
        if self.show == "up":
            return max(shown, 1)
        return shown

    def begin(self) -> None:
        if self.runs_from_reset:
            self.start()

    def start(self, frames: Duration | None = None) -> None:
        """Starts from its length, or from another that is its length from now on; a running one starts again."""
        if frames is not None:
            self.change(frames)
        self._begin()
        self._surplus, self._parts = self._rounding(self.written, self.frames)
        self._told = self.seconds
        self.emit("started", left=self.left)
        if 0 < self.left <= self.last:
            self.emit("last", left=self.left)

    def restart(self) -> None:
        """Starts again from its whole length."""
        self.start()

    def add(self, frames: Duration) -> bool:
        """More time for a running or paused one: a lamp that is lit gives 5 s; whether it was not over yet.

        One that is over stays so, also in the row of its end, and says `refused`. Raises ModelError for a summed one.
        """
        if self.style is not None:
            raise ModelError(f"countdown {self.name!r} is summed; time is added to one that counts frames")
        more = frames_in(frames, self.sim.rate, least=1, what=f"more of countdown {self.name!r}:")
        if not self.left:
            self.emit("refused", frames=more)
            return False
        surplus, parts = self._rounding(frames, more)
        both = Fraction(self._surplus, self._parts) + Fraction(surplus, parts)
        self._surplus, self._parts = both.numerator, both.denominator
        self.left += more
        self._told = self.seconds
        self.emit("added", frames=more)
        return True

    def _rounding(self, written: Duration, frames: int) -> tuple[int, int]:
        """What frames are more than the time that they were written as, in frames: numerator and denominator."""
        surplus = frames - exact_seconds(written, self.sim.rate) * self.sim.rate
        # A frame or more: its length was set in frames since it was written.
        if self.style is not None or abs(surplus) >= 1:
            return 0, 1
        return surplus.numerator, surplus.denominator

    def step(self) -> None:
        if not self.running or self._started == self.sim.frame:
            return
        over = self._over()
        if self.each is not None:
            shown = self.seconds
            if self.each == "frame" or shown != self._told:
                self.emit("tick", left=self.left, seconds=shown)
            self._told = shown
        # A last stretch of 0 would be said together with the end, which says it already.
        if self.left == self.last and not over:
            self.emit("last", left=self.left)
        if over:
            self.emit("over")

    def inlined(self) -> Inlined:
        return WHILE_RUNNING
