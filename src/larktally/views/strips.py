"""A run at a glance in a terminal: a strip for each machine and event, and the level drawn in characters at a row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from rich.console import Console
from rich.text import Text

from larktally.textfmt import printable
from larktally.traces.trace import Trace
from larktally.views.bodies import Corners, bodies_of, body_box
from larktally.views.channel_selection import flags_worth_showing, states_worth_showing

__all__ = ["print_strips", "print_level"]

_STYLES = ("blue", "red", "green", "magenta", "bold blue", "bold red", "green", "bold magenta")
_QUIET = (
    "changed",
    "tick",
    "asked",
    "taken",
    "started",
    "used",
    "ready",
    "entered",
    "left",
    "bumped",
    "mark",
    "finished",
)
# A glance: what does not fit is in the table below, or asked for with --events.
MOST_EVENTS, WIDEST = 4, 160


def print_strips(out: Console, trace: Trace, rows: Sequence[int]) -> None:
    """A line for each machine, a letter a state, and for each of a few events; of what is no sim, for each label and flag.
    Several rows share a place where there are more rows than places. A place shows the state and the flag of its last row,
    and an event where any of its rows has one."""
    machines, flags = states_worth_showing(trace), flags_worth_showing(trace)
    # A range knows by itself what is in it; a set of a day's rows would be half a gigabyte.
    shown = rows if isinstance(rows, range) else frozenset(rows)
    inside = trace.events.between(min(rows, default=0), max(rows, default=-1))
    emitted = {name for row, name, _, _ in inside.fields() if row in shown}
    events = [n for n in dict.fromkeys([*trace.header.events, *trace.events.names]) if n in emitted and n not in _QUIET]
    names = [*machines, *flags, *events[:MOST_EVENTS]]
    if not names or len(rows) < 2:
        return
    title = max(map(len, [*names, "rows"])) + 2
    places = max(min(out.width, WIDEST) - title - 1, 10)
    each = -(-len(rows) // places)
    groups = [rows[at : at + each] for at in range(0, len(rows), each)]
    out.print(Text("rows".ljust(title), style="dim") + Text(_ruler(groups), style="dim"))
    for name in machines:
        letters = _letters(trace.column(name).channel.labels)
        line = Text(name.ljust(title))
        for group in groups:
            # The last of the rows that share a place: what they led to.
            code = int(trace.columns[name].stored[group[-1]])
            line.append(letters[code], style=_STYLES[code % len(_STYLES)])
        seen = dict.fromkeys(int(trace.columns[name].stored[group[-1]]) for group in groups)
        legend = printable(", ".join(f"{letters[code]} {trace.column(name).channel.labels[code]!s}" for code in seen))
        out.print(line, no_wrap=True, crop=True)
        out.print(Text(" " * title + legend, style="dim"), no_wrap=True, overflow="ellipsis")
    for name in flags:
        holds = "".join("=" if trace.columns[name].stored[group[-1]] else "·" for group in groups)
        out.print(Text(name.ljust(title)) + Text(holds, style="blue"), no_wrap=True, crop=True)
    for name in events[:MOST_EVENTS]:
        fell = trace.events.counts(name, None, trace.rows) > 0
        marks = "".join("|" if fell[_slice(group)].any() else "·" for group in groups)
        out.print(Text(name.ljust(title)) + Text(marks, style="magenta"), no_wrap=True, crop=True)
    if each > 1:
        out.print(Text(f"{'':<{title}}{each} rows a place", style="dim"))


def _slice(group: Sequence[int]) -> slice | list[int]:
    """Rows as NumPy takes them: without a list of them all, where they are a range."""
    if isinstance(group, range):
        return slice(group.start, group.stop, group.step)
    return list(group)


def print_level(out: Console, trace: Trace, row: int) -> None:
    """The level and all bodies in a row, in characters: # solid, = one-way, : zone, a letter for each body."""
    scene = trace.header.scene
    standing = {name: body_box(trace, name, row) for name in bodies_of(trace)}
    bodies = {name: box for name, box in standing.items() if box is not None}
    boxes = [(low, high, "=" if one_way else "#") for low, high, _, one_way, _ in scene.get("boxes", [])]
    zones = [(low, high, ":") for parts in scene.get("zones", {}).values() for low, high in parts]
    movers = []
    for name in [*scene.get("platforms", {}), *scene.get("doors", ()), *scene.get("enclosures", ())]:
        movers.append((*_mover(trace, scene, name, row), "_"))
    # Later ones are drawn over earlier ones.
    level = [*zones, *boxes, *movers]
    corners = [*((low, high) for low, high, _ in level), *bodies.values()]
    if not corners:
        out.print(Text("no level and no bodies are recorded in this trace"))
        return
    low = np.min([low[:2] for low, _ in corners], axis=0)
    high = np.max([high[:2] for _, high in corners], axis=0)
    # A character is about twice as high as it is wide.
    unit = max((high[0] - low[0]) / (min(out.width, WIDEST) - 2), (high[1] - low[1]) / 2 / 30, 1e-9)
    across, down = int((high[0] - low[0]) / unit) + 1, int((high[1] - low[1]) / (2 * unit)) + 1
    grid = np.full((down, across), " ", dtype=object)
    letters = {name: _body_letter(name) for name in bodies}
    for one_low, one_high, mark in level:
        grid[_cells(one_low, one_high, low, unit, grid.shape)] = mark
    for name, (one_low, one_high) in bodies.items():
        grid[_cells(one_low, one_high, low, unit, grid.shape)] = letters[name]
    lines = grid
    if scene.get("up", "+y") != "-y":
        lines = grid[::-1]
    for line in lines:
        out.print(Text("".join(line).rstrip()), no_wrap=True, crop=True)
    where = ", ".join(f"{letters[name]} {name} at {box[0][0]:g}, {box[0][1]:g}" for name, box in bodies.items())
    out.print(Text(f"row {row}; a character is {unit:.3g} x {2 * unit:.3g} units; {where}", style="dim"))


