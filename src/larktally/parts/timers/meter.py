"""Meters: warmth, health, oil: an amount between 0 and a maximum that rises and falls by the second, exactly."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from typing import ClassVar, TypeAlias

from larktally.errors import ModelError
from larktally.parts.part import ChannelSpec, Part
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.timers.condition import Condition
from larktally.timing import Duration, frames_in

__all__ = ["Meter", "Amount"]

Amount: TypeAlias = "int | str | Fraction"


class Meter(Part):
    """An amount in [0, most]; rates are per second and exact, so that 60 frames at 1 a second take exactly 1.

    most = 3, rates -1 a second at 2 frames a second, hit for 1 in row 3:

    ====  ========  =======  =====================
    row   amount    empty    event
    ====  ========  =======  =====================
    0     3         false
    1     2.5       false
    2     2         false    passed mark=2 way=down
    3     0.5       false    took amount=1
    4     0         true     emptied
    5     0         true
    ====  ========  =======  =====================

    `rate` is how fast it changes by itself, and is changed by rules (`warmth.run("-3/2")`); `recovers` is added where
    nothing was taken for `recovers_after`. `stuck_empty=True`: once it is empty no rate changes it, only `give` or
    `fill`. `runs_while` is text in the claim language, read in the timers phase: rates count only while it holds. `marks`
    are amounts whose passing is an event. Amounts and rates are whole numbers, fractions or text ("0.25", "1/3"): a
    float is refused, as it is another number than it looks.

    Channels: the amount (the float nearest to it), `empty`, `full`, and `wait` (frames before it recovers, where it
    does). Events: took (amount), gave (amount), emptied, filled, passed (mark, way).
    """

    phase = "timers"
    state_fields = ("exact", "most", "rate", "recovers", "recovers_after", "stuck_empty", "marks", "wait", "_taken_at")
    derived_fields = ("amount", "_per_frame")
    events: ClassVar[tuple[str, ...]] = ("took", "gave", "emptied", "filled", "passed")

    def __init__(
        self,
        sim: SimProtocol,
        name: str,
        most: Amount,
        *,
        start: Amount | None = None,
        rate: Amount = 0,
        recovers: Amount = 0,
        recovers_after: Duration = 0,
        stuck_empty: bool = False,
        runs_while: str | None = None,
        marks: Iterable[Amount] = (),
    ) -> None:
        super().__init__(sim, name)
        self.most = self._exact(most, "most")
        if self.most <= 0:
            raise ModelError(f"meter {name!r}: most is above 0, not {most!r}")
        if start is None:
            self.exact = self.most
        else:
            self.exact = self._exact(start, "start")
        if not 0 <= self.exact <= self.most:
            raise ModelError(f"meter {name!r} starts in [0, {self.most}], not at {start!r}")
        self.rate = self._exact(rate, "rate")
        self.recovers = self._exact(recovers, "recovers")
        self.recovers_after = frames_in(recovers_after, sim.rate, what=f"meter {name!r}: recovers_after")
        self.stuck_empty = stuck_empty
        self.marks = tuple(sorted(self._exact(mark, "mark") for mark in marks))
        self.wait = 0
        self.amount = float(self.exact)
        self._taken_at = -1
        self._per_frame: dict[Fraction, Fraction] = {}
        # Held as text until the run begins: the channels that it names may not be there yet.
        self._condition = Condition(self, runs_while)

    def channels(self) -> tuple[ChannelSpec, ...]:
        # The amount under the part's own name: `oil < 3` reads as it is said.
        shown = [
            ChannelSpec("", "amount", "number"),
            ChannelSpec("empty", "empty", "flag"),
            ChannelSpec("full", "full", "flag"),
        ]
        if self.recovers:
            shown.append(ChannelSpec("wait", "wait", "count"))
        return tuple(shown)

    @property
    def empty(self) -> bool:
        """Whether nothing is left."""
        return self.exact == 0

    @property
    def full(self) -> bool:
        """Whether it is at its most."""
        return self.exact == self.most

    def begin(self) -> None:
        self._condition.begin()

    def run(self, rate: Amount) -> None:
        """Changes at this rate a second from the next frame on: below 0 it falls."""
        self.rate = self._exact(rate, "rate")

    def take(self, amount: Amount) -> Fraction:
        """Takes so much at once, or what there is; how much that was. Recovery waits anew."""
        exact = self._at_least_0(amount, "take")
        taken = min(exact, self.exact)
        self.wait, self._taken_at = self.recovers_after, self.sim.frame
        if exact:
            self.emit("took", amount=_plain(taken))
        self._lead_to(self.exact - taken)
        return taken

    def give(self, amount: Amount) -> Fraction:
        """Gives so much at once, as far as there is room; how much that was."""
        exact = self._at_least_0(amount, "give")
        given = min(exact, self.most - self.exact)
        if exact:
            self.emit("gave", amount=_plain(given))
        self._lead_to(self.exact + given)
        return given

    def fill(self) -> None:
        """At its most at once."""
        self._lead_to(self.most)

    def step(self) -> None:
        if not self._condition.holds() or (self.stuck_empty and not self.exact):
            return
        rate = self.rate
        if self.recovers:
            if self.wait == 0:
                rate += self.recovers
            elif self._taken_at != self.sim.frame:
                self.wait -= 1
        if rate:
            change = self._per_frame.get(rate)
            if change is None:
                change = self._per_frame[rate] = rate / self.sim.rate
            self._lead_to(self.exact + change)

    def after_load(self) -> None:
        self.amount = float(self.exact)

    def _lead_to(self, wanted: Fraction) -> None:
        """Changes the amount, kept in its bounds, and says what was passed on the way."""
        before, now = self.exact, max(Fraction(0), min(self.most, wanted))
        if now == before:
            return
        self.exact, self.amount = now, float(now)
        for mark in self.marks if now > before else reversed(self.marks):
            if before < mark <= now or now <= mark < before:
                self.emit("passed", mark=_plain(mark), way="up" if now > before else "down")
        if not now:
            self.emit("emptied")
        elif now == self.most:
            self.emit("filled")

    def _at_least_0(self, amount: Amount, what: str) -> Fraction:
        exact = self._exact(amount, what)
        if exact < 0:
            raise ModelError(f"meter {self.name!r}: {what} takes an amount of at least 0, not {amount!r}")
        return exact

    def _exact(self, amount: Amount, what: str) -> Fraction:
        if isinstance(amount, int | Fraction) and not isinstance(amount, bool):
            return Fraction(amount)
        try:
            if isinstance(amount, str) and len(amount) <= 40 and "e" not in amount.lower():
                return Fraction(amount)
        except (ValueError, ZeroDivisionError):
            pass
        hint = ""
        if isinstance(amount, float):
            hint = f"; write it as text, '{amount}'"
        raise ModelError(f"meter {self.name!r}: {what} is exact: 3, '0.25' or '1/3', not {amount!r}{hint}")


def _plain(amount: Fraction) -> int | float:
    if amount.denominator == 1:
        return amount.numerator
    return float(amount)
