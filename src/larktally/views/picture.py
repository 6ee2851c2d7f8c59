"""A run as a picture: the path in the level, under it lanes on a time axis in frames and seconds, and channels as lines."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.text import Text

from larktally.comparing.divergence import first_divergence
from larktally.comparing.settings import setting_differences
from larktally.errors import LarkTallyError
from larktally.names import unknown_name
from larktally.textfmt import printable, shortened
from larktally.traces.trace import Trace
from larktally.views.bodies import bodies_of
from larktally.views.channel_selection import lanes_of
from larktally.views.lanes import draw_lanes, draw_lines, lane_heights, mark_row, time_axis
from larktally.views.palette import DARK, LIGHT, STATE_COLOURS, Palette
from larktally.views.scene import draw_scene, fit_scene, has_path, scene_shape
from larktally.whole_files import whole_file

__all__ = ["draw_run", "save_picture", "STATE_COLOURS"]

SUFFIXES = (".png", ".svg", ".pdf")
# More lines than these are each too low to read at 800 pixels.
MOST_LINES = 8
# In inches of a figure 12.8 wide, and the most of its height that a level gets: a tower would leave nothing for the lanes.
SCENE_WIDTH, MOST_SCENE = 10.5, 0.38


def draw_run(
    trace: Trace,
    body: str | None = None,
    *,
    rows: range | None = None,
    lines: Sequence[str] = (),
    ghosts: Sequence[int] = (),
    breaches: Sequence[int] = (),
    other: Trace | None = None,
    dark: bool = False,
) -> Figure:
    """A figure of 1280 x 800 pixels: the body's path over the level, lanes for machines, timers, inputs and events, and a
    line for each channel of `lines`.

    The path wears the colours of the states of the machine nearest to the body by name. `body` is the body to follow, the
    first by default; `rows` a part of the run; `ghosts` rows in which all bodies are drawn; `breaches` rows to mark; `other`
    a second trace, drawn dashed, with the first divergence marked. Raises LarkTallyError for a body that the trace does not hold.
    """
    if not trace.rows:
        raise LarkTallyError("this trace has no rows, so there is nothing to draw")
    palette, rows = DARK if dark else LIGHT, rows or range(trace.rows)
    bodies = bodies_of(trace)
    if body is not None and body not in bodies:
        raise LarkTallyError(unknown_name("body", body, bodies, "this trace"))
    followed = body or next(iter(bodies), None)
    lanes = lanes_of(trace, rows)
    chosen = list(lines)[:MOST_LINES] or ([] if has_path(trace) else _worth_a_line(trace, rows))
    # A Figure of its own and not pyplot's: nothing of the process is changed, and nobody's backend is chosen.
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained", facecolor=palette.paper)
    # A subject with no body has no path: its lanes get the whole picture.
    if followed is not None:
        shape = scene_shape(trace, followed, rows)
    else:
        shape = None
    panels = _panels(figure, shape, sum(lane_heights(trace, lanes, rows)), len(chosen))
    if followed is not None:
        draw_scene(panels.pop(0), trace, followed, rows, palette, ghosts, other)
    apart = None
    if other is not None:
        apart = first_divergence(trace, other)
    for n, axes in enumerate(panels):
        if n == 0 and lanes:
            draw_lanes(axes, trace, lanes, rows, palette)
        else:
            draw_lines(axes, trace, chosen[n - bool(lanes)], rows, palette, other, breaches)
        time_axis(axes, trace, rows, palette, seconds=n == 0)
        if n < len(panels) - 1:
            axes.set_xlabel("")
            axes.tick_params(labelbottom=False)
        for number, row in enumerate(row for row in breaches if row in rows):
            mark_row(axes, row, "breach" if n == number == 0 else "", palette)
        if apart is not None and apart.row in rows:
            mark_row(axes, apart.row, f"first divergence, row {apart.row}: {apart.what}" if n == 0 else "", palette)
    for axes in figure.axes:
        _quiet(axes, palette)
    if followed is not None:
        fit_scene(figure.axes[0], trace.header.scene)
    figure.align_ylabels(panels)
    figure.suptitle(_title(trace, followed, rows, other), color=palette.ink, fontsize=13, x=0.01, ha="left")
    for text in figure.findobj(Text):
        # A label is a user's own words: dollar signs in it are no formula.
        text.set_parse_math(False)
        text.set_text(printable(text.get_text()))
    return figure


def save_picture(figure: Figure, path: str | Path) -> Path:
    """Writes the figure as its suffix says, .png, .svg or .pdf; raises LarkTallyError for another."""
    suffix = Path(path).suffix
    if suffix not in SUFFIXES:
        raise LarkTallyError(
            f"{path}: a picture is written as {', '.join(SUFFIXES)}, not {suffix or 'without a suffix'!r}"
        )
    metadata = None
    if suffix == ".svg":
        # Without the date the same run gives the same bytes.
        metadata = {"Date": None}
    with whole_file(path) as file:
        figure.savefig(file, format=suffix[1:], metadata=metadata, facecolor=figure.get_facecolor())
    return Path(path)


def _panels(figure: Figure, shape: float | None, lanes: float, lines: int) -> list[Axes]:
    """The panels from top to bottom: the level, as high as its shape (height by width) fills, up to a good third; then
    lanes and lines."""
    below = []
    if lanes:
        below = [lanes * 0.38 + 0.5]
    below += [1.1] * lines
    share = min(max((shape or 0) * SCENE_WIDTH + 0.5, 0.0) / 8, MOST_SCENE)
    heights = []
    if shape is not None:
        heights = [max(6 - lanes * 0.3 - lines * 0.7, 2.6, share / (1 - share) * sum(below))]
    heights += below
    if not heights:
        raise LarkTallyError(
            "this trace has no path, no states, no inputs and no events; choose channels to draw: --only 'wick.*'"
        )
    made = figure.subplots(len(heights), 1, height_ratios=heights, squeeze=False)
    found: list[Axes] = []
    for row in made:
        for axes in row:
            found.append(axes)
    return found


def _worth_a_line(trace: Trace, rows: range) -> list[str]:
    """Number channels that move, where there is no path to draw."""
    names = []
    for name in trace.channels:
        if trace.columns[name].channel.kind in ("number", "count"):
            names.append(name)
    return [
        n
        for n in names
        if (trace.columns[n].stored[rows.start : rows.stop] != trace.columns[n].stored[rows.start]).any()
    ][:5]


def _title(trace: Trace, followed: str | None, rows: range, other: Trace | None) -> str:
    name = trace.header.scenario or trace.header.subject
    if len(rows) == trace.rows:
        part = ""
    else:
        part = f", rows {rows.start}..{rows.stop - 1}"
    if trace.rate:
        rate = f" at {trace.rate} frames/s"
    else:
        rate = ""
    if followed:
        path = f"; the path of {followed}, by its centre"
    else:
        path = ""
    beside = ""
    if other is not None:
        beside = f"; dashed: {other.header.scenario or other.header.subject}"
        # Two runs of one name are told apart by what they were made from.
        differing = setting_differences(trace, other)
        if differing:
            beside += f" ({shortened(differing[0].beside, 40)})"
    return f"{name}: {trace.frames} frames{rate}{part}{path}{beside}"


def _quiet(axes: Axes, palette: Palette) -> None:
    axes.set_facecolor(palette.paper)
    axes.tick_params(colors=palette.quiet, labelsize=9)
    for label in axes.get_yticklabels():
        label.set_color(palette.ink)
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_color(palette.rule)
