"""Time as a game's own code often keeps it: float steps summed until they pass a length, and in which frame they do."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from fractions import Fraction
from functools import lru_cache
from typing import Any, Literal, NamedTuple, TypeAlias

import msgspec
import numpy as np

from larktally.errors import LarkTallyError
from larktally.timing import Duration, as_rate, exact_seconds

__all__ = [
    "Style",
    "SummedTimer",
    "DurationRow",
    "durations",
    "as_style",
    "frames_of",
    "clock_at",
    "frames_on_clock",
    "clock_spread",
    "STYLES",
    "RATES",
]

# Four days at 60 frames/s.
LONGEST = 20_000_000
CHUNK = 65_536
RATES = ("30", "50", "60", "90", "120", "144", "240", "60000/1001")
_WIDTHS: dict[int, Any] = {32: np.float32, 64: np.float64}


class SummedTimer(msgspec.Struct, frozen=True):
    """How a game sums: the `width` of its floats; counting `down` from the length or `up` to it; whether reaching the
    end exactly is enough (`at_end=True`: <= 0 or >= length) or it has to be passed (< 0 or >); and what stands after
    the end: `then="reset"` begins again from the full length, `then="subtract"` keeps what was too much. `check="before"` asks
    first and adds then, which is a frame later.

    `direction="clock"` is `now > next` (`at_end=True`: >=) on one float that sums the frames since the run began, with
    next = now + length at each start (`then="subtract"`: next += length where it goes on at its end): the same length ends after
    another number of frames, by how long the run has been going."""

    width: int = 64
    direction: Literal["down", "up", "clock"] = "down"
    at_end: bool = True
    then: Literal["reset", "subtract"] = "reset"
    check: Literal["after", "before"] = "after"

    def __post_init__(self) -> None:
        if self.width not in _WIDTHS:
            raise LarkTallyError(f"floats are 32 or 64 bits wide, not {self.width!r}")
        if self.direction not in ("down", "up", "clock") or self.then not in ("reset", "subtract"):
            raise LarkTallyError(
                f"a summed time counts 'down', 'up' or on a 'clock', then 'reset' or 'subtract'; not {self!r}"
            )
        if self.check not in ("after", "before"):
            raise LarkTallyError(f"a summed time is checked 'after' or 'before' a frame is added, not {self.check!r}")
        if self.direction == "clock" and self.check == "before":
            raise LarkTallyError("a clock goes on by itself: check='before' is for a sum of its own, down or up")

    @property
    def kind(self) -> Any:
        """The NumPy type that it sums in."""
        return _WIDTHS[self.width]

    def first(self, seconds: Fraction, carry: float = 0.0) -> float:
        """The sum as a time of so many seconds begins; `carry` is what was too much before, where it subtracts."""
        if self.direction == "down":
            length = self.kind(float(seconds))
        else:
            length = self.kind(0)
        if self.then == "subtract":
            return float(self.kind(carry) + length)
        return float(length)

    def next(self, total: float, rate: Fraction) -> float:
        """The sum one frame later: one addition of float(1/rate)."""
        # Rounded once, as the constant in a game's own source is.
        step = self.kind(float(1 / rate))
        if self.direction == "down":
            return float(self.kind(total) - step)
        return float(self.kind(total) + step)

    def over(self, total: Any, seconds: Fraction) -> Any:
        """Whether a sum says that the time is over."""
        if self.direction == "down":
            if self.at_end:
                return total <= 0
            return total < 0
        length = self.kind(float(seconds))
        if self.at_end:
            return total >= length
        return total > length

    def carry(self, total: float, seconds: Fraction) -> float:
        """What is too much once it is over."""
        if self.direction == "down":
            return float(total)
        return float(self.kind(total) - self.kind(float(seconds)))

    def target(self, now: float, seconds: Fraction, before: float = 0.0) -> float:
        """On a clock: where it has to be for the time to be over; `before` is where it had to be the time before."""
        start = before if before and self.then == "subtract" else now
        return float(self.kind(start) + self.kind(float(seconds)))

    def reached(self, now: Any, target: Any) -> Any:
        """On a clock: whether it is there."""
        return now >= target if self.at_end else now > target

    def __str__(self) -> str:
        if self.direction == "clock":
            return f"float{self.width} now {'>=' if self.at_end else '>'} next"
        if self.direction == "down":
            sign = "< 0"
            if self.at_end:
                sign = "<= 0"
        else:
            sign = "> t"
            if self.at_end:
                sign = ">= t"
        first = ", checked first" if self.check == "before" else ""
        return f"float{self.width} {self.direction} {sign}{first}"


STYLES = tuple(
    SummedTimer(width, direction, at_end)
    for width in (64, 32)
    for direction in ("down", "up")
    for at_end in (True, False)
)
Style: TypeAlias = "SummedTimer | str | None"


def as_style(style: Style) -> SummedTimer | None:
    """What a timer's `style=` says: None or "exact", "summed", or a SummedTimer with its own choices."""
    if style is None or style == "exact":
        return None
    if style == "summed":
        return SummedTimer()
    if not isinstance(style, SummedTimer):
        raise LarkTallyError(f"style is 'exact', 'summed' or lt.SummedTimer(…), not {style!r}")
    return style


