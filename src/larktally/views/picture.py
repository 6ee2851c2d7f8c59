"""A run as a picture: the path in the level, and under it the states on a time axis in frames and seconds."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import TYPE_CHECKING, Any

import matplotlib

matplotlib.use("agg", force=False)

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import Rectangle
from matplotlib.ticker import MaxNLocator

from larktally.claims.spans import run_length
from larktally.traces import Trace

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = ["draw_run", "save_picture", "STATE_COLOURS"]

# Distinguishable with any colour vision: Okabe and Ito, "Color universal design" (2008), darkest first.
STATE_COLOURS = ("#0072B2", "#E69F00", "#009E73", "#CC79A7", "#56B4E9", "#D55E00", "#F0E442", "#999999")
GHOSTS = 5
INK, QUIET, GROUND = "#222222", "#777777", "#d8d4cc"


def draw_run(trace: Trace, body: str | None = None) -> Figure:
    """A figure of 1280 x 800 pixels: the body's path over the level above, a lane for each machine and the events below.

    The path wears the colours of the first machine's states. `body` is the body to follow, the first by default.
    """
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    machines = [name for name in trace.header.machines if name in trace.columns]
    events = _events_worth_a_lane(trace)
    lanes = max(len(machines) + len(events) + bool(trace.inputs), 1)
    above, below = figure.subplots(2, 1, height_ratios=[max(6 - lanes * 0.35, 2.4), lanes * 0.5 + 0.6])
    _draw_path(above, trace, body, machines)
    _draw_lanes(below, trace, machines, events)
    name = trace.header.scenario or trace.header.subject
    followed = body or next(iter(trace.header.scene.get("bodies", {})), None)
    title = f"{name}: {trace.frames} frames" + (f" at {trace.rate} frames/s" if trace.rate else "")
    path = f"; the path of {followed}, by its centre" if followed else ""
    figure.suptitle(title + path, color=INK, fontsize=13, x=0.01, ha="left")
    return figure


def save_picture(figure: Figure, path: str | Path) -> Path:
    """Writes the figure as its suffix says: .png, .svg or .pdf."""
    figure.savefig(path, metadata={"Date": None} if str(path).endswith(".svg") else None)
    return Path(path)


def _draw_path(axes: Axes, trace: Trace, body: str | None, machines: Sequence[str]) -> None:
    scene = trace.header.scene
    bodies = scene.get("bodies", {})
    name = body or next(iter(bodies), None)
    for low, high, _, one_way, _ in scene.get("boxes", []):
        hatch = "////" if one_way else None
        axes.add_patch(
            Rectangle(
                low[:2], high[0] - low[0], high[1] - low[1], facecolor=GROUND, edgecolor="#b5afa3", hatch=hatch, lw=0.6
            )
        )
    for zone, boxes in scene.get("zones", {}).items():
        for low, high in boxes:
            _outline(axes, low, high, "#56B4E9", "--")
            axes.annotate(
                zone, (low[0], high[1]), textcoords="offset points", xytext=(3, 3), fontsize=8, color="#0072B2"
            )
    _draw_movers(axes, trace)
    if name is not None and f"{name}.x" in trace.columns and f"{name}.y" in trace.columns:
        size, before = bodies[name]["size"], bodies[name]["before"]
        x = trace[f"{name}.x"] + size[0] / 2 - before[0]
        y = trace[f"{name}.y"] + size[1] / 2 - before[1]
        _draw_coloured(axes, trace, x, y, machines)
        for row, label in ((0, "start"), (trace.rows - 1, f"row {trace.rows - 1}")):
            low = (x[row] - size[0] / 2, y[row] - size[1] / 2)
            _outline(axes, low, (low[0] + size[0], low[1] + size[1]), INK)
            above = (x[row], low[1] + size[1])
            axes.annotate(label, above, textcoords="offset points", xytext=(0, 4), fontsize=9, color=INK, ha="center")
    axes.margins(0.04, 0.12)
    axes.autoscale_view()
    axes.set_aspect("equal", adjustable="box")
    if scene.get("up", "+y") == "-y":
        axes.invert_yaxis()
    axes.set_xlabel("x (units)", color=QUIET)
    axes.set_ylabel("y (units)", color=QUIET)
    _quiet(axes)


def _draw_movers(axes: Axes, trace: Trace) -> None:
    """Platforms and enclosures as outlines: where they began and ended, and some rows between."""
    scene = trace.header.scene
    for row in np.linspace(0, trace.rows - 1, GHOSTS, dtype=int):
        for name, size in scene.get("platforms", {}).items():
            low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
            _outline(axes, low, (low[0] + size[0], low[1] + size[1]), "#009E73")
        for name in scene.get("enclosures", ()):
            low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
            high = (low[0] + trace[f"{name}.width"][row], low[1] + trace[f"{name}.height"][row])
            _outline(axes, low, high, "#CC79A7")
            axes.annotate(
                f"{name}, row {row}", low, textcoords="offset points", xytext=(2, -10), fontsize=7, color=QUIET
            )


def _outline(axes: Axes, low: Sequence[float], high: Sequence[float], colour: str, style: str = "-") -> None:
    """A box drawn as its edges."""
    corner, width, height = (low[0], low[1]), high[0] - low[0], high[1] - low[1]
    axes.add_patch(Rectangle(corner, width, height, fill=False, edgecolor=colour, lw=1.2, ls=style, zorder=4))


def _draw_coloured(axes: Axes, trace: Trace, x: Any, y: Any, machines: Sequence[str]) -> None:
    axes.plot(x, y, color=QUIET, lw=0.8, zorder=2)
    if not machines:
        axes.plot(x, y, ".", color=STATE_COLOURS[0], ms=4, zorder=3)
        return
    column = trace.column(machines[0])
    for code, state in enumerate(column.channel.labels):
        there = column.stored == code
        if there.any():
            colour = STATE_COLOURS[code % len(STATE_COLOURS)]
            axes.plot(x[there], y[there], ".", color=colour, ms=5, zorder=3, label=state)
    axes.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), frameon=False, fontsize=9, ncols=5, markerscale=2)


def _draw_lanes(axes: Axes, trace: Trace, machines: Sequence[str], events: Sequence[str]) -> None:
    names = [*machines, *(["inputs"] if trace.inputs else []), *events]
    for lane, name in enumerate(names):
        if name in machines:
            _draw_states(axes, trace, name, lane)
        elif name == "inputs" and trace.inputs:
            _draw_inputs(axes, trace, lane)
        else:
            rows = [row for row, said in zip(trace.events.rows, trace.events.names, strict=True) if said == name]
            axes.vlines(rows, lane - 0.32, lane + 0.32, color=INK, lw=1.6)
            previous = -1e9
            for row in rows:
                if row - previous > trace.rows * 0.035:
                    axes.text(row + trace.rows * 0.004, lane, str(row), va="center", fontsize=8, color=QUIET)
                previous = row
    axes.set_yticks(range(len(names)), [_lane_title(trace, name) for name in names], fontsize=9)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.set_xlim(-0.5, trace.rows - 0.5)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("frame", color=QUIET)
    if trace.rate is not None:
        rate = float(trace.rate)
        seconds = axes.secondary_xaxis(
            "top", functions=(lambda frame: np.divide(frame, rate), lambda time: np.multiply(time, rate))
        )
        seconds.set_xlabel("seconds", color=QUIET, fontsize=9)
        seconds.tick_params(labelsize=8, colors=QUIET)
    _quiet(axes)


def _draw_states(axes: Axes, trace: Trace, name: str, lane: int) -> None:
    column = trace.column(name)
    edges = [0, *(np.flatnonzero(np.diff(column.stored)) + 1).tolist(), trace.rows]
    for start, end in itertools.pairwise(edges):
        code = int(column.stored[start])
        colour = STATE_COLOURS[code % len(STATE_COLOURS)]
        axes.add_patch(
            Rectangle((start - 0.5, lane - 0.34), end - start, 0.68, facecolor=colour, edgecolor="white", lw=1)
        )
        label = column.channel.labels[code]
        if (end - start) / trace.rows > 0.011 * len(label):
            dark = colour in ("#0072B2", "#009E73", "#D55E00")
            axes.text(
                (start + end - 1) / 2, lane, label, ha="center", va="center", fontsize=9, color="white" if dark else INK
            )


def _draw_inputs(axes: Axes, trace: Trace, lane: int) -> None:
    used = [(name, np.abs(values) >= 0.5) for name, values in trace.inputs.items() if values.any()]
    height = 0.72 / max(len(used), 1)
    for n, (name, held) in enumerate(used):
        top = lane - 0.36 + n * height
        ends = np.flatnonzero(np.append(held[:-1] & ~held[1:], held[-1:]))
        lengths = run_length(held)[ends]
        room = np.append(ends[1:] - lengths[1:], trace.rows) - ends
        for end, length, free in zip(ends, lengths, room, strict=True):
            axes.add_patch(Rectangle((end - length + 0.5, top), length, height * 0.85, facecolor=QUIET, lw=0))
            if free > trace.rows * (0.01 + 0.006 * len(name)):
                axes.text(end + 1 + trace.rows * 0.003, top + height * 0.45, name, va="center", fontsize=7, color=INK)


def _events_worth_a_lane(trace: Trace, most: int = 6) -> list[str]:
    """Event names to draw, the first that were said; state changes have lanes of their own."""
    names = [name for name in dict.fromkeys(trace.events.names) if name not in ("changed", "bumped")]
    return names[:most]


def _lane_title(trace: Trace, name: str) -> str:
    """A lane's name; an event's with the part that said it, where all of them came from one."""
    sources = {by for said, by in zip(trace.events.names, trace.events.sources, strict=True) if said == name and by}
    return f"{name} ({sources.pop()})" if len(sources) == 1 and name not in trace.columns else name


def _quiet(axes: Axes) -> None:
    axes.tick_params(colors=QUIET, labelsize=9)
    for label in axes.get_yticklabels():
        label.set_color(INK)
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_color("#cccccc")
