"""The terminal's tables in a notebook, as HTML; pictures are Matplotlib figures, which notebooks show by themselves."""

from __future__ import annotations

import io
from typing import Any

from rich.console import Console

from larktally.charts import Coverage
from larktally.claims import Tally
from larktally.traces import Trace

__all__ = ["as_html"]

WIDTH, FIRST_ROWS = 130, 20
_FORMAT = '<pre style="white-space: pre; overflow-x: auto; line-height: 1.25">{code}</pre>'


def as_html(shown: Any) -> str:
    """What the terminal shows of an object, as HTML with the same colours."""
    out = Console(record=True, file=io.StringIO(), width=WIDTH, force_terminal=True)
    _print_on(out, shown)
    return out.export_html(inline_styles=True, code_format=_FORMAT)


def _print_on(out: Console, shown: Any) -> None:
    if isinstance(shown, Tally):
        from larktally.views.tables import print_stories, tally_table

        out.print(tally_table(shown))
        print_stories(out, shown)
    elif isinstance(shown, Trace):
        from larktally.views.frames import print_frames
        from larktally.views.strips import print_strips

        out.print(repr(shown), highlight=False, markup=False)
        print_strips(out, shown, range(shown.rows))
        print_frames(out, shown, range(min(FIRST_ROWS, shown.rows)), shown.channels)
    elif isinstance(shown, Coverage):
        from larktally.views.charts import print_coverage

        print_coverage(out, shown)
    else:
        out.print(str(shown), highlight=False, markup=False)
