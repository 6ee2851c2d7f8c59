"""JSON objects in which a key stands twice: every reader takes another one of the two, so that none is right."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any

from larktally.errors import TraceError
from larktally.names import stands_twice

__all__ = ["check_keys"]

if TYPE_CHECKING:
    import json


class _Twice(Exception):
    pass


def check_keys(line: bytes, place: str) -> None:
    """Raises TraceError, with the place, for a line of JSON in which an object has a key twice."""
    # Each key is followed by one colon, so that a line with as many different strings before a colon as colons has none
    # twice: most lines are told by that, at a fifth of the price.
    keys = line.split(b'":')
    if len(keys) - 1 == line.count(b":"):
        names = set()
        for before in keys[:-1]:
            names.add(before[before.rfind(b'"') :])
        if len(names) == len(keys) - 1:
            return
    try:
        _decoder().decode(line.decode())
    except _Twice as twice:
        raise TraceError(f"{place}: the key {twice.args[0]!a} stands twice") from None
    # What else may be wrong with it is told by whoever reads it.
    except (ValueError, RecursionError):
        return


@functools.cache
def _decoder() -> json.JSONDecoder:
    # Loaded for a line that looks as if it had one twice.
    import json

    return json.JSONDecoder(object_pairs_hook=_without_twice, parse_int=len, parse_float=len)


def _without_twice(pairs: list[tuple[str, Any]]) -> None:
    twice = stands_twice(name for name, _ in pairs)
    if twice is not None:
        raise _Twice(twice)
