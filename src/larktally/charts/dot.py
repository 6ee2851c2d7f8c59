"""Machines as DOT text, and laid out by Graphviz where it is installed."""

from __future__ import annotations

import shutil
import subprocess

from larktally.explain.coverage import Coverage
from larktally.traces.outline import ANY, BACK, STAY, Outline, Rule, parents_of

__all__ = ["chart_to_dot", "graphviz_svg"]

FILL, INK, PALE = "#d3e6f3", "#1d3a52", "#8a8f94"


def chart_to_dot(outline: Outline, coverage: Coverage | None = None) -> str:
    """A machine as a DOT digraph: visited states filled and counts on the arrows where a coverage is given."""
    if coverage:
        visits = {one.state: one.visits for one in coverage.states}
    else:
        visits = {}
    lines = [f"digraph {_quoted(outline.name)} {{", "  rankdir=TB; compound=true; nodesep=0.5; ranksep=0.6;"]
    lines += ['  node [shape=box, style="rounded,filled", fillcolor=white, fontname="Helvetica", fontsize=12];']
    lines += ['  edge [fontname="Helvetica", fontsize=10];', '  ":start" [shape=point, width=0.16, fillcolor=black];']
    lines += _states(outline, (), visits, "  ")
    if any(ANY in rule.sources for rule in outline.rules):
        lines.append('  ":any" [label="any state", style="rounded,dashed"];')
    if any(rule.target == BACK for rule in outline.rules):
        lines.append('  ":back" [label="back to where it was", style="rounded,dashed"];')
    lines.append(f'  ":start" -> {_quoted(outline.start)};')
    for rank, rule in enumerate(outline.rules, 1):
        for source in rule.sources:
            lines += _arrow(outline, rank, rule, source, coverage.taken_from(rule.name, source) if coverage else None)
    return "\n".join([*lines, "}"]) + "\n"


def graphviz_svg(dot: str) -> str | None:
    """The SVG that Graphviz draws of a DOT text; None where it is not installed or fails."""
    program = shutil.which("dot")
    if program is None:
        return None
    try:
        # Large machines can keep a layout busy for minutes.
        done = subprocess.run([program, "-Tsvg"], input=dot.encode(), capture_output=True, timeout=20, check=True)
    except (OSError, subprocess.SubprocessError):
        return None
    return done.stdout.decode("utf-8", "replace")


def _states(outline: Outline, inside: tuple[str, ...], visits: dict[str, int], indent: str) -> list[str]:
    lines = []
    for state in outline.composites:
        if parents_of(state) == inside:
            lines += [
                f"{indent}subgraph {_quoted('cluster ' + state)} {{",
                f"{indent}  label={_quoted(_short(state))};",
            ]
            lines += [f'{indent}  style=rounded; color="{PALE}"; fontname="Helvetica";']
            lines += [*_states(outline, (*inside, state), visits, indent + "  "), f"{indent}}}"]
    for leaf in outline.leaves:
        if parents_of(leaf) == inside:
            count = fill = ""
            if visits.get(leaf):
                count, fill = f"\\n×{visits[leaf]}", f', fillcolor="{FILL}"'
            rim = ""
            if leaf in outline.final:
                rim = ", peripheries=2"
            lines.append(f'{indent}{_quoted(leaf)} [label={_quoted(_short(leaf))[:-1]}{count}"{fill}{rim}];')
    return lines


def _arrow(outline: Outline, rank: int, rule: Rule, source: str, taken: int | None) -> list[str]:
    """A rule as a node of words between two arrows: so its words have a place of their own that no arrow crosses."""
    tail, leaves = _end(outline, ":any" if source == ANY else source, "ltail")
    aim = {BACK: ":back", STAY: source if source != ANY else ":any"}.get(rule.target, rule.target)
    head, enters = _end(outline, aim, "lhead")
    ink = ""
    if taken == 0:
        ink = f', color="{PALE}", style=dashed'
    words = f"{rank}. {rule.condition or rule.name}" + ("" if taken is None else f"  ×{taken}")
    middle = _quoted(f":rule {rank} {source}")
    if taken == 0:
        font = f', fontcolor="{PALE}"'
    else:
        font = ""
    return [
        f"  {middle} [label={_quoted(words)}, shape=plaintext, style=filled, fontsize=10, margin=0.03, height=0{font}];",
        f"  {_quoted(tail)} -> {middle} [arrowhead=none{leaves}{ink}];",
        f"  {middle} -> {_quoted(head)} [weight=1{enters}{ink}];",
    ]


def _end(outline: Outline, state: str, side: str) -> tuple[str, str]:
    """The node of a state, and the option that clips an arrow at the box of a composite one."""
    if state not in outline.composites:
        return state, ""
    return next(s for s in outline.leaves if s.startswith(state + "/")), f", {side}={_quoted('cluster ' + state)}"


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _short(state: str) -> str:
    return state.rpartition("/")[2]
