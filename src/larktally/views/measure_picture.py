"""A measure over a param: the points that were tried, what is wanted, where it is had, and the claims' verdicts as bands."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from larktally.errors import LarkTallyError
from larktally.search.tuned import Tuned
from larktally.search.vary import Varied
from larktally.textfmt import printable, shown_span
from larktally.views.palette import LIGHT, Palette

__all__ = ["draw_tuned", "draw_varied"]

PALETTE: Palette = LIGHT
KEPT, NOT_KEPT = "#009E73", LIGHT.breach
# In inches, at 100 pixels each.
SIZE = (12.8, 8.0)


class _Point(NamedTuple):
    """One value that was tried: each measure by name, and whether each claim passed."""

    value: float
    measures: Mapping[str, float]
    passed: Mapping[str, bool]


def draw_tuned(found: Tuned) -> Figure:
    """The measure over the param, what is wanted as a line or a band, and the stretches of values that give it."""
    name = found.measure.name or found.measure.of
    points = []
    for one in found.samples:
        points.append(_Point(one.value, {name: one.measured}, dict(zip(found.claims, one.passed, strict=False))))
    figure, panels = _panels(points, [name], found.param)
    axes = panels[0]
    low, high = found.wanted
    axes.axhspan(low, high, color=PALETTE.zone, alpha=0.15, lw=0)
    axes.axhline((low + high) / 2, color=PALETTE.zone, lw=1, ls="--")
    for each in found.stretches:
        if each.high > each.low:
            axes.axvspan(each.low, each.high, color=KEPT, alpha=0.15, lw=0)
        axes.plot([each.value], [each.measured], "o", color=KEPT, ms=8)
        label = axes.annotate(f"{each.value:.6g}", (each.value, each.measured), (6, 8), textcoords="offset points")
        label.set(color=PALETTE.ink, bbox={"facecolor": PALETTE.paper, "edgecolor": "none", "alpha": 0.8, "pad": 1})
    unit = f" {found.measure.unit}" if found.measure.unit else ""
    wanted = shown_span(low, high)
    axes.set_title(printable(f"{name} over {found.param}; {wanted}{unit} is wanted"), loc="left", color=PALETTE.ink)
    return figure


def draw_varied(found: Varied) -> Figure:
    """The measures over the one number that was varied; raises LarkTallyError where there is none, or no measure."""
    axes = list(found[0].values) if len(found) else []
    if len(axes) != 1:
        raise LarkTallyError(f"a picture is drawn over one param, and {len(axes)} things are varied: {', '.join(axes)}")
    points = []
    names: dict[str, None] = {}
    for run in found:
        value = run.values[axes[0]]
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise LarkTallyError(f"a picture is drawn over numbers, and {axes[0]} is {value!r}")
        measures = {}
        for name, measured in run.measures.items():
            if not isinstance(measured, list):
                measures[name] = measured
                names[name] = None
        points.append(_Point(value, measures, {one.name: one.passed for one in run.results()}))
    if not names:
        raise LarkTallyError("a picture is drawn of measures: name one with --measure, such as \"apex('wick.y')\"")
    return _panels(points, list(names), axes[0])[0]


def _panels(points: Sequence[_Point], names: Sequence[str], param: str) -> tuple[Figure, list[Axes]]:
    """A panel for each measure, the claims' bands below them."""
    claims: dict[str, None] = {}
    for point in points:
        claims.update(dict.fromkeys(point.passed))
    figure = Figure(figsize=SIZE, dpi=100, facecolor=PALETTE.paper, layout="constrained")
    heights = [4.0] * len(names)
    if claims:
        heights.append(0.35 * len(claims) + 0.2)
    grid = figure.add_gridspec(len(heights), 1, height_ratios=heights)
    panels: list[Axes] = []
    for n in range(len(heights)):
        panels.append(figure.add_subplot(grid[n, 0], sharex=panels[0] if panels else None))
    ordered = sorted(points, key=lambda point: point.value)
    values = [point.value for point in ordered]
    for axes, name in zip(panels, names, strict=False):
        measured = [point.measures.get(name, math.nan) for point in ordered]
        axes.plot(values, measured, "-", color=PALETTE.line, lw=1.2)
        axes.plot(values, measured, ".", color=PALETTE.line, ms=5)
        axes.set_ylabel(printable(name), color=PALETTE.ink)
        axes.grid(color=PALETTE.rule, lw=0.5)
        axes.spines[["top", "right"]].set_visible(False)
    if claims:
        _draw_claims(panels[-1], ordered, list(claims))
    if values[-1] > values[0]:
        margin = (values[-1] - values[0]) / 100
        panels[0].set_xlim(values[0] - margin, values[-1] + margin)
    panels[-1].set_xlabel(printable(param), color=PALETTE.ink)
    for axes in panels[:-1]:
        axes.tick_params(labelbottom=False)
    return figure, panels


def _draw_claims(axes: Axes, ordered: Sequence[_Point], claims: Sequence[str]) -> None:
    """A band for each claim: where it passes and where it does not, each value as far as half way to its neighbours."""
    values = [point.value for point in ordered]
    for n, claim in enumerate(claims):
        for at, point in enumerate(ordered):
            if claim not in point.passed:
                continue
            low = (values[max(at - 1, 0)] + point.value) / 2
            high = (values[min(at + 1, len(values) - 1)] + point.value) / 2
            colour, mark = NOT_KEPT, 0.18
            if point.passed[claim]:
                colour, mark = KEPT, 0.36
            # Thinner where it does not pass, so that colour is not all there is.
            axes.barh(n, high - low, left=low, height=2 * mark, color=colour, lw=0)
    axes.set_yticks(range(len(claims)), [printable(claim) for claim in claims], fontsize=9)
    axes.set_ylim(len(claims) - 0.5, -0.5)
    axes.spines[["top", "right"]].set_visible(False)
