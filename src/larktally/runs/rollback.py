"""Late inputs: a run goes on with guessed inputs, and when the true ones come it goes back and runs again.

Each tick the inputs that came are compared with what was guessed; from the first frame that was guessed wrong the rows are made
again, from the last state before it that was kept, and then the next frame is shown. One state is kept a tick, and none longer
than it may still be gone back to.
"""

from __future__ import annotations

import bisect
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple, TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, SubjectFailed
from larktally.inputs.script import InputScript
from larktally.runs.lateness import Late, Predict, arrivals, guesser
from larktally.runs.observers import RunObserver, RunStart, Stretch
from larktally.runs.runner import Runner, Snapshot
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import Value

__all__ = ["Correction", "Emitted", "LateRun", "ShownRow"]


class Emitted(NamedTuple):
    """An event as it was emitted: name, source, and data as text."""

    name: str
    source: str
    data: str


#: What is held in a frame, a place for each action.
_Held: TypeAlias = tuple[float, ...]


class _Version(NamedTuple):
    """A row as it was made, the last time that it was."""

    values: tuple[Value, ...]
    events: tuple[Emitted, ...]


class ShownRow(NamedTuple):
    """What a viewer saw of a row: its values, what was shown to have happened, and up to which row all was certain."""

    values: tuple[Value, ...]
    events: tuple[Emitted, ...]
    confirmed_to: int


class Correction(NamedTuple):
    """One going back, at the tick after `row` was shown: the last `depth` rows were made again, and of the last of them these
    channels were another, numbers by so much; `events` came or went in any of them."""

    row: int
    depth: int
    channels: Mapping[str, float | None]
    events: int


class _Newest(RunObserver):
    """Keeps every row as it was made last."""

    def __init__(self) -> None:
        self.versions: dict[int, _Version] = {}

    def begin(self, run: RunStart) -> None:
        self.start = run

    def rows(self, stretch: Stretch) -> None:
        for row, values in enumerate(zip(*stretch.columns, strict=True), stretch.first):
            self.versions[row] = _Version(values, ())
        # Few rows have any.
        for row, name, source, data in stretch.events.fields():
            values, before = self.versions[row]
            self.versions[row] = _Version(values, (*before, Emitted(name, source, data)))


class _Before(Sequence[tuple[int, float]]):
    """The first so many of what came: a view, since it is asked for in every frame."""

    def __init__(self, came: list[tuple[int, float]], length: int) -> None:
        self._came, self._length = came, length

    def __len__(self) -> int:
        return self._length

    def __getitem__(self, at: Any) -> Any:
        if isinstance(at, slice):
            return self._came[: self._length][at]
        if not -self._length <= at < self._length:
            raise IndexError(at)
        return self._came[at % self._length]


