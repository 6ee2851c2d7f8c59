"""One frame's inputs as a rule sees them, and the feed that leads them from frame to frame.

Only what changes costs anything: a frame in which no input changes is one dictionary look-up.
"""

from __future__ import annotations

import bisect
import heapq
import itertools
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple, TypeVar

from larktally.errors import InputError
from larktally.inputs.actions import Actions
from larktally.inputs.script import InputScript, Span
from larktally.timing import Rate, seconds_at

__all__ = ["FrameInput", "InputFeed", "HELD_FROM"]

# An analog action counts as held from half of its way on, in rules and in claims alike.
HELD_FROM = 0.5


V = TypeVar("V", bound=float)


class _PerAction(dict[str, V]):
    """Answers for each action; asks `actions` for one it does not hold, which knows keys, or raises."""

    __slots__ = ("_actions", "_idle")

    def __init__(self, actions: Actions, idle: V) -> None:
        super().__init__(dict.fromkeys(actions, idle))
        self._actions, self._idle = actions, idle

    def __missing__(self, name: str) -> V:
        # A key such as 'KeyA' stands for its action: looked up once, and then held like the others.
        found = self._actions.named(name)
        return self.setdefault(found, self._idle)


class FrameInput:
    """The inputs of the frame being stepped. One object is led through the whole run: read it, do not keep it.

    `frame` is the number of the step (row k is made by step k; 0 during reset), `rate` the frames per second.
    """

    __slots__ = (
        "actions",
        "edges",
        "frame",
        "held",
        "held_by",
        "pressed",
        "pressed_by",
        "rate",
        "released",
        "released_by",
        "since_by",
        "value",
        "value_by",
    )

    def __init__(self, actions: Actions, rate: Rate) -> None:
        self.frame = 0
        self.rate = rate
        self.actions = actions
        self.value_by = _PerAction(actions, 0.0)
        self.value_by.update({action: actions.kind_of(action)(0) for action in actions})
        self.held_by = _PerAction(actions, False)
        self.pressed_by = _PerAction(actions, False)
        self.released_by = _PerAction(actions, False)
        self.since_by: dict[str, int] = {}
        #: The actions that were pressed or released in this frame.
        self.edges: list[str] = []
        #: held(action): whether it is held in this frame: on, or analog with |value| >= 0.5.
        self.held: Callable[[str], bool] = self.held_by.__getitem__
        #: pressed(action): whether it is held in this frame and was not in the one before.
        self.pressed: Callable[[str], bool] = self.pressed_by.__getitem__
        #: released(action): whether it was held in the frame before and is not in this one.
        self.released: Callable[[str], bool] = self.released_by.__getitem__
        #: value(action): its analog value in [-1, 1]; the whole number 0 or 1 where it is on/off.
        self.value: Callable[[str], float] = self.value_by.__getitem__

    @property
    def time(self) -> float:
        """Seconds since reset."""
        return seconds_at(self.frame, self.rate)

    def axis(self, negative: str, positive: str) -> float:
        """value(positive) - value(negative): the whole number -1, 0 or 1 where both are on/off, 0 where both are held."""
        value: float = self.value_by[positive] - self.value_by[negative]
        return value

    def held_for(self, action: str) -> int:
        """Frames it has been held, this one included; 0 where it is not held."""
        if self.held_by[action]:
            # A key such as 'KeyA' stands for its action.
            return self.frame - self.since_by[self.actions.named(action)] + 1
        return 0

    def clear_edges(self) -> None:
        """Takes back what was pressed and released: nothing is, any more."""
        for action in self.edges:
            self.pressed_by[action] = self.released_by[action] = False
        self.edges.clear()


class FeedState(NamedTuple):
    """Where a feed stands."""

    frame: int
    value_by: dict[str, float]
    held_by: dict[str, bool]
    pressed_by: dict[str, bool]
    released_by: dict[str, bool]
    since_by: dict[str, int]
    due: dict[int, dict[str, float]]
    edges: tuple[str, ...]
    noted: int


class _Course(NamedTuple):
    """How one action goes: the frames in which it changes, and after each change its value, whether it is held, and since which
    frame it was held last, 0 for never."""

    frames: list[int]
    values: list[float]
    held: list[bool]
    since: list[int]


class _Plan(NamedTuple):
    """How a script goes for some actions: what each name in it stands for, what is due in which frame, and the spans that hang
    on a condition. `marks` are the frames in which anything is due, `noted` every change in order with its frame in `frames`, and
    `courses` the same for each action: by them a feed is set to any row without being led there."""

    names: tuple[tuple[str, str, type], ...]
    due: dict[int, dict[str, float]]
    relative: list[Span]
    marks: list[int]
    noted: list[tuple[int, str, float]]
    frames: list[int]
    courses: dict[str, _Course]


