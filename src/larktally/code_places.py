"""Places in code, for messages: which files are the library's own, where in the user's code something came up, and what a
lambda there says."""

from __future__ import annotations

import ast
import functools
import linecache
import os
import sys
import traceback
from pathlib import Path
from types import CodeType, FrameType

from larktally.textfmt import shortened

__all__ = [
    "code_of_caller",
    "is_own",
    "lambda_text",
    "lines_of_users",
    "place_of",
    "place_of_caller",
    "place_of_code",
    "place_said",
]

_PACKAGE = f"{Path(__file__).parent}{os.sep}"
_DEMO = f"{_PACKAGE}demo{os.sep}"
_STANDARD_LIBRARY = f"{Path(os.__file__).parent}{os.sep}"
# What the language compiles for guards and rows, by the names that tracebacks give it.
_COMPILED = ("larktally guard ", "larktally choice ", "larktally row ", "larktally step ")
_TYPED_IN = ("<stdin", "<console", "<ipython")


@functools.cache
def is_own(file: str) -> bool:
    """Whether a file is the library's own, or code that was made; what is typed in, and the demo's models, are a user's."""
    if file.startswith(_COMPILED):
        return True
    # What dataclasses and the like compile has no file; what is typed at a prompt has none either.
    if file.startswith("<"):
        return not file.startswith(_TYPED_IN)
    return file.startswith(_PACKAGE) and not file.startswith(_DEMO)


def place_of(frame: FrameType) -> str:
    """File and line of a frame: the file's name, or its path below the library's folder."""
    return f"{_short_name(frame.f_code.co_filename)}:{frame.f_lineno}"


# A model of a thousand rules asks for a thousand places in one file.
@functools.cache
def _short_name(file: str) -> str:
    if is_own(file):
        return f"larktally/{Path(file).relative_to(_PACKAGE)}"
    return Path(file).name


def place_of_code(code: CodeType) -> str:
    """File and first line of a function's code."""
    return f"{Path(code.co_filename).name}:{code.co_firstlineno}"


def place_of_caller() -> str:
    """File and line of the innermost code that is being run and is not the library's own."""
    return place_of(_frame_of_caller())


def lines_of_users(error: BaseException | None, not_theirs: tuple[str, ...] = ()) -> list[str]:
    """Where in a user's own code an error came up, the innermost last: at most three lines that are neither the library's nor
    in a folder of `not_theirs`."""
    if error is None:
        return []
    found: list[str] = []
    # A mistake in a model is the user's to find: our own frames would only push theirs off the screen.
    for frame in traceback.extract_tb(error.__traceback__):
        if is_own(frame.filename) or frame.filename.startswith(not_theirs or "\0"):
            continue
        # Python's own steps are nobody's mistake: `contextlib` stands between a `with` and what it leads to.
        if not frame.filename.startswith(_STANDARD_LIBRARY) or "site-packages" in frame.filename:
            found.append(f"  {Path(frame.filename).name}, line {frame.lineno}, in {frame.name}: {frame.line}")
    return found[-3:]


def code_of_caller() -> tuple[CodeType, int]:
    """The code and line of the innermost function that is being run and is not the library's own: cheap, for `place_said`."""
    frame = _frame_of_caller()
    return frame.f_code, frame.f_lineno


def _frame_of_caller() -> FrameType:
    frame = sys._getframe()
    while frame.f_back is not None and is_own(frame.f_code.co_filename):
        frame = frame.f_back
    return frame


def place_said(asked: tuple[CodeType, int]) -> str:
    """A function with its file and line: ouch (quay.py:30)."""
    code, line = asked
    return f"{code.co_name} ({Path(code.co_filename).name}:{line})"


@functools.cache
def lambda_text(code: CodeType) -> str:
    """What a lambda computes, as it is written in its file: `wick.grounded`; "" where that cannot be read.

    >>> lambda_text((lambda x: x < 3 and not x == 2).__code__)
    'x < 3 and (not x == 2)'
    """
    at = set()
    for line, _, column, _ in code.co_positions():
        if line is not None and column:
            at.add((line, column))
    for node in _lambdas_of(code.co_filename):
        inside = set()
        for one in ast.walk(node.body):
            if isinstance(one, ast.expr):
                inside.add((one.lineno, one.col_offset))
        if at & inside and len(node.args.args) == code.co_argcount:
            return shortened(" ".join(ast.unparse(node.body).split()))
    return ""


@functools.cache
def _lambdas_of(file: str) -> tuple[ast.Lambda, ...]:
    """The lambdas of a file, the innermost first."""
    try:
        tree = ast.parse("".join(linecache.getlines(file)))
    except (SyntaxError, ValueError):
        return ()
    return tuple(node for node in ast.walk(tree) if isinstance(node, ast.Lambda))[::-1]