@lru_cache(maxsize=1024)
def frames_of(seconds: Fraction, rate: Fraction, style: SummedTimer, carry: float = 0.0) -> tuple[int, float]:
    """In which frame a summed time of so many seconds ends, and what is carried into the next where it subtracts.

    The sum is the literal loop's, bit for bit: one addition of float(1/rate) a frame. Raises LarkTallyError for a time that
    never ends, because a step is too small to change the sum, or ends after more than 20,000,000 frames.
    """
    kind = style.kind
    step = kind(float(1 / rate))
    current = kind(style.first(seconds, carry))
    change = step
    if style.direction == "down":
        change = -step
    done = 0
    while done < LONGEST:
        # accumulate adds strictly from left to right, each sum rounded: the literal loop, in C.
        steps = np.full(CHUNK + 1, change, dtype=kind)
        steps[0] = current
        sums = np.add.accumulate(steps, dtype=kind)[1:]
        if style.check == "before":
            # What a frame's check sees is what the frame before left.
            sums = np.append(steps[:1], sums[:-1])
        over = style.over(sums, seconds)
        if over.any():
            first = int(over.argmax())
            return done + first + 1, style.carry(float(sums[first]), seconds)
        # A step that is lost in the rounding is lost in every frame to come.
        if sums[-1] == sums[-2]:
            raise LarkTallyError(
                f"a time of {float(seconds):g} s summed as {style} never ends: a frame is too small to change it"
            )
        current, done = kind(np.add.accumulate(steps, dtype=kind)[-1]), done + CHUNK
    raise LarkTallyError(f"a time of {float(seconds):g} s is more than {LONGEST} frames")


