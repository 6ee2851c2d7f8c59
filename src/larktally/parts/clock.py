"""Clocks: named streams of time at an exact fraction of the rate; 0 is a pause, 1/4 slow motion."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from larktally.errors import ModelError
from larktally.parts.part import Part, Shown

if TYPE_CHECKING:
    from larktally.parts.sim import Sim

__all__ = ["Clock"]


class Clock(Part):
    """Parts on a clock are stepped in the frames in which it ticks: `count` goes up by one there.

    At 1/2 it ticks in every second frame. A change of its rate by a rule of row k counts from row k+1 on.
    """

    phase = "inputs"
    early = True
    shown = (Shown("count", "count", "count"), Shown("ticking", "ticking", "flag"))
    kept = ("count", "ticking", "_numerator", "_denominator", "_part")

    def __init__(self, sim: Sim, name: str, rate: str | int | Fraction = 1) -> None:
        super().__init__(sim, name)
        self.count = 0
        self.ticking = True
        self._part = 0
        self._numerator, self._denominator = 0, 1
        self.run(rate)

    @property
    def rate(self) -> Fraction:
        """Its share of the sim's rate."""
        return Fraction(self._numerator, self._denominator)

    def run(self, rate: str | int | Fraction) -> None:
        """Runs at this share of the rate from the next frame on, in [0, 1]; raises ModelError outside it."""
        try:
            share = Fraction(rate)
        except (ValueError, ZeroDivisionError, TypeError):
            share = Fraction(-1)
        if isinstance(rate, float) or not 0 <= share <= 1 or share.denominator > 1_000_000:
            raise ModelError(f"clock {self.name!r} runs at an exact share in [0, 1], 1 or '1/4', not {rate!r}")
        if share != self.rate:
            self._part = 0
        self._numerator, self._denominator = share.numerator, share.denominator

    def pause(self) -> None:
        """Stands still from the next frame on."""
        self.run(0)

    def step(self) -> None:
        self._part += self._numerator
        self.ticking = self._part >= self._denominator
        if self.ticking:
            self._part -= self._denominator
            self.count += 1
