"""Signals over the rows so far, the last W rows, or the rows since something: counts, sums, extremes, means."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from larktally.language import rolling
from larktally.language.columns import Array, Evaluator
from larktally.language.function import Signal, arguments
from larktally.language.tree import Call
from larktally.language.typecheck import Checker

__all__ = ["SIGNALS"]

_WINDOW = "last:span1? since:flag?"


def _one_window(checker: Checker, node: Call) -> None:
    if len(node.named) > 1:
        checker.fail(node, f"{node.name} takes last= or since=, not both")


def _count(read: Evaluator, node: Call) -> Array:
    flags, since = read.flags(node.args[0]), node.option("since")
    if since is None:
        return rolling.window_count(flags, read.option_frames(node, "last")).astype(np.float64)
    total = np.cumsum(flags, dtype=np.int64)
    start = rolling.last_row(read.flags(since))
    # What was counted before the row in which it begins; that row itself counts.
    before = np.where(start > 0, total[np.maximum(start - 1, 0)], 0)
    return (total - before).astype(np.float64)


def _total(read: Evaluator, node: Call) -> Array:
    values, since = read.numbers(node.args[0]), node.option("since")
    if since is not None:
        return rolling.fold_since(values, read.flags(since), np.add)
    return rolling.window_sum(values, read.option_frames(node, "last"))


def _folded(fold: np.ufunc) -> Callable[[Evaluator, Call], Array]:
    def folded(read: Evaluator, node: Call) -> Array:
        width, since = read.option_frames(node, "last"), node.option("since")
        if since is not None:
            return rolling.fold_since(read.numbers(node.args[0]), read.flags(since), fold)
        return rolling.window_fold(read.numbers(node.args[0]), width or max(read.rows, 1), fold)

    return folded


def _mean(read: Evaluator, node: Call) -> Array:
    width, since = read.option_frames(node, "last"), node.option("since")
    if since is not None:
        # Before the first row of q all rows so far count.
        start = np.maximum(rolling.last_row(read.flags(since)), 0)
        total = rolling.fold_since(read.numbers(node.args[0]), read.flags(since), np.add)
        return np.asarray(total / (np.arange(read.rows) - start + 1))
    # The first rows have fewer rows behind them than the window is wide.
    counted = np.minimum(np.arange(1, read.rows + 1), read.rows if width is None else width)
    return np.asarray(rolling.window_sum(read.numbers(node.args[0]), width) / counted)


SIGNALS = (
    Signal(
        name="count",
        positional=arguments("p:flag"),
        named=arguments(_WINDOW),
        result="number",
        meaning="rows in which p held: so far, in the last W rows, or from the last row of q on",
        fits=_one_window,
        columns=_count,
    ),
    Signal(
        name="total",
        positional=arguments("x:number"),
        named=arguments(_WINDOW),
        result="number",
        meaning="the sum of x: so far, over the last W rows, or from the last row of q on",
        fits=_one_window,
        columns=_total,
    ),
    Signal(
        name="highest",
        positional=arguments("x:number"),
        named=arguments(_WINDOW),
        fits=_one_window,
        result="number",
        meaning="the greatest x: so far, over the last W rows, or from the last row of q on",
        columns=_folded(np.maximum),
    ),
    Signal(
        name="lowest",
        positional=arguments("x:number"),
        named=arguments(_WINDOW),
        fits=_one_window,
        result="number",
        meaning="the smallest x: so far, over the last W rows, or from the last row of q on",
        columns=_folded(np.minimum),
    ),
    Signal(
        name="mean",
        positional=arguments("x:number"),
        named=arguments(_WINDOW),
        fits=_one_window,
        result="number",
        meaning="the mean of x: so far, over the last W rows, or from the last row of q on",
        columns=_mean,
    ),
)
