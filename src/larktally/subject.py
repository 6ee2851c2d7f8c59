"""What can be verified: the subject protocol, the setup a run is made from, and events.

The library calls nothing of a user's object but `reset`, `step` and `observe` (and `save` and `load`, where it has both).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeAlias, TypeVar, cast, runtime_checkable

from larktally.errors import LarkError, ModelError, unknown_name
from larktally.inputs import FrameInput
from larktally.timing import Duration, Rate, as_rate, frames_in

__all__ = ["Event", "Setup", "Subject", "SubjectLike", "Model", "can_save", "make_subject", "name_of"]

Value: TypeAlias = "float | int | bool | str"
T = TypeVar("T")


class Event:
    """Something that happened in a row: a name, the part that said it, and plain data.

    >>> Event("hurt", "wick", amount=2)
    Event('hurt', 'wick', amount=2)
    """

    __slots__ = ("data", "name", "source")

    def __init__(self, name: str, source: str = "", /, **data: Any) -> None:
        self.name = name
        self.source = source
        self.data = data

    def __repr__(self) -> str:
        parts = [repr(self.name), *([repr(self.source)] if self.source else [])]
        return f"Event({', '.join([*parts, *(f'{key}={value!r}' for key, value in self.data.items())])})"

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Event):
            return NotImplemented
        return (self.name, self.source, self.data) == (other.name, other.source, other.data)

    __hash__ = None  # type: ignore[assignment]


@dataclass(slots=True)
class Setup:
    """What a run is made from: rate, seed and params. A model reads its numbers from here, so that runs can vary them.

    `settings` collects what the model was given for each name it asked for, durations in frames; claims read it.
    """

    rate: Rate = field(default_factory=Rate)
    seed: int = 0
    params: Mapping[str, Any] = field(default_factory=dict)
    settings: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.rate = as_rate(self.rate)
        self.params = dict(self.params)

    def param(self, name: str, default: T) -> T:
        """The param of that name, or the default where the run gives none; raises ModelError for another kind."""
        given = self.params.get(name, default)
        if isinstance(default, float) and isinstance(given, int) and not isinstance(given, bool):
            given = float(given)
        if isinstance(default, int) and not isinstance(default, bool) and isinstance(given, float):
            default = float(default)  # type: ignore[assignment]
        if type(given) is not type(default):
            raise ModelError(f"param {name!r} is {given!r}, where the model expects something like {default!r}")
        self.settings[name] = given
        return given

    def duration(self, name: str, default: Duration) -> int:
        """The param of that name as whole frames at this run's rate: 48 for "0.8s" at 60 frames/s."""
        frames = frames_in(self.params.get(name, default), self.rate, what=f"param {name!r}:")
        self.settings[name] = frames
        return frames

    def check_all_read(self) -> None:
        """Raises ModelError where a param was given that the model never asked for: it would change nothing."""
        for name in self.params:
            if name not in self.settings:
                raise ModelError(
                    unknown_name("param", name, self.settings)
                    + "; a model reads its params while it is built, with setup.param, and this one read no other"
                )


@runtime_checkable
class Subject(Protocol):
    """Any object that can be reset, stepped and observed; no base class is needed.

    `observe` returns the same names with the same kinds in every row: float (a number), int (a count), bool (a flag) or
    str (a label). A subject may also have `actions`, `events` and `labels` (what can occur, although a run may not show
    it) and, together, `save() -> bytes` and `load(saved)`.
    """

    def reset(self, setup: Setup) -> Iterable[Event] | None:
        """Back to the beginning of a run."""

    def step(self, now: FrameInput) -> Iterable[Event] | None:
        """One frame on; the events of that frame, if there are any."""

    def observe(self) -> Mapping[str, Value]:
        """The value of every channel after the last reset or step."""


Model: TypeAlias = "Callable[[Setup], Subject]"
SubjectLike: TypeAlias = "Subject | type | Model"


class _FromModel:
    """A model function as a subject: each reset runs the function once more."""

    def __init__(self, model: Callable[[Setup], Subject]) -> None:
        self._model = model
        self._subject: Any = None

    def reset(self, setup: Setup) -> Iterable[Event] | None:
        subject = self._model(setup)
        if not isinstance(subject, Subject):
            raise ModelError(
                f"{name_of(self._model)}(setup) returned {type(subject).__name__}, not a Sim or another subject; "
                "does it end with 'return sim'?"
            )
        self._subject = subject
        return subject.reset(setup)

    def step(self, now: FrameInput) -> Iterable[Event] | None:
        return cast("Iterable[Event] | None", self._subject.step(now))

    def observe(self) -> Mapping[str, Value]:
        return cast("Mapping[str, Value]", self._subject.observe())


def make_subject(subject: SubjectLike) -> Subject:
    """A subject from what a user may hand over: a subject, its class, or a model function that takes a setup."""
    if isinstance(subject, type):
        subject = subject()
    if isinstance(subject, Subject):
        return subject
    if callable(subject):
        return _FromModel(subject)
    missing = [name for name in ("reset", "step", "observe") if not callable(getattr(subject, name, None))]
    raise LarkError(
        f"{type(subject).__name__} is no subject: it has no {' and no '.join(missing)}; a subject has reset(setup), "
        "step(now) and observe(), or is a function that takes a setup and returns a Sim"
    )


def innermost(subject: Subject) -> Subject:
    """The subject that a model function made in its last reset; any other subject is itself."""
    return cast(Subject, subject._subject) if isinstance(subject, _FromModel) else subject


def can_save(subject: object) -> bool:
    """Whether a subject saves and loads its state; a program in another language says so itself."""
    both = callable(getattr(subject, "save", None)) and callable(getattr(subject, "load", None))
    return both and getattr(subject, "saves", True) is True


def name_of(subject: object) -> str:
    """The name a subject goes by in headers and messages: its function's, or its class's."""
    return str(getattr(subject, "__name__", None) or type(subject).__name__)


def declared_names(subject: object, what: str) -> Sequence[Any] | None:
    """A subject's own `actions` or `events`, or None where it declares none."""
    names = getattr(subject, what, None)
    return None if names is None else list(names() if callable(names) else names)


def events_of(said: Iterable[Event] | None) -> Iterator[Event]:
    """The events that a reset or step returned, each checked to be one."""
    for event in said or ():
        if not isinstance(event, Event):
            raise LarkError(f"a step returns events, lt.Event('name', …), not {event!r}")
        yield event
