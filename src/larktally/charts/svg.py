"""Machines as SVG, drawn without any other program."""

from __future__ import annotations

from xml.etree import ElementTree as tree

from larktally.charts.dot import chart_to_dot, graphviz_svg
from larktally.charts.layout import GLYPH, Lane, Layout, StateBox, Wire, lay_out
from larktally.explain.coverage import Coverage
from larktally.traces.outline import ANY, BACK, STAY, Outline

__all__ = ["chart_to_svg"]

FILL, INK, WIRE, PALE, PAPER = "#d3e6f3", "#16242f", "#1f5f8b", "#8a8f94", "#ffffff"
FONT = "DejaVu Sans Mono, Menlo, Consolas, monospace"


def chart_to_svg(outline: Outline, coverage: Coverage | None = None, layout: str = "auto") -> str:
    """A machine as an SVG document, text.

    With a coverage, states that were visited are filled, with how often and for how many rows, rules carry how often they
    were taken, and what was never taken is pale and dashed. `layout` is "own", "graphviz", or "auto", which takes
    Graphviz where it is installed.
    """
    if layout != "own":
        # None where Graphviz is not there or fails: a picture that is plainer is better than none.
        drawn = graphviz_svg(chart_to_dot(outline, coverage))
        if drawn is not None:
            return drawn
    return _draw(outline, coverage)


def _draw(outline: Outline, coverage: Coverage | None) -> str:
    notes: dict[str, str] = {}
    if coverage is not None:
        for s in coverage.states:
            if s.visits:
                notes[s.state] = f"{s.visits}×, median {s.median:g} rows"

    def taken(rule: str, source: str) -> int:
        if coverage is None:
            return 1
        return coverage.taken_from(rule, source)

    layout = lay_out(outline, notes, lambda rule, source: "" if coverage is None else f"  ×{taken(rule, source)}")
    size = {"width": f"{layout.width:.0f}", "height": f"{layout.height:.0f}"}
    root = tree.Element("svg", {"xmlns": "http://www.w3.org/2000/svg", **size, "font-family": FONT, "font-size": "12"})
    tree.SubElement(root, "rect", {**size, "fill": PAPER})
    _text(root, 16, 24, outline.name, weight="bold", size=15)
    _text(root, 16, 44, _subtitle(outline, coverage), fill=PALE)
    for box in layout.boxes.values():
        _draw_box(root, box, outline, notes.get(box.state, ""), coverage)
    for wire in layout.wires:
        _draw_wire(root, wire, layout, not taken(wire.rule.name, wire.source))
    for lane in layout.lanes:
        _draw_lane(root, lane, layout, [taken(w.rule.name, w.source) for w in layout.wires if w.target == lane.target])
    _draw_start(root, layout.boxes[outline.start])
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tree.tostring(root, encoding="unicode") + "\n"


def _subtitle(outline: Outline, coverage: Coverage | None) -> str:
    if coverage is None:
        return f"{outline.order}, rules in the order tried"
    seen = len(coverage.states) - len(coverage.unvisited), len(coverage.rules) - len(coverage.untaken)
    return f"{seen[0]} of {len(coverage.states)} states, {seen[1]} of {len(coverage.rules)} rules, {coverage.rows} rows"


