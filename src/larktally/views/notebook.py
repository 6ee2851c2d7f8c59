"""Runs in a notebook as the page shows them, and other results as the terminal's tables; pictures are Matplotlib figures, which
notebooks show by themselves."""

from __future__ import annotations

import html
import io
from typing import Any

from rich.console import Console

from larktally.auditing.found import Audit
from larktally.claims.verdicts import Result, Tally
from larktally.comparing.comparison import Comparison
from larktally.explain.causes import Causes
from larktally.explain.coverage import Coverage
from larktally.explain.replaying import Replay
from larktally.search.named_numbers import Numbers
from larktally.search.shrunk import Shrunk
from larktally.search.tuned import Tuned
from larktally.search.vary import Varied
from larktally.subjects.programs.check import ProgramCheck
from larktally.traces.lazy_trace import LazyTrace
from larktally.traces.trace import Trace
from larktally.views.frames import print_frames
from larktally.views.page.run_view import RunView
from larktally.views.page.standing_file import page_of
from larktally.views.strips import print_strips
from larktally.views.terminal import print_report

__all__ = ["as_html", "as_page", "load_ipython_extension"]

#: The results that tell what they hold as a report.
RESULTS = (Audit, Causes, Comparison, Coverage, Numbers, ProgramCheck, Replay, Result, Shrunk, Tally, Tuned, Varied)

# What fits beside a notebook's margin; the rest of a trace is one call away.
WIDTH, FIRST_ROWS = 130, 20
# In pixels; and the values that a notebook is to keep in its own file.
PAGE_HEIGHT, MOST_CELLS = 700, 2_000_000
_FORMAT = '<pre style="white-space: pre; overflow-x: auto; line-height: 1.25">{code}</pre>'


def as_html(shown: object) -> str:
    """What the terminal shows of an object, as HTML with the same colours."""
    out = Console(record=True, file=io.StringIO(), width=WIDTH, force_terminal=True)
    _print_on(out, shown)
    return out.export_html(inline_styles=True, code_format=_FORMAT)


def as_page(shown: Trace | Tally | Comparison) -> str:
    """The page of a run, of a tally over one, or of two traces compared, in a frame of a notebook's cell."""
    views = []
    if isinstance(shown, Comparison):
        views = [RunView(shown.b, name="now"), RunView(shown.a, name="before")]
    elif isinstance(shown, Tally):
        views = [RunView(shown[0].evaluator.trace, shown)]
    else:
        views = [RunView(shown)]
    page = html.escape(page_of(views), quote=True)
    return f'<iframe srcdoc="{page}" style="width: 100%; height: {PAGE_HEIGHT}px; border: 1px solid #ccc"></iframe>'


def _print_on(out: Console, shown: object) -> None:
    if isinstance(shown, Trace):
        out.print(repr(shown), highlight=False, markup=False)
        print_strips(out, shown, range(shown.rows))
        print_frames(out, shown, range(min(FIRST_ROWS, shown.rows)), shown.channels)
    elif isinstance(shown, RESULTS):
        print_report(out, shown.report())
    else:
        out.print(str(shown), highlight=False, markup=False)


def load_ipython_extension(shell: Any) -> None:
    """`%load_ext larktally`: shows results and traces as the terminal does."""
    formatter = shell.display_formatter.formatters["text/html"]
    for kind in RESULTS:
        formatter.for_type(kind, as_html)
    for shown in (Trace, LazyTrace, Tally, Comparison):
        formatter.for_type(shown, _page_or_table)


def _page_or_table(shown: Trace | Tally | Comparison) -> str:
    """The page, as far as a notebook holds it; the table of what is too long for one, or empty."""
    traces: list[Trace] = []
    if isinstance(shown, Comparison):
        traces = [shown.a, shown.b]
    elif isinstance(shown, Tally):
        traces = [result.evaluator.trace for result in shown[:1]]
    else:
        traces = [shown]
    cells = sum(trace.rows * len(trace.columns) for trace in traces)
    if not cells or cells > MOST_CELLS:
        return as_html(shown)
    return as_page(shown)
