"""What every part has in common: a dotted name, channels, and a state that is saved and restored without further code.

A part names its state once, in `state_fields`. Those names are read and set here by `getattr` and `setattr`, and nowhere
else: it is the one door by which a state goes in and out.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Mapping, Sequence
from fractions import Fraction
from typing import Any, ClassVar, NamedTuple, Protocol

from larktally.errors import ModelError
from larktally.inputs.view import FrameInput
from larktally.parts.sim_protocol import SimProtocol
from larktally.textfmt import aligned, shown_value
from larktally.traces.columns import Kind

__all__ = [
    "ChannelSpec",
    "Inlined",
    "Part",
    "Watch",
    "check_part_name",
    "plain_state",
    "state_from_plain",
    "value_table",
]

# What a claim can write without quotes; a slot's number may follow a dot.
_NAME = re.compile(r"[A-Za-z_]\w*(\.\w+)*")
# A key that no state of a user's can have by chance: what stands under it is a fraction, "numerator/denominator".
_FRACTION = "\0fraction"


class ChannelSpec(NamedTuple):
    """A channel of a part: what follows the part's name ("" for the name itself), the attribute read, its kind; `holder`
    is the object that has the attribute, where that is not the part, `wraps` what a whole turn is where it is an angle."""

    suffix: str
    attribute: str
    kind: Kind
    labels: tuple[str, ...] = ()
    holder: object = None
    wraps: float | None = None


class Watch(Protocol):
    """What is asked before many parts of a kind are stepped, in place of each of them."""

    def quiet(self) -> bool:
        """Whether none of them has anything to do in this frame."""

    def look(self) -> None:
        """They were stepped: finds anew for how long they will have nothing to do."""


class Inlined(NamedTuple):
    """What a part's step does, as lines of Python: `me` is the part, `frame` the row that is made, and `names` are what else
    stands in them, each with what it stands for. `watch` makes what is asked first, where many are stepped in a row."""

    lines: str
    names: Mapping[str, object] = {}
    watch: Callable[[Sequence[Any]], Watch] | None = None


class Ticker(Protocol):
    """A clock, as the parts on it see it."""

    name: str
    ticking: bool
    count: int

    def seen_inputs(self, inputs: FrameInput) -> FrameInput: ...


class Place(Protocol):
    """A pool's slot, as the parts in it see it."""

    present: bool


