"""Findings of the same scenario with a pause put in, where one of its actions makes one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from larktally.auditing.checks import in_the_pause
from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.auditing.walk import Walk
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript, Span
from larktally.language.ticks import clocks_of
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["PAUSED", "put_in_pause"]

PAUSED = "pause put in"
# How long it is, for how long the run is looked at after it, where it is put as parts of the run, and how many actions are tried.
LONG, AFTER = 24, 40
PLACES = (0.5, 0.35, 0.65)
# In how many rows a pause has begun, and as many more show that it goes on.
SOON = 5
MOST_ACTIONS = 12


def put_in_pause(seen: Seen, scenario: Scenario) -> Iterator[Finding]:
    """What does not stand still in a pause that the script never made, and what stood, and is another after it than it would have
    been without.

    Not: what belongs to another clock, a menu or a background; a run without an action that makes a pause and ends it again.
    """
    if seen.trace.frames < 3 * LONG:
        return
    told = {one.about for one in in_the_pause.look(seen)}
    for action, at in _pausing(seen, scenario):
        other = _with_pause(seen, scenario, action, at, at + 1)
        if other is None:
            continue
        pause = f"{action!r} pressed in frames {at + 1} and {at + 1 + LONG}"
        changed = list(_changed_by_it(seen, other, at, pause))
        if changed:
            # The frame in which it is pressed may be the pause's first, or the last before it.
            earlier = _with_pause(seen, scenario, action, at, at)
            if earlier is not None:
                changed = min(changed, list(_changed_by_it(seen, earlier, at, pause)), key=len)
        for one in [*_going_on(other, scenario, pause), *changed]:
            if one.about not in told:
                told.add(one.about)
                yield one


def _pausing(seen: Seen, scenario: Scenario) -> Iterator[tuple[str, int]]:
    """Actions that look like a pause, each with the row before its press: a clock stands soon after, or, where there is none,
    most of what moved does."""
    script = InputScript.from_columns(seen.trace.inputs)
    walk = Walk(scenario.changed(inputs=script, until=None, frames=seen.trace.frames, claims=(), measures=()))
    places = {action: _free_place(seen, action) for action in seen.trace.header.actions[:MOST_ACTIONS]}
    clocks = clocks_of(seen.trace.channels)
    for action, at in sorted(places.items(), key=lambda one: one[1] or 0):
        if at is None:
            continue
        inputs = script.keep(1, at) | InputScript([Span(action, at + 1, 1)])
        try:
            if walk.run.subject.info.saves:
                saved = walk.run.to(at).snapshot()
                walk.run.restore(saved, inputs)
                rows = walk.on(at + 2 * SOON).rows
                walk.run.restore(saved, script)
            else:
                rows = Walk(walk.run.scenario.changed(inputs=inputs)).on(at + 2 * SOON).rows
        except LarkTallyError:
            continue
        if at + 2 * SOON not in rows:
            continue
        early, late = rows[at + SOON], rows[at + 2 * SOON]
        stands = [name for name, one, other in zip(walk.names, early, late, strict=True) if one == other]
        if clocks:
            if any(f"{clock}.count" in stands for clock in clocks):
                yield action, at
            continue
        before, here = seen.trace.row(at - SOON), seen.trace.row(at)
        moved = [name for name, value in here.items() if before[name] != value]
        if len(moved) >= 4 and sum(name in stands for name in moved) >= 0.75 * len(moved):
            yield action, at


def _free_place(seen: Seen, action: str) -> int | None:
    """A row in which every clock ticks, with no press of the action near it."""
    pressed = seen.pressed.get(action, np.zeros(0, np.int64))
    for share in PLACES:
        at = int(seen.trace.frames * share)
        near = np.abs(pressed - at) <= 3
        if not near.any() and not any(_stands(seen.trace, clock)[at] for clock in clocks_of(seen.trace.channels)):
            return at
    return None


def _with_pause(seen: Seen, scenario: Scenario, action: str, at: int, last: int) -> Trace | None:
    """The run with an action pressed after a row and once more, and all that the script has after frame `last` so much later;
    what is held then stays held. None where that cannot be run."""
    spans = [Span(action, at + 1, 1), Span(action, at + 1 + LONG, 1)]
    for one in InputScript.from_columns(seen.trace.inputs).spans:
        start, stop = int(one.start), int(one.start) + int(one.frames)
        if start > last:
            spans.append(replace(one, start=start + LONG))
        elif stop > last + 1:
            spans.append(replace(one, frames=stop - start + LONG))
        else:
            spans.append(one)
    frames = min(seen.trace.frames, at + AFTER) + LONG
    try:
        inputs = InputScript(spans).keep(1, frames)
        return record(scenario.changed(inputs=inputs, until=None, frames=frames, claims=(), measures=()))
    except LarkTallyError:
        # A run that fails so is told of by others, and two presses of one action at once are none.
        return None


def _going_on(other: Trace, scenario: Scenario, pause: str) -> Iterator[Finding]:
    for one in in_the_pause.look(Seen(other, scenario)):
        yield replace(one, check=PAUSED, message=f"{one.message}; {pause}")


def _stands(trace: Trace, clock: str) -> npt.NDArray[np.bool_]:
    return np.asarray(~trace[f"{clock}.ticking"].astype(bool))


def _changed_by_it(seen: Seen, other: Trace, at: int, pause: str) -> Iterator[Finding]:
    """What stood still while a clock did, and went on from elsewhere after it."""
    for clock in clocks_of(seen.trace.channels):
        here = np.flatnonzero(_stands(other, clock)[at : at + LONG + 3])
        # It is no pause where the clock stood anyway, or where the second press did not end it.
        if not LONG - 2 <= len(here) <= LONG + 2 or _stands(seen.trace, clock)[at : at + LONG].any():
            continue
        start = at + int(here[0])
        stood = [
            name
            for name in _moving(seen)
            if name in other.columns and _stood(other, name, start + 1, start + len(here))
        ]
        # A clock may stand a frame more or less than it says: as most of what stood goes on.
        tries = [_others(seen.trace, other, stood, start + len(here), len(here) + more) for more in (0, 1, -1)]
        differs = min(tries, key=len)
        if 2 * len(differs) > len(stood):
            continue
        for name, (row, then, was, before) in differs.items():
            if not name.startswith(f"{clock}."):
                told = (
                    f"after it {then} in row {row}, and without it {was} in row {before}, as many ticks of {clock!r} on"
                )
                yield Finding(PAUSED, name, f"{pause}: {told}", "likely", (row,), 1, weight=3)


def _moving(seen: Seen) -> Iterator[str]:
    for name, column in seen.of_kind("number", "count"):
        if (column.stored != column.stored[0]).any():
            yield name


def _stood(other: Trace, name: str, start: int, stop: int) -> bool:
    values = other.columns[name].stored[start:stop]
    return bool((values == values[0]).all())


def _others(
    first: Trace, second: Trace, names: Iterable[str], row: int, by: int
) -> dict[str, tuple[int, object, object, int]]:
    """The channels that are not in some rows of the second what they were so many rows before in the first: the row, both values,
    and the row in the first."""
    found: dict[str, tuple[int, object, object, int]] = {}
    for name in names:
        late = second.columns[name].stored[row + 1 :]
        own = first.columns[name].stored[row + 1 - by :][: len(late)]
        late = late[: len(own)]
        unlike = np.flatnonzero((late != own) & ((late == late) | (own == own)))
        if len(unlike):
            at = row + 1 + int(unlike[0])
            found[name] = (at, second.columns[name].at(at), first.columns[name].at(at - by), at - by)
    return found
