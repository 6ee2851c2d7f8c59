"""What checks look at: a trace, and, as far as they can be had, the scenario that it was made from and its machines."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError
from larktally.language.columns import Evaluator
from larktally.language.reading import evaluator
from larktally.parts.machine import Machine
from larktally.parts.sim import Sim
from larktally.runs.live import Live
from larktally.runs.scenario import Scenario
from larktally.traces.columns import Column
from larktally.traces.trace import Trace

__all__ = ["Seen", "stays_of"]


class Seen:
    """One run as the checks see it; `sim` is a sim of its model, standing in row 0, where it is one."""

    def __init__(self, trace: Trace, scenario: Scenario | None = None) -> None:
        self.trace, self.scenario = trace, scenario
        self.rows = trace.rows

    @cached_property
    def read(self) -> Evaluator:
        """The trace, read by the claim language."""
        return evaluator(self.trace)

    @cached_property
    def sim(self) -> Sim | None:
        """A sim of the scenario's model, in row 0; None for an object of a user's own, a program or a bare trace."""
        if self.scenario is None or not self.trace.header.order:
            return None
        subject = Live(self.scenario).subject
        return subject if isinstance(subject, Sim) else None

    def machine(self, name: str) -> Machine | None:
        """A machine of the sim, for the lines of its rules."""
        part = self.sim.parts.get(name) if self.sim is not None else None
        return part if isinstance(part, Machine) else None

    def place_of(self, machine: str, rule: str) -> str:
        """The line on which a rule of a machine is declared; "" where it is not known."""
        found = self.machine(machine)
        for one in found.transitions if found is not None else ():
            if one.name == rule:
                return one.place
        return ""

    def place_that_set(self, channel: str, row: int) -> str:
        """The line that gave a channel the value that it has in a row, and which it may have had for long; "" where it is not
        known. The run is run again up to there."""
        if self.scenario is None or self.trace.header.program:
            return ""
        values = self.trace.columns[channel].stored[: row + 1]
        changed = np.flatnonzero(values[1:] != values[:-1]) + 1
        if not len(changed):
            return ""
        # The run is run again for it, and few rows are asked about.
        from larktally.explain.causes import causes_in

        at = int(changed[-1])
        try:
            causes = causes_in(self.trace, self.scenario, {at: [channel]})[at]
        except LarkTallyError:
            return ""
        for one in causes.written:
            # An object's own attribute is known by its last word: self.state['east'] for the channel east.
            if one.channel == channel or re.findall(r"\w+", one.channel)[-1] == channel.rpartition(".")[2]:
                return one.place
        return ""

    def of_kind(self, *kinds: str) -> Iterator[tuple[str, Column]]:
        """The channels of some kinds, with their columns."""
        for name in self.trace.channels:
            column = self.trace.columns[name]
            if column.channel.kind in kinds:
                yield name, column

    @cached_property
    def pressed(self) -> dict[str, npt.NDArray[np.int64]]:
        """The rows in which each action was pressed."""
        found = {}
        for action, values in self.trace.inputs.items():
            held = np.abs(values) >= 0.5
            found[action] = np.flatnonzero(held & ~np.append(False, held[:-1]))
        return found

    @cached_property
    def events(self) -> dict[tuple[str, str], list[int]]:
        """The rows of each event, by name and source."""
        found: dict[tuple[str, str], list[int]] = {}
        for row, name, source, _ in self.trace.events.fields():
            found.setdefault((name, source), []).append(row)
        return found


def stays_of(stored: npt.NDArray[Any]) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """The first row and the length of each stretch of equal values."""
    if not len(stored):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    starts = np.append(0, np.flatnonzero(stored[1:] != stored[:-1]) + 1)
    return starts, np.diff(np.append(starts, len(stored)))
