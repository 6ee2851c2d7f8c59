"""Findings of the same scenario with a press a few frames earlier or later."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.auditing.walk import Look, Walk
from larktally.inputs.script import InputScript, Span
from larktally.runs.runner import Snapshot
from larktally.runs.scenario import Scenario

__all__ = ["MOVED", "moved_presses"]

MOVED = "press moved"
# How far a press is moved, how long its answer is waited for, and how many presses are tried of all: of a subject that cannot
# save, each from the start.
BY, WITHIN, MOST_PRESSES, MOST_FROM_START = 3, 7, 6, 2
# What a press sets off: events and changes of labels, by name, and how often.
Answer = Mapping[str, int]


def moved_presses(seen: Seen, scenario: Scenario) -> Iterator[Finding]:
    """A frame that swallows a press: made a frame earlier it is answered, and a frame later, and in that frame by nothing.

    Not: what comes by itself in those frames; presses before a window opens or after it has closed; a rest or a lock that is
    longer than the moves; an answer that is another one, as in a chain of strikes. A fault farther from every press of the script
    than it is moved is not seen.
    """
    script = InputScript.from_columns(seen.trace.inputs)
    scenario = scenario.changed(
        inputs=script, until=None, frames=seen.trace.frames + BY + WITHIN, claims=(), measures=()
    )
    moves = _Moves(seen, scenario, script)
    told: set[str] = set()
    for press in _presses(seen, script, moves.saves):
        if press.action in told:
            continue
        answers = moves.answers(press)
        for at in sorted(answers)[1:-1]:
            around = (answers[at - 1].keys() & answers[at + 1].keys()) - moves.usual[at]
            if around and not answers[at]:
                told.add(press.action)
                yield _finding(press.action, at, sorted(around)[0], answers)
                break


def _finding(action: str, at: int, what: str, answers: Mapping[int, Answer]) -> Finding:
    answered = ", ".join(str(frame) for frame, answer in sorted(answers.items()) if what in answer)
    message = f"pressed in frame {at}, nothing answers within {WITHIN} frames; in frames {answered} {what} does"
    claim = f"follows(pressed({action!r}), {what}, within={WITHIN})"
    return Finding(MOVED, action, message, "likely", (at,), 1, "", claim, "", 3)


def _presses(seen: Seen, script: InputScript, saves: bool) -> list[Span]:
    """Presses with room around them: each action's first, then its others, as many as there is time for; in order."""
    by_action: dict[str, list[Span]] = {}
    for span in script.spans:
        by_action.setdefault(span.action, []).append(span)
    found: list[tuple[int, Span]] = []
    for spans in by_action.values():
        for n, span in enumerate(spans):
            before, after = 0, seen.rows + WITHIN
            if n:
                before = int(spans[n - 1].start) + int(spans[n - 1].frames)
            if n + 1 < len(spans):
                after = int(spans[n + 1].start)
            if int(span.start) - BY > before and int(span.start) + int(span.frames) + BY + 1 < after:
                found.append((n, span))
    # The sort keeps the order within an action.
    most = MOST_FROM_START
    if saves:
        most = MOST_PRESSES
    chosen = []
    for _, span in sorted(found, key=lambda one: one[0])[:most]:
        chosen.append(span)
    return sorted(chosen, key=lambda span: int(span.start))


class _Moves:
    """A run in which one press after another is moved, from shortly before it on where the subject saves."""

    def __init__(self, seen: Seen, scenario: Scenario, script: InputScript) -> None:
        self._scenario, self._script = scenario, script
        self._labels = {name for name, _ in seen.of_kind("label")}
        self._walk = Walk(scenario)
        #: What comes anyway after each frame to which a press is moved: it is the answer to none.
        self.usual: dict[int, set[str]] = {}
        self.saves = self._walk.run.subject.info.saves

    def answers(self, press: Span) -> dict[int, Answer]:
        """What a press sets off in each frame to which it is moved: what there is more of than in the run without it."""
        rest = InputScript(one for one in self._script.spans if one != press)
        at = int(press.start)
        frames = range(at - BY, at + BY + 1)
        scripts = {frame: rest | InputScript([replace(press, start=frame)]) for frame in frames}
        stop = min(frames[-1] + WITHIN, int(self._scenario.frames))
        saved = None
        if self.saves:
            self._walk.run.to(frames[0] - 1)
            saved = self._walk.run.snapshot()
        without = self._look(saved, rest, stop)
        found: dict[int, Answer] = {}
        for frame, moved in scripts.items():
            rows = range(frame, frame + WITHIN + 1)
            own = self._happened(self._look(saved, moved, stop), rows)
            usual = self._happened(without, rows)
            self.usual[frame] = set(usual)
            found[frame] = {name: times for name, times in own.items() if times > usual.get(name, 0)}
        if saved is not None:
            self._walk.run.restore(saved, self._script)
        return found

    def _look(self, saved: Snapshot | None, under: InputScript, stop: int) -> Look:
        if saved is None:
            return Walk(self._scenario.changed(inputs=under)).on(stop)
        self._walk.run.restore(saved, under)
        return self._walk.on(stop)

    def _happened(self, look: Look, rows: range) -> dict[str, int]:
        """Events and changes of labels in some rows, as claims say them, and how often."""
        found: list[str] = []
        for row in rows:
            for text in look.emitted.get(row, ()):
                name = text.partition(" ")[0]
                # What says that a press was refused is no answer to it; a machine's own word is told by its label.
                if name not in ("changed", "refused"):
                    found.append(f"event({name!r})")
            if row not in look.rows or row - 1 not in look.rows:
                continue
            for n, name in enumerate(self._walk.names):
                if name in self._labels and look.rows[row][n] != look.rows[row - 1][n]:
                    found.append(f"changed({name})")
        return Counter(found)