def _names_of(script: InputScript, actions: Actions) -> tuple[tuple[str, str, type], ...]:
    """Each name in a script, the action that it stands for, and the kind of its values."""
    found = []
    for name in dict.fromkeys(span.action for span in script.spans):
        action = actions.named(name)
        found.append((name, action, actions.kind_of(action)))
    return tuple(found)


def _plan_of(script: InputScript, actions: Actions) -> _Plan:
    """The plan that is kept with a script, where its names still stand for the same actions; a new one otherwise."""
    names = _names_of(script, actions)
    plan = script.plan
    if not isinstance(plan, _Plan) or plan.names != names:
        plan = script.plan = _planned(script, actions, names)
    return plan


def _planned(script: InputScript, actions: Actions, names: tuple[tuple[str, str, type], ...]) -> _Plan:
    """Raises InputError for a value that an action cannot take."""
    due: dict[int, dict[str, float]] = defaultdict(dict)
    by_action: dict[str, list[Span]] = defaultdict(list)
    for span in script.spans:
        action = actions.named(span.action)
        if span.value != 1.0 or span.to is not None:
            for value in (span.value, span.value if span.to is None else span.to):
                actions.check_value(action, value)
        if not span.on:
            by_action[action].append(span)
    for action, spans in by_action.items():
        kind = actions.kind_of(action)
        for row, value in _changes(spans):
            due[row][action] = kind(value)
    marks = sorted(due)
    noted: list[tuple[int, str, float]] = []
    courses: dict[str, _Course] = {}
    for frame in marks:
        for action, value in due[frame].items():
            course = courses.setdefault(action, _Course([], [], [], []))
            before = course.values[-1] if course.values else 0
            if value == before:
                continue
            noted.append((frame, action, value))
            held, was = abs(value) >= HELD_FROM, abs(before) >= HELD_FROM
            since = course.since[-1] if course.since else 0
            course.frames.append(frame)
            course.values.append(value)
            course.held.append(held)
            course.since.append(frame if held and not was else since)
    relative = [span for span in script.spans if span.on]
    return _Plan(names, due, relative, marks, noted, [frame for frame, _, _ in noted], courses)


class InputFeed:
    """Leads a FrameInput through a script, and notes every change for the trace. It stands at a row from the first, as if it had
    been led there; a script that hangs on conditions has none before that row."""

    def __init__(self, script: InputScript, actions: Actions, rate: Rate, row: int = 0) -> None:
        self.view = FrameInput(actions, rate)
        self.script = script.resolved(rate)
        plan = _plan_of(self.script, actions)
        self.relative = plan.relative
        self.noted = plan.noted[: bisect.bisect_right(plan.frames, row)]
        # Copies: what is due goes as it is led, and late inputs are put in.
        self.due: dict[int, dict[str, float]] = defaultdict(dict)
        for frame in plan.marks[bisect.bisect_right(plan.marks, row) :]:
            self.due[frame] = dict(plan.due[frame])
        if row:
            self._stand_at(plan, row)

    def _stand_at(self, plan: _Plan, row: int) -> None:
        """The view as it is in a row; `advance` through all rows before it gives the same."""
        view = self.view
        view.frame = row
        for action, course in plan.courses.items():
            last = bisect.bisect_right(course.frames, row) - 1
            if last < 0:
                continue
            view.value_by[action], view.held_by[action] = course.values[last], course.held[last]
            if course.since[last]:
                view.since_by[action] = course.since[last]
        for _, action, _ in self.noted[bisect.bisect_left(plan.frames, row) :]:
            course = plan.courses[action]
            last = bisect.bisect_right(course.frames, row) - 1
            was = last > 0 and course.held[last - 1]
            if course.held[last] != was:
                (view.pressed_by if course.held[last] else view.released_by)[action] = True
                view.edges.append(action)
        if view.edges:
            self.due[row + 1]  # an edge lasts one frame: the next one has it to clear away

    def press_later(self, span: Span, row: int) -> None:
        """Holds a span's action from `span.start` frames after `row` on, as its condition held in `row`."""
        action = self.view.actions.named(span.action)
        first = row + int(span.start)
        kind = self.view.actions.kind_of(action)
        self.due[first][action] = kind(span.value)
        self.due[first + int(span.frames)].setdefault(action, kind(0))

    def change(self, action: str, frame: int, value: float) -> None:
        """Lets an action take a value from a frame on that is still to come."""
        actions = self.view.actions
        self.due[frame][action] = actions.kind_of(action)(value)

    def advance(self, frame: int) -> None:
        """Makes the view show `frame`; frames come one after the other.

        Where `frame` is not in `due`, setting `view.frame` does the same.
        """
        view = self.view
        view.frame = frame
        view.clear_edges()
        for action, value in self.due.pop(frame, {}).items():
            if view.value_by[action] != value:
                self._change(action, value)
        # Said of this frame only: the next one has to change too, if only to take them back.
        if view.edges:
            self.due[frame + 1]  # an edge lasts one frame: the next one has it to clear away

    def save(self) -> FeedState:
        """Where it stands: what is held, what is still to come, and how much was noted."""
        view = self.view
        due = {frame: dict(changes) for frame, changes in self.due.items()}
        # Copies: the run goes on and changes its own.
        return FeedState(
            view.frame,
            dict(view.value_by),
            dict(view.held_by),
            dict(view.pressed_by),
            dict(view.released_by),
            dict(view.since_by),
            due,
            tuple(view.edges),
            len(self.noted),
        )

    def load(self, saved: FeedState) -> None:
        """Stands again where it stood when that was saved."""
        view = self.view
        view.frame = saved.frame
        _put_back(view.value_by, saved.value_by)
        _put_back(view.held_by, saved.held_by)
        _put_back(view.pressed_by, saved.pressed_by)
        _put_back(view.released_by, saved.released_by)
        _put_back(view.since_by, saved.since_by)
        self.due = defaultdict(dict, {frame: dict(changes) for frame, changes in saved.due.items()})
        view.edges[:] = saved.edges
        del self.noted[saved.noted :]

    def _change(self, action: str, value: float) -> None:
        view = self.view
        self.noted.append((view.frame, action, value))
        view.value_by[action] = value
        held = abs(value) >= HELD_FROM
        if held != view.held_by[action]:
            view.held_by[action] = held
            (view.pressed_by if held else view.released_by)[action] = True
            view.edges.append(action)
            if held:
                view.since_by[action] = view.frame


