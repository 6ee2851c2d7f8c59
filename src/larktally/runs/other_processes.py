"""Work that goes to other processes, our own or an executor's: in chunks that take about as long each, and once more where a
worker dies."""

from __future__ import annotations

import contextlib
import multiprocessing
import pickle
import signal
import sys
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from typing import Any, Generic, NamedTuple, TypeVar

from larktally.errors import LarkTallyError
from larktally.runs.hands import Hands
from larktally.runs.travelling import Parcel, Sources, packed, unpacked

__all__ = ["InExecutor", "OwnProcesses"]

T = TypeVar("T")
R = TypeVar("R")
# A chunk takes about so long, in seconds: much more than its sending, and not so long that a worker is waited for at the end.
CHUNK_SECONDS = 0.5
# So many chunks a worker are on their way, so that none waits for the next.
AHEAD = 2


class InExecutor(Hands):
    """An executor, and how many work in it at once."""

    def __init__(self, executor: Executor, size: int) -> None:
        self.executor, self.size = executor, size
        # Read once: they go with every chunk.
        self._sources: Sources = {}

    def each(self, work: Callable[[T], R], items: Sequence[T]) -> Iterator[R]:
        return _Chunks(self, work, items).results()

    def submit(self, work: Callable[[T], R], items: Sequence[T]) -> Future[_Done]:
        """A chunk on its way."""
        if isinstance(self.executor, ThreadPoolExecutor):
            # It stays in this process, where everything is.
            return self.executor.submit(_done, work, items)
        return self.executor.submit(_chunk, packed((work, items), self._sources))

    def again(self) -> None:
        """After a worker died: whoever runs the executor replaces it."""


class OwnProcesses(InExecutor):
    """Processes of our own, that are ended with the work."""

    def __init__(self, size: int) -> None:
        super().__init__(_new_pool(size), size)

    def submit(self, work: Callable[[T], R], items: Sequence[T]) -> Future[_Done]:
        # Processes begin when something is handed to them.
        with _without_main():
            return super().submit(work, items)

    def again(self) -> None:
        self.end()
        self.executor = _new_pool(self.size)

    def end(self) -> None:
        pool: Any = self.executor
        processes = list((pool._processes or {}).values())
        pool.shutdown(wait=False, cancel_futures=True)
        # What runs is not waited for: after Ctrl-C, or where nobody reads on, it is for nobody.
        for process in processes:
            with contextlib.suppress(OSError, ValueError):
                process.kill()
        for process in processes:
            with contextlib.suppress(OSError, ValueError, AssertionError):
                process.join(5)


def _new_pool(size: int) -> ProcessPoolExecutor:
    # Spawned, not forked: a worker begins as clean as a new process, on every platform alike.
    return ProcessPoolExecutor(size, mp_context=multiprocessing.get_context("spawn"), initializer=_deaf_to_ctrl_c)


def _deaf_to_ctrl_c() -> None:
    """Ctrl-C in a terminal reaches every process of it; here the one who asked ends the others."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


@contextlib.contextmanager
def _without_main() -> Iterator[None]:
    """A spawned process runs the program's own file again, to find what it defines: ours get that otherwise, and a script that
    asks for workers at its top level would ask again in each."""
    main = sys.modules.get("__main__")
    hidden: dict[str, Any] = {}
    for name in ("__file__", "__spec__"):
        if main is not None and name in vars(main):
            hidden[name] = vars(main).pop(name)
    try:
        if main is not None:
            main.__spec__ = None
        yield
    finally:
        if main is not None:
            vars(main).update(hidden)


class _Done(NamedTuple):
    """What came of a chunk: its results up to an error, that error, and how long each took on average."""

    results: list[Any]
    error: BaseException | None
    seconds: float


class _Sent(NamedTuple):
    """A chunk on its way: from which item on, and how many."""

    future: Future[_Done]
    first: int
    length: int


class _Chunks(Generic[T, R]):
    """Items sent in chunks that take about as long each, and their results in order."""

    def __init__(self, hands: InExecutor, work: Callable[[T], R], items: Sequence[T]) -> None:
        self._hands, self._work, self._items = hands, work, items
        self._next = 0
        # The first are single ones: how long one takes is not known yet.
        self._size = 1
        self._sent: deque[_Sent] = deque()

    def results(self) -> Iterator[R]:
        try:
            self._send()
            while self._sent:
                first = self._sent.popleft()
                try:
                    done = first.future.result()
                except Exception as error:
                    yield from self._again(first, error)
                    self._send()
                    continue
                if done.seconds > 0:
                    left = len(self._items) - self._next
                    fair = max(left // (AHEAD * self._hands.size), 1)
                    self._size = max(1, min(int(CHUNK_SECONDS / done.seconds), fair))
                self._send()
                yield from _given(done)
        finally:
            # Whoever stops reading, or an error, leaves nothing running that nobody waits for.
            for one in self._sent:
                one.future.cancel()

    def _send(self) -> None:
        while self._next < len(self._items) and len(self._sent) < AHEAD * self._hands.size:
            count = min(self._size, len(self._items) - self._next)
            try:
                self._sent.append(self._sent_chunk(self._next, count))
            except BrokenExecutor:
                # A worker died meanwhile: those that are on their way will tell.
                if self._sent:
                    return
                self._hands.again()
                continue
            self._next += count

    def _sent_chunk(self, first: int, length: int) -> _Sent:
        return _Sent(self._hands.submit(self._work, list(self._items[first : first + length])), first, length)

    def _again(self, first: _Sent, error: BaseException) -> Iterator[R]:
        """After a worker died, the chunks that are not done, one at a time, so that one that does it again is known; whatever
        else went wrong is raised."""
        _raise_unless_died(error)
        lost = [(first.first, first.length)]
        if isinstance(error, BrokenExecutor):
            # All that were on their way are lost with the pool.
            while self._sent:
                one = self._sent.popleft()
                lost.append((one.first, one.length))
        self._hands.again()
        waiting = deque(lost)
        while waiting:
            at, length = waiting.popleft()
            try:
                done = self._sent_chunk(at, length).future.result()
            except Exception as again:
                _raise_unless_died(again)
                self._hands.again()
                if length == 1:
                    raise LarkTallyError(
                        f"the process that ran item {at + 1} of {len(self._items)} ended twice before it had a result: the model "
                        "ended it, or it ran out of memory"
                    ) from again
                waiting.extendleft((one, 1) for one in reversed(range(at, at + length)))
                continue
            yield from _given(done)


def _raise_unless_died(error: BaseException) -> None:
    # What a cluster says of a worker that died, or of one that it lost, has a class of its own there.
    if not isinstance(error, BrokenExecutor | EOFError | OSError) and type(error).__name__ != "KilledWorker":
        raise error


def _given(done: _Done) -> Iterator[Any]:
    yield from done.results
    if done.error is not None:
        raise done.error


def _chunk(parcel: Parcel) -> _Done:
    """A chunk's results, in the process to which it was sent."""
    done = _done(*unpacked(parcel))
    try:
        pickle.loads(pickle.dumps(done.error))
    except Exception:
        # One that cannot go back is told in words.
        return done._replace(error=LarkTallyError(f"{type(done.error).__name__}: {done.error}"))
    return done


def _done(work: Callable[[T], R], items: Sequence[T]) -> _Done:
    results: list[Any] = []
    start = time.perf_counter()
    for item in items:
        try:
            results.append(work(item))
        except Exception as error:
            return _Done(results, error, (time.perf_counter() - start) / (len(results) + 1))
    return _Done(results, None, (time.perf_counter() - start) / max(len(items), 1))
