"""Options of every command that reads a trace file: a rate, or a mapping for a log from elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from larktally.errors import LarkTallyError
from larktally.traces.files import BEFORE

if TYPE_CHECKING:
    from larktally.comparing.tolerance import Tolerance

__all__ = ["path_before", "reading_options", "tolerance_option", "tolerances", "trace_before"]

F = TypeVar("F", bound=Callable[..., Any])


def path_before(path: Path) -> Path:
    """Where `run` keeps the run before a trace's own: NAME.before.parquet."""
    return path.with_name(f"{path.stem}{BEFORE}{path.suffix}")


def trace_before(path: Path) -> Path:
    """The run before, for --before; raises LarkTallyError where none is kept."""
    found = path_before(path)
    if not found.is_file():
        raise LarkTallyError(
            f"{found}: no run before this one is kept there; larktally run keeps one when it runs again"
        )
    return found


def reading_options(command: F) -> F:
    """Adds --rate and --mapping."""
    command = click.option(
        "--rate", metavar="R", help="Frames per second of a file that carries no rate (a CSV, a log)."
    )(command)
    return click.option(
        "--mapping",
        metavar="MAP.toml",
        type=click.Path(path_type=Path),
        help="How to read a log from elsewhere as a trace.",
    )(command)


def tolerance_option(command: F) -> F:
    """Adds --tolerance."""
    return click.option(
        "--tolerance",
        "allowed",
        multiple=True,
        metavar="[PATTERN=]N",
        help="How far numbers may be apart: 0.01, 'wick.*=0.01', 'wick.x=1e-9r' (a share), 'wick.x=4u' (float64 steps). "
        "[default: not at all]",
    )(command)


def tolerances(allowed: tuple[str, ...]) -> dict[str, Tolerance] | None:
    """What --tolerance says, by channel pattern."""
    if not allowed:
        return None
    found = {}
    for one in allowed:
        pattern, _, number = one.rpartition("=")
        found[pattern or "*"] = _tolerance(one, number)
    return found


def _tolerance(text: str, number: str) -> Tolerance:
    from larktally.comparing.tolerance import Tolerance

    try:
        if number.endswith("r"):
            return Tolerance(relative=float(number[:-1]))
        if number.endswith("u"):
            return Tolerance(ulps=int(number[:-1]))
        return Tolerance(absolute=float(number))
    except ValueError as error:
        if isinstance(error, LarkTallyError):
            raise
        raise LarkTallyError(
            f"--tolerance {text!r}: write a number, 0.01, a share, 1e-9r, or float64 steps, 4u, after PATTERN= where needed"
        ) from None
