"""Lanes on one time axis: states, timers, inputs and events, and channels as lines with breaches marked."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patches import Rectangle
from matplotlib.ticker import MaxNLocator

from larktally.language.rolling import run_length
from larktally.textfmt import printable
from larktally.traces.trace import Trace
from larktally.views.palette import STATE_COLOURS, Palette, on_colour
from larktally.views.thinning import PLACES, line_points, shares, spread

__all__ = ["draw_lanes", "draw_lines", "lane_heights", "mark_row", "time_axis"]


def lane_heights(trace: Trace, lanes: Sequence[tuple[str, str]], rows: range) -> list[float]:
    """How high each lane is, 1 by default; the inputs take more where many are used."""
    used = sum(bool(values[rows.start : rows.stop].any()) for values in trace.inputs.values())
    found: list[float] = []
    for kind, _ in lanes:
        found.append(max(1.0, 0.45 * used) if kind == "inputs" else 1.0)
    return found


def draw_lanes(axes: Axes, trace: Trace, lanes: Sequence[tuple[str, str]], rows: range, palette: Palette) -> None:
    """The lanes, the first on top, over some rows."""
    heights = lane_heights(trace, lanes, rows)
    middles = []
    for n in range(len(lanes)):
        middles.append(sum(heights[:n]) + heights[n] / 2)
    for lane, height, (kind, name) in zip(middles, heights, lanes, strict=True):
        if kind == "state":
            _draw_states(axes, trace, name, lane, rows, palette)
        elif kind == "flag":
            _draw_flag(axes, trace, name, lane, rows, palette)
        elif kind == "timer":
            _draw_timer(axes, trace, name, lane, rows, palette)
        elif kind == "inputs":
            _draw_inputs(axes, trace, lane, height, rows, palette)
        else:
            _draw_events(axes, trace, name, lane, rows, palette)
    axes.set_yticks(middles, [_title(trace, kind, name) for kind, name in lanes], fontsize=9)
    # Downward, so that the first lane is on top.
    axes.set_ylim(sum(heights), 0)


def draw_lines(
    axes: Axes,
    trace: Trace,
    name: str,
    rows: range,
    palette: Palette,
    other: Trace | None = None,
    breaches: Sequence[int] = (),
) -> None:
    """A channel as a line, a second trace's dashed over it, rows that broke a claim marked."""
    points = line_points(rows, _drawable(trace, name, rows))
    axes.plot(*points, color=palette.line, lw=1.3, drawstyle=_style(trace, name))
    if other is not None and name in other.columns:
        both = range(rows.start, min(rows.stop, other.rows))
        points = line_points(both, _drawable(other, name, both))
        axes.plot(*points, color=palette.breach, lw=1.1, ls="--", drawstyle=_style(trace, name))
    marked = []
    for row in breaches:
        if row in rows:
            marked.append(row)
    if marked:
        values = _drawable(trace, name, rows)
        axes.plot(
            marked, [values[row - rows.start] for row in marked], "o", color=palette.breach, ms=6, mfc="none", mew=1.6
        )
    labels = trace.column(name).channel.labels
    if labels:
        axes.set_yticks(range(len(labels)), [printable(label) for label in labels], fontsize=8)
    axes.set_ylabel(name, color=palette.ink, fontsize=9, rotation=0, ha="right", va="center")
    axes.margins(y=0.15)


def time_axis(axes: Axes, trace: Trace, rows: range, palette: Palette, seconds: bool) -> None:
    """Frames below, and seconds above where asked for and known."""
    axes.set_xlim(rows.start - 0.5, rows.stop - 0.5)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    # A row is a whole number, and not so many millions.
    axes.ticklabel_format(axis="x", style="plain", useOffset=False)
    axes.set_xlabel("frame", color=palette.quiet)
    if seconds and trace.rate is not None:
        rate = float(trace.rate)
        above = axes.secondary_xaxis(
            "top", functions=(lambda frame: np.divide(frame, rate), lambda time: np.multiply(time, rate))
        )
        above.set_xlabel("seconds", color=palette.quiet, fontsize=9)
        above.tick_params(labelsize=8, colors=palette.quiet)


def mark_row(axes: Axes, row: int, text: str, palette: Palette) -> None:
    """A line down a row, with a word at its top."""
    axes.axvline(row, color=palette.breach, lw=1.2, ls=":", zorder=6)
    if text:
        paper = {"facecolor": palette.paper, "edgecolor": "none", "alpha": 0.85, "pad": 1}
        words = axes.annotate(
            text, (row, 0), xycoords=("data", "axes fraction"), textcoords="offset points", xytext=(4, 5)
        )
        words.set(fontsize=8, color=palette.breach, bbox=paper, zorder=7)


def _drawable(trace: Trace, name: str, rows: range) -> np.ndarray:
    return np.asarray(trace.columns[name].stored[rows.start : rows.stop], dtype=np.float64)


def _style(trace: Trace, name: str) -> str:
    if trace.columns[name].channel.kind == "number":
        return "default"
    return "steps-mid"


