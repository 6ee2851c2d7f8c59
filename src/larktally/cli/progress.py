"""A progress bar on standard error, for what takes longer than a second on a terminal."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import click

__all__ = ["progress"]


@contextmanager
def progress(label: str) -> Iterator[Callable[[int, int], Any] | None]:
    """A function of (done, all) that draws a bar from the second second on; None where standard error is no terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    began, bar, shown = time.monotonic(), None, 0

    def on_progress(done: int, total: int) -> None:
        nonlocal bar, shown
        # A bar that flashes up for what is done at once is only noise.
        if bar is None and time.monotonic() - began > 1:
            bar = click.progressbar(length=total, label=label, file=sys.stderr, show_pos=False)
            bar.__enter__()
        # Drawing costs more than a frame does.
        if bar is not None and done - shown >= total // 200:
            bar.update(done - shown)
            shown = done

    yield on_progress
    if bar is not None:
        bar.finish()
        bar.render_finish()