def _cells(one_low: Any, one_high: Any, low: Any, unit: float, shape: tuple[int, ...]) -> tuple[slice, slice]:
    """The characters that a box covers: at least one."""
    left, bottom = round((one_low[0] - low[0]) / unit), round((one_low[1] - low[1]) / (2 * unit))
    right = max(round((one_high[0] - low[0]) / unit), left + 1)
    top = max(round((one_high[1] - low[1]) / (2 * unit)), bottom + 1)
    return slice(max(min(bottom, shape[0] - 1), 0), top), slice(max(min(left, shape[1] - 1), 0), right)


def _mover(trace: Trace, scene: dict[str, Any], name: str, row: int) -> Corners:
    x, y = float(trace[f"{name}.x"][row]), float(trace[f"{name}.y"][row])
    if name in scene.get("platforms", {}):
        width, height = scene["platforms"][name][:2]
    elif name in scene.get("doors", ()):
        width, height = float(trace[f"{name}.width"][row]), float(trace[f"{name}.height"][row])
    else:
        width, height = float(trace[f"{name}.width"][row]), 0.1
    return (x, y), (x + width, y + height)


def _body_letter(name: str) -> str:
    """W for wick, 2 for moth.2.body, m for moth."""
    words = name.split(".")
    digits = next((word for word in reversed(words) if word.isdigit()), "")
    return digits[-1:] or words[0][:1].upper()


def _letters(labels: Sequence[str]) -> list[str]:
    """A letter for each label: the first of its own that no other has, or a digit."""
    found: list[str] = []
    for number, label in enumerate(labels):
        own = []
        for letter in label.rsplit("/", 1)[-1]:
            if letter.isalnum() and letter not in found:
                own.append(letter)
        found.append(own[0] if own else str(number % 10))
    return found


def _ruler(groups: Sequence[Sequence[int]]) -> str:
    """Row numbers, one every ten places."""
    line = ""
    for at, group in enumerate(groups):
        if at % 10 == 0 and len(line) <= at:
            line = line.ljust(at) + str(group[0])
    return line[: len(groups) + 6]
