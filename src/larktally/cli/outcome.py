"""What every command shares: exit statuses, errors as one message, and where output goes."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn, Protocol, TypeVar

import click

from larktally.code_places import lines_of_users
from larktally.errors import LarkTallyError, SubjectFailed
from larktally.report import Report
from larktally.runs.failed_story import failed_story

__all__ = [
    "NOT_KEPT",
    "BAD_INPUT",
    "SUBJECT_FAILED",
    "report_errors",
    "exit_with",
    "print_json",
    "show",
    "subject_story",
]

NOT_KEPT, BAD_INPUT, SUBJECT_FAILED = 1, 2, 3


class Result(Protocol):
    """What every result of a command has: plain data, and a report of it."""

    def plain(self) -> Any: ...
    def report(self) -> Report: ...


F = TypeVar("F", bound=Callable[..., Any])


def report_errors(command: F) -> F:
    """Turns what a user can mend into one message on standard error and the right exit status."""

    @functools.wraps(command)
    def guarded(*args: Any, **options: Any) -> Any:
        try:
            return command(*args, **options)
        except SubjectFailed as failure:
            click.echo(subject_story(failure), err=True)
            exit_with(SUBJECT_FAILED)
        except LarkTallyError as error:
            click.echo("\n".join([f"larktally: {error}", *_in_user_code(error)]), err=True)
            exit_with(BAD_INPUT)
        except BrokenPipeError:
            # `larktally show … | head` has read enough; Python would still complain at its exit.
            sys.stderr.close()
            exit_with(0)

    return guarded  # type: ignore[return-value]


def exit_with(status: int) -> NoReturn:
    """Ends the command with an exit status."""
    raise click.exceptions.Exit(status)


def show(result: Result, as_json: bool) -> None:
    """Prints a result: its plain data as JSON, or its report."""
    if as_json:
        print_json(result.plain())
        return
    from larktally.views.terminal import console, print_report

    print_report(console(), result.report())


def print_json(content: Any) -> None:
    """One JSON document on standard output."""
    # Here and not at the top: --help and a wrong option answer without it.
    import msgspec

    click.echo(msgspec.json.format(msgspec.json.encode(content), indent=2).decode())


def subject_story(failure: SubjectFailed, scenario: str = "") -> str:
    """The message of a failed subject, and where in the user's own code it was raised."""
    which = ""
    if scenario:
        which = f"{scenario}: "
    return f"larktally: {which}{failed_story(failure)}"


def _in_user_code(error: BaseException | None) -> list[str]:
    """Where in the user's own code an error came up: neither ours nor click's."""
    return lines_of_users(error, (f"{Path(click.__file__).parent}{os.sep}",))
