"""Who runs many runs: this process, several, or whatever executor is handed over. The results are the same, in order."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, TypeVar

from larktally.errors import LarkTallyError
from larktally.runs.hands import Hands

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["Workers", "many_hands", "run_each"]

T = TypeVar("T")
R = TypeVar("R")
Workers: TypeAlias = int | Literal["all"]


def run_each(
    work: Callable[[T], R],
    items: Iterable[T],
    *,
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Iterator[R]:
    """The results of `work` on each item, in their order, as they come.

    With one worker all is done in this process, one after the other, and what is not asked for is not run. With more, in so
    many processes (`"all"`: one a core); with `executor`, in that one, which has the standard library's interface, such as
    that of a cluster. What a user's file defines goes there by file and name, with the modules of its folder. `on_progress(done,
    of)` is called after each. An exception of `work` is raised where its result would have come. A worker that dies costs its
    chunk once more. Raises LarkTallyError for no workers, for what cannot go to another process, and where workers die again.
    """
    if isinstance(items, Sequence):
        listed = items
    else:
        listed = list(items)
    with many_hands(workers, executor, len(listed)) as hands:
        for n, result in enumerate(hands.each(work, listed), 1):
            if on_progress is not None:
                on_progress(n, len(listed))
            yield result


@contextlib.contextmanager
def many_hands(workers: Workers = 1, executor: Executor | None = None, most: int = 10**6) -> Iterator[Hands]:
    """Who runs several lots of runs, one after the other: `.each(work, items)` gives the results of a lot, as `run_each` does."""
    count = min(_worker_count(workers), max(most, 1))
    hands = Hands()
    # What other processes take is loaded where there are any.
    if executor is not None:
        from larktally.runs.other_processes import InExecutor

        hands = InExecutor(executor, _size_of(executor))
    elif count > 1:
        from larktally.runs.other_processes import OwnProcesses

        hands = OwnProcesses(count)
    try:
        yield hands
    finally:
        hands.end()


def _worker_count(workers: Workers) -> int:
    if workers == "all":
        return os.cpu_count() or 1
    if not isinstance(workers, int) or isinstance(workers, bool) or workers < 1:
        raise LarkTallyError(f"workers is a number of processes, at least 1, or 'all', not {workers!r}")
    return workers


def _size_of(executor: Executor) -> int:
    """How many workers an executor has, as far as it says so."""
    client = getattr(executor, "_client", None)
    if client is not None:
        return max(len(client.scheduler_info().get("workers", {})), 1)
    return int(getattr(executor, "_max_workers", 0) or os.cpu_count() or 1)
