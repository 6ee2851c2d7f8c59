"""Messages that point into a text: what is wrong, the text, and a caret under the place."""

from __future__ import annotations

import re
from typing import NoReturn

from larktally.errors import ClaimError
from larktally.language.tree import Place

__all__ = ["fail_at"]

BEFORE, SHOWN = 60, 110


def fail_at(text: str, place: Place, why: str) -> NoReturn:
    """Raises ClaimError with the text and a caret under the place."""
    flat = re.sub(r"[\r\n\t]", " ", text)
    start, end = place
    left = max(0, start - BEFORE)
    shown = flat[left : left + SHOWN]
    caret = " " * (start - left) + "^" * max(1, min(end, left + SHOWN) - start)
    raise ClaimError(f"{why}\n    {shown}\n    {caret}")
