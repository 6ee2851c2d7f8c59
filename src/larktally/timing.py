"""Rates and durations: how time becomes whole frames, exactly.

Everything here is decimal or fraction arithmetic. A float never enters a count of frames.
"""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Literal, TypeAlias

from larktally.errors import LarkTallyError

__all__ = [
    "Duration",
    "Rate",
    "RateLike",
    "Rounding",
    "as_rate",
    "exact_frames",
    "exact_seconds",
    "frames_in",
    "seconds_at",
    "whole_seconds",
]

Duration: TypeAlias = int | str
#: A rate as users write it: 60, "60000/1001", or a Rate.
RateLike: TypeAlias = "Rate | int | str"
Rounding: TypeAlias = Literal["up", "down", "nearest"]

# Bounded, so that no text makes a number of a million digits.
_NUMBER = r"(\d{1,12}(?:\.\d{0,12})?|\.\d{1,12})"
_TIME = re.compile(rf"\s*{_NUMBER}(?:/([1-9]\d{{0,8}}))?\s*(ms|s)\s*(up|down|nearest)?\s*")
_FRAMES = re.compile(r"\s*(\d{1,15})\s*f?\s*")


class Rate(Fraction):
    """Frames per second, an exact positive fraction.

    >>> Rate(60), Rate("60000/1001"), Rate("59.94")
    (Rate(60), Rate('60000/1001'), Rate('2997/50'))

    Raises LarkTallyError for what is not positive, and for a float that is not whole: 59.94 as a float is another number.
    """

    def __new__(cls, frames: int | str | float | Fraction = 60, seconds: int = 1) -> Rate:
        # True is 1 to Python, and 59.94 as a float is not the 59.94 that was meant.
        if isinstance(frames, bool) or (isinstance(frames, float) and not frames.is_integer()):
            raise LarkTallyError(f"a rate is an exact fraction, not {frames!r}; write it as text: Rate('60000/1001')")
        try:
            if isinstance(frames, str) and not re.fullmatch(r"\s*\d{1,9}(\.\d{1,9}|/\d{1,9})?\s*", frames):
                raise ValueError
            rate = Fraction(frames) / seconds
        except (ValueError, ZeroDivisionError, OverflowError):
            raise LarkTallyError(
                f"a rate is frames per second as 60, '60000/1001' or '59.94', not {frames!r}"
            ) from None
        # Beyond that a frame is shorter than the decimals of a duration can say.
        if not 0 < rate <= 1_000_000:
            raise LarkTallyError(f"a rate is above 0 and at most 1000000 frames per second, not {frames!r}")
        return super().__new__(cls, rate)

    def __repr__(self) -> str:
        if self.denominator == 1:
            return f"Rate({self.numerator})"
        return f"Rate('{self}')"


def as_rate(rate: int | str | float | Fraction) -> Rate:
    """The Rate of whatever a user wrote for one."""
    if isinstance(rate, Rate):
        return rate
    return Rate(rate)


def frames_in(duration: Duration, rate: Fraction | None, *, least: int = 0, what: str = "duration") -> int:
    """A duration in whole frames: `9`, `"9f"`, `"0.35s"`, `"350ms"`, `"1/30s"`, with `" up"`, `" down"` or `" nearest"`.

    Rounds to the nearest with halves going up. `rate` is None where frames per second are not known; then only
    frames will do. `what` is how messages name the duration.

    >>> frames_in("0.1s", Rate(60)), frames_in("0.1s up", Rate(144)), frames_in("9f", Rate(60))
    (6, 15, 9)
    >>> frames_in("0.1s", Rate(144))
    Traceback (most recent call last):
    larktally.errors.LarkTallyError: duration '0.1s' is 14.4 frames at 144 frames/s, not a whole number; name a rounding: \
'0.1s up' is 15, '0.1s down' is 14, '0.1s nearest' is 14

    Raises LarkTallyError for anything else, for a time that is not a whole number of frames, and below `least`.
    """
    frames = _frames(duration, rate, what)
    if frames < least:
        raise LarkTallyError(f"{what} {duration!r} is {frames} frames; it has to be at least {least}")
    return frames