def _draw_states(axes: Axes, trace: Trace, name: str, lane: float, rows: range, palette: Palette) -> None:
    column = trace.column(name)
    stored = column.stored[rows.start : rows.stop]
    edges = [0, *(np.flatnonzero(np.diff(stored)) + 1).tolist(), len(stored)]
    if len(edges) > PLACES:
        _draw_shares(axes, column.channel.labels, stored, lane, rows)
        return
    for start, end in itertools.pairwise(edges):
        code = int(stored[start])
        colour, label = STATE_COLOURS[code % len(STATE_COLOURS)], column.channel.labels[code]
        axes.add_patch(
            Rectangle(
                (rows.start + start - 0.5, lane - 0.34),
                end - start,
                0.68,
                facecolor=colour,
                edgecolor=palette.paper,
                lw=1,
            )
        )
        if (end - start) / len(stored) > 0.011 * len(label):
            middle = rows.start + (start + end - 1) / 2
            axes.text(middle, lane, label, ha="center", va="center", fontsize=9, color=on_colour(colour), clip_on=True)


def _draw_shares(axes: Axes, labels: Sequence[str], stored: np.ndarray, lane: float, rows: range) -> None:
    """More stretches than can be told apart: how the rows of each place are divided among the states, one on the other."""
    base = np.zeros(len(shares(stored == 0)[0]))
    for code in range(len(labels)):
        starts, share = shares(stored == code)
        if not share.any():
            continue
        colour, top = STATE_COLOURS[code % len(STATE_COLOURS)], base + share
        x = [*(rows.start + starts - 0.5), rows.stop - 0.5]
        low, high = (lane + 0.34 - 0.68 * np.append(edge, edge[-1:]) for edge in (base, top))
        axes.fill_between(x, low, high, color=colour, lw=0, step="post")
        if share.mean() > 0.3:
            at = rows.start + len(rows) * 0.005
            words = axes.text(at, (low.mean() + high.mean()) / 2, labels[code], va="center", fontsize=8, clip_on=True)
            words.set_color(on_colour(colour))
        base = top


def _draw_flag(axes: Axes, trace: Trace, name: str, lane: float, rows: range, palette: Palette) -> None:
    """A bar over each stretch of rows in which a flag holds, down to a single row."""
    edges = np.diff(np.concatenate([[0.0], _drawable(trace, name, rows), [0.0]]))
    starts, ends = np.flatnonzero(edges > 0), np.flatnonzero(edges < 0)
    if len(starts) > PLACES:
        places, share = shares(_drawable(trace, name, rows) != 0)
        low = lane + 0.24
        axes.fill_between(rows.start + places, low, low - 0.48 * share, color=palette.line, lw=0, step="mid")
        return
    bars = []
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        bars.append((rows.start + start - 0.5, float(end - start)))
    axes.broken_barh(bars, (lane - 0.24, 0.48), facecolor=palette.line, lw=0)


def _draw_timer(axes: Axes, trace: Trace, name: str, lane: float, rows: range, palette: Palette) -> None:
    """What is left, as a slope: full height at its most."""
    left = _drawable(trace, name, rows)
    at, drawn = line_points(rows, left)
    height = 0.68 * drawn / max(left.max(), 1)
    axes.fill_between(at, lane + 0.34, lane + 0.34 - height, color=STATE_COLOURS[4], lw=0, step="mid", alpha=0.8)


def _draw_inputs(axes: Axes, trace: Trace, lane: float, tall: float, rows: range, palette: Palette) -> None:
    used = [
        (n, np.abs(v[rows.start : rows.stop]) >= 0.5)
        for n, v in trace.inputs.items()
        if v[rows.start : rows.stop].any()
    ]
    height = 0.84 * tall / max(len(used), 1)
    for n, (name, held) in enumerate(used):
        top = lane - 0.42 * tall + n * height
        ends = np.flatnonzero(np.append(held[:-1] & ~held[1:], held[-1:]))
        if len(ends) > PLACES:
            places, share = shares(held)
            low = top + height * 0.85
            axes.fill_between(
                rows.start + places, low, low - height * 0.85 * share, color=palette.quiet, lw=0, step="mid"
            )
            continue
        lengths = run_length(held)[ends]
        room = np.append(ends[1:] - lengths[1:], len(held)) - ends
        for end, length, free in zip(ends, lengths, room, strict=True):
            x = rows.start + end
            axes.add_patch(Rectangle((x - length + 0.5, top), length, height * 0.85, facecolor=palette.quiet, lw=0))
            wide = len(held) * (0.01 + 0.006 * len(name))
            if free > wide:
                place, side, colour = x + 1 + len(held) * 0.003, "left", palette.ink
            elif length > wide and height > 0.4:
                place, side, colour = x + 0.5 - len(held) * 0.004, "right", palette.paper
            else:
                continue
            middle = top + height * 0.45
            axes.text(place, middle, name, va="center", ha=side, fontsize=7, color=colour, clip_on=True)


def _draw_events(axes: Axes, trace: Trace, name: str, lane: float, rows: range, palette: Palette) -> None:
    inside = trace.events.between(rows.start, rows.stop - 1)
    fell = [row for row, emitted, _, _ in inside.fields() if emitted == name]
    at = spread(fell, len(rows))
    axes.vlines(at, lane - 0.32, lane + 0.32, color=palette.ink, lw=1.6)
    if len(at) < len(fell):
        return
    previous = -1e9
    for row in at:
        if row - previous > len(rows) * 0.035:
            axes.text(
                row + len(rows) * 0.004, lane, str(row), va="center", fontsize=8, color=palette.quiet, clip_on=True
            )
        previous = row


def _title(trace: Trace, kind: str, name: str) -> str:
    """A lane's name; an event's with the part that emitted it, where all of them came from one."""
    if kind != "event":
        return name
    sources = set()
    for _, emitted, by, _ in trace.events.fields():
        if emitted == name and by:
            sources.add(by)
    if len(sources) == 1:
        return f"{name} ({sources.pop()})"
    return name
