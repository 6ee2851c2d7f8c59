"""The path of a body in its level: boxes, zones, platforms, contacts, and ghosts of the bodies at chosen rows."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patches import Circle, Rectangle

from larktally.textfmt import shortened
from larktally.traces.trace import Trace
from larktally.views.bodies import bodies_of, body_box
from larktally.views.palette import STATE_COLOURS, Palette
from larktally.views.thinning import grid_points, path_points

__all__ = ["draw_scene", "fit_scene", "has_path", "scene_shape"]

MOVERS_SHOWN = 5


def has_path(trace: Trace) -> bool:
    """Whether there is a path to draw."""
    return bool(bodies_of(trace))


def draw_scene(
    axes: Axes,
    trace: Trace,
    body: str,
    rows: range,
    palette: Palette,
    ghosts: Sequence[int] = (),
    other: Trace | None = None,
) -> None:
    """The level, and the path of a body by its centre over some rows; a second trace's path is dashed."""
    scene = trace.header.scene
    for low, high, _, one_way, _ in scene.get("boxes", []):
        hatch = None
        if one_way:
            hatch = "////"
        corner, width, height = low[:2], high[0] - low[0], high[1] - low[1]
        axes.add_patch(
            Rectangle(corner, width, height, facecolor=palette.ground, edgecolor=palette.edge, hatch=hatch, lw=0.6)
        )
    _draw_zones(axes, scene, palette)
    _draw_movers(axes, trace, rows, palette)
    x, y = _path(trace, body)
    _draw_coloured(axes, trace, body, x, y, rows, palette)
    far_x, far_y = np.zeros(0), np.zeros(0)
    if other is not None and f"{body}.x" in other.columns:
        far_x, far_y = _path(other, body)
        last = min(rows.stop, other.rows)
        axes.plot(
            *path_points(far_x[rows.start : last], far_y[rows.start : last]),
            color=palette.breach,
            lw=1.4,
            ls="--",
            zorder=4,
            label=shortened(other.header.scenario or other.header.subject or "the other", 24),
        )
    _draw_contacts(axes, trace, body, x, y, rows, palette)
    # Where it began and where it ended, when nothing else was asked.
    for row in ghosts or [rows.start, rows.stop - 1]:
        _draw_ghosts(axes, trace, body, row, palette)
        _draw_attached(axes, trace, row, palette)
        _draw_fans(axes, trace, row, palette)
    # A path without states, contacts or another run has nothing to be told apart by.
    if axes.get_legend_handles_labels()[0]:
        _draw_legend(axes, palette)
    part = slice(rows.start, rows.stop)
    near_x, near_y = _reached(trace, body, rows)
    # Of both runs, so that the one that strays does not leave the picture.
    across, up = _limits(np.concatenate([near_x, far_x[part]]), np.concatenate([near_y, far_y[part]]), scene)
    axes.set_xlim(*across)
    axes.set_ylim(*up)
    axes.set_xlabel("x (units)", color=palette.quiet)
    axes.set_ylabel("y (units)", color=palette.quiet)


def _draw_legend(axes: Axes, palette: Palette) -> None:
    axes.legend(
        loc="lower right",
        bbox_to_anchor=(1.0, 1.0),
        frameon=False,
        fontsize=9,
        ncols=7,
        markerscale=2,
        labelcolor=palette.ink,
    )


def scene_shape(trace: Trace, body: str, rows: range) -> float:
    """How high the part of the level around a path is, by its width."""
    (low_x, high_x), (low_y, high_y) = _limits(*_reached(trace, body, rows), trace.header.scene)
    return float((high_y - low_y) / (high_x - low_x))


def fit_scene(axes: Axes, scene: dict[str, Any]) -> None:
    """Makes a unit as long along both axes, by showing more of the level; called once the panel has its place."""
    # The layout has to be worked out first: how large the panel is in pixels decides how long a unit is.
    axes.figure.draw_without_rendering()  # type: ignore[union-attr]
    box = axes.get_window_extent()
    (low_x, high_x), (low_y, high_y) = axes.get_xlim(), axes.get_ylim()
    # One unit is as long across as up: a hop looks as high as it is.
    unit = max((high_x - low_x) / box.width, (high_y - low_y) / box.height)
    more_x, more_y = (unit * box.width - (high_x - low_x)) / 2, unit * box.height - (high_y - low_y)
    axes.set_xlim(low_x - more_x, high_x + more_x)
    # Air above rather than below: that is where things hop to.
    axes.set_ylim(low_y - more_y / 4, high_y + more_y * 3 / 4)
    if scene.get("up", "+y") == "-y":
        axes.invert_yaxis()


def _path(trace: Trace, body: str) -> tuple[Any, Any]:
    scene = trace.header.scene["bodies"].get(body, {"size": (0, 0), "before": (0, 0)})
    size, before = scene["size"], scene["before"]
    return trace[f"{body}.x"] + size[0] / 2 - before[0], trace[f"{body}.y"] + size[1] / 2 - before[1]


