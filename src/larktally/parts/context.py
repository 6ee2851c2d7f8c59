"""What a callback is given: this frame's inputs, the part's random stream, and ways to say that something happened."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from larktally.errors import ModelError
from larktally.event import Event
from larktally.inputs.view import FrameInput
from larktally.parts.part import Ticker
from larktally.parts.sim_protocol import SimProtocol
from larktally.parts.stream import Stream

__all__ = ["GuardContext", "StepContext", "context_for"]


class StepContext:
    """The one argument of every callback: `held`, `pressed`, `released`, `axis`, `value` of this frame's inputs, `frame`
    and `time`, `random` (the part's own stream), `emitted`, `emit` and `end`. `source` is the part that it speaks for."""

    __slots__ = (
        "_clock",
        "_stream",
        "axis",
        "held",
        "held_for",
        "inputs",
        "pressed",
        "released",
        "sim",
        "source",
        "value",
    )

    held: Callable[[str], bool]
    pressed: Callable[[str], bool]
    released: Callable[[str], bool]
    axis: Callable[[str, str], float]
    value: Callable[[str], float]
    held_for: Callable[[str], int]

    def __init__(self, sim: SimProtocol, source: str, stream: Stream, clock: Ticker | None = None) -> None:
        # No inputs yet: they come with the first feed that leads the sim, by `bind`.
        self.sim = sim
        self.source = source
        self._stream = stream
        self._clock = clock

    def bind(self, inputs: FrameInput) -> None:
        """Shows the inputs of another run's feed from now on."""
        if self._clock is not None:
            inputs = self._clock.seen_inputs(inputs)
        # The view's own bound methods, so that `now.held('left')` costs a rule one call and not two.
        self.inputs = inputs
        self.held, self.pressed, self.released = inputs.held, inputs.pressed, inputs.released
        self.axis, self.value, self.held_for = inputs.axis, inputs.value, inputs.held_for

    @property
    def frame(self) -> int:
        """The row being made: k in step k, 0 during reset."""
        return self.inputs.frame

    @property
    def time(self) -> float:
        """Seconds since reset."""
        return self.inputs.time

    @property
    def random(self) -> Stream:
        """The part's own random stream."""
        return self._stream

    def emitted(self, name: str, source: str | None = None) -> list[Event]:
        """The events of that name that this row holds so far, from `source` or a part below it.

        A part emits its events in its own phase: hook in after that one (`sim.after("zones")` for what a zone or a hitbox
        emitted). Raises ModelError for an event that nothing in the sim can emit.
        """
        return self.sim.emitted_in_row(name, source)

    def emit(self, name: str, /, **data: Any) -> None:
        """Says that something happened in this row; raises ModelError for an event that the sim does not declare."""
        self.sim.emit(name, self.source, data)

    def end(self, reason: str) -> None:
        """Ends the run after this row; the reason stands in the trace, as an event 'end' and in its header."""
        self.sim.emit("end", self.source, {"reason": reason})


class GuardContext(StepContext):
    """What a guard is given: it may look, and do nothing else."""

    __slots__ = ()

    @property
    def random(self) -> Stream:
        raise ModelError(
            f"a guard of {self.source!r} draws a random number; guards only look: draw it in a hook, keep it"
        )

    def emit(self, name: str, /, **data: Any) -> None:
        raise ModelError(
            f"a guard of {self.source!r} emits {name!r}; guards only look: emit in the transition's action"
        )

    def end(self, reason: str) -> None:
        raise ModelError(
            f"a guard of {self.source!r} ends the run; guards only look: end it in the transition's action"
        )


C = TypeVar("C", bound=StepContext)


def context_for(sim: SimProtocol, name: str, kind: type[C], clock: Ticker | None = None) -> C:
    """The context that speaks for a part, or for a hook, of a sim, with its own random stream and its clock's inputs."""
    context = kind(sim, name, sim.stream(name), clock)
    context.bind(sim.inputs)
    sim.follow_inputs(context)
    return context
