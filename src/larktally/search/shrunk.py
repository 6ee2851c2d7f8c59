"""What came of making a run smaller: the script to paste, what of it cannot be left out, and the story of the claim."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from larktally.claims.verdicts import Result
from larktally.inputs.script import Span
from larktally.report import Report
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural
from larktally.traces.trace import Trace

__all__ = ["Shrunk"]

# More are not listed one by one.
MOST_LISTED = 6


@dataclass(frozen=True, slots=True, eq=False)
class Shrunk:
    """A run as small as was found in which a claim is still broken.

    `scenario` makes it, `trace` is its recording and `result` the claim's verdict in it; `before` and `after` are the
    numbers of presses and frames, there and here; `runs` is how many were tried. `without` says of each press, and each param,
    what the claim comes to where it alone is left out; `done` is false where the runs ended before all was tried.
    """

    scenario: Scenario
    trace: Trace
    result: Result
    before: tuple[int, int]
    runs: int
    without: tuple[tuple[str, str], ...] = ()
    done: bool = True

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
            "params": {name: str(value) for name, value in self.scenario.params.items()},
            "before": {"presses": self.before[0], "frames": self.before[1]},
            "runs": self.runs,
            "without": dict(self.without),
            "done": self.done,
            "code": self.code,
        }

    @property
    def headline(self) -> str:
        """What was found, the script to paste, and what of it cannot be left out."""
        presses, frames = self.after
        many = f"{plural(presses, 'press', 'presses')} in {frames} frames"
        were = f"where there were {self.before[0]} in {self.before[1]} ({self.runs} runs tried)"
        code = f"inputs={self.code}, frames={frames}"
        if self.scenario.params:
            code += f", params={dict(self.scenario.params)!r}"
        return f"{self.result.name!r} is still broken with {many}, {were}\n  {code}\n  {self._left_out()}"

    def _left_out(self) -> str:
        if not self.done:
            return "the runs ended before all was tried: more may be left out (most=, --most)"
        if not self.without:
            return "there is nothing to leave out"
        if len(self.without) > MOST_LISTED:
            return f"none of the {len(self.without)} can be left out alone"
        told = []
        for what, verdict in self.without:
            told.append(f"{what}: {verdict}")
        return f"without {'; without '.join(told)}"

    def report(self) -> Report:
        """What was found, the script to paste, and the story of the claim."""
        return Report.of_lines(self.headline.splitlines()) + self.result.report()

    def __str__(self) -> str:
        return self.report().text()


def _call(span: Span) -> str:
    if span.value == 1.0:
        value = ""
    else:
        value = f", {span.value!r}"
    if span.frames == 1 and not value:
        return f".press({span.action!r}, {span.start})"
    return f".hold({span.action!r}, {span.start}, {span.frames}{value})"
