"""Signals that compare a row with rows before it: earlier values, edges, changes, how long and since when."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

import numpy as np

from larktally.errors import ClaimError
from larktally.language import rolling
from larktally.language.columns import Array, Evaluator, Labels, as_numbers
from larktally.language.function import Signal, arguments
from larktally.language.names import Names, wraps_of
from larktally.language.tree import Call, ChannelRef, Node, to_text
from larktally.language.typecheck import Checker
from larktally.turning import turned

__all__ = ["SIGNALS"]


def _labels_passed_on(names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels:
    return inner(node.args[0])


def _prev(read: Evaluator, node: Call) -> Array:
    rows = 1
    if len(node.args) > 1:
        rows = read.frames(node.args[1])
    return rolling.earlier(read.full(node.args[0]), rows)


def _seen(read: Evaluator, node: Call) -> Array:
    if not isinstance(node.args[0], ChannelRef):
        raise ClaimError(f"seen takes a channel, not {to_text(node.args[0])}; write seen around each channel")
    name = node.args[0].name
    noted = read.trace.columns.get(f"seen:{name}")
    if noted is None:
        raise ClaimError(
            f"seen({name}): this trace does not hold what its machines saw; record the sim with seen=True "
            "(a scenario whose claims say seen does so by itself; another subject's rules cannot be watched)"
        )
    return as_numbers(noted.stored)


def _changed(read: Evaluator, node: Call) -> Array:
    values = read.full(node.args[0])
    out = np.zeros(read.rows, dtype=np.bool_)
    # Row 0 has no row before it: nothing changed there.
    out[1:] = values[1:] != values[:-1]
    return out


def _delta(read: Evaluator, node: Call) -> Array:
    values = read.numbers(node.args[0])
    out = np.zeros(read.rows)
    out[1:] = turned(values[1:] - values[:-1], wraps_of(node.args[0], read.names))
    return out


def _per_second(read: Evaluator, node: Call) -> Array:
    return np.asarray(_delta(read, node).astype(np.float64) * float(read.names.rate or 0))


def _needs_rate(checker: Checker, node: Call) -> None:
    if checker.names.rate is None:
        checker.fail(node, "per_second needs a rate, and none is known here; give one (--rate)")


def _since(read: Evaluator, node: Call) -> Array:
    last = rolling.last_row(read.flags(node.args[0]))
    # Never so far is longer ago than any number of rows.
    return np.where(last >= 0, np.arange(read.rows) - last, np.inf)


def _latest(read: Evaluator, node: Call) -> Array:
    if not read.rows:
        return np.zeros(0)
    when = cast(Node, node.option("when"))
    last = rolling.last_row(read.flags(when))
    return np.where(last >= 0, read.numbers(node.args[0])[last], np.nan)


SIGNALS = (
    Signal(
        name="prev",
        positional=arguments("x:any n:span0?"),
        result=0,
        meaning="x n rows earlier; before row 0 its row-0 value",
        columns=_prev,
        labels=_labels_passed_on,
    ),
    Signal(
        name="seen",
        positional=arguments("x:any"),
        result=0,
        meaning="x as this row's machines saw it (sims only)",
        columns=_seen,
        labels=_labels_passed_on,
    ),
    Signal(
        name="began",
        positional=arguments("p:flag"),
        result="flag",
        meaning="p holds and did not in the row before; false in row 0",
        columns=lambda read, node: rolling.began(read.flags(node.args[0])),
    ),
    Signal(
        name="ended",
        positional=arguments("p:flag"),
        result="flag",
        meaning="p held in the row before and does not now; false in row 0",
        columns=lambda read, node: rolling.began(~read.flags(node.args[0])),
    ),
    Signal(
        name="changed",
        positional=arguments("x:any"),
        result="flag",
        meaning="x differs from the row before; false in row 0",
        columns=_changed,
    ),
    Signal(
        name="delta",
        positional=arguments("x:number"),
        result="number",
        meaning="x minus its value in the row before, of an angle the short way; 0 in row 0",
        columns=_delta,
    ),
    Signal(
        name="per_second",
        positional=arguments("x:number"),
        result="number",
        meaning="delta(x) times the rate",
        fits=_needs_rate,
        columns=_per_second,
    ),
    Signal(
        name="lasted",
        positional=arguments("p:flag"),
        result="number",
        meaning="rows for which p has held up to and including this one",
        columns=lambda read, node: rolling.run_length(read.flags(node.args[0])).astype(np.float64),
    ),
    Signal(
        name="since",
        positional=arguments("p:flag"),
        result="number",
        meaning="rows since p last held, 0 where it holds, infinite before the first",
        columns=_since,
    ),
    Signal(
        name="latest",
        positional=arguments("x:number"),
        named=arguments("when:flag"),
        result="number",
        meaning="x in the last row, up to this one, where p held; NaN before",
        columns=_latest,
    ),
)
