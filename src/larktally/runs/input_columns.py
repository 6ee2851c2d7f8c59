"""The inputs of a run as columns, taken piece by piece from what its feed noted."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from larktally.inputs.view import InputFeed

__all__ = ["InputColumns"]


class InputColumns:
    """Reads a feed's noted changes once, from row 0 on: each `take` costs what came since the one before.

    Where `forget` is set, what was read is let go, so that a run of any length notes only what is still to be written.
    """

    def __init__(self, feed: InputFeed, forget: bool = False) -> None:
        self._feed, self._forget = feed, forget
        self._row = self._read = 0
        self._held: dict[str, float] = {}

    @property
    def names(self) -> tuple[str, ...]:
        """Every action that is declared or was used by now."""
        return tuple(self._feed.view.actions)

    def take(self, rows: int) -> dict[str, npt.NDArray[np.float64]]:
        """The next so many rows: one float64 column for each action."""
        first, last = self._row, self._row + rows
        changes: dict[str, list[tuple[int, float]]] = {action: [] for action in self.names}
        noted = self._feed.noted
        while self._read < len(noted) and noted[self._read][0] < last:
            row, action, value = noted[self._read]
            changes[action].append((row, value))
            self._read += 1
        # A recording of hours notes millions of changes: those that are written are let go.
        if self._forget:
            del noted[: self._read]
            self._read = 0
        self._row = last
        return {action: self._column(action, of, first, last) for action, of in changes.items()}

    def _column(self, action: str, changes: list[tuple[int, float]], first: int, last: int) -> npt.NDArray[np.float64]:
        """A column that begins with what was held and takes each change's value from its row on."""
        values = [self._held.get(action, 0.0), *(value for _, value in changes)]
        # Two changes of one frame leave a stretch of no rows, in which the first is lost: the later one counts.
        starts = np.array([first, *(row for row, _ in changes), last])
        self._held[action] = values[-1]
        return np.repeat(np.array(values), np.diff(starts))
