"""Patterns of names, such as 'wick.*': which names they choose, and that each chooses some."""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Sequence

from larktally.errors import LarkError, did_you_mean

__all__ = ["matching"]


def matching(names: Sequence[str], patterns: Iterable[str], said: str) -> list[str]:
    """The names that any of the patterns matches, in their order.

    Raises LarkError, with `said` before the pattern, for one that matches none: it would silently do nothing.
    """
    chosen: set[str] = set()
    for pattern in patterns:
        found = [name for name in names if fnmatch.fnmatchcase(name, pattern)]
        if not found:
            near = did_you_mean(pattern, names) or f"; there are: {', '.join(names[:12])}"
            raise LarkError(f"{said}{pattern!r} matches no channel{near}")
        chosen.update(found)
    return [name for name in names if name in chosen]
