"""A machine for the terminal: its rules in order, what is odd about it, and what some runs visited."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from larktally.charts import Coverage, findings, priorities
from larktally.traces.outline import BACK, STAY, Outline
from larktally.views.tables import plain_table

__all__ = ["print_chart", "print_coverage"]


def print_chart(out: Console, outline: Outline, cover: Coverage | None) -> None:
    """The priority table, the findings, and the coverage where there is one."""
    size = f"{len(outline.leaves)} states, {len(outline.rules)} rules, starts {outline.start!r}, {outline.order}"
    out.print(Text.assemble((outline.name, "bold"), f": {size}"))
    table = plain_table("state", "tried", "to", "condition", "rule", "does")
    shown = {BACK: "back", STAY: "stay"}
    before = ""
    for line in priorities(outline):
        state = "" if line["state"] == before else line["state"]
        before = line["state"]
        to = shown.get(line["to"], line["to"])
        table.add_row(*map(Text, (state, str(line["rank"]), to, line["condition"], line["rule"], line["does"])))
    out.print(table)
    for finding in findings(outline):
        out.print(Text.assemble(("look at: ", "bold magenta"), finding.message))
    if cover is not None:
        out.print()
        print_coverage(out, cover)


def print_coverage(out: Console, cover: Coverage) -> None:
    """States and rules, how often each was visited, and what never was."""
    runs = "1 run" if cover.runs == 1 else f"{cover.runs} runs"
    seen = len(cover.states) - len(cover.unvisited), len(cover.rules) - len(cover.untaken)
    out.print(
        Text(
            f"over {runs}, {cover.rows} rows: {seen[0]} of {len(cover.states)} states, {seen[1]} of {len(cover.rules)} rules"
        )
    )
    states = plain_table("state", "visits", "least", "median", "most rows")
    for state in cover.states:
        stay = (str(state.least), f"{state.median:g}", str(state.most)) if state.visits else ("", "", "")
        states.add_row(
            *map(Text, (state.state, str(state.visits), *stay)), style=None if state.visits else "bold magenta"
        )
    rules = plain_table("rule", "taken", "ready but out-ranked")
    for rule in cover.rules:
        outranked = "" if rule.outranked is None else str(rule.outranked)
        rules.add_row(*map(Text, (rule.rule, str(rule.taken), outranked)), style=None if rule.taken else "bold magenta")
    for table in (states, rules):
        for column in table.columns[1:]:
            column.justify = "right"
        out.print(table)
    if cover.always_outranked:
        out.print(
            Text(f"ready but never taken, always out-ranked: {', '.join(cover.always_outranked)}", style="bold magenta")
        )
    if cover.unseen_pairs:
        out.print(Text("never seen: " + ", ".join(f"{a} → {b}" for a, b in cover.unseen_pairs)))
