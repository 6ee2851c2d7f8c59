"""Reports: what a result says to people, as plain blocks that text, a terminal, a notebook and a page each render.

A block says what it is and how its words are meant (`tone`), never how it is drawn.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, TypeAlias

import msgspec

from larktally.textfmt import aligned, printable

__all__ = ["Block", "Heading", "Line", "Report", "Table", "Tone"]

#: How words are meant: good and bad news, what to look at, what stands back.
Tone: TypeAlias = Literal["plain", "strong", "good", "bad", "odd", "quiet"]


class Heading(msgspec.Struct, frozen=True):
    """What the blocks after it are about: a word that says how it went, and a title."""

    word: str
    title: str
    tone: Tone = "strong"


class Line(msgspec.Struct, frozen=True):
    """A line of text, `indent` steps in. A label stands before it in a column of its own, "" keeps that column blank."""

    text: str
    label: str | None = None
    tone: Tone = "plain"
    indent: int = 0


class Table(msgspec.Struct, frozen=True):
    """A heading and lines of cells. `left` are the columns whose cells stand to the left; `tones` of lines by number."""

    head: Sequence[str]
    lines: Sequence[Sequence[str]]
    left: frozenset[int] = frozenset()
    tones: dict[int, Tone] = msgspec.field(default_factory=dict)
    indent: int = 0


Block: TypeAlias = "Heading | Line | Table"


class Report(msgspec.Struct, frozen=True):
    """Blocks in the order in which they are read."""

    blocks: tuple[Block, ...]

    @classmethod
    def of(cls, blocks: Iterable[Block]) -> Report:
        """A report of these blocks."""
        return cls(tuple(blocks))

    @classmethod
    def of_lines(cls, lines: Iterable[str]) -> Report:
        """A report of plain lines."""
        return cls(tuple(Line(line) for line in lines))

    def __add__(self, other: Report) -> Report:
        return Report(self.blocks + other.blocks)

    def text(self) -> str:
        """The report as plain text."""
        return printable("\n".join(line for block in self.blocks for line in _lines(block)))


#: The width of the column of labels: "claimed" and "because" are the longest.
LABEL_WIDTH = 9


def _lines(block: Block) -> list[str]:
    match block:
        case Heading(word, title):
            return ["", f"{word}  {title}" if word else title]
        case Line(text, label, _, indent):
            if label is None:
                labelled = text
            else:
                labelled = f"{label:<{LABEL_WIDTH}}{text}"
            return [("  " * indent + labelled).rstrip()]
        case Table():
            # Plain text has no colours: the tones of lines are left to whoever can show them.
            cells = aligned([block.head, *block.lines], block.left)
            found: list[str] = []
            for line in cells:
                found.append("  " * block.indent + line)
            return found
