"""A model function as a subject: each run calls it once, and is of what it returns."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.inputs.view import FrameInput
from larktally.setup import Setup
from larktally.subjects.protocol import Batch, Frames, Inputs, RowReader, RunnableSubject, SubjectInfo, Value

__all__ = ["ModelFunction"]


class ModelFunction:
    """A function that builds a subject from a setup; `adapt` makes an adapter of what it returns."""

    batch = 1

    def __init__(
        self, model: Callable[[Setup], object], name: str, adapt: Callable[[object, str], RunnableSubject]
    ) -> None:
        self.name = name
        self._model, self._adapt = model, adapt
        self._made: RunnableSubject | None = None

    @property
    def made(self) -> RunnableSubject:
        """What the function returned in the last reset."""
        if self._made is None:
            raise LarkTallyError(f"{self.name} was not reset yet")
        return self._made

    @property
    def info(self) -> SubjectInfo:
        return self.made.info

    @property
    def target(self) -> object:
        return self.made.target

    @property
    def step(self) -> Callable[[FrameInput], Iterable[Event] | None]:
        return self.made.step

    def reset(self, setup: Setup) -> list[Event]:
        self._made = self._adapt(self._model(setup), self.name)
        self.batch = self._made.batch
        return self._made.reset(setup)

    def reader(self, seen: bool) -> RowReader:
        return self.made.reader(seen)

    def row(self) -> tuple[Value, ...]:
        return self.made.row()

    def save(self) -> bytes:
        return self.made.save()

    def load(self, saved: bytes) -> None:
        self.made.load(saved)

    def finish(self) -> str:
        return self.made.finish()

    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch:
        return self.made.step_many(first, frames, inputs, following)

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        self.made.cut(frame, row)