def _reached(trace: Trace, body: str, rows: range) -> tuple[Any, Any]:
    """Where the path goes in some rows, and the walls of the enclosures that it is in."""
    part = slice(rows.start, rows.stop)
    x, y = (values[part] for values in _path(trace, body))
    across, up = [x], [y]
    for name in trace.header.scene.get("enclosures", ()):
        low, high = trace[f"{name}.x"][part], trace[f"{name}.x"][part] + trace[f"{name}.width"][part]
        inside = (low <= x) & (x <= high)
        across += [low[inside], high[inside]]
        up += [trace[f"{name}.y"][part][inside]]
    return np.concatenate(across), np.concatenate(up)


def _limits(x: Any, y: Any, scene: dict[str, Any]) -> tuple[tuple[float, float], tuple[float, float]]:
    """From where to where around the path, with room for words and a little of the level under it."""
    x, y = (_near_the_level(values, scene, axis) for axis, values in enumerate((x, y)))
    low_x, high_x, low_y, high_y = np.nanmin(x), np.nanmax(x), np.nanmin(y), np.nanmax(y)
    margin, above = 0.04 * max(high_x - low_x, 100.0), 16 + 0.15 * max(high_y - low_y, 60.0)
    return (low_x - margin, high_x + margin), (low_y - 30, high_y + above)


def _near_the_level(values: Any, scene: dict[str, Any], axis: int) -> Any:
    """Where a path goes along an axis, as far as the level or a little way out of it: what has fallen out of the world would
    leave no more of the level than a line."""
    boxes = scene.get("boxes", [])
    if not boxes:
        return values
    low, high = min(box[0][axis] for box in boxes), max(box[1][axis] for box in boxes)
    margin = max(60.0, (high - low) / 2)
    low, high = low - margin, high + margin
    # Above a level is where things hop to, and no way out of the world.
    up = scene.get("up", "+y")
    if axis == 1 and up == "+y":
        high = np.inf
    elif axis == 1 and up == "-y":
        low = -np.inf
    inside = values[(values >= low) & (values <= high)]
    return inside if len(inside) else values


def _draw_zones(axes: Axes, scene: dict[str, Any], palette: Palette) -> None:
    rounds = scene.get("rounds", {})
    for zone, boxes in scene.get("zones", {}).items():
        for centre, radius in rounds.get(zone, ()):
            axes.add_patch(Circle(centre[:2], radius, fill=False, edgecolor=palette.zone, lw=1.2, ls="--", zorder=4))
        for n, (low, high) in enumerate(boxes):
            if zone not in rounds:
                _outline(axes, low, high, palette.zone, "--")
            if n == 0:
                axes.annotate(
                    zone,
                    (low[0], low[1]),
                    textcoords="offset points",
                    xytext=(2, -9),
                    fontsize=8,
                    color=palette.zone,
                    clip_on=True,
                    zorder=6,
                )


def _draw_movers(axes: Axes, trace: Trace, rows: range, palette: Palette) -> None:
    """Platforms and enclosures as outlines: where they began and ended, and some rows between."""
    scene = trace.header.scene
    for name in scene.get("doors", ()):
        _draw_door(axes, trace, name, rows, palette)
    shown: set[tuple[str, float, float]] = set()
    for row in np.linspace(rows.start, rows.stop - 1, MOVERS_SHOWN, dtype=int).tolist():
        for name, size in scene.get("platforms", {}).items():
            low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
            _outline(axes, low, (low[0] + size[0], low[1] + size[1]), "#009E73")
        for name in scene.get("enclosures", ()):
            low = (float(trace[f"{name}.x"][row]), float(trace[f"{name}.y"][row]))
            if (name, *low) in shown:
                continue
            first = not any(one == name for one, _, _ in shown)
            shown.add((name, *low))
            _outline(
                axes, low, (low[0] + trace[f"{name}.width"][row], low[1] + trace[f"{name}.height"][row]), "#CC79A7"
            )
            if not first and row != rows.stop - 1:
                continue
            axes.annotate(
                f"{name}, row {row}",
                low,
                textcoords="offset points",
                xytext=(2, -10),
                fontsize=7,
                color=palette.quiet,
                clip_on=True,
            )


def _draw_door(axes: Axes, trace: Trace, name: str, rows: range, palette: Palette) -> None:
    """Where a door stood first, dashed, and where it stands last, with its name."""
    for row, style, word in ((rows.start, ":", f"row {rows.start}"), (rows.stop - 1, "-", name)):
        low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
        high = (low[0] + trace[f"{name}.width"][row], low[1] + trace[f"{name}.height"][row])
        _outline(axes, low, high, "#009E73", style)
        beside = axes.annotate(word, (high[0], low[1]), textcoords="offset points", xytext=(3, 3))
        beside.set(fontsize=8, color=palette.quiet, clip_on=True, zorder=6)


