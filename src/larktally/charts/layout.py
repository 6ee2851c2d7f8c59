"""Where the boxes, wires and words of a diagram stand.

States stand one below the other, each with a row for every rule that leaves it; a rule's words stand to the right of the
boxes, in its own row, and only beyond the words do wires run up and down, one lane for each state that is entered. So no
wire crosses a word, whatever the machine.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TypeAlias

from larktally.traces.outline import ANY, BACK, STAY, Outline, Rule, parents_of

__all__ = ["StateBox", "Wire", "Lane", "Layout", "lay_out", "GLYPH"]

Counts: TypeAlias = Callable[[str, str], str]
# The width of a character of the drawing's own monospaced font, so that text is measured without drawing it.
GLYPH = 7.25
ROW, HEAD, GAP, INSET, PAD = 22.0, 26.0, 12.0, 22.0, 8.0
LEFT, TOP, LANE, LONGEST = 46.0, 64.0, 16.0, 64


@dataclass(slots=True)
class StateBox:
    """A state's box; `depth` is how many states are around it; `entry` is the height at which it is entered."""

    state: str
    x: float
    y: float
    width: float = 0.0
    height: float = 0.0
    depth: int = 0
    entry: float = 0.0
    composite: bool = False


@dataclass(frozen=True, slots=True)
class Wire:
    """A rule out of one source: its rank among all rules, its words, the row's height, where it begins and its target."""

    source: str
    rank: int
    rule: Rule
    words: str
    y: float
    x: float
    target: str


@dataclass(frozen=True, slots=True)
class Lane:
    """The vertical line through which a state is entered: its x, and the heights that it spans."""

    target: str
    x: float
    low: float
    high: float


@dataclass(slots=True)
class Layout:
    """The whole picture, in pixels."""

    boxes: dict[str, StateBox] = field(default_factory=dict)
    wires: list[Wire] = field(default_factory=list)
    lanes: list[Lane] = field(default_factory=list)
    words_at: float = 0.0
    width: float = 0.0
    height: float = 0.0


def lay_out(outline: Outline, notes: dict[str, str], counts: Counts) -> Layout:
    """A layout; `notes` stand behind a state's name, `counts` behind a rule's words."""
    layout = Layout()
    # All boxes as wide as the widest: names stand in one column and are read like a list.
    widest = max(len(state) + len(notes.get(state, "")) + 4 for state in outline.leaves)
    box_width = max(120.0, widest * GLYPH)
    deepest = max(len(parents_of(leaf)) for leaf in outline.leaves)
    y = TOP
    if any(ANY in rule.sources for rule in outline.rules):
        y = _place(layout, outline, ANY, LEFT, y, box_width + 2 * deepest * INSET, counts) + GAP
    for state in _children(outline, ()):
        y = _place(layout, outline, state, LEFT, y, box_width + 2 * deepest * INSET, counts) + GAP
    layout.words_at = LEFT + box_width + 2 * deepest * INSET + 10
    longest = max((len(wire.words) for wire in layout.wires), default=0)
    _add_lanes(layout, layout.words_at + longest * GLYPH + 14)
    layout.width = max([layout.words_at + longest * GLYPH + 30, *(lane.x + 24 for lane in layout.lanes)])
    layout.height = y + 8
    return layout


def _children(outline: Outline, inside: tuple[str, ...]) -> list[str]:
    found = (s for leaf in outline.leaves for s in (*parents_of(leaf), leaf) if parents_of(s) == inside)
    return list(dict.fromkeys(found))


def _place(layout: Layout, outline: Outline, state: str, x: float, y: float, width: float, counts: Counts) -> float:
    """Puts a state, its rows and the states inside it at (x, y); the height at which it ends."""
    box = StateBox(state, x, y, width, depth=len(parents_of(state)), entry=y + HEAD / 2)
    box.composite = state in outline.composites
    layout.boxes[state] = box
    row = y + HEAD
    for rank, rule in enumerate(outline.rules, 1):
        if state in rule.sources:
            words = _words(rank, rule) + counts(rule.name, state)
            layout.wires.append(Wire(state, rank, rule, words, row + ROW - 6, x + width, rule.target))
            row += ROW
    bottom = row
    if box.composite:
        bottom += PAD / 2
        for child in _children(outline, (*parents_of(state), state)):
            bottom = _place(layout, outline, child, x + INSET, bottom, width - 2 * INSET, counts) + PAD
    box.height = bottom - y + (PAD if not box.composite else 0)
    return y + box.height


def _words(rank: int, rule: Rule) -> str:
    said = rule.condition or rule.name
    if not (len(said) <= LONGEST):
        said = said[: LONGEST - 1] + "…"
    more = ""
    if rule.push:
        more = " (pushes)"
    goes = {BACK: " → back", STAY: " → stays"}.get(rule.target, "")
    return f"{rank}. {said}{more}{goes}"


def _add_lanes(layout: Layout, first_x: float) -> None:
    """One lane for each state entered; lanes whose spans keep apart share a place, short ones stand further in."""
    spans = []
    for target in dict.fromkeys(wire.target for wire in layout.wires if wire.target in layout.boxes):
        heights = [wire.y for wire in layout.wires if wire.target == target] + [layout.boxes[target].entry]
        spans.append((target, min(heights), max(heights)))
    places: list[list[tuple[float, float]]] = []
    for target, low, high in sorted(spans, key=lambda span: (span[2] - span[1], span[1])):
        free = [n for n, taken in enumerate(places) if all(high + 6 < a or low - 6 > b for a, b in taken)]
        if not free:
            free = [len(places)]
            places.append([])
        n = free[0]
        places[n].append((low, high))
        layout.lanes.append(Lane(target, first_x + n * LANE, low, high))
