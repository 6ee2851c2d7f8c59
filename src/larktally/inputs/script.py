"""Input scripts: which actions are held in which frames, written by hand, at random, or read from a file.

A script is a value: every call returns a new one. Where spans of one action overlap, the one written later counts.
"""

from __future__ import annotations

import io
import random
from collections.abc import Iterable, Mapping
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from larktally.errors import InputError, LarkTallyError
from larktally.inputs.actions import Actions
from larktally.timing import Duration, frames_in
from larktally.whole_files import write_whole

__all__ = ["InputScript", "Span"]

CSV_COLUMNS = ["action", "start", "frames", "value"]


class Span(msgspec.Struct, frozen=True):
    """An action held for some frames from a start frame; `to` makes it a ramp from `value` to `to`.

    A span with `on` starts `plus` frames after each row in which that condition, written in the claim language,
    holds: the frames are known only when the run is made, and stand in its trace.
    """

    action: str
    start: Duration
    frames: Duration
    value: float = 1.0
    to: float | None = None
    on: str | None = None

    def resolved(self, rate: Fraction | None) -> Span:
        """The same span in whole frames; raises InputError before frame 1 and for no frames at all."""
        if type(self.start) is int and type(self.frames) is int and self.start > 0 and self.frames > 0:
            return self
        start = frames_in(self.start, rate, what=f"start of {self.action!r}")
        if start < 1:
            where = "start"
            if self.on:
                where = "plus"
            raise InputError(
                f"action {self.action!r} at {where}={self.start!r}: the first step is frame 1 "
                "(row 0 is the state after reset and has no inputs)"
            )
        return replace(self, start=start, frames=frames_in(self.frames, rate, least=1, what=f"hold of {self.action!r}"))

    def value_at(self, offset: int) -> float:
        """The value `offset` frames into the span; a ramp reaches `to` in its last frame."""
        if self.to is None or not isinstance(self.frames, int) or self.frames == 1:
            if self.to is None:
                return self.value
            return self.to
        return self.value + (self.to - self.value) * offset / (self.frames - 1)