def _draw_box(root: tree.Element, box: StateBox, outline: Outline, note: str, coverage: Coverage | None) -> None:
    # A state with states inside is visited when one of them is.
    unseen = coverage is not None and not note and not box.composite
    shape = {"x": f"{box.x:g}", "y": f"{box.y:g}", "width": f"{box.width:g}", "height": f"{box.height:g}", "rx": "7"}
    if note:
        fill = FILL
    else:
        fill = PAPER
        if box.composite or box.state == ANY:
            fill = "none"
    dashes = {}
    if unseen or box.state == ANY:
        dashes = {"stroke-dasharray": "4 3"}
    rim = INK
    if unseen or box.composite or box.state == ANY:
        rim = PALE
    tree.SubElement(root, "rect", {**shape, "fill": fill, "stroke": rim, "stroke-width": "1.3", **dashes})
    if box.state in outline.final:
        inner = {"x": f"{box.x + 3:g}", "y": f"{box.y + 3:g}", "width": f"{box.width - 6:g}"}
        height = f"{box.height - 6:g}"
        tree.SubElement(root, "rect", {**inner, "height": height, "rx": "5", "fill": "none", "stroke": rim})
    if box.state == ANY:
        name = "any state"
    else:
        name = box.state.rpartition("/")[2]
    _text(root, box.x + 10, box.y + 18, name, weight="bold", fill=PALE if unseen else INK)
    if note:
        _text(root, box.x + box.width - 10 - len(note) * GLYPH, box.y + 18, note)


def _draw_wire(root: tree.Element, wire: Wire, layout: Layout, pale: bool) -> None:
    ink = WIRE
    if pale:
        ink = PALE
    lane = next((lane for lane in layout.lanes if lane.target == wire.target), None)
    if lane:
        end = lane.x
    else:
        end = layout.words_at + len(wire.words) * GLYPH + 4
    _line(root, [(wire.x, wire.y), (end, wire.y)], ink, pale)
    if lane:
        tree.SubElement(root, "circle", {"cx": f"{end:g}", "cy": f"{wire.y:g}", "r": "2.6", "fill": ink})
    elif wire.target in (BACK, STAY):
        ring = {"cx": f"{end + 4:g}", "cy": f"{wire.y:g}", "r": "4", "fill": PAPER, "stroke": ink}
        tree.SubElement(root, "circle", ring)
    words = _text(root, layout.words_at, wire.y - 5, wire.words, fill="#5f666c" if pale else INK)
    tree.SubElement(words, "title").text = f"{wire.rule.name}: {wire.rule.condition}"


def _draw_lane(root: tree.Element, lane: Lane, layout: Layout, taken: list[int]) -> None:
    box, pale = layout.boxes[lane.target], not any(taken)
    ink = WIRE
    if pale:
        ink = PALE
    x = box.x + box.width
    _line(root, [(lane.x, lane.low), (lane.x, lane.high)], ink, pale)
    _line(root, [(lane.x, box.entry), (x + 8, box.entry)], ink, pale)
    tip = f"{x:g},{box.entry:g} {x + 9:g},{box.entry - 4.5:g} {x + 9:g},{box.entry + 4.5:g}"
    tree.SubElement(root, "polygon", {"points": tip, "fill": ink})


def _draw_start(root: tree.Element, box: StateBox) -> None:
    y, x = box.entry, 22.0
    tree.SubElement(root, "circle", {"cx": f"{x:g}", "cy": f"{y:g}", "r": "7", "fill": INK})
    _line(root, [(x, y), (box.x - 8, y)], INK, False)
    tip = f"{box.x:g},{y:g} {box.x - 9:g},{y - 4.5:g} {box.x - 9:g},{y + 4.5:g}"
    tree.SubElement(root, "polygon", {"points": tip, "fill": INK})


def _line(root: tree.Element, points: list[tuple[float, float]], ink: str, dashed: bool) -> None:
    through = " ".join(f"{x:g},{y:g}" for x, y in points)
    dashes = {}
    if dashed:
        dashes = {"stroke-dasharray": "4 3"}
    tree.SubElement(
        root, "polyline", {"points": through, "fill": "none", "stroke": ink, "stroke-width": "1.4", **dashes}
    )


def _text(
    root: tree.Element, x: float, y: float, words: str, fill: str = INK, weight: str = "normal", size: int = 12
) -> tree.Element:
    place = {"x": f"{x:g}", "y": f"{y:g}", "fill": fill}
    style = {}
    if weight != "normal":
        style = {"font-weight": weight}
    if size != 12:
        style |= {"font-size": str(size)}
    element = tree.SubElement(root, "text", {**place, **style})
    element.text = words
    return element
