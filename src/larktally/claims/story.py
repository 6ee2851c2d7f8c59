"""What a result says to a person: verdict, the deciding values, and the rows around the first breach. Plain text."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from larktally.claims.tree import (
    Call,
    ChannelRef,
    Comparison,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Text,
    children,
    to_text,
)
from larktally.claims.verdicts import Breach, Result, Tally
from larktally.timing import seconds_at

if TYPE_CHECKING:
    from larktally.claims.signals import Reading

__all__ = ["story", "tally_text", "headline", "deciding", "rows_around", "shown_value", "aligned"]

MOST_COLUMNS = 6
_SPANS_MEASURED = ("air_time", "longest", "shortest", "longest_gap", "shortest_gap")


def tally_text(tally: Tally, causes: Mapping[str, Sequence[str]] | None = None) -> str:
    """A line for each claim, then the story of each that did not pass; `causes` are lines that say why, by claim."""
    lines = [f"{result.verdict:<10} {result.name}" + _allowed(result) for result in tally]
    passed = sum(result.passed for result in tally)
    lines.append(f"{passed} of {len(tally)} claims passed")
    for result in tally.failed:
        lines += ["", story(result)]
        lines += [f"  {'' if at else 'why:':<5}{line}" for at, line in enumerate((causes or {}).get(result.name, ()))]
    return "\n".join(lines)


def story(result: Result) -> str:
    """The whole story of one result: what was claimed, what came of it, why, and the rows around."""
    lines = [f"{result.verdict.upper()}: {result.name}", f"  claimed: {result.claim.text}"]
    if result.claim.why:
        lines.append(f"  because: {result.claim.why}")
    lines.append(f"  {headline(result)}")
    if result.breaches:
        breach = result.breaches[0]
        lines += [f"    {text} = {value}" for text, value in deciding(result, breach)]
        table = rows_around(result, breach)
        lines += [f"  {line}" for line in aligned(table)]
        if result.broken > 1:
            also = ", ".join(_breach_text(b) for b in result.breaches[1:6])
            more = f", and {result.broken - 6} more" if result.broken > 6 else ""
            lines.append(f"  also broken: {also}{more}")
    return "\n".join(lines)


def headline(result: Result) -> str:
    """One sentence for the verdict."""
    kind = _obligation_words(result)
    if result.verdict == "vacuous":
        return f"nothing to check: {_never_raised(result)}; a claim that nothing tests cannot fail"
    if result.verdict == "unfinished":
        was = "was" if result.open == 1 else "were"
        return f"the trace ended while {result.open} of {result.obligations} {kind} {was} open{_how_to_finish(result)}"
    margin = "" if result.margin is None else f"; margin {result.margin:g}"
    if result.verdict == "kept":
        return f"kept in all {result.obligations} {kind}{margin}"
    breach = result.breaches[0]
    where = "over the whole run" if breach.row is None else f"first in {_row_text(result.reading, breach.row)}"
    trigger = ""
    if breach.trigger is not None and breach.trigger != breach.row:
        trigger = f", for {_row_text(result.reading, breach.trigger)}"
    many = "" if result.obligations == 1 else f"{result.broken} of {result.obligations} {kind} failed, "
    return _reason(result) or f"{many}{where}{trigger}{_how_long(result, breach)}{margin}"


def _how_to_finish(result: Result) -> str:
    """Which obligation was open first, and how many frames more decide them all."""
    waiting, read = result.judgement.waiting, result.reading
    if waiting is None or waiting.trigger is None:
        return "; run more frames"
    since = f", from {_row_text(read, waiting.trigger)} on"
    if waiting.row is None:
        return f"{since}; run more frames"
    lacking = waiting.row - read.rows + 1
    return f"{since}; run {lacking} more frame{'' if lacking == 1 else 's'}"


def _how_long(result: Result, breach: Breach) -> str:
    """How long a stretch was, how far apart two rows, or when the answer came after all, where that is what was claimed."""
    tree, read = result.claim.tree, result.reading
    if not isinstance(tree, Call) or breach.trigger is None or breach.row is None:
        return ""
    if tree.name == "follows":
        return _when_it_came(tree, read, breach.trigger, breach.row)
    if tree.name == "lasts":
        held = breach.row - breach.trigger
        return f": it held for {held} row{'' if held == 1 else 's'}"
    if tree.name == "spaced":
        return f", {breach.row - breach.trigger} apart"
    if tree.name == "stays":
        ends = np.flatnonzero(~read.flags(tree.args[0])[breach.trigger :])
        length = int(ends[0]) if len(ends) else read.rows - breach.trigger
        return f": it lasted {length} row{'s' if length != 1 else ''}" + ("" if len(ends) else ", up to the end")
    return ""


def _when_it_came(tree: Call, read: Reading, trigger: int, row: int) -> str:
    """For an answer that did not come in its time: whether it was early, came later, or never."""
    came = _answer(tree, read, row)
    if came is None:
        return ": it never came"
    early = "too early, " if came == row else ""
    return f": it came {early}{came - trigger} rows after" + ("" if came == row else f", in {_row_text(read, came)}")


def _answer(tree: Node, read: Reading, row: int) -> int | None:
    """The first row from `row` on in which the answer of a `follows` came, None where it did not, or for another claim."""
    if not isinstance(tree, Call) or tree.name != "follows":
        return None
    answers = np.flatnonzero(read.flags(tree.args[1])[row:])
    return row + int(answers[0]) if len(answers) else None


def _reason(result: Result) -> str:
    """What went wrong, for claims about the whole run, where no single row says it; "" for all others."""
    tree, read = result.claim.tree, result.reading
    if not isinstance(tree, Call):
        return ""
    if tree.name == "measured":
        return _measured(tree, read)
    if tree.name in ("exactly", "at_least", "at_most"):
        rows = np.flatnonzero(read.flags(tree.args[0])).tolist()
        listed = ", ".join(map(str, rows[:8])) + (", …" if len(rows) > 8 else "")
        held = f"{to_text(tree.args[0])} held in {len(rows)} row{'s' if len(rows) != 1 else ''}"
        return f"{held}{f' ({listed})' if rows else ''}, where {tree.name.replace('_', ' ')} {to_text(tree.args[1])} was claimed"
    if tree.name == "eventually":
        return f"{to_text(tree.args[0])} never held"
    return _missing_step(tree, read) if tree.name == "in_order" else ""


def _measured(tree: Call, read: Reading) -> str:
    from larktally.claims.measures import measure, measured_in

    low, high = (shown_value(read.at(arg, 0)) for arg in tree.args[1:])
    found = measure(read, tree.args[0])
    if np.isnan(found):
        return f"{to_text(tree.args[0])} found nothing to measure, where {low}..{high} was claimed"
    row = measured_in(read, tree.args[0])
    where = "" if row is None else f" in {_row_text(read, row)}"
    if row is not None and isinstance(tree.args[0], Call) and tree.args[0].name in _SPANS_MEASURED:
        where = f" from {_row_text(read, row)} on"
    return f"{to_text(tree.args[0])} = {shown_value(found)}{where}, which is not in {low}..{high}"


def _missing_step(tree: Call, read: Reading) -> str:
    row = -1
    found: list[str] = []
    for arg in tree.args:
        later = np.flatnonzero(read.flags(arg)[row + 1 :])
        if not len(later):
            after = f" after {', '.join(found)}" if found else ""
            return f"{to_text(arg)} never held{after}"
        row += 1 + int(later[0])
        found.append(f"{to_text(arg)} in row {row}")
    return ""


def deciding(result: Result, breach: Breach) -> list[tuple[str, str]]:
    """The text and value of each sub-expression in the row of a breach (and of the trigger in its own row)."""
    read = result.reading
    if breach.row is None or not isinstance(result.claim.tree, Call):
        return []
    found: list[tuple[str, str]] = []
    for part in _parts(result.claim.tree):
        text = to_text(part)
        row = breach.row
        found.append((text, shown_value(read.at(part, row))))
        if breach.trigger is not None and breach.trigger != row:
            found[-1] = (
                text,
                f"{shown_value(read.at(part, breach.trigger))} in row {breach.trigger}, {found[-1][1]} in row {row}",
            )
    return list(dict.fromkeys(found))


def rows_around(result: Result, breach: Breach, before: int = 3, after: int = 2) -> list[list[str]]:
    """A small table: the deciding channels and events in the rows around a breach; its first line is the heading."""
    read = result.reading
    row = breach.row if breach.row is not None else (breach.trigger or 0)
    columns = [part for part in _parts(result.claim.tree) if _is_column(part)]
    columns = list(dict.fromkeys(columns))[:MOST_COLUMNS]
    if breach.row is None or not columns:
        return []
    rows = list(range(max(0, row - before), min(read.rows, row + after + 1)))
    if breach.trigger is not None and breach.trigger < rows[0]:
        rows = [breach.trigger, *rows]
    came = _answer(result.claim.tree, read, row)
    if came is not None:
        rows = sorted({*rows, *range(max(0, came - 1), min(read.rows, came + 2))})
    table = [["", "row", *(to_text(part) for part in columns)]]
    for k in rows:
        mark = ">" if k == row else "*" if k == breach.trigger else ""
        table.append([mark, str(k), *(shown_value(read.at(part, k)) for part in columns)])
    return table


def shown_value(value: object) -> str:
    """A value as messages show it: true and false, whole numbers without a point, labels in quotes."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{int(value)}" if value.is_integer() and abs(value) < 1e15 else f"{value:.9g}"
    return repr(value) if isinstance(value, str) else str(value)