class InputScript:
    """What is pressed when: a value, whose calls return new scripts.

    >>> script = InputScript().hold("right", start=1, frames=80).press("hop", start=30)
    >>> [(span.action, span.start, span.frames) for span in script.spans]
    [('right', 1, 80), ('hop', 30, 1)]
    """

    __slots__ = ("_at_rate", "_count", "_spans", "_whole", "_written", "plan")

    def __init__(self, spans: Iterable[Span] = ()) -> None:
        self._written = list(spans)
        self._count = len(self._written)
        self._spans: tuple[Span, ...] | None = None
        # What never changes once it is known: whether all of it is in whole frames, and what it is at a rate.
        self._whole = False
        self._at_rate: tuple[Fraction | None, InputScript] | None = None
        #: How it goes for the actions that it was led for last: kept by who leads it, since it goes the same way from every row.
        self.plan: object = None

    @property
    def spans(self) -> tuple[Span, ...]:
        """All of it, in the order in which it was written."""
        if self._spans is None:
            self._spans = tuple(self._written[: self._count])
        return self._spans

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, InputScript):
            return NotImplemented
        return self.spans == other.spans

    def __hash__(self) -> int:
        return hash(self.spans)

    def __repr__(self) -> str:
        return f"InputScript(spans={self.spans!r})"

    def press(
        self,
        action: str,
        start: Duration | None = None,
        *,
        on: str | None = None,
        plus: Duration = 1,
        frames: Duration = 1,
    ) -> InputScript:
        """Held for one frame at `start`, or `plus` frames after each row in which `on` holds (at least 1)."""
        if (start is None) == (on is None):
            raise InputError(f"press {action!r} takes either start= or on=, and just one of them")
        return self._with(Span(action, plus if start is None else start, frames, on=on))

    def hold(self, action: str, start: Duration, frames: Duration, value: float = 1.0) -> InputScript:
        """Held for `frames` frames, the first of them `start`; `value` in [-1, 1] for an analog action."""
        return self._with(Span(action, start, frames, float(value)))

    def tap(self, action: str, start: int, every: int, times: int, frames: int = 1) -> InputScript:
        """Pressed `times` times, `every` frames apart, each for `frames` frames; raises InputError where they touch."""
        if frames >= every:
            raise InputError(f"taps of {action!r} every {every} frames, held {frames}, would be one long hold")
        return self._with(*(Span(action, start + every * n, frames) for n in range(times)))

    def ramp(self, action: str, start: Duration, frames: Duration, value: float, to: float) -> InputScript:
        """An analog action led from `value` (in the first frame) to `to` (in the last) in equal steps."""
        return self._with(Span(action, start, frames, float(value), float(to)))

    def shifted(self, frames: int) -> InputScript:
        """Everything later by `frames` (earlier where negative); spans that hang on a condition stay as they are."""
        return InputScript(
            tuple(span if span.on else replace(span, start=_frames_only(span.start) + frames) for span in self.spans)
        )

    def then(self, other: InputScript, at: int | None = None) -> InputScript:
        """This script, and after its last held frame (or from frame `at` on) the other one."""
        return self | other.shifted(self.last_frame if at is None else at - 1)

    def keep(self, first: int, last: int) -> InputScript:
        """Only what is held in frames first..last, in their own numbering."""
        kept = []
        for span in (span.resolved(None) for span in self.spans):
            start, stop = max(int(span.start), first), min(int(span.start) + int(span.frames) - 1, last)
            if span.on:
                kept.append(span)
            elif start <= stop:
                offset, end = start - int(span.start), stop - int(span.start)
                if span.to is None:
                    to = None
                else:
                    to = span.value_at(end)
                kept.append(replace(span, start=start, frames=stop - start + 1, value=span.value_at(offset), to=to))
        return InputScript(tuple(kept))

    def __or__(self, other: InputScript) -> InputScript:
        """Both at once; where both say something of one action and frame, `other` counts."""
        return InputScript(self.spans + other.spans)

    @property
    def last_frame(self) -> int:
        """The last frame in which anything is held by a fixed start; 0 for an empty script."""
        spans = [span for span in self.spans if not span.on]
        return max((_frames_only(span.start) + _frames_only(span.frames) - 1 for span in spans), default=0)

    def resolved(self, rate: Fraction | None) -> InputScript:
        """The same script in whole frames at a rate."""
        if self._whole:
            return self
        if self._at_rate is None or self._at_rate[0] != rate:
            found = InputScript(tuple(span.resolved(rate) for span in self.spans))
            found._whole = True
            self._at_rate = rate, found
        return self._at_rate[1]

    def to_csv(self, path: str | Path | None = None) -> str:
        """The script as CSV with the columns action,start,frames,value, written to `path` where one is given."""
        import csv

        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(CSV_COLUMNS)
        for span in self.spans:
            if span.on:
                raise InputError(
                    f"{span.action!r} hangs on {span.on!r}; take the script from a trace to have its frames"
                )
            start, frames = _frames_only(span.start), _frames_only(span.frames)
            if span.to is None:
                writer.writerow([span.action, start, frames, repr(span.value)])
            else:
                writer.writerows([span.action, start + n, 1, repr(span.value_at(n))] for n in range(frames))
        if path is not None:
            write_whole(path, out.getvalue())
        return out.getvalue()

    @classmethod
    def from_csv(cls, path: str | Path) -> InputScript:
        """Reads what to_csv wrote; raises InputError naming the file and line of what does not fit."""
        try:
            text = Path(path).read_text(encoding="utf-8")
        except OSError as error:
            raise InputError(f"{path}: cannot be read as an input script: {error.strerror or error}") from None
        except ValueError as error:
            raise InputError(f"{path}: cannot be read as an input script: {error}") from None
        return cls.of_csv(text, path)

    @classmethod
    def of_csv(cls, text: str, path: str | Path = "the script") -> InputScript:
        """Reads the text that to_csv returned; `path` is what errors call it."""
        import csv

        try:
            lines = list(csv.reader(io.StringIO(text)))
        except csv.Error as error:
            raise InputError(f"{path}: cannot be read as an input script: {error}") from None
        if not lines or lines[0] != CSV_COLUMNS:
            raise InputError(f"{path}, line 1: an input script has the columns action,start,frames,value")
        return cls(tuple(_span_from_line(path, number, line) for number, line in enumerate(lines[1:], 2) if line))

    @classmethod
    def at_random(cls, actions: Mapping[str, float], frames: int, seed: int, hold: int = 12) -> InputScript:
        """A script that presses each action at random, `actions[name]` times a frame on average, for 1..hold frames.

        The same seed gives the same script in every process; each action has a stream of its own.
        """
        spans = []
        for action, chance in actions.items():
            if not 0 <= chance <= 1:
                raise InputError(f"action {action!r} is pressed with a chance in [0, 1] a frame, not {chance!r}")
            stream = random.Random(f"{seed}:{action}")
            frame = 1
            while frame <= frames:
                if stream.random() < chance:
                    length = min(stream.randint(1, hold), frames - frame + 1)
                    spans.append(Span(action, frame, length))
                    frame += length
                frame += 1
        return cls(tuple(spans))

    @classmethod
    def from_columns(cls, columns: Mapping[str, npt.NDArray[np.float64]]) -> InputScript:
        """The script that gives these input columns again: one value a row, row 0 first (as `trace.inputs` has them)."""
        spans = []
        for action, column in columns.items():
            values = np.asarray(column, dtype=np.float64)
            starts = []
            if len(values) > 1:
                starts = [1, *(np.flatnonzero(values[2:] != values[1:-1]) + 2).tolist()]
            for start, stop in zip(starts, [*starts[1:], len(values)], strict=True):
                if values[start] != 0:
                    spans.append(Span(action, start, stop - start, float(values[start])))
        return cls(tuple(sorted(spans, key=lambda span: span.start)))

    def _with(self, *spans: Span) -> InputScript:
        for span in spans:
            if isinstance(span.start, int) and not span.on:
                if isinstance(span.frames, int):
                    span.resolved(None)
                else:
                    replace(span, frames=1).resolved(None)
        made = InputScript.__new__(InputScript)
        # What is written on at its end goes on in the same list, of which each script is a beginning: a thousand presses, one
        # by one, are a thousand appends. One that was written on already is copied.
        written = self._written
        if len(written) != self._count:
            written = written[: self._count]
        written.extend(spans)
        made._written, made._count, made._spans = written, len(written), None
        made._whole, made._at_rate, made.plan = False, None, None
        return made


def _frames_only(duration: Duration) -> int:
    return frames_in(duration, None, what="a script in seconds has to be resolved at a rate first:")


def _span_from_line(path: str | Path, number: int, line: Iterable[str]) -> Span:
    cells = list(line)
    try:
        action, start, frames, value = cells
        span = Span(action, int(start), int(frames), float(value)).resolved(None)
        Actions((action,))
        if not -1 <= span.value <= 1:
            raise InputError(f"action {action!r} takes a value in [-1, 1], not {value}")
        return span
    except LarkTallyError as error:
        raise InputError(f"{path}, line {number}: {error}") from None
    except ValueError:
        raise InputError(
            f"{path}, line {number}: {','.join(cells)!r} is not an action, a start frame, a number of frames and a value"
        ) from None
