"""Named numbers as files: CSV that is read again as what was before, Markdown, and a page to look at."""

from __future__ import annotations

import csv
import html
import io
import math
from collections.abc import Callable, Mapping
from pathlib import Path

from larktally.errors import LarkTallyError
from larktally.names import did_you_mean, no_such_file
from larktally.search.named_numbers import NamedNumber, Numbers
from larktally.textfmt import printable
from larktally.whole_files import write_whole

__all__ = ["SUFFIXES", "check_suffix", "load_numbers", "save_numbers"]

_HEAD = ("scenario", "name", "value", "unit", "seconds", "words", "was", "wanted")
_STYLE = (
    "body{font:16px/1.5 system-ui,sans-serif;margin:2rem;color:#1d1d1f;background:#fff}"
    "table{border-collapse:collapse}th,td{text-align:left;padding:.25rem 1.5rem .25rem 0;border-bottom:1px solid #ddd}"
    "td.was{font-weight:600}td.wish{color:#9a2a6b}"
    "@media(prefers-color-scheme:dark){body{color:#eee;background:#16181c}th,td{border-color:#444}td.wish{color:#ff9ad1}}"
)
MOST_BYTES = 10_000_000


def check_suffix(path: Path) -> None:
    """Raises LarkTallyError for a file that numbers are not written to."""
    if path.suffix not in SUFFIXES:
        near = did_you_mean(path.suffix, SUFFIXES)
        raise LarkTallyError(
            f"{path}: numbers go to {', '.join(SUFFIXES)}, not {path.suffix or 'a name without one'!r}{near}"
        )


def save_numbers(found: Numbers, path: Path) -> None:
    """Writes numbers as the file's suffix says; raises LarkTallyError for another, WriteError where it cannot be written."""
    check_suffix(path)
    write_whole(path, SUFFIXES[path.suffix](found))


def load_numbers(path: Path) -> dict[tuple[str, str], float]:
    """Numbers that were written as CSV, by scenario and name; raises LarkTallyError for a file that is none."""
    try:
        if path.stat().st_size > MOST_BYTES:
            raise LarkTallyError(f"{path}: more than {MOST_BYTES} bytes are no file of numbers")
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise LarkTallyError(no_such_file(path)) from None
    except (OSError, UnicodeDecodeError) as error:
        raise LarkTallyError(f"{path}: cannot be read: {error}") from None
    lines = csv.DictReader(io.StringIO(text, newline=""))
    found = {}
    try:
        missing = [name for name in _HEAD[:3] if name not in (lines.fieldnames or ())]
        if missing:
            written = "which larktally numbers --out writes"
            raise LarkTallyError(f"{path}: no file of numbers, {written}: it has no column {missing[0]!r}")
        for n, line in enumerate(lines, 2):
            try:
                found[line["scenario"], line["name"]] = float(line["value"] or "nan")
            except (TypeError, ValueError):
                raise LarkTallyError(f"{path}, line {n}: value is a number, not {line['value']!r}") from None
    except csv.Error as error:
        raise LarkTallyError(f"{path}: {error}") from None
    return found


def _as_csv(found: Numbers) -> str:
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(_HEAD)
    for one in found:
        seconds, value = "", ""
        if one.seconds is not None:
            seconds = f"{one.seconds:.6g}"
        if not math.isnan(one.value):
            value = repr(one.value)
        wanted = ""
        if one.wanted is not None:
            wanted = "..".join(dict.fromkeys(map(repr, one.wanted)))
        writer.writerow((one.scenario, one.name, value, one.unit, seconds, one.words, one.was, wanted))
    return out.getvalue()


def _as_markdown(found: Numbers) -> str:
    lines = ["| scenario | number | is | was | |", "|---|---|---|---|---|"]
    for one in found:
        cells = []
        for cell in _cells(one):
            cells.append(printable(cell).replace("\\", "\\\\").replace("|", "\\|"))
        lines.append(f"| {' | '.join(cells)} |")
    return "\n".join(lines) + "\n"


def _as_html(found: Numbers) -> str:
    rows = []
    for one in found:
        cells = []
        for kind, cell in zip(("scenario", "name", "is", "was", "wish"), _cells(one), strict=True):
            cells.append(f'<td class="{kind}">{html.escape(printable(cell))}</td>')
        rows.append(f"<tr>{''.join(cells)}</tr>")
    head = "<tr><th>scenario</th><th>number</th><th>is</th><th>was</th><th></th></tr>"
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>Numbers</title><style>{_STYLE}</style>'
        f"<h1>Numbers</h1><table>{head}{''.join(rows)}</table></html>\n"
    )


def _cells(one: NamedNumber) -> tuple[str, ...]:
    return one.scenario, one.name, one.words, one.was.removeprefix("was "), one.wish


#: Who writes each kind of file.
SUFFIXES: Mapping[str, Callable[[Numbers], str]] = {".csv": _as_csv, ".md": _as_markdown, ".html": _as_html}
