"""Who does the runs of a command: so many processes of this machine, or a cluster."""

from __future__ import annotations

import contextlib
import importlib
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any, TypeVar

import click

from larktally.errors import LarkTallyError
from larktally.runs.many import Workers

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["executor_at", "many_options", "worker_count"]

F = TypeVar("F", bound=Callable[..., Any])
# In seconds: a scheduler that is there answers at once.
CONNECT_WITHIN = 10


def many_options(command: F) -> F:
    """`--workers` and `--cluster`."""
    workers = click.option(
        "--workers", default="1", metavar="N|all", help="Share the runs among so many processes, or one a core."
    )
    cluster = click.option(
        "--cluster", default="", metavar="ADDRESS", help="Hand the runs to a Dask scheduler: tcp://build-3:8786."
    )
    return workers(cluster(command))


def worker_count(text: str) -> Workers:
    """How many processes `--workers` says."""
    if text == "all":
        return "all"
    if not text.isdecimal() or not int(text):
        raise LarkTallyError(f"--workers takes a number of processes, at least 1, or all, not {text!r}")
    return int(text)


@contextlib.contextmanager
def executor_at(address: str) -> Iterator[Executor | None]:
    """The executor of a cluster at an address, None where there is none; raises LarkTallyError where nobody answers."""
    if not address:
        yield None
        return
    try:
        distributed = importlib.import_module("distributed")
    except ImportError as error:
        raise LarkTallyError("--cluster needs the extra: python -m pip install 'lark-tally[cluster]'") from error
    try:
        client = distributed.Client(address, timeout=CONNECT_WITHIN, set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        raise LarkTallyError(f"no Dask scheduler answers at {address}: {error}") from error
    try:
        workers = client.scheduler_info().get("workers", {})
        if not workers:
            raise LarkTallyError(
                f"the Dask scheduler at {address} has no workers: start one with dask worker {address}"
            )
        yield client.get_executor(retries=1)
    finally:
        client.close()
