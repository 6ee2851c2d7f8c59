"""The smallest script that still breaks a claim.

Frames are cut off, presses left out, shortened and moved together, analog values made plain, and params put back to what the
model has by itself. Every step is tried by a run: what does not break the claim any more is taken back, and not tried again.
Leaving out goes by halves, then by smaller and smaller parts (Zeller and Hildebrandt, Simplifying and Isolating
Failure-Inducing Input, 2002).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from typing import TYPE_CHECKING, Any, NamedTuple

from msgspec.structs import replace

from larktally.claims.checking import check
from larktally.claims.claim import Claim
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript, Span
from larktally.runs.hands import Hands
from larktally.runs.many import Workers, many_hands
from larktally.runs.numbers import asked_numbers
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.search.shrunk import Shrunk

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["shrink"]

# Of more presses, not every two are left out together.
MOST_IN_PAIRS = 9
# How often a number is tried half way to what the model has by itself.
HALVINGS = 6


def shrink(
    scenario: Scenario,
    claim: str = "",
    most: int = 500,
    *,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Shrunk:
    """Looks for the smallest script and the fewest frames with which a claim of a scenario is still broken.

    `claim` is its name, by default the first that is broken; at most `most` runs are tried. The result need not be the
    smallest there is: nothing can be left out of it alone, and no two presses together where there are few. `workers` processes,
    or an `executor` with the standard library's interface, try several at once, and come to the same. `on_progress(run, most)` is
    called after each run. Raises LarkTallyError where no claim is broken, or not this one.
    """
    with many_hands(workers, executor) as hands:
        tries = _Tries(scenario, claim, most, hands, on_progress)
        before = (len(tries.now.spans), tries.now.frames)
        # A press left out may let frames be cut off that were needed before: all of it again, until nothing helps.
        while tries.smaller():
            pass
    now = tries.now
    made = scenario.changed(
        inputs=InputScript(now.spans), frames=now.frames, params=dict(now.params), claims=[tries.claim]
    )
    trace = record(made)
    result = check(trace, [tries.claim])[0]
    return Shrunk(made, trace, result, before, tries.runs, tuple(tries.without()), tries.runs < most)


class _Try(NamedTuple):
    """A run to try."""

    spans: tuple[Span, ...]
    frames: int
    params: tuple[tuple[str, Any], ...]


class _Outcome(NamedTuple):
    """What a try came to: the claim's verdict, "failed" where the subject fails; the run as held; the row of the breach."""

    verdict: str
    ran: _Try
    row: int | None = None


def _outcome(scenario: Scenario, claim: Claim, tried: _Try) -> _Outcome:
    try:
        # A press beyond the end would be refused as one that never happens.
        script = InputScript(tried.spans).keep(1, tried.frames)
        trace = record(scenario.changed(inputs=script, frames=tried.frames, params=dict(tried.params)))
    except SubjectFailed:
        return _Outcome("failed", tried)
    result = check(trace, [claim])[0]
    row = None
    if result.breaches:
        row = result.breaches[0].row
    # What was really held: presses that hang on events are in their frames now, and can be left out one by one.
    held = InputScript.from_columns(trace.inputs).spans
    return _Outcome(result.verdict, _Try(held, trace.frames, tried.params), row)


