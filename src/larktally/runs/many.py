"""Who runs many runs: this process, several, or whatever executor is handed over. The results are the same, in order."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from typing import Any, Literal, TypeVar

from larktally.errors import LarkTallyError

__all__ = ["run_each"]

T = TypeVar("T")
R = TypeVar("R")
# A chunk has to cost much more than its sending, and there have to be several for each worker, so that none waits long.
CHUNKS_A_WORKER = 4


def run_each(
    work: Callable[[T], R],
    items: Iterable[T],
    *,
    workers: int | Literal["all"] = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Iterator[R]:
    """The results of `work` on each item, in their order, as they come.

    With one worker all is done in this process, one after the other, and what is not asked for is not run. With more, in so
    many processes (`"all"`: one a core); with `executor`, in that one, which has the standard library's interface: then
    `work`, the items and the results have to be picklable. `on_progress(done, of)` is called after each. An exception of
    `work` is raised where its result would have come. Raises LarkTallyError for no workers.
    """
    if isinstance(items, Sequence):
        listed = items
    else:
        listed = list(items)
    if executor is not None:
        yield from _in_executor(executor, work, listed, os.cpu_count() or 1, on_progress)
        return
    count = _worker_count(workers)
    if count == 1:
        for n, item in enumerate(listed, 1):
            result = work(item)
            if on_progress is not None:
                on_progress(n, len(listed))
            yield result
        return
    # Spawned, not forked: a worker begins as clean as a new process, on every platform alike.
    with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("spawn")) as pool:
        yield from _in_executor(pool, work, listed, count, on_progress)


def _worker_count(workers: int | Literal["all"]) -> int:
    if workers == "all":
        return os.cpu_count() or 1
    if not isinstance(workers, int) or isinstance(workers, bool) or workers < 1:
        raise LarkTallyError(f"workers is a number of processes, at least 1, or 'all', not {workers!r}")
    return workers


def _in_executor(
    executor: Executor,
    work: Callable[[T], R],
    items: Sequence[T],
    workers: int,
    on_progress: Callable[[int, int], Any] | None,
) -> Iterator[R]:
    # Several parcels a worker, so that one with slow runs does not keep all others waiting.
    size = max(1, len(items) // (workers * CHUNKS_A_WORKER))
    chunks = []
    for at in range(0, len(items), size):
        chunks.append(items[at : at + size])
    waiting: list[Future[list[R]]] = []
    # All at once: an executor across machines has something to do from the start.
    for chunk in chunks:
        waiting.append(executor.submit(_chunk, work, list(chunk)))
    done = 0
    try:
        for future in waiting:
            for result in future.result():
                done += 1
                if on_progress is not None:
                    on_progress(done, len(items))
                yield result
    finally:
        # Whoever stops reading, or an error, leaves nothing running that nobody waits for.
        for future in waiting:
            future.cancel()


def _chunk(work: Callable[[T], R], items: Sequence[T]) -> list[R]:
    return [work(item) for item in items]
