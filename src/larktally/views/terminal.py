"""Reports in a terminal: the blocks of `report.py` with Rich, and the console they go to."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.table import Table as RichTable
from rich.text import Text

from larktally.report import LABEL_WIDTH, Block, Heading, Line, Report, Table, Tone
from larktally.textfmt import printable
from larktally.views.tones import STYLES, in_terminal

__all__ = ["console", "plain_table", "print_report"]

# Wide enough for any line: a grep over wrapped lines finds nothing.
PIPED_WIDTH = 400


def console() -> Console:
    """A console that is as wide as the terminal, or wide enough for whole lines where output is piped."""
    if in_terminal():
        return Console()
    return Console(width=PIPED_WIDTH, no_color=True)


def plain_table(*columns: str, **options: Any) -> RichTable:
    """A table without lines: columns apart by two spaces."""
    table = RichTable(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", **options)
    for column in columns:
        # As Text: a title may be a user's own words, and brackets in it would be taken for markup.
        table.add_column(Text(printable(column)))
    return table


def print_report(out: Console, report: Report) -> None:
    """Every block of a report, in order."""
    for block in report.blocks:
        _print_block(out, block)


def _print_block(out: Console, block: Block) -> None:
    match block:
        case Heading(word, title, tone):
            out.print()
            if word:
                words = Text.assemble((word, STYLES[tone]), "  ")
            else:
                words = Text()
            out.print(words.append(printable(title), "bold"))
        case Line(text, label, tone, indent):
            if label is None:
                start = "  " * indent
            else:
                start = f"{'  ' * indent}{label:<{LABEL_WIDTH}}"
            out.print(Text.assemble(printable(start), (printable(text), STYLES[tone])))
        case Table():
            out.print(_table(block))


def _table(block: Table) -> RichTable:
    table = plain_table(*("  " * block.indent + title if n == 0 else title for n, title in enumerate(block.head)))
    for n, column in enumerate(table.columns):
        column.justify = "right"
        if n in block.left:
            column.justify = "left"
    for n, cells in enumerate(block.lines):
        tone: Tone = block.tones.get(n, "plain")
        first, *rest = map(printable, cells)
        table.add_row(Text("  " * block.indent + first), *map(Text, rest), style=STYLES[tone] or None)
    return table