def clock_at(tick: int, rate: Fraction, width: int) -> float:
    """What a float that sums the frames since the run began says after so many."""
    return float(_clock_block(rate, width, tick // CHUNK)[tick % CHUNK])


def frames_on_clock(tick: int, target: float, rate: Fraction, style: SummedTimer) -> int:
    """After how many more frames a clock that stands at `tick` is where it has to be; raises LarkTallyError where that is never,
    or in more than 20,000,000 frames."""
    block = tick // CHUNK
    while block * CHUNK - tick < LONGEST:
        values = _clock_block(rate, style.width, block)
        there = style.reached(values, style.kind(target))
        if block == tick // CHUNK:
            there = there & (np.arange(CHUNK) > tick % CHUNK)
        if there.any():
            return block * CHUNK + int(there.argmax()) - tick
        if values[-1] == values[-2]:
            raise LarkTallyError(f"a clock of {style} never reaches {target:g}: a frame is too small to change it")
        block += 1
    raise LarkTallyError(f"a clock of {style} reaches {target:g} after more than {LONGEST} frames")


# Some minutes of blocks: a run asks for one after the other.
@lru_cache(maxsize=16)
def _clock_block(rate: Fraction, width: int, block: int) -> Any:
    """What the clock says in CHUNK ticks, from tick block * CHUNK on."""
    kind = _WIDTHS[width]
    step = kind(float(1 / rate))
    steps = np.full(CHUNK, step, dtype=kind)
    start = _clock_start(rate, width, block)
    steps[0] = start
    return np.add.accumulate(steps, dtype=kind)


@lru_cache(maxsize=4096)
def _clock_start(rate: Fraction, width: int, block: int) -> Any:
    kind = _WIDTHS[width]
    if block == 0:
        return kind(0)
    # The block before, summed on by one: the literal loop, in pieces.
    return kind(_clock_block(rate, width, block - 1)[-1] + kind(float(1 / rate)))


def clock_spread(seconds: Fraction, rate: Fraction, style: SummedTimer, starts: int = 36_000) -> dict[int, int]:
    """After how many frames a time ends that is started in each of the first frames of a run: frames -> of how many starts."""
    longest = int(seconds * rate) + 3
    blocks = [_clock_block(rate, style.width, n) for n in range((starts + longest) // CHUNK + 1)]
    sums = np.concatenate(blocks)[: starts + longest]
    targets = (sums[:starts] + style.kind(float(seconds))).astype(style.kind)
    ends = np.searchsorted(sums, targets, side="left" if style.at_end else "right") - np.arange(starts)
    found, counts = np.unique(ends, return_counts=True)
    return dict(zip(found.tolist(), counts.tolist(), strict=True))


CLOCKS = tuple(SummedTimer(width, "clock", False) for width in (64, 32))


class DurationRow(NamedTuple):
    """A duration at a rate: the exact number of frames (a fraction), and the frame in which each style fires.

    `exact_frames` is the whole number, None where it is not whole; `apart` are the styles that fire in another frame
    than the time rounded up, which is the first frame at which it is over. `clocks` are the frames after which it ends on a
    running float clock, each with how many of the first 36,000 starts end so.
    """

    duration: str
    rate: str
    exact: Fraction
    styles: dict[str, int]
    clocks: dict[str, dict[int, int]]

    @property
    def exact_frames(self) -> int | None:
        """The frames, where they are whole."""
        if self.exact.denominator == 1:
            return self.exact.numerator
        return None

    @property
    def over_in(self) -> int:
        """The first frame at which the time is over: rounded up."""
        return -((-self.exact).__floor__())

    @property
    def apart(self) -> dict[str, int]:
        """The styles that fire in another frame, and by how many."""
        found: dict[str, int] = {}
        for name, fired in self.styles.items():
            if fired != self.over_in:
                found[name] = fired - self.over_in
        return found


def durations(
    times: Iterable[Duration], rates: Iterable[Any] = RATES, styles: Sequence[SummedTimer] = STYLES
) -> list[DurationRow]:
    """In which frame each duration ends at each rate, exact and summed in each style.

    >>> row = durations(["0.1s"], ["60"])[0]
    >>> row.exact_frames, row.styles["float64 down <= 0"], row.styles["float64 down < 0"]
    (6, 7, 7)

    Raises LarkTallyError for what is no time or no rate.
    """
    rows = []
    for time in [times] if isinstance(times, (str, int)) else list(times):
        for text in rates:
            rate = as_rate(text)
            seconds = exact_seconds(time, rate)
            if not 0 < seconds <= 86_400:
                raise LarkTallyError(f"duration {time!r}: between 0 and 86400 s, please")
            fired = {}
            for style in styles:
                fired[str(style)] = frames_of(seconds, rate, style)[0]
            clocks = {str(clock): clock_spread(seconds, rate, clock) for clock in CLOCKS}
            rows.append(DurationRow(str(time), str(rate), seconds * rate, fired, clocks))
    return rows
