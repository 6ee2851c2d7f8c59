"""A program in another language as a subject: many frames a message."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from larktally.event import Event
from larktally.inputs.actions import Actions
from larktally.inputs.view import FrameInput
from larktally.setup import Setup
from larktally.subjects.programs.program import Program
from larktally.subjects.protocol import Batch, Frames, Inputs, RowReader, SubjectInfo, Value, checked_events, transposed

__all__ = ["ProgramSubject"]


class ProgramSubject:
    """A program that is spoken to over a pipe or a socket."""

    def __init__(self, program: Program) -> None:
        self.target = program
        self.name = program.name
        self.step: Callable[[FrameInput], Iterable[Event] | None] = program.step

    @property
    def batch(self) -> int:
        return self.target.batch

    @property
    def info(self) -> SubjectInfo:
        program = self.target
        return SubjectInfo(
            channels=program.channels,
            actions=Actions(program.actions, "a program says in its answer to hello which it takes"),
            events=program.events,
            closed=frozenset(program.labels),
            saves=program.saves,
            program=program.plain,
        )

    def reset(self, setup: Setup) -> list[Event]:
        return checked_events(self.target.reset(setup))

    def reader(self, seen: bool) -> RowReader:
        return RowReader(self.target.channels, self.target.row, transposed)

    def row(self) -> tuple[Value, ...]:
        return self.target.row()

    def save(self) -> bytes:
        return self.target.save()

    def load(self, saved: bytes) -> None:
        self.target.load(saved)

    def finish(self) -> str:
        return ""

    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch:
        return self.target.step_many(first, frames, inputs, following)

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        self.target.cut(frame, row)
