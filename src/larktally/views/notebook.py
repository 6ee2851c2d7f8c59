"""The terminal's tables in a notebook, as HTML; pictures are Matplotlib figures, which notebooks show by themselves."""

from __future__ import annotations

import io
from typing import Any

from rich.console import Console

from larktally.auditing.audit import Audit
from larktally.claims.verdicts import Result, Tally
from larktally.comparing.comparison import Comparison
from larktally.explain.causes import Causes
from larktally.explain.coverage import Coverage
from larktally.explain.replaying import Replay
from larktally.search.shrink import Shrunk
from larktally.search.vary import Varied
from larktally.subjects.programs.check import ProgramCheck
from larktally.traces.lazy_trace import LazyTrace
from larktally.traces.trace import Trace
from larktally.views.frames import print_frames
from larktally.views.strips import print_strips
from larktally.views.terminal import print_report

__all__ = ["as_html", "load_ipython_extension"]

#: The results that tell what they hold as a report.
RESULTS = (Audit, Causes, Comparison, Coverage, ProgramCheck, Replay, Result, Shrunk, Tally, Varied)

# What fits beside a notebook's margin; the rest of a trace is one call away.
WIDTH, FIRST_ROWS = 130, 20
_FORMAT = '<pre style="white-space: pre; overflow-x: auto; line-height: 1.25">{code}</pre>'


def as_html(shown: object) -> str:
    """What the terminal shows of an object, as HTML with the same colours."""
    out = Console(record=True, file=io.StringIO(), width=WIDTH, force_terminal=True)
    _print_on(out, shown)
    return out.export_html(inline_styles=True, code_format=_FORMAT)


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
    html = shell.display_formatter.formatters["text/html"]
    for kind in (*RESULTS, Trace, LazyTrace):
        html.for_type(kind, as_html)
