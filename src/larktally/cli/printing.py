"""Reports on standard output: as plain lines where it is piped, with their tones in a terminal.

Rich lays out what is wider than the terminal. It takes a tenth of a second to load, and most reports fit as they are.
"""

from __future__ import annotations

import os
import unicodedata

import click

from larktally.report import Block, Heading, Line, Report, Table, Tone
from larktally.textfmt import printable
from larktally.views.tones import STYLES, in_terminal

__all__ = ["show_report"]


def show_report(report: Report) -> None:
    """Prints a report, as wide as the terminal is, or in whole lines where output is piped."""
    if in_terminal():
        import shutil

        text = _with_tones(report, shutil.get_terminal_size().columns)
    else:
        text = report.text()
    if text is not None:
        click.echo(text, nl=bool(report.blocks))
        return
    from larktally.views.terminal import console, print_report

    print_report(console(), report)


def _with_tones(report: Report, width: int) -> str | None:
    """The lines of a report with their tones; None where it has to be laid out."""
    found = []
    for block in report.blocks:
        text = Report((block,)).text()
        lines = text.split("\n")
        # A cell of several lines.
        broken = isinstance(block, Table) and len(lines) > len(block.lines) + 1
        if broken or max(map(len, lines)) > width or _may_be_wide(text):
            return None
        found.append(_toned(block, text))
    return "\n".join(found)


def _may_be_wide(text: str) -> bool:
    """Whether some of its letters take two places."""
    return not text.isascii() and any(unicodedata.east_asian_width(letter) in "WF" for letter in text)


def _toned(block: Block, text: str) -> str:
    """The text of a block, with what of it has a tone."""
    # As terminals are asked to be left alone by everybody: https://no-color.org.
    if os.environ.get("NO_COLOR") or os.environ.get("TERM") in ("dumb", "unknown"):
        return text
    match block:
        case Heading(word, title, tone):
            start = "\n"
            if word:
                start = f"\n{_styled(printable(word), tone)}  "
            return start + _styled(printable(title), "strong")
        case Line(said, _, tone) if tone != "plain" and said:
            begins = len(text) - len(printable(said).rstrip())
            return text[:begins] + _styled(text[begins:], tone)
        case Table():
            head, *rest = text.split("\n")
            lines = [_styled(head, "quiet")]
            for n, line in enumerate(rest):
                lines.append(_styled(line, block.tones.get(n, "plain")))
            return "\n".join(lines)
    return text


def _styled(text: str, tone: Tone) -> str:
    if tone == "plain":
        return text
    look = STYLES[tone].split()
    colour = next((word for word in look if word not in ("bold", "dim")), None)
    return click.style(text, colour, bold="bold" in look or None, dim="dim" in look or None)
