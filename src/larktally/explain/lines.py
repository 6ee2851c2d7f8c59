"""Which line of a user's own code set what, in one step of an object that is no sim.

The step is run line by line; after each, what the object can reach is looked at, and what has changed is that line's.
This module sets the interpreter's trace function while a step runs, which nothing else in the library does.
"""

from __future__ import annotations

import ast
import os
import sys
import sysconfig
from collections.abc import Callable
from types import FrameType
from typing import Any, TypeVar

from larktally.code_places import is_own, place_of
from larktally.errors import LarkTallyError
from larktally.explain.reachable_state import LENGTH, reachable_state
from larktally.explain.writes import Write
from larktally.textfmt import shortened

__all__ = ["written_by_lines"]

# What a step returned goes back as it came.
T = TypeVar("T")
MOST_LOOKS = 1_000_000
_ELSEWHERE = tuple({sysconfig.get_path(name) + os.sep for name in ("stdlib", "platstdlib", "purelib", "platlib")})


def written_by_lines(subject: Any, row: int, step: Callable[[], T]) -> tuple[T, list[Write]]:
    """Runs a step and returns its result, and every attribute that its lines set, in order.

    A line that calls into an installed library has what that library did. Code that runs in other threads is not seen.
    After so many lines that a million values have been looked at, what the rest did is told as one. Raises
    LarkTallyError where something else traces lines already, before the step.
    """
    notes = _Lines(subject, row)
    # Python has one trace function: a debugger, or what measures which lines tests run, would see nothing of this step
    # and what it had set up in it would be gone. They are left alone.
    if sys.gettrace() is not None:
        raise LarkTallyError(
            "which lines set what is not followed while a debugger or a coverage tool follows them too"
        )
    sys.settrace(notes.called)
    try:
        result = step()
    finally:
        sys.settrace(None)
    notes.look()
    return result, notes.found


class _Lines:
    """Follows the lines of a step; `last` is the one that has just been run."""

    def __init__(self, subject: Any, row: int) -> None:
        self.found: list[Write] = []
        self._subject, self._row = subject, row
        self._values = reachable_state(subject)
        self._last = ("step", "an installed library")
        self._left = MOST_LOOKS

    def called(self, frame: FrameType, event: str, arg: Any) -> Callable[..., Any] | None:
        """A function that begins: its lines are followed where they are a user's own."""
        # Not following a function at all is what keeps a step of NumPy from taking a minute.
        file = frame.f_code.co_filename
        if self._left <= 0 or is_own(file) or file.startswith(_ELSEWHERE):
            return None
        return self._line

    def look(self) -> None:
        """What has changed since the last look is what the last line did."""
        values = reachable_state(self._subject)
        for name, value in values.items():
            was = self._values.get(name)
            # A list that grew is told by what is new in it.
            if value != was and not name.startswith(LENGTH):
                self.found.append(Write(name, self._row, "step", *self._last, _value(was), _value(value)))
        self._values = values

    def _line(self, frame: FrameType, event: str, arg: Any) -> Callable[..., Any] | None:
        if self._left <= 0:
            return None
        self.look()
        caller = frame.f_back
        back = event == "return" and caller is not None and not is_own(caller.f_code.co_filename)
        at = frame
        if back and caller is not None:
            at = caller
        self._last = (at.f_code.co_name, place_of(at))
        # Counted in values, not lines: what a look costs is what it looks at.
        self._left -= 1 + len(self._values)
        if self._left <= 0:
            self._last = ("step", "lines after those that were followed")
        return self._line


class _AsItIs(str):
    """Text that is shown without quotes."""

    def __repr__(self) -> str:
        return str(self)


def _value(text: str | None) -> Any:
    """A value of its repr, where it is short and can be read back; otherwise a text, shortened."""
    if text is None:
        return _AsItIs("not there")
    short = shortened(text)
    if short != text:
        return _AsItIs(short)
    try:
        return ast.literal_eval(text)
    except (ValueError, SyntaxError):
        return _AsItIs(text)
