"""Each claim on a million rows against the NumPy expression written out by hand for it.

The control finds the verdict and nothing beside it, since a margin is found when it is read. That of `measured(apex(y))` is a
lower bound: one pass over memory, so that what a claim costs whatever its rows are shows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

import larktally as lt
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog
from larktally.traces.header import Header

ROWS = 1_000_000


def a_run() -> lt.Trace:
    draw = np.random.default_rng(2)
    y = 16 + np.abs(np.cumsum(draw.normal(size=ROWS))) % 60
    grounded = np.repeat(draw.random(ROWS // 20) < 0.6, 20)
    left = draw.integers(0, 48, ROWS)
    gait = np.repeat(draw.integers(0, 3, ROWS // 25), 25).astype(np.int32)
    columns = {
        "y": Column(Channel("y", "number"), y),
        "grounded": Column(Channel("grounded", "flag"), grounded),
        "left": Column(Channel("left", "count"), left),
        "gait": Column(Channel("gait", "label", ("standing", "airborne", "climbing")), gait),
    }
    log = EventLog()
    for row in np.flatnonzero(draw.random(ROWS) < 0.01).tolist():
        log.append(row, "hop", "wick", "")
    header = Header(rate_text="60", channels=tuple(c.channel for c in columns.values()), events=("hop",))
    return lt.Trace(header, columns, {}, log)


def next_row(flags: Any) -> Any:
    """For each row, the first row at or after it that holds; ROWS where none does."""
    rows = np.where(flags, np.arange(ROWS), ROWS)
    return np.minimum.accumulate(rows[::-1])[::-1]


def highest_by_hand(y: Any, width: int) -> Any:
    """The running maximum of a window, by blocks: van Herk, 1992, and Gil and Werman, 1993."""
    pad = (-len(y)) % width
    blocks = np.concatenate([y, np.full(pad, -np.inf)]).reshape(-1, width)
    prefix = np.maximum.accumulate(blocks, axis=1).ravel()[: len(y)]
    suffix = np.maximum.accumulate(blocks[:, ::-1], axis=1)[:, ::-1].ravel()[: len(y)]
    out = prefix.copy()
    out[width:] = np.maximum(prefix[width:], suffix[1 : len(y) - width + 1])
    return out


def stretches(flags: Any) -> tuple[Any, Any]:
    edges = np.diff(np.concatenate([[0], flags.view(np.int8), [0]]))
    return np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)


def by_hand(trace: lt.Trace) -> dict[str, Callable[[], Any]]:
    y, g, gait = (trace.columns[name].stored for name in ("y", "grounded", "gait"))
    rows = np.array(trace.events.rows)

    def hops() -> Any:
        return np.bincount(rows, minlength=ROWS) > 0

    def spaced() -> Any:
        return np.flatnonzero(np.diff(np.flatnonzero(hops())) < 2)

    def stays() -> Any:
        starts, ends = stretches(gait == 1)
        return np.flatnonzero(ends - starts < 3)

    def follows() -> Any:
        k = np.flatnonzero(hops())
        return k[next_row(g)[k] > k + 600]

    def lasts() -> Any:
        k = np.flatnonzero(hops())
        return k[next_row(~(y >= 0))[k] <= k + 29]

    def until() -> Any:
        k = np.flatnonzero(hops())
        return k[next_row(~(y >= 16) & ~g)[k] < next_row(g)[k]]

    def precedes() -> Any:
        k = np.flatnonzero(hops())
        last = np.maximum.accumulate(np.where(g, np.arange(ROWS), -1))
        return k[last[k] <= np.concatenate([[-1], k[:-1]])]

    def in_order() -> Any:
        first = int(np.argmax(hops()))
        return first + 1 + int(np.argmax((gait == 1)[first + 1 :]))

    def mean() -> Any:
        total = np.cumsum(y)
        total[600:] = total[600:] - total[:-600]
        return (total / np.minimum(np.arange(1, ROWS + 1), 600) <= 100).all()

    def lasted() -> Any:
        count = np.arange(ROWS)
        since = np.maximum.accumulate(np.where(g, -1, count))
        return ((count - since) * g <= 100_000).all()

    return {
        **_plain_conditions(trace),
        "follows(event('hop'), grounded, within=600)": follows,
        "lasts(event('hop'), y >= 0, 30)": lasts,
        "until(event('hop'), y >= 16, grounded)": until,
        "precedes(grounded, event('hop'))": precedes,
        "spaced(event('hop'), at_least=2)": spaced,
        "stays(gait == 'airborne', at_least=3)": stays,
        "exactly(event('hop'), 7)": lambda: np.flatnonzero(hops())[7],
        "in_order(event('hop'), gait == 'airborne')": in_order,
        "always(mean(y, last=600) <= 100)": mean,
        "always(lasted(grounded) <= 100000)": lasted,
        "always(count(event('hop'), last=60) < 40)": lambda: (np.diff(np.cumsum(hops()), prepend=0) < 40).all(),
    }


def _plain_conditions(trace: lt.Trace) -> dict[str, Callable[[], Any]]:
    """The claims that are one condition over the rows."""
    y, g, left = (trace.columns[name].stored for name in ("y", "grounded", "left"))
    return {
        "always(y >= 16)": lambda: (~(y >= 16)).any(),
        "always(implies(grounded, left < 48))": lambda: (g & ~(left < 48)).any(),
        "never(y > 90)": lambda: (y > 90).any(),
        "eventually(y > 70)": lambda: (y > 70).any(),
        "at(500, y >= 16)": lambda: (y >= 16)[500],
        "measured(apex(y), 0, 90)": lambda: 0 <= y.max() - y[0] <= 90,
        "always(highest(y, last=600) < 100)": lambda: (~(highest_by_hand(y, 600) < 100)).any(),
        "always(prev(y, 60) - y < 99)": lambda: (np.concatenate([np.full(60, y[0]), y[:-60]]) - y < 99).all(),
    }


def a_hundred(trace: lt.Trace) -> tuple[list[lt.Claim], Callable[[], list[int]]]:
    """Claims over four signals and five conditions, and how often each is broken, with every part computed once."""
    signals = ("y", "highest(y, last=60)", "prev(y, 30)", "y - prev(y)")
    conditions = ("grounded", "event('hop')", "gait == 'airborne'", "left < 24", "lasted(grounded) > 3")
    bounds = (20.0, 40.0, 60.0, 70.0, 76.5)
    claims = []
    for signal in signals:
        for condition in conditions:
            for bound in bounds:
                text = f"always(implies({condition}, {signal} < {bound}))"
                claims.append(lt.claim(text, text))

    def by_numpy() -> list[int]:
        y, g, left, gait = (trace.columns[name].stored for name in ("y", "grounded", "left", "gait"))
        hop = np.zeros(ROWS, dtype=np.bool_)
        hop[np.array(trace.events.rows)] = True
        count = np.arange(ROWS)
        lasted = (count - np.maximum.accumulate(np.where(g, -1, count))) * g > 3
        before = np.concatenate([np.full(30, y[0]), y[:-30]])
        values = (y, highest_by_hand(y, 60), before, np.diff(y, prepend=y[0]))
        broken = []
        for value in values:
            below = [value < bound for bound in bounds]
            for flags in (g, hop, gait == 1, left < 24, lasted):
                broken += [int(np.count_nonzero(flags & ~one)) for one in below]
        return broken

    return claims, by_numpy


def rows() -> Iterable[tuple[str, float, object, object]]:
    trace = a_run()
    for that, control in by_hand(trace).items():
        claims = [lt.claim(that, that)]
        yield f"claim: {that}", 2.0, (lambda claims=claims: lt.check(trace, claims)), control
    shared = [lt.claim(f"c{n}", f"always(highest(y, last=600) < {100 + n})") for n in range(6)]
    one = [lt.claim("c", "always(highest(y, last=600) < 100)")]
    many, by_numpy = a_hundred(trace)
    assert [result.broken for result in lt.check(trace, many)] == by_numpy()
    yield "a hundred claims that share parts / NumPy by hand", 1.3, lambda: lt.check(trace, many), by_numpy
    yield (
        "six claims that share a window / one of them",
        3.0,
        lambda: lt.check(trace, shared),
        lambda: lt.check(trace, one),
    )
