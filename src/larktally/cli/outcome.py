"""What every command shares: exit statuses, errors as one message, and where output goes."""

from __future__ import annotations

import functools
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn, TypeVar

import click

from larktally.errors import LarkError, SubjectFailed

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
            click.echo(f"larktally: {error}", err=True)
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


def subject_story(failure: SubjectFailed) -> str:
    """The message of a failed subject, and where in the user's own code it was raised."""
    lines = [f"larktally: the subject failed: {failure}"]
    own = Path(__file__).parents[1]
    frames = traceback.extract_tb(failure.__cause__.__traceback__) if failure.__cause__ else []
    users = [frame for frame in frames if own not in Path(frame.filename).parents]
    lines += [
        f"  {Path(frame.filename).name}, line {frame.lineno}, in {frame.name}: {frame.line}" for frame in users[-3:]
    ]
    if failure.trace is not None:
        lines.append(f"  {failure.trace.rows} rows were recorded before it")
    return "\n".join(lines)
