"""Shifts: a press placed before and after where something falls, and the window in which it is taken."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from msgspec.structs import replace

from larktally.claims.checking import check, rows_where
from larktally.claims.claim import Claim
from larktally.claims.named_windows import NamedWindow
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript, Span
from larktally.inputs.shift import Shift
from larktally.language.forms import Form
from larktally.names import unknown_name
from larktally.runs.many import Workers, run_each
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural, shown_span

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["Window", "anchors_of", "claim_kept", "jittered", "longer", "placed", "window_of"]

MOST_LISTED = 8


def anchors_of(shift: Shift, scenario: Scenario) -> list[int]:
    """The rows around which a shift is placed, in the run without it: one, or for nth="each" all there are.

    Raises LarkTallyError where there is none, or there are several and `nth` does not say which, and for an action that there
    is not.
    """
    trace = record(scenario.changed(claims=(), measures=()))
    if shift.action not in trace.inputs:
        raise LarkTallyError(unknown_name("action", shift.action, trace.inputs, "this subject"))
    rows = rows_where(trace, shift.around).tolist()
    where = f"of {scenario.title} without the press"
    if not rows:
        raise LarkTallyError(f"{shift.around} holds in no row {where}: there is nothing to shift around")
    if shift.nth == "each":
        return [int(row) for row in rows]
    if shift.nth is None and len(rows) > 1:
        listed = ", ".join(map(str, rows[:MOST_LISTED]))
        if len(rows) > MOST_LISTED:
            listed += f" and {len(rows) - MOST_LISTED} more"
        raise LarkTallyError(
            f"{shift.around} holds in {len(rows)} rows {where} ({listed}): say which with nth=1..{len(rows)}, or nth='each'"
        )
    if shift.nth is not None and shift.nth > len(rows):
        raise LarkTallyError(f"{shift.around} holds in {plural(len(rows), 'row')} {where}: there is no nth={shift.nth}")
    return [int(rows[(shift.nth or 1) - 1])]


def placed(scenario: Scenario, shift: Shift, anchors: Sequence[int], by: int, frames: int | None = None) -> Scenario:
    """The scenario with the press so many frames from each anchor; raises LarkTallyError where that is no frame of the run."""
    last, spans = int(scenario.frames), []
    for anchor in anchors:
        frame = anchor + by
        if not 1 <= frame <= last:
            told = f"{by:+d} from row {anchor} is frame {frame}, and this run has frames 1..{last}: a longer one, or fewer shifts"
            raise LarkTallyError(f"{shift.title}: {told}")
        spans.append(Span(shift.action, frame, frames or shift.frames))
    return scenario.changed(inputs=scenario.inputs | InputScript(spans))


def longer(scenario: Scenario, frames: int) -> Scenario:
    """The scenario with each press of one frame held for so many."""
    spans = []
    for one in scenario.inputs.spans:
        if one.frames == 1:
            one = replace(one, frames=frames)
        spans.append(one)
    return scenario.changed(inputs=InputScript(spans))


def jittered(scenario: Scenario, most: int, seed: int) -> Scenario:
    """The scenario with each press moved, and held longer or shorter, by up to so many frames, drawn by a seed; the first draw is
    the script as it is."""
    if not seed:
        return scenario
    pick = np.random.default_rng([seed, most])
    spans = []
    for one in scenario.inputs.resolved(scenario.rate).spans:
        moved, held = pick.integers(-most, most + 1, 2)
        # A span that hangs on a condition stays where it falls at the earliest.
        start = max(int(one.start) + int(moved), 1)
        frames = max(int(one.frames) + int(held), 1)
        spans.append(replace(one, start=start, frames=min(frames, max(int(scenario.frames) - start + 1, 1))))
    return scenario.changed(inputs=InputScript(spans))


class Window(Sequence[int]):
    """The shifts for which something holds, out of those that were tried; it equals a range or a list of the same shifts."""

    def __init__(self, taken: Iterable[int], tried: Iterable[int], rate: Any = None) -> None:
        self.taken, self.tried = tuple(taken), tuple(tried)
        self._rate = rate

    @property
    def stretches(self) -> list[tuple[int, int]]:
        """From where to where it goes without a hole."""
        found: list[tuple[int, int]] = []
        for one in sorted(self.taken):
            if found and one == found[-1][1] + 1:
                found[-1] = (found[-1][0], one)
            else:
                found.append((one, one))
        return found

    @property
    def frames(self) -> int:
        """How many of them."""
        return len(self.taken)

    @property
    def stretches_told(self) -> str:
        """Its stretches and the holes between them: "-6..-2 and 0, not -1"."""
        holes = ", ".join(shown_span(*one) for one in self._holes())
        told = " and ".join(shown_span(*one) for one in self.stretches)
        if holes:
            told += f", not {holes}"
        return told

    @property
    def strip(self) -> str:
        """A letter for each shift that was tried: # where it holds, . where it does not, | before 0."""
        letters = []
        for one in sorted(self.tried):
            if one == 0:
                letters.append("|")
            letters.append("#" if one in self.taken else ".")
        return "".join(letters)

    def __eq__(self, other: object) -> bool:
        if isinstance(other, Window):
            return self.taken == other.taken
        if isinstance(other, Iterable):
            return list(self.taken) == list(other)
        return NotImplemented

    def __hash__(self) -> int:
        return hash(self.taken)

    def __len__(self) -> int:
        return len(self.taken)

    def __getitem__(self, at: Any) -> Any:
        return self.taken[at]

    def __str__(self) -> str:
        if not self.taken:
            return f"never, of {shown_span(min(self.tried), max(self.tried))}"
        length = plural(len(self.taken), "frame")
        if self._rate:
            length += f" ({len(self.taken) / float(self._rate):.3f} s)"
        stretches = self.stretches
        first, last = stretches[0][0], stretches[-1][1]
        told = f"from {first} to {last}"
        if first == last:
            told = f"at {first} alone"
        elif len(stretches) > 1:
            told = self.stretches_told
        told = f"{told}: {length}"
        ends = [str(end) for end, tried in ((first, min(self.tried)), (last, max(self.tried))) if end == tried]
        if ends:
            told += f"; tried as far as {' and '.join(ends)}"
        return told

    def __repr__(self) -> str:
        return f"<Window {self}>"

    def _holes(self) -> Iterator[tuple[int, int]]:
        stretches = self.stretches
        for (_, last), (first, _) in itertools.pairwise(stretches):
            yield last + 1, first - 1


def window_of(
    scenario: Scenario,
    shift: Shift,
    that: str | Claim | Form,
    *,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Window:
    """The shifts of a press for which a claim is kept.

    `assert lt.window_of(leap, shift, "at_least(event('hop'), 2)") == range(-6, 1)`. `that` is a claim, its text, or the name of
    one of the scenario's. Raises LarkTallyError where there is nothing to shift around.
    """
    judged = NamedWindow(that, shift).claim_among(scenario.claims)
    anchors = anchors_of(shift, scenario)
    variants = [placed(scenario, shift, anchors, by).changed(claims=(), measures=()) for by in shift.by]
    kept = run_each(partial(claim_kept, judged), variants, workers=workers, executor=executor, on_progress=on_progress)
    taken = [by for by, one in zip(shift.by, kept, strict=True) if one]
    return Window(taken, shift.by, scenario.rate)


def claim_kept(judged: Claim, scenario: Scenario) -> bool:
    """Whether a claim is kept in a scenario's run."""
    return check(record(scenario), [judged]).passed
