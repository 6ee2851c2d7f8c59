"""Random scripts until a claim is broken, and the smallest script that still breaks it.

Frames are cut off, presses left out, shortened and moved together.
Every step is tried by a run: what does not break the claim any more is taken back. Leaving out goes by halves, then by
smaller and smaller parts (Zeller and Hildebrandt, Simplifying and Isolating Failure-Inducing Input, 2002).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from larktally.claims.checking import check
from larktally.claims.verdicts import Result
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript, Span
from larktally.names import unknown_name
from larktally.report import Report
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural
from larktally.traces.trace import Trace

__all__ = ["SearchResult", "Shrunk", "find_breach", "shrink"]

# A player's hands: faster and longer finds less in as many runs.
PRESSES_A_SECOND, LONGEST_SECONDS = 2, 1


@dataclass(frozen=True, slots=True, eq=False)
class Shrunk:
    """A run as small as was found in which a claim is still broken.

    `scenario` makes it, `trace` is its recording and `result` the claim's verdict in it; `before` and `after` are the
    numbers of presses and frames, there and here; `runs` is how many were tried.
    """

    scenario: Scenario
    trace: Trace
    result: Result
    before: tuple[int, int]
    runs: int

    @property
    def after(self) -> tuple[int, int]:
        """The presses and frames of the smallest run."""
        return len(self.scenario.inputs.spans), int(self.scenario.frames)

    @property
    def code(self) -> str:
        """The script as Python."""
        calls = []
        for span in self.scenario.inputs.spans:
            calls.append(_call(span))
        return "lt.InputScript()" + "".join(calls)

    def plain(self) -> dict[str, Any]:
        """The same as plain data, for JSON."""
        spans = [
            {"action": s.action, "start": s.start, "frames": s.frames, "value": s.value}
            for s in self.scenario.inputs.spans
        ]
        return {
            "claim": self.result.plain(),
            "frames": int(self.scenario.frames),
            "script": spans,
            "before": {"presses": self.before[0], "frames": self.before[1]},
            "runs": self.runs,
            "code": self.code,
        }

    @property
    def headline(self) -> str:
        """What was found, and the script to paste."""
        presses, frames = self.after
        many = f"{plural(presses, 'press', 'presses')} in {frames} frames"
        were = f"where there were {self.before[0]} in {self.before[1]} ({self.runs} runs tried)"
        return f"{self.result.name!r} is still broken with {many}, {were}\n  inputs={self.code}, frames={frames}"

    def report(self) -> Report:
        """What was found, the script to paste, and the story of the claim."""
        return Report.of_lines(self.headline.splitlines()) + self.result.report()

    def __str__(self) -> str:
        return self.report().text()


def shrink(
    scenario: Scenario, claim: str = "", most: int = 500, *, on_progress: Callable[[int, int], Any] | None = None
) -> Shrunk:
    """Looks for the smallest script and the fewest frames with which a claim of a scenario is still broken.

    `claim` is its name, by default the first that is broken; at most `most` runs are tried. The result need not be the
    smallest there is: nothing can be left out of it alone. `on_progress(run, most)` is called after each run. Raises
    LarkTallyError where no claim is broken, or not this one.
    """
    tries = _Tries(scenario, claim, most, on_progress)
    before = (len(tries.script.spans), tries.frames)
    # A press left out may let frames be cut off that were needed before: all four again, until none helps.
    changed = True
    while changed:
        size = tries.size
        tries.cut_off()
        tries.leave_out()
        tries.shorten()
        tries.move_together()
        changed = tries.size < size
    made = scenario.changed(inputs=tries.script, frames=tries.frames, claims=[tries.claim])
    trace = record(made)
    return Shrunk(made, trace, check(trace, [tries.claim])[0], before, tries.runs)


@dataclass(frozen=True, slots=True, eq=False)
class SearchResult:
    """What came of pressing at random: the scenario with the first script that breaks a claim, None where none does; how
    many were tried; and the claims that none of them put to the test."""

    broken: Scenario | None
    tries: int
    untested: tuple[str, ...]

    def __str__(self) -> str:
        if self.broken is not None:
            return f"{self.broken.title}: a claim is broken by random script {self.tries - 1}"
        lines = [f"no claim is broken in {self.tries} random scripts"]
        if self.untested:
            lines.append(f"  never put to the test: {', '.join(map(repr, self.untested))}")
        return "\n".join(lines)


def find_breach(
    scenario: Scenario, tries: int = 100, claim: str = "", *, on_progress: Callable[[int, int], Any] | None = None
) -> SearchResult:
    """Runs a scenario with random scripts until one breaks a claim.

    Each of the subject's on/off actions is pressed twice a second on average, for up to a second; the script of a try
    depends on its number alone, so that the same call finds the same. `claim` is the one to break, by default any;
    `on_progress(try, tries)` is called after each. Raises SubjectFailed where the subject fails, which is no breach, and
    LarkTallyError where there is nothing to break or to press.
    """
    claims = [one for one in scenario.claims if not claim or one.name == claim]
    if not claims:
        names = (one.name for one in scenario.claims)
        raise LarkTallyError(
            unknown_name("claim", claim, names) if claim else f"{scenario.title} has no claims to break"
        )
    chances = _chances(scenario)
    hold = max(int(float(scenario.rate) * LONGEST_SECONDS), 1)
    # A search in which a claim was never put to the test has found nothing out about it.
    untested = dict.fromkeys(one.name for one in claims)
    for seed in range(tries):
        made = scenario.changed(inputs=InputScript.at_random(chances, int(scenario.frames), seed, hold))
        verdicts = {}
        for result in check(record(made), claims):
            verdicts[result.name] = result.verdict
        for name, verdict in verdicts.items():
            if verdict != "untested":
                untested.pop(name, None)
        if "broken" in verdicts.values():
            return SearchResult(made, seed + 1, tuple(untested))
        if on_progress is not None:
            on_progress(seed + 1, tries)
    return SearchResult(None, tries, tuple(untested))


def _chances(scenario: Scenario) -> dict[str, float]:
    """How likely each on/off action of a subject is pressed in a frame."""
    header = record(scenario.changed(frames=1, inputs=InputScript(), until=None, claims=())).header
    names = []
    for name in header.actions:
        if name not in header.analog:
            names.append(name)
    if not names:
        raise LarkTallyError(f"{scenario.title} declares no on/off actions to press")
    return dict.fromkeys(names, min(PRESSES_A_SECOND / float(scenario.rate), 1.0))


class _Tries:
    """The smallest run found so far, and what may be tried to make it smaller."""

    def __init__(
        self, scenario: Scenario, claim: str, most: int, on_progress: Callable[[int, int], Any] | None
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
        # What was really held: presses that hang on events are in their frames now, and can be left out one by one.
        self.script = InputScript.from_columns(trace.inputs)
        self.frames = trace.frames
        self.runs = 0
        self._scenario, self._most, self._on_progress = scenario, most, on_progress
        self._row = None
        if broken[0].breaches:
            self._row = broken[0].breaches[0].row

    @property
    def size(self) -> tuple[int, int, int]:
        """What is made smaller: presses, frames, frames held."""
        return len(self.script.spans), self.frames, sum(int(span.frames) for span in self.script.spans)

    def try_it(self, spans: Iterable[Span], frames: int) -> bool:
        """Keeps a smaller run where the claim is broken in it, too."""
        # A press beyond the end would be refused as one that never happens.
        script = InputScript(tuple(spans)).keep(1, frames)
        if self.runs >= self._most or frames < 1:
            return False
        self.runs += 1
        if self._on_progress is not None:
            self._on_progress(self.runs, self._most)
        try:
            trace = record(self._scenario.changed(inputs=script, frames=frames, claims=()))
        except SubjectFailed:
            return False
        result = check(trace, [self.claim])[0]
        if result.verdict != "broken":
            return False
        self.script, self.frames = InputScript.from_columns(trace.inputs), trace.frames
        self._row = None
        if result.breaches:
            self._row = result.breaches[0].row
        return True

    def cut_off(self) -> None:
        """Ends the run where the claim breaks, or as early as halving finds."""
        # Nothing after the breach can have made it: mostly one run and half the frames are gone.
        if self._row is not None and self._row < self.frames:
            self.try_it(self.script.spans, self._row)
        # What is broken with n frames need not be with more: halves are tried, and every step is checked by a run.
        low = 0
        while self.frames - low > 1 and self.runs < self._most:
            middle = (low + self.frames) // 2
            if not self.try_it(self.script.spans, middle):
                low = middle

    def leave_out(self) -> None:
        """Leaves out halves of the presses, then smaller and smaller parts."""
        part = max(len(self.script.spans) // 2, 1)
        while self.script.spans and self.runs < self._most:
            at, found = 0, False
            while at < len(self.script.spans):
                spans = self.script.spans
                found = self.try_it(spans[:at] + spans[at + part :], self.frames) or found
                if not (len(self.script.spans) < len(spans)):
                    at = at + part
            if part == 1 and not found:
                return
            part = max(part // 2, 1)

    def shorten(self) -> None:
        """Holds each press for a frame, or for half as long, and half again."""
        for at in range(len(self.script.spans)):
            for frames in _halves(int(self.script.spans[at].frames)):
                if at < len(self.script.spans):
                    spans = list(self.script.spans)
                    spans[at] = replace(spans[at], frames=frames)
                    if self.try_it(spans, self.frames):
                        break

    def move_together(self) -> None:
        """Moves each press, and all after it, to an earlier frame, and ends the run so much earlier."""
        for at in range(len(self.script.spans)):
            spans = self.script.spans
            if at >= len(spans):
                return
            free = int(spans[at].start) - (int(spans[at - 1].start) + 1 if at else 1)
            for kept in _halves(free, least=0):
                sooner = free - kept
                moved = []
                for span in spans[at:]:
                    moved.append(replace(span, start=int(span.start) - sooner))
                if self.try_it([*spans[:at], *moved], self.frames - sooner):
                    break


def _halves(most: int, least: int = 1) -> Iterator[int]:
    """`least`, and from there up to below `most` by halving what is left: 1, 6, 9 for 12."""
    at = least
    while at < most:
        yield at
        at = max(at + 1, (at + most) // 2)


def _call(span: Span) -> str:
    if span.value == 1.0:
        value = ""
    else:
        value = f", {span.value!r}"
    if span.frames == 1 and not value:
        return f".press({span.action!r}, {span.start})"
    return f".hold({span.action!r}, {span.start}, {span.frames}{value})"
