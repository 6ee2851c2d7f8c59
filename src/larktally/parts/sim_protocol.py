"""What a part knows of its sim. Parts import this and never the sim, which imports them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol, TypeVar

from larktally.event import Event
from larktally.inputs.actions import Actions
from larktally.inputs.view import FrameInput
from larktally.language.names import Names
from larktally.language.rows import Binding
from larktally.parts.space.level import Level
from larktally.parts.space.movers import Movers
from larktally.parts.stream import Stream
from larktally.setup import Setup
from larktally.timing import Rate

__all__ = ["InputFollower", "PartLike", "SimProtocol"]

T = TypeVar("T")


class PartLike(Protocol):
    """A part as its sim's other parts see it: a name."""

    name: str


class InputFollower(Protocol):
    """Something that has to be shown the inputs of the run."""

    def bind(self, inputs: FrameInput) -> None: ...


class SimProtocol(Protocol):
    """The sim, as its parts use it."""

    rate: Rate
    setup: Setup
    level: Level
    movers: Movers
    actions: Actions
    inputs: FrameInput
    frame: int
    names: Names
    bindings: dict[str, Binding]
    looking: str
    channel_values: Callable[[], tuple[Any, ...]]

    @property
    def parts(self) -> Mapping[str, PartLike]: ...
    def add(self, part: Any) -> None: ...
    def parts_of(self, kind: type[T]) -> list[T]: ...
    def stream(self, name: str) -> Stream: ...
    def follow_inputs(self, follower: InputFollower) -> None: ...
    def hooked(self, side: str, phase: str, hook: Callable[[Any], Any] | None, clock: str | None = None) -> Any: ...
    def emit(self, name: str, source: str, data: Mapping[str, Any]) -> None: ...
    def listen(self, name: str, source: str | None, call: Callable[[], Any]) -> None: ...
    def count_emitted(self, name: str, source: str | None = None) -> int: ...
    def data_emitted(
        self, name: str, source: str | None, where: tuple[tuple[str, object], ...]
    ) -> list[dict[str, Any]]: ...
    def emitted_in_row(self, name: str, source: str | None = None) -> list[Event]: ...
    def hold_setting(self, part: PartLike, attribute: str, by: str, value: Any) -> None: ...
    def lift_setting(self, part: PartLike, attribute: str, by: str) -> None: ...
