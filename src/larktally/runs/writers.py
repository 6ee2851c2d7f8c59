"""Who wrote this: the phase, part, file and line that last set a channel of a sim, found by running it again."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from larktally.errors import LarkError, unknown_name
from larktally.parts.guards import Source
from larktally.runs.live import Live
from larktally.runs.replaying import again
from larktally.runs.scenario import Scenario
from larktally.subject import SubjectLike
from larktally.traces import Trace

__all__ = ["Written", "who_wrote"]

_PACKAGE = str(Path(__file__).parents[1])


@dataclass(frozen=True, slots=True)
class Written:
    """A channel being set: in which row, phase and part, from which file and line (the model's own, where one of its
    functions did), from which value to which."""

    channel: str
    row: int
    phase: str
    part: str
    place: str
    before: Any
    after: Any

    def __str__(self) -> str:
        where = f"in the phase {self.phase!r}, {self.part}" if self.phase else "while the model was built or reset"
        return f"{self.channel} = {self.after!r} (was {self.before!r}), set in row {self.row} {where}, at {self.place}"


def who_wrote(trace: Trace, scenario: Scenario | SubjectLike, row: int, channel: str, most: int = 5) -> list[Written]:
    """The last writes of a channel up to and with a row, the latest first, `most` of them.

    Runs the recording again up to that row with writers noted; a write that leaves the value as it is counts too. Raises
    LarkError for a channel that the sim does not have, or a subject that is no sim.
    """
    live = Live(again(trace, scenario))
    sim = live.sim
    if channel not in sim.sources:
        raise LarkError(unknown_name("channel", channel, sim.sources, "this sim"))
    notes = _Notes(live, channel, sim.sources[channel], most)
    notes.watch()
    live.to(row)
    return notes.last()


class _Notes:
    """The writes of one channel, noted as they happen."""

    def __init__(self, live: Live, channel: str, source: Source, most: int) -> None:
        self._live, self._channel, self._source, self._most = live, channel, source, most
        self._at = ("", "")
        self._found: list[Written] = []
        self._kind = type(source.owner)

    def last(self) -> list[Written]:
        return self._found[::-1]

    def watch(self) -> None:
        """Lets the part that holds the channel note every change of it, and every phase say what runs in it."""
        owner, attribute, notes = self._source.owner, self._source.attribute, self
        derived = isinstance(getattr(self._kind, attribute, None), property)

        def noted(part: Any, name: str, value: Any) -> None:
            before = getattr(part, attribute, None)
            object.__setattr__(part, name, value)
            after = getattr(part, attribute, None)
            if name == attribute or (derived and before != after):
                notes.note(before, after)

        owner.__class__ = type(self._kind.__name__, (self._kind,), {"__setattr__": noted, "__slots__": ()})
        sim = self._live.sim
        runs = [(phase, name) for phase in sim.phases for name, _ in sim._runs(phase)]
        if len(runs) == len(sim._schedule):
            sim._schedule = [self._told(at, run) for at, run in zip(runs, sim._schedule, strict=True)]

    def note(self, before: Any, after: Any) -> None:
        phase, part = self._at
        frame = self._live.sim.frame
        self._found.append(Written(self._channel, frame, phase, part, _place(), before, after))
        del self._found[: -self._most]

    def _told(self, at: tuple[str, str], run: Callable[[], Any]) -> Callable[[], Any]:
        def told() -> None:
            self._at = at
            run()

        return told


def _place() -> str:
    """File and line: the model's own where one of its functions is on the way, the library's otherwise."""
    frame = sys._getframe(3)
    first = frame
    while frame is not None and frame.f_code.co_name != "told":
        if not frame.f_code.co_filename.startswith((_PACKAGE, "<")):
            return f"{Path(frame.f_code.co_filename).name}:{frame.f_lineno}"
        if frame.f_back is None:
            break
        frame = frame.f_back
    return f"larktally/{Path(first.f_code.co_filename).relative_to(_PACKAGE)}:{first.f_lineno}"