class _Tries:
    """The smallest run found so far, and what may be tried to make it smaller."""

    def __init__(
        self,
        scenario: Scenario,
        claim: str,
        most: int,
        hands: Hands,
        on_progress: Callable[[int, int], Any] | None,
    ) -> None:
        trace = record(scenario)
        tally = check(trace, scenario.claims)
        broken = [result for result in tally if result.verdict == "broken"]
        if claim:
            # Raises, with the nearest name, for a claim that the scenario does not have.
            tally[claim]
            broken = [result for result in broken if result.name == claim]
        if not broken:
            raise LarkTallyError(
                f"{scenario.title}: {repr(claim) if claim else 'no claim'} is {'not ' if claim else ''}broken in it"
            )
        self.claim = broken[0].claim
        script = InputScript.from_columns(trace.inputs)
        self.now = _Try(script.spans, trace.frames, tuple(scenario.params.items()))
        self.runs = 0
        self._scenario = scenario.changed(claims=(), measures=(), windows=())
        self._most, self._hands, self._on_progress = most, hands, on_progress
        self._row = None
        if broken[0].breaches:
            self._row = broken[0].breaches[0].row
        #: What did not break it, and what it came to.
        self._lost: dict[str, str] = {}

    def smaller(self) -> bool:
        """One round of everything; whether anything of it helped."""
        before = self.now
        self.cut_off()
        self.leave_out()
        self.shorten()
        self.move_together()
        if self.now == before:
            self.leave_out_in_pairs()
            self.plain_values()
            self.default_params()
        return self.now != before and self.runs < self._most

    def first(self, tries: Iterable[_Try]) -> int | None:
        """Keeps the first of some runs, in their order, in which the claim is broken, too: its place, or None."""
        places: dict[str, int] = {}
        listed: list[_Try] = []
        for place, one in enumerate(tries):
            key = _key(one)
            if one.frames >= 1 and one != self.now and key not in self._lost and key not in places:
                places[key] = place
                listed.append(one)
        listed = listed[: self._most - self.runs]
        run = partial(_outcome, self._scenario, self.claim)
        for tried, outcome in zip(listed, self._hands.each(run, listed), strict=False):
            self.runs += 1
            if self._on_progress is not None:
                self._on_progress(self.runs, self._most)
            if outcome.verdict == "broken":
                self.now, self._row = outcome.ran, outcome.row
                return places[_key(tried)]
            self._lost[_key(tried)] = outcome.verdict
        return None

    def cut_off(self) -> None:
        """Ends the run where the claim breaks, or as early as halving finds."""
        # Nothing after the breach can have made it: mostly one run and half the frames are gone.
        if self._row is not None and self._row < self.now.frames:
            self.first([self.now._replace(frames=self._row)])
        # A run that ends with its first breach is not broken a frame before, unless it is the end itself that breaks it.
        if self._row == self.now.frames and self.first([self.now._replace(frames=self.now.frames - 1)]) is None:
            return
        low = 0
        while self.now.frames - low > 1 and self.runs < self._most:
            middle = (low + self.now.frames) // 2
            if self.first([self.now._replace(frames=middle)]) is None:
                low = middle

    def leave_out(self) -> None:
        """Leaves out all presses, all of one action, halves of the presses, then smaller and smaller parts."""
        spans = self.now.spans
        actions = dict.fromkeys(span.action for span in spans)
        self.first([self._with([])])
        for action in actions:
            self.first([self._with(span for span in self.now.spans if span.action != action)])
        part = max(len(self.now.spans) // 2, 1)
        while self.now.spans and self.runs < self._most:
            at, found = 0, False
            while at < len(self.now.spans):
                spans = self.now.spans
                # Those behind it are tried with it: whoever helps may have them in hand already.
                parts = []
                for start in range(at, len(spans), part):
                    parts.append(self._with(spans[:start] + spans[start + part :]))
                place = self.first(parts)
                if place is None:
                    break
                found = True
                at += place * part
            if part == 1 and not found:
                return
            part = max(part // 2, 1)

    def leave_out_in_pairs(self) -> None:
        """Leaves out every two presses together, and makes two of one action one that is held over both."""
        spans = self.now.spans
        if not 2 <= len(spans) <= MOST_IN_PAIRS:
            return
        tries = []
        for one, other in itertools.combinations(range(len(spans)), 2):
            tries.append(self._with(span for n, span in enumerate(spans) if n not in (one, other)))
        for one, other in itertools.combinations(range(len(spans)), 2):
            if spans[one].action == spans[other].action:
                end = int(spans[other].start) + int(spans[other].frames)
                joined = replace(spans[one], frames=end - int(spans[one].start))
                tries.append(self._with((*spans[:one], joined, *spans[one + 1 : other], *spans[other + 1 :])))
        self.first(tries)

    def shorten(self) -> None:
        """Holds all presses for a frame; or each for a frame, or for half as long, and half again."""
        self.first([self._with(replace(span, frames=1) for span in self.now.spans)])
        for at in range(len(self.now.spans)):
            if at >= len(self.now.spans):
                return
            spans = self.now.spans
            tries = []
            for frames in _halves(int(spans[at].frames)):
                tries.append(self._with((*spans[:at], replace(spans[at], frames=frames), *spans[at + 1 :])))
            self.first(tries)

    def move_together(self) -> None:
        """Moves all presses together; or each, and all after it, to an earlier frame, and ends the run so much earlier."""
        self.first([self._together()])
        for at in range(len(self.now.spans)):
            spans = self.now.spans
            if at >= len(spans):
                return
            free = int(spans[at].start) - (int(spans[at - 1].start) + 1 if at else 1)
            tries = []
            for kept in _halves(free, least=0):
                tries.append(self._sooner(at, free - kept))
            self.first(tries)

    def plain_values(self) -> None:
        """Gives analog presses plain values: all the way, half, or fewer digits."""
        for at, span in enumerate(self.now.spans):
            if at < len(self.now.spans) and span.value != 1.0:
                tries = []
                for value in (1.0, -1.0, 0.5, -0.5, round(span.value, 1), round(span.value, 2)):
                    if (value * span.value > 0 and len(repr(value)) < len(repr(span.value))) or value == 1.0:
                        spans = self.now.spans
                        tries.append(self._with((*spans[:at], replace(span, value=value), *spans[at + 1 :])))
                self.first(tries)

    def default_params(self) -> None:
        """Puts params back to what the model has by itself, or numbers half way there, and half again."""
        params = dict(self.now.params)
        if not params:
            return
        self.first([self.now._replace(params=())])
        defaults: Mapping[str, Any] | None = None
        for name in params:
            if name not in dict(self.now.params) or self.first([self._without(name)]) is not None:
                continue
            if defaults is None:
                defaults = self._defaults()
            default, value = defaults.get(name), params[name]
            if default is not None and _is_number(default) and _is_number(value):
                self._nearer(name, default, value)

    def without(self) -> Iterator[tuple[str, str]]:
        """What the claim comes to without each press and each param, as far as that was tried."""
        spans = self.now.spans
        for at, span in enumerate(spans):
            verdict = self._lost.get(_key(self._with(spans[:at] + spans[at + 1 :])))
            if verdict is not None:
                yield f"{span.action} in {span.start}", verdict
        for name, value in self.now.params:
            verdict = self._lost.get(_key(self._without(name)))
            if verdict is not None:
                yield f"{name}={value}", verdict

    def _nearer(self, name: str, default: float, value: float) -> None:
        """A number nearer to the default, of few digits where it may be."""
        far, near = value, default
        for _ in range(HALVINGS):
            middle = (far + near) / 2
            if isinstance(value, int) and isinstance(default, int):
                middle = int(middle)
            elif round(middle) != round(far):
                middle = float(round(middle))
            if middle in (far, near):
                return
            if self.first([self._changed(name, middle)]) is not None:
                far = middle
            else:
                near = middle

    def _defaults(self) -> Mapping[str, Any]:
        try:
            asked = asked_numbers(self._scenario.changed(params={}))
        except LarkTallyError:
            # A model that cannot be built without them has none to go back to.
            return {}
        return {one.name: one.default for one in asked}

    def _with(self, spans: Iterable[Span]) -> _Try:
        return self.now._replace(spans=tuple(spans))

    def _without(self, name: str) -> _Try:
        return self.now._replace(params=tuple(one for one in self.now.params if one[0] != name))

    def _changed(self, name: str, value: Any) -> _Try:
        params = []
        for one in self.now.params:
            params.append((name, value) if one[0] == name else one)
        return self.now._replace(params=tuple(params))

    def _sooner(self, at: int, by: int) -> _Try:
        """A press and all after it so many frames earlier, and the end too."""
        moved = list(self.now.spans[:at])
        for span in self.now.spans[at:]:
            moved.append(replace(span, start=int(span.start) - by))
        return _Try(tuple(moved), self.now.frames - by, self.now.params)

    def _together(self) -> _Try:
        """Each press in the frame after the start of the one before it."""
        moved: list[Span] = []
        for at, span in enumerate(self.now.spans):
            start = at + 1
            if moved and moved[-1].action == span.action:
                # Two in adjoining frames would be one that is held.
                start = int(moved[-1].start) + int(moved[-1].frames) + 1
            moved.append(replace(span, start=max(start, int(moved[-1].start) + 1 if moved else 1)))
        by = int(self.now.spans[-1].start) - int(moved[-1].start) if moved else 0
        return _Try(tuple(moved), self.now.frames - by, self.now.params)


def _key(one: _Try) -> str:
    """What a try is known by: its params may be of any kind."""
    return repr(one)


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _halves(most: int, least: int = 1) -> Iterator[int]:
    """`least`, and from there up to below `most` by halving what is left: 1, 6, 9 for 12."""
    at = least
    while at < most:
        yield at
        at = max(at + 1, (at + most) // 2)
