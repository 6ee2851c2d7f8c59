"""What every command shares: exit statuses, errors as one message, and where output goes."""

from __future__ import annotations

import functools
import os
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn, TypeVar

import click

from larktally.errors import LarkError, SubjectFailed
from larktally.places import is_own

__all__ = ["NOT_KEPT", "BAD_INPUT", "SUBJECT_FAILED", "teaching", "leave", "print_json", "subject_story"]

NOT_KEPT, BAD_INPUT, SUBJECT_FAILED = 1, 2, 3
F = TypeVar("F", bound=Callable[..., Any])


def teaching(command: F) -> F:
    """Turns what a user can mend into one message on standard error and the right exit status."""

    @functools.wraps(command)
    def guarded(*args: Any, **options: Any) -> Any:
        try:
            return command(*args, **options)
        except SubjectFailed as failure:
            click.echo(subject_story(failure), err=True)
            leave(SUBJECT_FAILED)
        except LarkError as error:
            click.echo("\n".join([f"larktally: {error}", *_in_user_code(error)]), err=True)
            leave(BAD_INPUT)
        except BrokenPipeError:
            sys.stderr.close()
            leave(0)

    return guarded  # type: ignore[return-value]


def leave(status: int) -> NoReturn:
    """Ends the command with an exit status."""
    raise click.exceptions.Exit(status)


def print_json(content: Any) -> None:
    """One JSON document on standard output."""
    import msgspec

    click.echo(msgspec.json.format(msgspec.json.encode(content), indent=2).decode())


def subject_story(failure: SubjectFailed, scenario: str = "") -> str:
    """The message of a failed subject, and where in the user's own code it was raised."""
    which = f"{scenario}: " if scenario else ""
    lines = [f"larktally: {which}the subject failed: {failure}", *_in_user_code(failure.__cause__)]
    if failure.trace is not None:
        lines.append(f"  {failure.trace.rows} rows were recorded before it")
    return "\n".join(lines)


def _in_user_code(error: BaseException | None) -> list[str]:
    """Where in the user's own code an error came up: the innermost lines that are neither ours nor click's."""
    of_click = f"{Path(click.__file__).parent}{os.sep}"
    frames = traceback.extract_tb(error.__traceback__) if error is not None else []
    users = [frame for frame in frames if not is_own(frame.filename) and not frame.filename.startswith(of_click)]
    return [
        f"  {Path(frame.filename).name}, line {frame.lineno}, in {frame.name}: {frame.line}" for frame in users[-3:]
    ]
