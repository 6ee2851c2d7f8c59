"""How late inputs come: at which tick the input of each frame is known, for each action; and what is guessed until then."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np

from larktally.errors import LarkTallyError
from larktally.inputs.actions import Actions
from larktally.names import unknown_name

__all__ = ["Late", "Predict", "arrivals", "guesser"]

#: Frames, "2..9" drawn from the seed, or a function of the frame.
Late: TypeAlias = int | str | Callable[[int], int]
#: How an input that has not come is guessed: the last that came, none, or a function of the action and of what came before the
#: frame, (frame, value) each.
Predict: TypeAlias = str | Callable[[str, Sequence[tuple[int, float]]], float]

_RANGE = re.compile(r"(\d{1,5})\.\.(\d{1,5})")
# Ten seconds at 60 frames/s: nobody plays on that.
LATEST = 600


def arrivals(
    late: Late | Mapping[str, Late], actions: Actions, names: Sequence[str], frames: int, seed: int
) -> dict[str, list[int]]:
    """For each action the tick at which its input of each frame is known, place 0 for row 0; tick n shows frame n.

    `late` is one for all, or one for each group, its actions apart by blanks; an action in no group is in time. Raises
    LarkTallyError for one that there is not, or is in two groups, and for what is no number of frames from 0 on.
    """
    groups: Mapping[str, Late]
    if isinstance(late, Mapping):
        groups = late
    else:
        groups = {" ".join(names): late}
    found = {name: list(range(frames + 1)) for name in names}
    taken: dict[str, str] = {}
    for number, (group, one) in enumerate(groups.items()):
        behind = _frames_behind(one, frames, np.random.default_rng([seed, number]))
        for word in group.split():
            # A key such as 'KeyA' stands for its action.
            name = actions.named(word)
            if name not in found:
                raise LarkTallyError(unknown_name("action", word, names, "late="))
            if name in taken:
                raise LarkTallyError(f"late: action {name!r} is in two groups, {taken[name]!r} and {group!r}")
            taken[name] = group
            # A whole group comes in one message.
            found[name] = [frame + by for frame, by in enumerate(behind)]
    return found


def _frames_behind(late: Any, frames: int, pick: np.random.Generator) -> list[int]:
    """By how many frames the input of each frame is late."""
    if isinstance(late, str):
        found = _RANGE.fullmatch(late.strip())
        if found is None or int(found[1]) > int(found[2]) or int(found[2]) > LATEST:
            raise LarkTallyError(f"late is a number of frames, or 'A..B' up to {LATEST}, such as '2..9', not {late!r}")
        drawn: list[int] = pick.integers(int(found[1]), int(found[2]) + 1, frames + 1).tolist()
        return drawn
    given = []
    for frame in range(frames + 1):
        by = late
        if callable(late):
            # No input makes row 0.
            by = late(frame) if frame else 0
        if not isinstance(by, int) or isinstance(by, bool) or not 0 <= by <= LATEST:
            raise LarkTallyError(f"late is a number of frames from 0 to {LATEST}, not {by!r}{_in_frame(late, frame)}")
        given.append(by)
    return given


def _in_frame(late: object, frame: int) -> str:
    return f" (in frame {frame})" if callable(late) else ""


def guesser(predict: Predict, analog: Sequence[str]) -> Callable[[str, float, Sequence[tuple[int, float]]], float]:
    """A function of an action, the last value that is known of it, and what came of it: its guess.

    Raises LarkTallyError for a way that there is not; the function where a user's own guesses what the action cannot take.
    """
    if predict == "repeat":
        return lambda action, last, came: last
    if predict == "none":
        return lambda action, last, came: 0.0
    if not callable(predict):
        raise LarkTallyError(
            f"predict is 'repeat', 'none', or a function of an action and of what came of it, not {predict!r}"
        )
    own = predict

    def guess(action: str, last: float, came: Sequence[tuple[int, float]]) -> float:
        value = own(action, came)
        fits = isinstance(value, bool | int | float) and -1 <= value <= 1
        if not fits or (action not in analog and value not in (0, 1)):
            allowed = "in [-1, 1]" if action in analog else "0 or 1"
            raise LarkTallyError(f"predict: the guess of {action!r} is {value!r}; it takes a value {allowed}")
        return float(value)

    return guess