class Part:
    """Something registered with a sim under a dotted name.

    `phase` is where in the frame its `step` runs ("" for never), `channel_specs` its channels. `state_fields` are the
    attributes that are its state, plain data (numbers, text, fractions, lists and dicts of them), saved and loaded as they
    are; everything that a rule or a step may assign after the run has begun belongs there, but for `derived_fields`, which
    are worked out anew from it. `events` are the names that it may emit; `runs_first` parts run before the others of their
    phase. `scope` is the name of the view that it was built in: its text may use names below it.
    """

    phase: ClassVar[str] = ""
    channel_specs: ClassVar[tuple[ChannelSpec, ...]] = ()
    state_fields: ClassVar[tuple[str, ...]] = ()
    derived_fields: ClassVar[tuple[str, ...]] = ()
    events: ClassVar[tuple[str, ...]] = ()
    runs_first: ClassVar[bool] = False

    def __init__(self, sim: SimProtocol, name: str) -> None:
        self.sim = sim
        self.name = name
        self.clock: Ticker | None = None
        self.slot: Place | None = None
        self.scope = ""

    @property
    def inputs(self) -> FrameInput:
        """The inputs as it sees them: those of the row, or what has gathered since the last tick of its clock."""
        if self.clock is None:
            return self.sim.inputs
        return self.clock.seen_inputs(self.sim.inputs)

    @property
    def _tick(self) -> int:
        """The frames so far, by its own clock."""
        return self.sim.frame if self.clock is None else self.clock.count

    @property
    def takes_part(self) -> bool:
        """Whether it is in the game: in no slot of a pool, or in one that is taken."""
        return self.slot is None or self.slot.present

    def channels(self) -> tuple[ChannelSpec, ...]:
        """What it shows in every row."""
        return self.channel_specs

    def event_names(self) -> tuple[str, ...]:
        """What it may emit."""
        return self.events

    def saved_fields(self) -> tuple[str, ...]:
        """The attributes that are its state: those of its class, unless a part's own shape adds some."""
        return self.state_fields

    def begin(self) -> None:
        """Runs once, after every part of the sim is there and before row 0 is recorded."""

    def after_begin(self) -> None:
        """Runs once, after every part has begun."""

    def step(self) -> None:
        """One frame on, in the part's phase."""

    def inlined(self) -> Inlined | None:
        """The same as `step`, for the function of a whole frame; None where a call of `step` is as good. Asked once, after
        the run has begun, and to be said in the class that says `step`."""
        return None

    def after_load(self) -> None:
        """Runs after a state was put back: what is worked out from the state is worked out anew."""

    def save(self) -> dict[str, Any]:
        """Its state, as plain data that shares nothing with the part."""
        found: dict[str, Any] = {}
        for name in self.saved_fields():
            # A copy: a rule that goes on changing a list would change the saved state too.
            found[name] = plain_state(getattr(self, name))
        return found

    def load(self, saved: Mapping[str, Any]) -> None:
        """Puts a saved state back, into this same object."""
        for name in self.saved_fields():
            setattr(self, name, state_from_plain(saved[name]))
        self.after_load()

    def emit(self, event: str, **data: Any) -> None:
        """Emits an event from this part."""
        self.sim.emit(event, self.name, data)

    def shown_values(self) -> dict[str, Any]:
        """What it shows, by the names of its channels; empty before the run has begun."""
        found: dict[str, Any] = {}
        for spec in self.channels():
            name = f"{self.name}.{spec.suffix}" if spec.suffix else self.name
            try:
                found[name] = getattr(self if spec.holder is None else spec.holder, spec.attribute)
            except AttributeError:
                continue
        return found

    def table(self) -> str:
        """What it shows, a channel a line, as text."""
        return value_table(self.shown_values())

    def __repr__(self) -> str:
        shown = []
        for name, value in self.shown_values().items():
            suffix = name.removeprefix(self.name).lstrip(".")
            shown.append(f"{suffix} {shown_value(value)}".strip())
        return f"<{type(self).__name__} {self.name}{': ' if shown else ''}{', '.join(shown)}>"


def value_table(values: Mapping[str, Any]) -> str:
    """Names and values, a line each, as text."""
    return "\n".join(aligned([[name, shown_value(value)] for name, value in values.items()], {0}))


def plain_state(value: Any) -> Any:
    """A value of a part's state as numbers, text, lists and dicts of its own; raises ModelError for anything else."""
    if value is None or isinstance(value, (bool, int, float, str)):
        return value
    if isinstance(value, Fraction):
        return {_FRACTION: str(value)}
    if isinstance(value, (list, tuple)):
        return [plain_state(one) for one in value]
    if isinstance(value, dict):
        found = {}
        for key, one in value.items():
            found[key] = plain_state(one)
        return found
    raise ModelError(f"the state of a part is plain data (numbers, text, lists, dicts), not {value!r}")


def state_from_plain(value: Any) -> Any:
    """What plain_state took apart; lists and dicts come back as new ones, a tuple as a list."""
    if isinstance(value, list):
        return [state_from_plain(one) for one in value]
    if isinstance(value, dict):
        if value.keys() == {_FRACTION}:
            return Fraction(value[_FRACTION])
        found = {}
        for key, one in value.items():
            found[key] = state_from_plain(one)
        return found
    return value


def check_part_name(name: object) -> str:
    """The name, where a part may have it: letters, digits and _ in parts joined by dots, a letter first."""
    if not isinstance(name, str) or not _is_name(name):
        raise ModelError(f"a part's name is words joined by dots, such as 'wick.burst' or 'moth.2', not {name!r}")
    return name


@functools.lru_cache(maxsize=4096)
def _is_name(name: str) -> bool:
    """Whether a part may be called that: the same few hundred names in every run of a model."""
    return _NAME.fullmatch(name) is not None
