"""What every command shares: exit statuses, errors as one message, and where output goes."""

from __future__ import annotations

import contextlib
import errno
import functools
import os
import sys
import traceback
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any, NoReturn, Protocol, TypeVar

import click

from larktally.cli.printing import show_report
from larktally.code_places import lines_of_users
from larktally.errors import LarkTallyError, LarkTallyWarning, SubjectFailed
from larktally.report import Report
from larktally.runs.failed_story import failed_story
from larktally.textfmt import printable

__all__ = [
    "NOT_KEPT",
    "BAD_INPUT",
    "SUBJECT_FAILED",
    "OUR_FAULT",
    "INTERRUPTED",
    "last_resort",
    "report_errors",
    "echo",
    "exit_with",
    "print_json",
    "report_unwritten",
    "show",
    "subject_story",
]

NOT_KEPT, BAD_INPUT, SUBJECT_FAILED, OUR_FAULT, INTERRUPTED = 1, 2, 3, 70, 130
_UNWRITTEN = (errno.ENOSPC, errno.EFBIG, errno.EDQUOT, errno.EIO)


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
            with warnings.catch_warnings():
                warnings.simplefilter("always", LarkTallyWarning)
                warnings.showwarning = _show_warning
                return command(*args, **options)
        except SubjectFailed as failure:
            echo(subject_story(failure), err=True)
            exit_with(SUBJECT_FAILED)
        except LarkTallyError as error:
            echo("\n".join([f"larktally: {error}", *_in_user_code(error)]), err=True)
            exit_with(BAD_INPUT)
        except BrokenPipeError:
            # `larktally show … | head` has read enough; Python would still complain at its exit.
            sys.stderr.close()
            exit_with(0)
        except (click.ClickException, click.exceptions.Exit, click.Abort):
            raise
        except KeyboardInterrupt as stop:
            echo("\n".join(["larktally: interrupted", *getattr(stop, "__notes__", ())]), err=True)
            exit_with(INTERRUPTED)
        except OSError as error:
            report_unwritten(error)
            last_resort(error, debug)
        except (Exception, SystemExit) as error:
            # Rich ends the process itself where the reader of a table has gone.
            if isinstance(error.__context__, BrokenPipeError):
                exit_with(0)
            last_resort(error, debug)

    return guarded  # type: ignore[return-value]


def _show_warning(
    message: Warning | str, category: type[Warning], filename: str, lineno: int, file: Any = None, line: Any = None
) -> None:
    """One line on standard error; a warning of Python's own with the place in the user's file."""
    place = ""
    if not issubclass(category, LarkTallyWarning):
        place = f"{filename}:{lineno}: {category.__name__}: "
    echo(f"larktally: {place}{message}", err=True)


def report_unwritten(error: OSError) -> None:
    """Ends the command where it was standard output that could not be written to, such as a full disk."""
    # Every file of ours has a message of its own by now, and an error of the system's about a file names it.
    if error.filename is not None or error.errno not in _UNWRITTEN:
        return
    echo(f"larktally: standard output: cannot be written: {os.strerror(error.errno)}", err=True)
    # Python would try again at its end, and complain of it.
    with contextlib.suppress(OSError):
        sys.stdout.close()
    exit_with(BAD_INPUT)


def last_resort(error: BaseException, debug: bool = False) -> NoReturn:
    """Tells of an error that no message was written for, and ends with a status that no verdict has."""
    if debug:
        echo("".join(traceback.format_exception(error)), err=True)
    told = " ".join(f"{type(error).__name__}: {error}".split())
    hint = "please report this line and what you called"
    if not debug:
        hint += "; --debug shows more"
    echo(f"larktally: a fault of its own, {told} ({hint})", err=True)
    exit_with(OUR_FAULT)


def exit_with(status: int) -> NoReturn:
    """Ends the command with an exit status."""
    raise click.exceptions.Exit(status)


def show(result: Result, as_json: bool) -> None:
    """Prints a result: its plain data as JSON, or its report."""
    if as_json:
        print_json(result.plain())
        return
    show_report(result.report())


def echo(text: str = "", err: bool = False) -> None:
    """A text on standard output, or error: whatever stands in it is shown, and none of it is obeyed by a terminal."""
    click.echo(printable(text), err=err)


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
