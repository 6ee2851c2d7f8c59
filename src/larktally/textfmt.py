"""How values and tables are shown as plain text, in messages and reports."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

__all__ = ["UNSHOWN", "aligned", "plural", "printable", "shortened", "shown_value"]

LONGEST = 60


# What a terminal obeys instead of showing, what turns the order of letters round, and halves of letters, which no file can hold.
UNSHOWN = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029\u202a-\u202e\u2066-\u2069\ud800-\udfff]")


def printable(text: str) -> str:
    """A text as it may go to a terminal or a picture: what would be obeyed and not shown stands as its escape; line breaks stay.

    >>> printable("bell\\x07, two\\nlines")
    'bell\\\\x07, two\\nlines'
    """
    return UNSHOWN.sub(_escaped, text)


def _escaped(found: re.Match[str]) -> str:
    if found[0] in "\n\t":
        return found[0]
    return ascii(found[0])[1:-1]


def shown_value(value: object) -> str:
    """A value as messages show it: true and false, whole numbers without a point, labels in quotes."""
    if isinstance(value, bool):
        if value:
            return "true"
        return "false"
    if isinstance(value, float):
        if value.is_integer() and abs(value) < 1e15:
            return f"{int(value)}"
        return f"{value:.9g}"
    if isinstance(value, str):
        return repr(value)
    return str(value)


def shown_span(low: float, high: float) -> str:
    """From a number to another: 3..7, and 3 where they are the same.

    >>> shown_span(3, 7), shown_span(2.5, 2.5)
    ('3..7', '2.5')
    """
    if low == high:
        return shown_value(low)
    return f"{shown_value(low)}..{shown_value(high)}"


def plural(count: int, word: str, many: str = "") -> str:
    """1 row, 2 rows; `many` where more than one is no word and an s.

    >>> plural(1, "row"), plural(0, "row"), plural(3, "press", "presses")
    ('1 row', '0 rows', '3 presses')
    """
    if count == 1:
        return f"1 {word}"
    return f"{count} {many or word + 's'}"


def shortened(text: str, longest: int = LONGEST) -> str:
    """A text of at most so many letters; what is cut off is shown as …."""
    if len(text) <= longest:
        return text
    return f"{text[: longest - 1]}…"


def aligned(table: Sequence[Sequence[str]], left: bool | Collection[int] = False) -> list[str]:
    """The lines of a table, columns apart by two spaces; cells stand to the right, but in the columns of `left` (True: in
    all)."""
    if not table:
        return []
    columns = range(len(table[0]))
    widths = []
    for n in columns:
        widths.append(max(len(line[n]) for line in table))
    if left is True:
        to_the_left = set(columns)
    else:
        to_the_left = set(left or ())
    lines = []
    for line in table:
        cells = []
        for n, (cell, width) in enumerate(zip(line, widths, strict=True)):
            cells.append(cell.ljust(width) if n in to_the_left else cell.rjust(width))
        lines.append("  ".join(cells).rstrip())
    return lines
