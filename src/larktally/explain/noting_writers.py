"""Noting writers: which phase, part, file and line of a sim set a channel, while it runs.

This module gives the parts that are asked about another class for as long as it notes, one whose attributes tell when they
are set, and it reads the stack for the line that did. Nothing else in the library does either.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from typing import Any

from msgspec.structs import replace

from larktally.code_places import is_own, place_of
from larktally.errors import LarkTallyError
from larktally.explain.writes import Write
from larktally.names import unknown_name
from larktally.parts.noted import Noted
from larktally.parts.sim import Sim
from larktally.parts.space.body import Body
from larktally.parts.space.reasons import reason_of
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike
from larktally.traces.trace import Trace

__all__ = ["Notes", "who_wrote"]


def who_wrote(trace: Trace, scenario: Scenario | SubjectLike, row: int, channel: str, most: int = 5) -> list[Write]:
    """The last writes of a channel up to and with a row, the latest first, `most` of them.

    Runs the recording again up to that row with writers noted; a write that leaves the value as it is counts too. Raises
    LarkTallyError for a row that the trace does not have, a channel that the sim does not have, or a subject that is no sim.
    """
    trace.check_row(row)
    live = Live(Scenario.from_trace(trace, scenario))
    notes = Notes(live.sim, [channel], most)
    live.to(row)
    return notes.found[::-1]


class Notes:
    """The writes of some channels of a sim, noted in order as they happen, from now on until `end`.

    `found` holds the last `most` of them. Raises LarkTallyError for a channel that the sim does not have.
    """

    def __init__(self, sim: Sim, channels: Iterable[str], most: int = 1000) -> None:
        self.found: list[Write] = []
        self._sim, self._most = sim, most
        self._at = ("", "")
        self._fresh = 0
        self._kinds: list[tuple[Any, type]] = []
        by_owner: dict[int, tuple[Any, dict[str, str]]] = {}
        for channel in channels:
            if channel not in sim.bindings:
                raise LarkTallyError(unknown_name("channel", channel, sim.bindings, "this sim"))
            owner, attribute = sim.bindings[channel]
            by_owner.setdefault(id(owner), (owner, {}))[1][attribute] = channel
        for owner, attributes in by_owner.values():
            self._watch(owner, attributes)
        self._end = sim.watch_runs(self._run)

    def end(self) -> None:
        """Notes nothing from now on."""
        # A note taker that outlived its question would slow every step to come.
        for owner, kind in self._kinds:
            owner.__class__ = kind
        self._end()

    def _watch(self, owner: Any, channels: dict[str, str]) -> None:
        """Lets a part note every change of the attributes that are channels; one that is derived, when it comes out other."""
        # A part of a class of its own, made from the one it has, is still what every isinstance and every rule takes it
        # for; and a part that nobody asks about stays as quick as it was, since nothing of it is changed.
        kind, notes = type(owner), self
        derived, set_as = [], {}
        for name in channels:
            shown = getattr(kind, name, None)
            if isinstance(shown, Noted):
                # Set by that name, it sets the one under which it is kept; and its part's own steps set that alone.
                set_as[shown.kept] = name
            elif isinstance(shown, property):
                # It has no writer of its own: it comes out other when something that it is made from is set.
                derived.append(name)
            else:
                set_as[name] = name

        def noted(part: Any, name: str, value: Any) -> None:
            if isinstance(getattr(kind, name, None), Noted):
                # Told once, when it sets the name under which it is kept.
                object.__setattr__(part, name, value)
                return
            written = set_as.get(name)
            looked = derived
            if written is not None:
                looked = [written, *derived]
            before = [getattr(part, one, None) for one in looked]
            # The part's class has none of its own, so that this is what an assignment would have done.
            object.__setattr__(part, name, value)
            for one, old in zip(looked, before, strict=True):
                new = getattr(part, one, None)
                if one == written or old != new:
                    notes._note(channels[one], old, new)

        owner.__class__ = type(kind.__name__, (kind,), {"__setattr__": noted, "__slots__": ()})
        self._kinds.append((owner, kind))

    def _note(self, channel: str, before: Any, after: Any) -> None:
        self.found.append(Write(channel, self._sim.frame, *self._at, _place(), before, after))
        self._fresh += 1
        # The last ones: `who_wrote` runs through a whole recording.
        del self.found[: -self._most]

    def _run(self, phase: str, name: str, run: Callable[[], Any]) -> None:
        """One part's or hook's run, after which a body can say why its own values came out as they did."""
        self._at, self._fresh = (phase, name), 0
        run()
        part = self._sim.parts.get(name)
        if self._fresh and isinstance(part, Body):
            for at in range(max(0, len(self.found) - self._fresh), len(self.found)):
                written = self.found[at]
                owner, attribute = self._sim.bindings[written.channel]
                # A rule's own assignment needs no other reason.
                if owner is part and not written.by_model:
                    self.found[at] = replace(written, reason=reason_of(part, attribute))


def _place() -> str:
    """File and line of the innermost function of the model's own that is on the way; "" where none is: a line of the library's
    would tell its user nothing."""
    frame = sys._getframe()
    while frame.f_code is not Notes._run.__code__ and frame.f_back is not None:
        if not is_own(frame.f_code.co_filename):
            return place_of(frame)
        frame = frame.f_back
    return ""