def _draw_coloured(axes: Axes, trace: Trace, body: str, x: Any, y: Any, rows: range, palette: Palette) -> None:
    """The path in the colours of the states of the machine whose name is nearest to the body's."""
    part = slice(rows.start, rows.stop)
    axes.plot(*path_points(x[part], y[part]), color=palette.quiet, lw=0.8, zorder=2)
    machines = [name for name in trace.header.machines if name in trace.columns]
    name = max(machines, key=lambda machine: _in_common(machine, body), default=None)
    if name is None:
        drawn = rows.start + grid_points(x[part], y[part])
        axes.plot(x[drawn], y[drawn], ".", color=STATE_COLOURS[0], ms=4, zorder=3)
        return
    column = trace.column(name)
    for code, state in enumerate(column.channel.labels):
        there = rows.start + np.flatnonzero(column.stored[part] == code)
        if len(there):
            there = there[grid_points(x[there], y[there])]
            colour = STATE_COLOURS[code % len(STATE_COLOURS)]
            axes.plot(x[there], y[there], ".", color=colour, ms=5, zorder=3, label=state)


def _in_common(name: str, other: str) -> int:
    """How many words two dotted names begin with in common."""
    pairs = zip(name.split("."), other.split("."), strict=False)
    return sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], pairs))


def _draw_contacts(axes: Axes, trace: Trace, body: str, x: Any, y: Any, rows: range, palette: Palette) -> None:
    """Where the body landed and was bumped."""
    for name, mark in (("landed", "v"), ("bumped", "x")):
        at = []
        for event in trace.events.named(name, body):
            if event.row in rows:
                at.append(event.row)
        if at:
            at = np.asarray(at)[grid_points(x[at], y[at])].tolist()
            axes.plot(x[at], y[at], mark, color=palette.ink, ms=6, mfc="none", zorder=5, label=name)


def _draw_ghosts(axes: Axes, trace: Trace, followed: str, row: int, palette: Palette) -> None:
    """Every body's box in a row; the one followed with its number."""
    for name in bodies_of(trace):
        box = body_box(trace, name, row)
        if box is None:
            continue
        low, high = box
        _outline(axes, low, high, palette.ink if name == followed else palette.quiet)
        if name == followed:
            above = ((low[0] + high[0]) / 2, high[1])
            axes.annotate(
                f"row {row}",
                above,
                textcoords="offset points",
                xytext=(0, 4),
                fontsize=9,
                color=palette.ink,
                ha="center",
                clip_on=True,
                **_on_paper(palette),
            )


def _draw_attached(axes: Axes, trace: Trace, row: int, palette: Palette) -> None:
    """Hitboxes that are open in a row, and hurtboxes, dashed where they are shut; each where its model records it."""
    for name, strikes in trace.header.scene.get("attached", {}).items():
        low = (trace[f"{name}.x"][row], trace[f"{name}.y"][row])
        high = (low[0] + trace[f"{name}.width"][row], low[1] + trace[f"{name}.height"][row])
        is_open = bool(trace[f"{name}.open"][row])
        if strikes and is_open:
            axes.add_patch(
                Rectangle(low, high[0] - low[0], high[1] - low[1], facecolor=palette.breach, alpha=0.35, lw=0)
            )
            _outline(axes, low, high, palette.breach)
        elif not strikes:
            _outline(axes, low, high, palette.line, "-" if is_open else ":")


def _draw_fans(axes: Axes, trace: Trace, row: int, palette: Palette) -> None:
    """The rays of fans in a row, as far as each sees; what it meets as a dot."""
    for name, fan in trace.header.scene.get("fans", {}).items():
        box = body_box(trace, fan["body"], row)
        if box is None or fan["side"][1] not in "xy":
            continue
        low, high = box
        along, sign = "xy".index(fan["side"][1]), 1 if fan["side"][0] == "+" else -1
        edge = (high if sign > 0 else low)[along]
        spread = np.linspace(low[1 - along] + fan["inset"], high[1 - along] - fan["inset"], fan["rays"])
        for n, across in enumerate(spread.tolist()):
            distance = float(trace[f"{name}.{n}"][row])
            end = edge + sign * min(distance, fan["length"])
            places = ([across, across], [edge, end]) if along else ([edge, end], [across, across])
            axes.plot(*places, color=palette.zone, lw=0.9, zorder=5)
            if distance <= fan["length"]:
                axes.plot(places[0][1], places[1][1], ".", color=palette.zone, ms=5, zorder=5)


def _on_paper(palette: Palette) -> dict[str, Any]:
    """Words that can be read over a path."""
    return {"bbox": {"facecolor": palette.paper, "edgecolor": "none", "alpha": 0.8, "pad": 0.5}, "zorder": 6}


def _outline(axes: Axes, low: Sequence[float], high: Sequence[float], colour: str, style: str = "-") -> None:
    """A box drawn as its edges."""
    corner, width, height = (low[0], low[1]), high[0] - low[0], high[1] - low[1]
    axes.add_patch(Rectangle(corner, width, height, fill=False, edgecolor=colour, lw=1.2, ls=style, zorder=4))
