"""A scenario as a viewer sees it under late inputs: its rows are what was displayed, so that whatever takes a scenario can ask
of that.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import msgspec

from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.inputs.script import InputScript
from larktally.inputs.view import FrameInput
from larktally.names import unknown_name
from larktally.runs.late_inputs import CONFIRMED_TO, SHOWS
from larktally.runs.lateness import Late, Predict
from larktally.runs.rollback import LateRun
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.setup import Setup
from larktally.subjects.protocol import Value
from larktally.traces.trace import Trace

__all__ = ["Displayed", "GuessedRun", "as_displayed"]


class GuessedRun(NamedTuple):
    """The run of which a row that was displayed is the last: with what was pressed as far as it was known then, and guesses after
    that. `told` says so."""

    scenario: Scenario
    told: str


@dataclass(eq=False)
class Displayed:
    """The subject of a scenario, led with late inputs: what it shows is what a viewer saw, and up to which row that was
    certain."""

    scenario: Scenario
    late: Late | Mapping[str, Late]
    predict: Predict
    show: str
    seed: int

    def __post_init__(self) -> None:
        self.__name__ = f"{self.scenario.title} as displayed"
        # What it declares is known once it is built.
        info = Runner(self.scenario).subject.info
        self.actions = info.actions.all()
        self.names = tuple(info.actions)
        self.events = info.events
        self.labels = {one.name: one.labels for one in info.channels if one.name in info.closed}

    def reset(self, setup: Setup) -> Iterator[Event]:
        self._run = self._begun(self.scenario.changed(rate=setup.rate, seed=setup.seed, params=setup.params))
        asked = self._run.start.setup
        # The model reads its params in there.
        setup.settings.update(asked.settings)
        setup.asked.update(asked.asked)
        self._channels = [channel.name for channel in self._run.start.reader.channels]
        return iter(_events(self._run.shown[0].events))

    def step(self, now: FrameInput) -> Iterator[Event]:
        self._run.on(tuple(float(now.value(name)) for name in self.names))
        yield from _events(self._run.shown[-1].events)
        if self._run.end is not None:
            # An end counts once it is certain.
            yield Event("end", reason=self._run.end)

    def observe(self) -> dict[str, Value]:
        shown = self._run.shown[-1]
        return {**dict(zip(self._channels, shown.values, strict=True)), CONFIRMED_TO: shown.confirmed_to}

    def guessed(self, trace: Trace, row: int) -> GuessedRun:
        """The run that a row of a recording of this was taken from, as it stood when it was displayed."""
        header = trace.header
        scenario = self.scenario.changed(rate=header.rate_text, seed=header.seed, params=header.params)
        run = self._begun(scenario)
        columns = [trace.inputs[name].tolist() for name in self.names]
        for frame in range(1, row + 1):
            run.on(tuple(column[frame] for column in columns))
        told = [f"as it was displayed, with inputs known up to frame {run.certain}"]
        if run.corrections and run.corrections[-1].row == row - 1:
            told.append(f"put right just before it: rows {row - run.corrections[-1].depth}..{row - 1} were made again")
        changed = scenario.changed(inputs=InputScript.from_columns(run.held_as_shown), frames=row)
        return GuessedRun(changed, "; ".join(told))

    def _begun(self, scenario: Scenario) -> LateRun:
        # Nothing is held in row 0.
        truth: list[tuple[float, ...]] = [(0.0,) * len(self.names)]
        return LateRun(
            scenario,
            self.names,
            truth,
            int(scenario.frames),
            late=self.late,
            predict=self.predict,
            show=self.show,
            seed=self.seed,
        )


def _events(shown: Sequence[Any]) -> list[Event]:
    found = []
    for name, source, data in shown:
        if name != "end":
            fields: dict[str, Any] = msgspec.json.decode(data) if data else {}
            found.append(Event(name, source, **fields))
    return found


def as_displayed(
    scenario: Scenario,
    *,
    late: Late | Mapping[str, Late],
    predict: Predict = "repeat",
    show: str = "first",
    seed: int = 0,
) -> Scenario:
    """The scenario as a viewer sees it where its inputs come late: its rows and events are those that were displayed, with the
    channel `confirmed_to`, and its claims are about those. What takes a scenario takes it: `check`, `vary`, `shrink`,
    `explore`, `numbers`.

    `late`, `predict`, `show` and `seed` are as in `lt.rollback`. An end counts once it is certain. Raises LarkTallyError for
    what does not fit, and for a subject that cannot save and load once it is run.
    """
    if show not in SHOWS:
        raise LarkTallyError(unknown_name("way to show events", show, SHOWS))
    bare = scenario.changed(claims=(), measures=(), windows=(), until=None)
    subject = Displayed(bare, late, predict, show, seed)
    return scenario.changed(subject=subject, allow_nan=True, name=scenario.name or f"{scenario.title} as displayed")
