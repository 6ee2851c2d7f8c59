"""Places in code, for messages: which files are the library's own, and where in the user's code something came up."""

from __future__ import annotations

import functools
import sys
from pathlib import Path
from types import FrameType

__all__ = ["is_own", "place_of_caller", "place_of"]

_PACKAGE = str(Path(__file__).parent)
_DEMO = str(Path(__file__).parent / "demo")
_TYPED_IN = ("<stdin", "<console", "<ipython")


@functools.cache
def is_own(file: str) -> bool:
    """Whether a file is the library's own, or code that was made; what is typed in, and the demo's models, are a user's."""
    if file.startswith("<"):
        return not file.startswith(_TYPED_IN)
    return file.startswith(_PACKAGE) and not file.startswith(_DEMO)


def place_of(frame: FrameType) -> str:
    """File and line of a frame: the file's name, or its path below the library's folder."""
    file = Path(frame.f_code.co_filename)
    name = f"larktally/{file.relative_to(_PACKAGE)}" if is_own(str(file)) else file.name
    return f"{name}:{frame.f_lineno}"


def place_of_caller() -> str:
    """File and line of the innermost code that is being run and is not the library's own."""
    frame = sys._getframe(1)
    while frame.f_back is not None and is_own(frame.f_code.co_filename):
        frame = frame.f_back
    return place_of(frame)
