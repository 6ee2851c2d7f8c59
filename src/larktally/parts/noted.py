"""Attributes that a part has to know of when they are set, whoever sets them."""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any

__all__ = ["Noted", "noted"]


class Noted(property):
    """Such an attribute; `kept` is the name under which its value is kept, and set by the part's own steps."""

    kept: str


def noted(kept: str, told: str, doc: str, made: Callable[[Any], Any] | None = None) -> Any:
    """An attribute that is kept under the name `kept`, as `made` makes it; the method `told` is called when it is set."""

    def set_it(part: object, value: Any) -> None:
        if made is not None:
            value = made(value)
        setattr(part, kept, value)
        getattr(part, told)()

    # Read as quickly as can be: it is set seldom.
    found = Noted(operator.attrgetter(kept), set_it, doc=doc)
    found.kept = kept
    return found
