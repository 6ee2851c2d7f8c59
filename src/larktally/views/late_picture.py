"""A run under late inputs as a picture: what was displayed, over it what was confirmed, and where it was put right."""

from __future__ import annotations

from collections.abc import Sequence

from matplotlib.figure import Figure
from msgspec import structs

from larktally.runs.late_inputs import RolledBack
from larktally.textfmt import plural
from larktally.views.palette import DARK, LIGHT
from larktally.views.picture import draw_run

__all__ = ["draw_late"]

# Of more, the depth can be seen and no single one.
STRONG = 40


def draw_late(found: RolledBack, body: str | None = None, *, lines: Sequence[str] = (), dark: bool = False) -> Figure:
    """A figure as `draw_run` makes it: what was displayed, dashed what was confirmed; each correction shades the rows that it
    made again, ending where it was made. `body` is the body to follow, `lines` channels to draw as lines."""
    palette = DARK if dark else LIGHT
    # Told apart by what they are, and not by the scenario, which is the same.
    confirmed = found.confirmed.changed(header=structs.replace(found.confirmed.header, scenario="confirmed"))
    figure = draw_run(found.displayed, body, other=confirmed, lines=lines, dark=dark)
    alpha = 0.18 if len(found.corrections) <= STRONG else 0.08
    for axes in figure.axes:
        # The level has no frames.
        if axes.get_xlabel().startswith("x"):
            continue
        for one in found.corrections:
            axes.axvspan(one.row - one.depth + 0.5, one.row + 0.5, color=palette.breach, alpha=alpha, lw=0, zorder=0)
    told = f"displayed; {plural(len(found.corrections), 'correction')}, {found.frames_again} frames run again"
    figure.suptitle(f"{figure.get_suptitle()}; {told}", color=palette.ink, fontsize=13, x=0.01, ha="left")
    return figure
