"""Words that errors about a log share."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import msgspec
import numpy as np

from larktally.errors import TraceError
from larktally.textfmt import shortened

__all__ = ["as_json", "cell", "checked", "few"]


def few(names: Iterable[Any]) -> str:
    """Some names, quoted, and how many more there are."""
    listed = []
    for name in names:
        if name != "":
            listed.append(repr(name))
    return ", ".join(listed[:10]) + (f" and {len(listed) - 10} more" if len(listed) > 10 else "")


def checked(make: Callable[[], Any], where: str) -> Any:
    """What `make` gives; an error of its own is told with its place."""
    try:
        return make()
    except (ValueError, OverflowError) as error:
        raise TraceError(f"{where}: {error}") from None


def cell(value: object) -> str:
    """A cell of a table as messages show it."""
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float) and np.isnan(value):
        return "nothing"
    return repr(value)


def as_json(value: object) -> str:
    """A value as its file has it: null, and not None."""
    text: str = msgspec.json.encode(value).decode()
    return shortened(text)
