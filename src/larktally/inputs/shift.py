"""Shifts: a press so many frames before and after the row in which something holds, as data and as text."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from larktally.errors import LarkTallyError

__all__ = ["Shift"]

# A game day; a slip of a zero too many would run until tomorrow.
MOST_SHIFTS = 100_000
_TEXT = re.compile(r"(?P<action>[^@]+)@(?P<around>.+?)(?: #(?P<nth>\d{1,9}|each))?\s*=(?P<by>[^=]+)")
_RANGE = re.compile(r"([+-]?\d{1,9})(?:\.\.([+-]?\d{1,9})(?:/(\d{1,9}))?)?")


@dataclass(frozen=True, slots=True)
class Shift:
    """A press of an action, so many frames before (negative) and after the row in which `around` holds in the run without it.

    `by` are the frames, such as range(-12, 13); `frames` how long it is held; `nth` which row it is where there are several,
    from 1 on, or "each" for a press at each of them in one run. Raises LarkTallyError for no frames, and for an `nth` below 1.

    >>> Shift("hop", around="event('landed')", by=range(-2, 3)).title
    "hop @ event('landed')"
    """

    action: str
    around: str
    by: Sequence[int]
    frames: int = 1
    nth: int | Literal["each"] | None = None

    def __init__(
        self, action: str, *, around: str, by: Iterable[int], frames: int = 1, nth: int | Literal["each"] | None = None
    ) -> None:
        listed = tuple(by)
        if not listed or any(not isinstance(one, int) or isinstance(one, bool) for one in listed):
            raise LarkTallyError(f"a shift of {action!r} takes by= as whole frames, such as range(-12, 13), not {by!r}")
        for name, number in (("frames", frames), ("nth", nth)):
            if (
                number is not None
                and (name, number) != ("nth", "each")
                and (not isinstance(number, int) or isinstance(number, bool) or number < 1)
            ):
                raise LarkTallyError(f"a shift of {action!r}: {name} is a whole number from 1 on, not {number!r}")
        values = {"action": action, "around": around, "by": listed, "frames": frames, "nth": nth}
        for key, value in values.items():
            # A value, like a scenario: it is filled while it is made.
            object.__setattr__(self, key, value)

    @property
    def title(self) -> str:
        """What it is called in a table."""
        return f"{self.action} @ {self.around}"

    @classmethod
    def from_text(cls, text: str, frames: int = 1) -> Shift:
        """A shift as a command line or a file says it, `frames` being how long it is held.

        Raises LarkTallyError for a text that is none.

        >>> Shift.from_text("hop @ event('landed') #2 = -2..0,4").by
        (-2, -1, 0, 4)
        """
        found = _TEXT.fullmatch(text.strip())
        if found is None or not found["action"].strip() or not found["around"].strip():
            raise LarkTallyError(
                f"a shift is written PRESS @ CONDITION = A..B, such as \"hop @ event('landed') = -12..12\", not {text!r}"
            )
        nth: int | Literal["each"] | None = None
        if found["nth"] == "each":
            nth = "each"
        elif found["nth"]:
            nth = int(found["nth"])
        by = list(_whole_numbers(text, found["by"]))
        return cls(found["action"].strip(), around=found["around"].strip(), by=by, frames=frames, nth=nth)


def _whole_numbers(text: str, listed: str) -> Iterator[int]:
    for part in listed.split(","):
        found = _RANGE.fullmatch(part.strip())
        if found is None:
            raise LarkTallyError(
                f"{text!r}: the frames of a shift are whole numbers, -12..12 or -6,0,6, not {part.strip()!r}"
            )
        first, last, step = int(found[1]), int(found[2] or found[1]), int(found[3] or 1)
        if last < first or last - first > MOST_SHIFTS or not step:
            raise LarkTallyError(f"{text!r}: {part.strip()!r} goes up from A to B, by at most {MOST_SHIFTS}")
        yield from range(first, last + 1, step)
