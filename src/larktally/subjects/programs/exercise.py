"""What a program is exercised with when it is checked: scripts that use each action alone and all together, runs of them, and
where two runs differ."""

from __future__ import annotations

import operator
import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from larktally.event import Event
from larktally.inputs.actions import Action
from larktally.setup import Setup
from larktally.subjects.programs.program import Program
from larktally.subjects.programs.rpc import ProtocolError
from larktally.subjects.protocol import Value
from larktally.timing import Rate
from larktally.traces.columns import Channel

__all__ = [
    "BATCH",
    "Exercise",
    "Inputs",
    "Run",
    "Untested",
    "check_moves",
    "check_same",
    "difference",
    "scripts_for",
]

# As many frames in a message as the library asks for in a run.
BATCH = 256


#: A value for each frame of each action.
Inputs = Mapping[str, Sequence[float]]


@dataclass(frozen=True, slots=True)
class Run:
    """The rows that frames `first` and later gave: a column a channel, and the events with their frames."""

    first: int
    columns: tuple[tuple[Value, ...], ...]
    events: tuple[tuple[int, str], ...]

    @property
    def frames(self) -> int:
        """How many there are."""
        return len(self.columns[0])

    def since(self, first: int, stop: int | None = None) -> Run:
        """Its frames from `first` on, up to and not including `stop`."""
        end = self.first + self.frames
        if stop is not None:
            end = min(stop, end)
        at = slice(first - self.first, end - self.first)
        events = tuple(one for one in self.events if first <= one[0] < end)
        return Run(first, tuple(column[at] for column in self.columns), events)

    def last_move(self) -> int:
        """The last frame in which a channel changed; the first where none ever did."""
        moved = self.first
        for column in self.columns:
            for offset in range(len(column) - 1, 0, -1):
                if column[offset] != column[offset - 1]:
                    moved = max(moved, self.first + offset)
                    break
        return moved

    def changes(self) -> int:
        """In how many cells a channel is another than in the row before."""
        found = 0
        for column in self.columns:
            found += sum(map(operator.ne, column, column[1:]))
        return found


class Untested(Exception):
    """Nothing happened that could have made a line fail; its text says what was missing."""


def scripts_for(actions: Sequence[Action], frames: int) -> dict[str, Inputs]:
    """Scripts by name: nothing, each action alone, all at once in dense and in sparse presses; the same for everyone."""
    names = [action.name for action in actions]
    idle = [0.0] * frames
    found: dict[str, Inputs] = {"no action": dict.fromkeys(names, idle)}
    for action in actions:
        found[f"{action.name} alone"] = {**found["no action"], action.name: _alone(action, frames)}
    for name, pressed, longest in (("all, densely", 0.3, 1), ("all, sparsely", 0.04, 24)):
        draw = random.Random(1)
        found[name] = {action.name: _at_random(draw, action, frames, pressed, longest) for action in actions}
    return found


def _values(action: Action) -> tuple[float, ...]:
    if action.analog:
        return (1.0, 0.35, -0.7)
    return (1.0,)


def _alone(action: Action, frames: int) -> list[float]:
    """Held from the first frame, tapped, held long, and let go of, over and over."""
    values = _values(action)
    found: list[float] = []
    turn = 0
    while len(found) < frames:
        value = values[turn % len(values)]
        for on, off in ((30, 12), (1, 5), (1, 9), (2, 20), (48, 30)):
            found += [value] * on + [0.0] * off
        turn += 1
    return found[:frames]


def _at_random(draw: random.Random, action: Action, frames: int, pressed: float, longest: int) -> list[float]:
    # On from the first frame: what an earlier run left held would hide a press that comes first.
    found = [1.0, 0.0]
    while len(found) < frames:
        value = 0.0
        length = 1
        if draw.random() < pressed:
            value, length = draw.choice(_values(action)), draw.randint(1, longest)
        found += [value] * length
    return found[:frames]