def exact_frames(duration: Duration, rate: Fraction | None, *, what: str = "duration") -> Fraction:
    """A duration in frames, exactly, whole or not; one that names a rounding is rounded by it.

    >>> exact_frames("0.01s", Rate(60)), exact_frames("0.01s up", Rate(60))
    (Fraction(3, 5), Fraction(1, 1))
    """
    if isinstance(duration, str) and (written := _TIME.fullmatch(duration)) and not written[4] and rate is not None:
        return _seconds(written) * rate
    return Fraction(_frames(duration, rate, what))


def _frames(duration: Duration, rate: Fraction | None, what: str) -> int:
    if isinstance(duration, int) and not isinstance(duration, bool):
        return duration
    if isinstance(duration, str):
        if written := _FRAMES.fullmatch(duration):
            return int(written[1])
        if written := _TIME.fullmatch(duration):
            return _rounded(duration, _seconds(written), written[4], rate, what)
    hint = ""
    if isinstance(duration, float):
        hint = f"; a time is written as text, '{duration}s', so that it is exact"
    raise LarkTallyError(
        f"{what} {duration!r} is neither frames (9, '9f') nor a time ('0.35s', '350ms', '0.1s up'){hint}"
    )


def _seconds(written: re.Match[str]) -> Fraction:
    number = Fraction(written[1]) / int(written[2] or 1)
    if written[3] == "ms":
        return number / 1000
    return number


def _rounded(duration: str, seconds: Fraction, rounding: str | None, rate: Fraction | None, what: str) -> int:
    if rate is None:
        raise LarkTallyError(
            f"{what} {duration!r} is in seconds, but no rate is known; give the rate, or count in frames"
        )
    exact = seconds * rate
    down = exact.numerator // exact.denominator
    by_rounding = {"up": -((-exact).__floor__()), "down": down, "nearest": (exact + Fraction(1, 2)).__floor__()}
    if rounding:
        return by_rounding[rounding]
    if exact != down:
        text = duration.strip()
        offers = ", ".join(f"'{text} {name}' is {frames}" for name, frames in by_rounding.items())
        raise LarkTallyError(
            f"{what} {duration!r} is {float(exact):.6g} frames at {rate} frames/s, not a whole number; "
            f"name a rounding: {offers}"
        )
    return down


def exact_seconds(duration: Duration, rate: Fraction | None, *, what: str = "duration") -> Fraction:
    """A duration in seconds, exactly as it is written: it need not be a whole number of frames.

    >>> exact_seconds("0.1s", Rate(144)), exact_seconds("9f", Rate(60))
    (Fraction(1, 10), Fraction(3, 20))
    """
    if isinstance(duration, str) and (written := _TIME.fullmatch(duration)):
        return _seconds(written)
    frames = _frames(duration, rate, what)
    if rate is None:
        raise LarkTallyError(f"{what} {duration!r} is in frames, but no rate is known")
    return Fraction(frames) / rate


def seconds_at(frame: int, rate: Fraction) -> float:
    """The time of a frame in seconds, the nearest float64 to the exact fraction.

    >>> seconds_at(21, Rate(60))
    0.35
    """
    return float(frame / rate)


def whole_seconds(frames: int, rate: Fraction, rounding: Rounding, per: int = 1) -> int:
    """A count of frames, or of parts of one (`per` to a frame), as the whole seconds that a screen shows.

    >>> [whole_seconds(61, Rate(60), way) for way in ("up", "down", "nearest")]
    [2, 1, 1]
    """
    over, under = frames * rate.denominator, rate.numerator * per
    if rounding == "up":
        return -(-over // under)
    if rounding == "down":
        return over // under
    return (2 * over + under) // (2 * under)
