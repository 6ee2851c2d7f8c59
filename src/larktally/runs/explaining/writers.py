"""Who wrote this: the phase, part, file and line that set a channel of a sim, found by running it again."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, replace
from typing import Any

from larktally.claims.story import shown_value
from larktally.errors import LarkError, unknown_name
from larktally.parts.sim import Sim
from larktally.parts.space.body import Body
from larktally.parts.space.reasons import reason_of
from larktally.places import is_own, place_of
from larktally.runs.again import again
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario
from larktally.subject import SubjectLike
from larktally.traces import Trace

__all__ = ["Notes", "Written", "who_wrote"]


@dataclass(frozen=True, slots=True)
class Written:
    """A channel being set: in which row, phase and part, from which file and line (the model's own, where one of its
    functions did), from which value to which; and why, where the part's own step did it and can say so."""

    channel: str
    row: int
    phase: str
    part: str
    place: str
    before: Any
    after: Any
    reason: str = ""

    @property
    def by_model(self) -> bool:
        """Whether one of the model's own functions set it, rather than a part's own step."""
        return not self.place.startswith("larktally/")

    @property
    def change(self) -> str:
        """What it was set to, and from what."""
        return f"{self.channel} = {shown_value(self.after)} (was {shown_value(self.before)})"

    def plain(self) -> dict[str, Any]:
        """The write as plain data, for JSON."""
        return asdict(self)

    def __str__(self) -> str:
        where = f"in the phase {self.phase!r}, {self.part}" if self.phase else "while the model was built or reset"
        return f"{self.change}, set in row {self.row} {where}" + (
            f": {self.reason}" if self.reason else f", at {self.place}"
        )


def who_wrote(trace: Trace, scenario: Scenario | SubjectLike, row: int, channel: str, most: int = 5) -> list[Written]:
    """The last writes of a channel up to and with a row, the latest first, `most` of them.

    Runs the recording again up to that row with writers noted; a write that leaves the value as it is counts too. Raises
    LarkError for a row that the trace does not have, a channel that the sim does not have, or a subject that is no sim.
    """
    trace.check_row(row)
    live = Live(again(trace, scenario))
    notes = Notes(live.sim, [channel], most)
    live.to(row)
    return notes.found[::-1]


class Notes:
    """The writes of some channels of a sim, noted in order as they happen, from now on until `end`.

    `found` holds the last `most` of them. Raises LarkError for a channel that the sim does not have.
    """

    def __init__(self, sim: Sim, channels: Iterable[str], most: int = 1000) -> None:
        self.found: list[Written] = []
        self._sim, self._most = sim, most
        self._at = ("", "")
        self._fresh = 0
        self._kinds: list[tuple[Any, type]] = []
        by_owner: dict[int, tuple[Any, dict[str, str]]] = {}
        for channel in channels:
            if channel not in sim.sources:
                raise LarkError(unknown_name("channel", channel, sim.sources, "this sim"))
            owner, attribute = sim.sources[channel]
            by_owner.setdefault(id(owner), (owner, {}))[1][attribute] = channel
        for owner, attributes in by_owner.values():
            self._watch(owner, attributes)
        self._end = sim.watch_runs(self._run)

    def end(self) -> None:
        """Notes nothing from now on."""
        for owner, kind in self._kinds:
            owner.__class__ = kind
        self._end()

    def _watch(self, owner: Any, channels: dict[str, str]) -> None:
        """Lets a part note every change of the attributes that are channels; one that is derived, when it comes out other."""
        kind, notes = type(owner), self
        derived = [name for name in channels if isinstance(getattr(kind, name, None), property)]

        def noted(part: Any, name: str, value: Any) -> None:
            looked = [name, *derived] if name in channels else derived
            before = [getattr(part, one, None) for one in looked]
            object.__setattr__(part, name, value)
            for one, old in zip(looked, before, strict=True):
                new = getattr(part, one, None)
                if one == name or old != new:
                    notes._note(channels[one], old, new)

        owner.__class__ = type(kind.__name__, (kind,), {"__setattr__": noted, "__slots__": ()})
        self._kinds.append((owner, kind))

    def _note(self, channel: str, before: Any, after: Any) -> None:
        self.found.append(Written(channel, self._sim.frame, *self._at, _place(), before, after))
        self._fresh += 1
        del self.found[: -self._most]

    def _run(self, phase: str, name: str, run: Callable[[], Any]) -> None:
        """One part's or hook's run, after which a body can say why its own values came out as they did."""
        self._at, self._fresh = (phase, name), 0
        run()
        part = self._sim.parts.get(name)
        if self._fresh and isinstance(part, Body):
            for at in range(max(0, len(self.found) - self._fresh), len(self.found)):
                written = self.found[at]
                owner, attribute = self._sim.sources[written.channel]
                if owner is part and not written.by_model:
                    self.found[at] = replace(written, reason=reason_of(part, attribute))


def _place() -> str:
    """File and line: the model's own where one of its functions is on the way, the library's otherwise."""
    first = frame = sys._getframe(3)
    while frame.f_code is not Notes._run.__code__ and frame.f_back is not None:
        if not is_own(frame.f_code.co_filename):
            return place_of(frame)
        frame = frame.f_back
    return place_of(first)
