"""Time that a clock tells: which rows it ticks in, and rows ahead counted in its ticks."""

from __future__ import annotations

from collections.abc import Collection
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.language import rolling
from larktally.language.columns import Evaluator
from larktally.language.tree import Call, ChannelRef, Node, Text
from larktally.language.typecheck import Checker
from larktally.names import did_you_mean

__all__ = ["check_clock", "clocks_of", "passed", "passed_for", "row_of_tick", "ticks_in", "window_ahead"]

Bools: TypeAlias = npt.NDArray[np.bool_]
Rows: TypeAlias = npt.NDArray[np.int64]
Floats: TypeAlias = npt.NDArray[np.float64]


def clocks_of(channels: Collection[str]) -> list[str]:
    """The clocks whose ticks are recorded, among the names of channels."""
    names = set(channels)
    found = []
    for name in channels:
        if name.endswith(".ticking") and f"{name.removesuffix('.ticking')}.listening" in names:
            found.append(name.removesuffix(".ticking"))
    return found


def check_clock(checker: Checker, node: Node, clock: str) -> None:
    """Raises ClaimError for a clock that there is not."""
    clocks = clocks_of(checker.names.channels)
    if clock not in clocks:
        hint = did_you_mean(clock, clocks) or f"; clocks there are: {', '.join(clocks) or 'none'}"
        checker.fail(node, f"no clock {clock!r} in {checker.names.where}{hint}")


def ticks_in(read: Evaluator, on: Node) -> Bools:
    """In which rows a clock ticks, row 0 among them; a condition may stand for one."""
    if not isinstance(on, Text):
        return read.flags(on)
    ticks = np.array(read.value(ChannelRef(f"{on.value}.ticking")), dtype=np.bool_)
    ticks[:1] = True
    return ticks


def passed(read: Evaluator, on: Node | None) -> Rows:
    """How many ticks there were up to each row, that row included; without a clock each row is one."""
    if on is None:
        return np.arange(1, read.rows + 1)
    return np.cumsum(ticks_in(read, on), dtype=np.int64)


def passed_for(read: Evaluator, node: Call) -> Rows:
    """The same for a call, by its `on=`."""
    return passed(read, node.option("on"))


def row_of_tick(count: Rows, wanted: Rows) -> Rows:
    """The first row up to which so many ticks have passed; R where there is none."""
    return np.asarray(np.searchsorted(count, wanted, side="left"), dtype=np.int64)


def window_ahead(found: Floats, rows: Rows, first: int, last: int, count: Rows, fold: np.ufunc) -> Floats:
    """For each row k of some, fold over the rows from k on between which and k lie `first` to `last` ticks, as far as there
    are such rows; rows without any are left out.

    Rows in which as many ticks have passed are folded to one value first, so that a window is a span of those.
    """
    if not len(found) or not len(rows):
        return np.zeros(0)
    # A clock that ticks in row 0 has counted 1 there.
    group = count - count[0]
    begins = np.flatnonzero(np.diff(count, prepend=count[0] - 1))
    folded = np.asarray(fold.reduceat(found, begins))
    if first == 0:
        # Of its own tick only what comes from row k on.
        ahead = _from_each_on(found, begins, fold)[rows]
        if last > 0:
            later = rolling.look_ahead(folded, 1, last, fold)[group[rows]]
            ahead = np.where(np.isnan(later), ahead, fold(ahead, later))
        return np.asarray(ahead)
    reached = rows[group[rows] + first <= group[-1]]
    return np.asarray(rolling.look_ahead(folded, first, last, fold)[group[reached]])


def _from_each_on(found: Floats, begins: Rows, fold: np.ufunc) -> Floats:
    """For each row, fold over it and the rows after it of its group."""
    ends = np.zeros(len(found), dtype=np.bool_)
    ends[np.append(begins[1:], len(found)) - 1] = True
    return np.asarray(rolling.fold_since(found[::-1], ends[::-1], fold)[::-1])
