"""Random streams: one for each part, from the run's seed and the part's name, the same in every process.

SplitMix64 (Steele, Lea and Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014): its whole state is
one 64-bit count, so that it is saved and restored like any other value.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import TypeVar

from larktally.errors import ModelError

__all__ = ["Stream"]

T = TypeVar("T")
_MASK = 2**64 - 1


class Stream:
    """Random numbers that depend on nothing but seed, name and how many were drawn before.

    >>> one = Stream(7, "moth.1")
    >>> [one.whole(1, 6) for _ in range(5)]
    [6, 6, 1, 1, 6]
    """

    __slots__ = ("state",)

    def __init__(self, seed: int, name: str) -> None:
        self.state = int.from_bytes(hashlib.sha256(f"{seed}\0{name}".encode()).digest()[:8], "little")

    def bits(self) -> int:
        """64 random bits."""
        self.state = (self.state + 0x9E3779B97F4A7C15) & _MASK
        # SplitMix64 (Steele, Lea and Flood 2014): one whole number is all of its state, and it is the same on every
        # machine.
        mixed = ((self.state ^ (self.state >> 30)) * 0xBF58476D1CE4E5B9) & _MASK
        mixed = ((mixed ^ (mixed >> 27)) * 0x94D049BB133111EB) & _MASK
        return mixed ^ (mixed >> 31)

    def unit(self) -> float:
        """A number in [0, 1), a multiple of 2**-53."""
        # The upper 53 bits, as many as a float holds exactly.
        return (self.bits() >> 11) * 2.0**-53

    def between(self, low: float, high: float) -> float:
        """A number in [low, high)."""
        return low + (high - low) * self.unit()

    def whole(self, low: int, high: int) -> int:
        """A whole number in low..high, both included, each as likely; raises ModelError where high < low."""
        span = high - low + 1
        if span < 1:
            raise ModelError(f"no whole number from {low} to {high}")
        # Drawn again above the largest multiple, or low numbers would come a little more often.
        most = _MASK + 1 - (_MASK + 1) % span
        while (drawn := self.bits()) >= most:
            pass
        return low + drawn % span

    def chance(self, likelihood: float) -> bool:
        """True with that likelihood, in [0, 1]."""
        return self.unit() < likelihood

    def pick(self, options: Sequence[T]) -> T:
        """One of the options, each as likely; raises ModelError where there is none."""
        if not options:
            raise ModelError("nothing to pick from")
        return options[self.whole(0, len(options) - 1)]