def _parts(node: Node) -> list[Node]:
    """The signals inside a property, the outermost first; names in quotes and bare numbers say nothing."""
    found: list[Node] = []
    for child in children(node):
        if isinstance(child, Number | Text | Flag):
            continue
        if isinstance(child, Operation | Comparison | Membership | ChannelRef) or (
            isinstance(child, Call) and child.name != "param"
        ):
            found.append(child)
        found += _parts(child)
    return list(dict.fromkeys(found))


def _is_column(node: Node) -> bool:
    return isinstance(node, ChannelRef) or (
        isinstance(node, Call) and node.name in ("event", "events", "data", "held", "pressed", "released", "value")
    )


def _allowed(result: Result) -> str:
    return f" (allowed: {result.verdict})" if result.passed and result.verdict != "kept" else ""


def _obligation_words(result: Result) -> str:
    name = result.claim.tree.name if isinstance(result.claim.tree, Call) else ""
    word = {"stays": "stretch", "spaced": "pair"}.get(name, "row" if name in ("always", "never") else "obligation")
    plural = "es" if word == "stretch" else "s"
    if name == "always" and result.judgement.can_be_vacuous:
        word = "obligation"
    return word if result.obligations == 1 else word + plural


def _never_raised(result: Result) -> str:
    tree = result.claim.tree
    if isinstance(tree, Call) and tree.args:
        first = tree.args[0]
        if tree.name == "always" and isinstance(first, Call):
            first = first.args[0]
        if tree.name == "precedes":
            first = tree.args[1]
        rare = " never held in two rows" if tree.name == "spaced" else " never held"
        return to_text(first) + rare + _each_alone(result.reading, first)
    return "no obligation arose"


def _each_alone(read: Reading, node: Node) -> str:
    """In how many rows each side of an `and` held that never held as a whole."""
    if not isinstance(node, Operation) or node.op != "and":
        return ""
    held = [(to_text(side), int(np.count_nonzero(read.flags(side)))) for side in node.args]
    return f" ({', '.join(f'{text}: {rows} row' + ('s' if rows != 1 else '') for text, rows in held)})"


def _row_text(read: Reading, row: int) -> str:
    rate = read.words.rate
    return f"row {row}" + (f" ({seconds_at(row, rate):.3f} s)" if rate else "")


def _breach_text(breach: Breach) -> str:
    if breach.trigger is None or breach.trigger == breach.row:
        return f"row {breach.row}"
    return f"row {breach.row} (for row {breach.trigger})"


def aligned(table: list[list[str]], left: bool = False) -> list[str]:
    """The lines of a table, columns apart by two spaces; cells stand to the right unless `left`."""
    widths = [max(len(line[n]) for line in table) for n in range(len(table[0]))] if table else []
    put = str.ljust if left else str.rjust
    return ["  ".join(put(cell, width) for cell, width in zip(line, widths, strict=True)).rstrip() for line in table]