class LateRun:
    """A scenario led with inputs that come late; `truth` is what is held in each row, a place for each of `actions`, as far as
    it is known: all of it where it is `led` to its end, or up to the next tick where it is led `on` tick by tick. It holds
    what was `shown` and what was `confirmed`, row by row, the corrections, and how many frames were run again.

    `window` is how many frames may be gone back at most; an input that comes later is waited for, or, with `drop`, never counts.
    `lag` shows each row so many frames after it was made, `delay` lets every input count so many frames after it was pressed.
    `show` is which events are shown: "first" those of a row when it is shown, "again" those too of rows that are made again,
    "confirmed" those of rows that are certain, then. Raises LarkTallyError for a subject that cannot save.
    """

    def __init__(
        self,
        scenario: Scenario,
        actions: Sequence[str],
        truth: list[tuple[float, ...]],
        frames: int,
        *,
        late: Late | Mapping[str, Late],
        predict: Predict = "repeat",
        window: int | None = None,
        drop: bool = False,
        lag: int = 0,
        delay: int = 0,
        show: str = "first",
        seed: int = 0,
    ) -> None:
        self.frames = frames
        self._newest = _Newest()
        self._run = Runner(
            scenario.changed(inputs=InputScript(), frames=max(self.frames, 1), until=None, claims=(), measures=()),
            [self._newest],
        )
        info = self._run.subject.info
        if not info.saves:
            raise LarkTallyError(f"{self._run.subject.name} cannot save and load, so it cannot be gone back with")
        self.start: RunStart = self._newest.start
        self._actions = tuple(actions)
        arrives = arrivals(late, info.actions, self._actions, self.frames, seed)
        latest = 0
        for ticks in arrives.values():
            for frame, tick in enumerate(ticks):
                # What counts later has so much longer to come.
                ticks[frame] = max(tick - delay, frame)
                latest = max(latest, ticks[frame] - frame)
        self.latest = latest
        # By frame, a place for each action: what is true of it, when it comes; and when all of them are there.
        self._truth: list[_Held] = truth
        self._arrives: list[tuple[int, ...]] = list(zip(*arrives.values(), strict=True)) or [()] * (frames + 1)
        self._complete = [max(ticks, default=0) for ticks in self._arrives]
        self._first_of = [min(ticks, default=0) for ticks in self._arrives]
        self._repeats = predict == "repeat"
        self.window = latest if window is None else window
        self._drop, self._lag, self._show = drop, lag, show
        self._guess = guesser(predict, info.actions.analog)
        self._own_guess = callable(predict)
        # For a user's own guess alone: what came of each action, in the order of frames, and what comes in each tick.
        self._all_came: list[list[tuple[int, float]]] = [[] for _ in self._actions]
        self._due: dict[int, list[tuple[int, int]]] = {}
        if self._own_guess:
            for frame, ticks_of in enumerate(self._arrives[1:], 1):
                for place, tick in enumerate(ticks_of):
                    self._due.setdefault(tick, []).append((place, frame))
        self.shown: list[ShownRow] = []
        self.confirmed: list[_Version] = []
        self.corrections: list[Correction] = []
        self.frames_again, self.ticks_waited = 0, 0
        self.dropped: list[tuple[int, str]] = []
        self.failures: list[tuple[int, str]] = []
        # The frame up to which all inputs are certain, the newest that was run, and what each unconfirmed frame was run with.
        self._certain = self._at = self._tick = 0
        self._used: dict[int, _Held] = {0: (0.0,) * len(self._actions)}
        self._names = [channel.name for channel in self.start.reader.channels]
        self._saved: dict[int, Snapshot] = {0: self._run.snapshot()}
        self._broken = False
        self._let_go = 0
        # What is to be shown with the next row.
        self._held_back: list[Emitted] = []
        self._settle()

    @property
    def end(self) -> str | None:
        """Why the run is over, once that is certain."""
        end = self._run.end
        if end is None or end.row > self._certain:
            return None
        return end.reason

    def on(self, held: tuple[float, ...]) -> None:
        """One tick on, with what is truly held in its frame, which is not known there before it comes."""
        self._truth.append(held)
        self._step()

    def led(self) -> LateRun:
        """Led to where every input has come."""
        while self._certain < self.frames or len(self.shown) <= self.frames:
            self._step()
        if self._held_back:
            # What comes after the last picture is shown with it.
            last = self.shown[-1]
            self.shown[-1] = last._replace(events=(*last.events, *self._held_back))
        return self

    @property
    def certain(self) -> int:
        """The frame up to which every input has come."""
        return self._certain

    @property
    def inputs(self) -> Mapping[str, npt.NDArray[np.float64]]:
        """What counted as held in each row: the true inputs, but for those that came too late."""
        return self._by_action(self._truth)

    @property
    def held_as_shown(self) -> Mapping[str, npt.NDArray[np.float64]]:
        """What each row was made with, up to the newest: the true inputs as far as they have come, and guesses."""
        rows = self._truth[: self._certain + 1]
        for frame in range(self._certain + 1, self._at + 1):
            rows.append(self._used[frame])
        return self._by_action(rows)

    def _by_action(self, rows: Sequence[_Held]) -> Mapping[str, npt.NDArray[np.float64]]:
        columns = zip(*rows, strict=True)
        return {name: np.array(values, dtype=np.float64) for name, values in zip(self._actions, columns, strict=True)}

    def _step(self) -> None:
        """One tick: what came is put right, and the next frame is run and shown."""
        self._tick += 1
        self._take_in()
        before = self._certain
        newest = min(self._at + 1, self.frames)
        if newest > self._at and newest - self._window_end(newest) > self.window:
            if self._drop:
                self._give_up(newest)
            else:
                # Waited for: the picture stands.
                newest = self._at
                self.ticks_waited += 1
        known = self._values(newest)
        self._certain = self._window_end(newest)
        wrong = self._first_wrong(known, before)
        again: list[Emitted] = []
        if wrong is not None:
            again = self._corrected(wrong, known, newest)
        elif newest > self._at:
            self._lead(known, newest, newest)
            if self._run.row == newest:
                self._saved[newest] = self._run.snapshot()
        self._at = newest
        self._settle(again)

    def _window_end(self, newest: int) -> int:
        """Up to which frame all inputs have come by this tick."""
        frame = self._certain
        while frame < newest and self._complete[frame + 1] <= self._tick:
            frame += 1
        return frame

    def _give_up(self, newest: int) -> None:
        """Inputs that come too late never count: what was guessed is what was pressed."""
        for frame in range(self._certain + 1, newest - self.window + 1):
            kept = []
            for place, tick in enumerate(self._arrives[frame]):
                true, guessed = self._truth[frame][place], self._used[frame][place]
                if tick > self._tick and true != guessed:
                    self.dropped.append((frame, self._actions[place]))
                kept.append(guessed if tick > self._tick else true)
            self._truth[frame] = tuple(kept)
            self._arrives[frame] = (self._tick,) * len(self._actions)
            self._complete[frame] = self._tick

    def _values(self, newest: int) -> dict[int, _Held]:
        """What is held in each frame that is not certain yet: what came, and guesses for the rest."""
        found: dict[int, _Held] = {}
        last = self._used[self._certain]
        for frame in range(self._certain + 1, newest + 1):
            if self._complete[frame] <= self._tick:
                found[frame] = last = self._truth[frame]
                continue
            if self._repeats and self._first_of[frame] > self._tick:
                found[frame] = last
                continue
            now, known = [], []
            for place, tick in enumerate(self._arrives[frame]):
                value = last[place]
                if tick <= self._tick:
                    value = self._truth[frame][place]
                known.append(value)
                if tick > self._tick:
                    value = self._guess(self._actions[place], value, self._came(place, frame))
                now.append(value)
            found[frame], last = tuple(now), tuple(known)
        return found

    def _came(self, place: int, frame: int) -> Sequence[tuple[int, float]]:
        """What came of an action before a frame; only a user's own guess asks for it."""
        if not self._own_guess:
            return ()
        came = self._all_came[place]
        return _Before(came, bisect.bisect_left(came, (frame, -2.0)))

    def _take_in(self) -> None:
        """Notes what came in this tick, in the order of frames."""
        for place, frame in self._due.pop(self._tick, ()):
            bisect.insort(self._all_came[place], (frame, self._truth[frame][place]))

    def _first_wrong(self, known: Mapping[int, _Held], certain: int) -> int | None:
        for frame in range(certain + 1, self._at + 1):
            if known[frame] != self._used[frame]:
                return frame
        return None

    def _corrected(self, wrong: int, known: Mapping[int, _Held], newest: int) -> list[Emitted]:
        """Goes back to before the first frame that was wrong, makes the rows after it again, and goes on; what those rows emit
        now."""
        old = {row: self._newest.versions[row] for row in range(wrong, self._at + 1)}
        start = max(row for row in self._saved if row < wrong)
        for row in [row for row in self._saved if row > start]:
            del self._saved[row]
        self._run.restore(self._saved[start])
        self._broken = False
        # Kept where it will be gone back to: before the first frame that is still a guess.
        keep = min(max(self._certain, start), self._at)
        if keep > start:
            self._lead(known, start + 1, keep)
            if self._run.row == keep:
                self._saved[keep] = self._run.snapshot()
        self._lead(known, keep + 1, newest)
        self.frames_again += self._at - start
        again: list[Emitted] = []
        changed = 0
        for row in range(wrong, self._at + 1):
            events = self._newest.versions[row].events
            again += events
            changed += events != old[row].events
        channels = _differences(self._names, old[self._at].values, self._newest.versions[self._at].values)
        self.corrections.append(Correction(self._at, self._at - wrong + 1, channels, changed))
        return again

    def _lead(self, known: Mapping[int, _Held], first: int, last: int) -> None:
        """Rows first..last, with what is held in them."""
        if last < first:
            return
        before = self._used[first - 1]
        for frame in range(first, last + 1):
            now = known.get(frame)
            if now is None:
                now = self._used[frame]
            self._used[frame] = now
            if now != before:
                for name, one, other in zip(self._actions, before, now, strict=True):
                    if one != other:
                        self._run.feed.change(name, frame, other)
            before = now
        try:
            if self._run.end is None and not self._broken:
                self._run.to(last)
        except SubjectFailed as failure:
            # Under inputs that were guessed: what comes may put it right.
            self.failures.append((failure.row or last, str(failure)))
            self._broken = True
        # Of a run that is over nothing more happens, and the last of it stands.
        stands = self._newest.versions[max(min(self._run.row, last), first - 1)].values
        for row in range(max(self._run.row + 1, first), last + 1):
            self._newest.versions[row] = _Version(stands, ())

    def _settle(self, again: Sequence[Emitted] = ()) -> None:
        """Notes what is certain now and what is shown now, and lets go of what nobody goes back to."""
        versions = self._newest.versions
        for row in range(len(self.confirmed), self._certain + 1):
            self.confirmed.append(versions[row])
            if self._show == "confirmed":
                self._held_back += versions[row].events
        if self._show == "again":
            self._held_back += again
        # As many frames as there were ticks, but for those that were waited through.
        row = len(self.shown)
        if row <= min(self._tick - self.ticks_waited - self._lag, self._at):
            events: tuple[Emitted, ...] = tuple(self._held_back)
            self._held_back = []
            if self._show != "confirmed":
                events += versions[row].events
            self.shown.append(ShownRow(versions[row].values, events, self._certain))
        keep = max(row for row in self._saved if row <= self._certain)
        for row in range(self._let_go, min(keep, len(self.shown))):
            versions.pop(row, None)
            self._used.pop(row, None)
            self._saved.pop(row, None)
            self._let_go = row + 1


def _differences(names: Sequence[str], first: Sequence[Value], second: Sequence[Value]) -> dict[str, float | None]:
    """The channels that are not the same in two rows, numbers with how far they are apart."""
    found: dict[str, float | None] = {}
    for name, one, other in zip(names, first, second, strict=True):
        if one == other or (one != one and other != other):
            continue
        found[name] = None
        if isinstance(one, int | float) and isinstance(other, int | float) and not isinstance(one, bool):
            found[name] = abs(float(one) - float(other))
    return found