class Exercise:
    """Runs of one program, in whatever process it stands."""

    def __init__(self, program: Program) -> None:
        self.program = program

    def reset(self, rate: Rate, seed: int = 7, params: Mapping[str, object] | None = None) -> None:
        """Back to row 0."""
        self.program.reset(Setup(rate, seed, dict(params or {})))
        check_row(self.program.channels, self.program.row(), 0)

    def run(self, inputs: Inputs, first: int, stop: int, batch: int) -> Run:
        """Frames `first` to `stop` - 1, so many in a message; raises what a program that fails says, and ProtocolError for a
        value that is none of its channel's kind."""
        columns: list[list[Value]] = [[] for _ in self.program.channels]
        events: list[tuple[int, Event]] = []
        for start in range(first, stop, batch):
            end = min(start + batch, stop)
            part = {}
            for name, values in inputs.items():
                part[name] = list(values[start - 1 : end - 1])
            found, emitted, failed = self.program.step_many(start, end - start, part)
            if failed is not None:
                raise failed
            for kept, column in zip(columns, found, strict=True):
                kept.extend(column)
            events += emitted
        run = Run(first, tuple(map(tuple, columns)), tuple((frame, repr(event)) for frame, event in events))
        if not all(map(_fits, self.program.channels, run.columns)):
            # Only now row by row, to name the first frame.
            for offset in range(run.frames):
                check_row(self.program.channels, [column[offset] for column in run.columns], first + offset)
        return run


_TYPES: dict[str, tuple[type, ...]] = {"number": (float, int), "count": (int,), "flag": (bool,), "label": (str,)}


def _fits(channel: Channel, column: Sequence[Value]) -> bool:
    """Whether all values of a column are of its channel's kind, told in C; a label's words are looked at one by one."""
    types = set(map(type, column))
    if channel.kind == "label":
        return types <= {str} and set(column) <= set(channel.labels)
    return types <= set(_TYPES[channel.kind]) and all(map(operator.eq, column, column))


def check_row(channels: Sequence[Channel], row: Sequence[Value], frame: int) -> None:
    """Raises ProtocolError for a value that is none of its channel's kind, or no number at all."""
    for channel, value in zip(channels, row, strict=True):
        wrong = not isinstance(value, _TYPES[channel.kind]) or (isinstance(value, bool) and channel.kind != "flag")
        if wrong or (channel.kind == "label" and value not in channel.labels):
            what = f"a {channel.kind}"
            if channel.kind == "label":
                what = f"one of {list(channel.labels)}"
            raise ProtocolError(f"channel {channel.name!r} is {value!r} in frame {frame}, not {what}")
        if value != value:
            raise ProtocolError(f"channel {channel.name!r} is NaN in frame {frame}; a recording refuses that")


def difference(channels: Sequence[Channel], one: Run, other: Run) -> str:
    """Where two runs of the same frames first differ, in words; "" where they do not."""
    first: tuple[int, str] | None = None
    for channel, mine, theirs in zip(channels, one.columns, other.columns, strict=True):
        if mine == theirs and 0 not in mine:
            continue
        for offset, (value, again) in enumerate(zip(mine, theirs, strict=True)):
            # By their text: -0.0 is not 0.0, and a last bit counts.
            if value != again or repr(value) != repr(again):
                frame = one.first + offset
                if first is None or frame < first[0]:
                    first = frame, f"channel {channel.name!r} was {value!r} in frame {frame}, and now is {again!r}"
                break
    if first is not None:
        return first[1]
    if one.events == other.events:
        return ""
    for was, now in zip(one.events, other.events, strict=False):
        if was != now:
            return f"the events are not the same: {was[1]} in frame {was[0]}, and now {now[1]} in frame {now[0]}"
    return f"{len(one.events)} events were said, and now {len(other.events)}"


def check_same(channels: Sequence[Channel], one: Run, other: Run, when: str = "") -> None:
    """Raises ProtocolError where two runs of the same frames differ; `when` says what led there."""
    found = difference(channels, one, other)
    if found and when:
        raise ProtocolError(f"{found} ({when})")
    if found:
        raise ProtocolError(found)


def check_moves(run: Run) -> None:
    """Raises Untested where nothing in a run moves: whatever a program did, it would be the same."""
    if run.last_move() == run.first:
        raise Untested("nothing moves in any script, so that whatever it does would be the same")
