"""What every command shares: exit statuses, errors as one message, and where output goes."""

from __future__ import annotations

import functools
import os
import sys
import traceback
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
    "OUR_FAULT",
    "INTERRUPTED",
    "last_resort",
    "report_errors",
    "exit_with",
    "print_json",
    "show",
    "subject_story",
]

NOT_KEPT, BAD_INPUT, SUBJECT_FAILED, OUR_FAULT, INTERRUPTED = 1, 2, 3, 70, 130


class Result(Protocol):
    """What every result of a command has: plain data, and a report of it."""

    def plain(self) -> Any: ...
    def report(self) -> Report: ...


F = TypeVar("F", bound=Callable[..., Any])


def report_errors(command: F) -> F:
    """Turns what a user can mend into one message on standard error and the right exit status.

    What nobody foresaw is a fault of ours: status 70 and one line, and with --debug, which every command has, the traceback.
    """

    @click.option("--debug", is_flag=True, help="Show the traceback of a fault of larktally's own.")
    @functools.wraps(command)
    def guarded(*args: Any, debug: bool, **options: Any) -> Any:
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
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except KeyboardInterrupt:
            click.echo("larktally: interrupted", err=True)
            exit_with(INTERRUPTED)
        except (Exception, SystemExit) as error:
            # Rich ends the process itself where the reader of a table has gone.
            if isinstance(error.__context__, BrokenPipeError):
                exit_with(0)
            last_resort(error, debug)

    return guarded  # type: ignore[return-value]


def last_resort(error: BaseException, debug: bool = False) -> NoReturn:
    """Tells of an error that no message was written for, and ends with a status that no verdict has."""
    if debug:
        click.echo("".join(traceback.format_exception(error)), err=True)
    told = " ".join(f"{type(error).__name__}: {error}".split())
    hint = "please report this line and what you called"
    if not debug:
        hint += "; --debug shows more"
    click.echo(f"larktally: a fault of its own, {told} ({hint})", err=True)
    exit_with(OUR_FAULT)


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