T = TypeVar("T")


def _put_back(table: dict[str, T], values: Mapping[str, T]) -> None:
    """Into the same table, since rules and hooks hold its bound look-ups."""
    table.clear()
    table.update(values)


def _changes(given: Sequence[Span]) -> list[tuple[int, float]]:
    """(frame, new value) of one action, in order: at each frame the latest written of the spans that cover it counts.

    Spans that keep clear of each other, as most do, need no more than their own two ends.
    """
    spans = sorted(given, key=lambda span: int(span.start))
    if all(span.to is None for span in spans) and all(
        int(one.start) + int(one.frames) < int(other.start) for one, other in itertools.pairwise(spans)
    ):
        edges: list[tuple[int, float]] = []
        for span in spans:
            # A value of -0.0 would be another bit in the trace, and the same press.
            edges += [(int(span.start), span.value + 0.0), (int(span.start) + int(span.frames), 0.0)]
        return edges
    spans = list(given)
    # A sweep over the marks with a heap of open spans, the latest written on top: a random script of a million presses is
    # no more than a sort.
    starts = sorted((int(span.start), -index) for index, span in enumerate(spans))
    marks = sorted({mark for span in spans for mark in (int(span.start), int(span.start) + int(span.frames))})
    changes: list[tuple[int, float]] = []
    open_spans: list[tuple[int, int]] = []
    upcoming = 0
    for mark, following in zip(marks, [*marks[1:], marks[-1]], strict=True):
        while upcoming < len(starts) and starts[upcoming][0] <= mark:
            index = -starts[upcoming][1]
            heapq.heappush(open_spans, (-index, int(spans[index].start) + int(spans[index].frames)))
            upcoming += 1
        while open_spans and open_spans[0][1] <= mark:
            heapq.heappop(open_spans)
        if not open_spans:
            changes.append((mark, 0.0))
            continue
        span = spans[-open_spans[0][0]]
        if span.to is not None:
            frames = range(mark, following)
        else:
            frames = range(mark, mark + 1)
        changes.extend((frame, float(span.value_at(frame - int(span.start))) + 0.0) for frame in frames)
    return changes


def check_within(script: InputScript, frames: int) -> None:
    """Raises InputError where a span starts after the last frame of a run, so that it would silently never happen."""
    for span in script.spans:
        if not span.on and int(span.start) > frames:
            raise InputError(
                f"action {span.action!r} at frame {span.start} never happens: the run has {frames} frames; "
                "make it longer, or cut the script"
            )
