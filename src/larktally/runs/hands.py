"""Who does the runs: this process alone, as long as nobody else is there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

__all__ = ["Hands"]

T = TypeVar("T")
R = TypeVar("R")


class Hands:
    """This process alone: all is done here, one after the other, and what is not asked for is not run."""

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[R]:
        """The results of work on each item, in their order, as they come."""
        return map(work, items)

    def end(self) -> None:
        """Nothing is left behind; an executor that was handed over is its owner's to end."""
