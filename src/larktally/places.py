"""Places in code, for messages: which files are the library's own, where in the user's code something came up, and what a
lambda there says."""

from __future__ import annotations

import ast
import functools
import linecache
import os
import sys
from pathlib import Path
from types import CodeType, FrameType

__all__ = ["is_own", "lambda_text", "place_of", "place_of_caller", "shortened"]

_PACKAGE = f"{Path(__file__).parent}{os.sep}"
_DEMO = f"{_PACKAGE}demo{os.sep}"
LONGEST = 60
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


@functools.cache
def lambda_text(code: CodeType) -> str:
    """What a lambda computes, as it is written in its file: `wick.grounded`; "" where that cannot be read.

    >>> lambda_text((lambda x: x < 3 and not x == 2).__code__)
    'x < 3 and (not x == 2)'
    """
    at = {(line, column) for line, _, column, _ in code.co_positions() if line is not None and column}
    for node in _lambdas_of(code.co_filename):
        inside = {(one.lineno, one.col_offset) for one in ast.walk(node.body) if isinstance(one, ast.expr)}
        if at & inside and len(node.args.args) == code.co_argcount:
            return shortened(" ".join(ast.unparse(node.body).split()))
    return ""


def shortened(text: str) -> str:
    """A text of at most 60 letters; what is cut off is shown as …."""
    return text if len(text) <= LONGEST else f"{text[: LONGEST - 1]}…"


@functools.cache
def _lambdas_of(file: str) -> tuple[ast.Lambda, ...]:
    """The lambdas of a file, the innermost first."""
    try:
        tree = ast.parse("".join(linecache.getlines(file)))
    except (SyntaxError, ValueError):
        return ()
    return tuple(node for node in ast.walk(tree) if isinstance(node, ast.Lambda))[::-1]
