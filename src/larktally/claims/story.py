"""What a result says to a person: verdict, the deciding values, and the rows around the first breach, as blocks."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Protocol

import numpy as np

from larktally.claims.claim import Claim
from larktally.claims.notes import notes_on
from larktally.language.columns import Evaluator
from larktally.language.function import Property
from larktally.language.functions import MEASURES, PROPERTIES, SIGNALS
from larktally.language.judgement import Breach, Judgement, Verdict
from larktally.language.judging import row_text
from larktally.language.ticks import clocks_of, ticks_in
from larktally.language.tree import (
    Call,
    ChannelRef,
    Compare,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Text,
    children,
    to_text,
    walk,
)
from larktally.report import Block, Heading, Line, Report, Table, Tone
from larktally.textfmt import plural, shown_value

__all__ = ["VERDICT_TONES", "ResultLike", "explain_result", "headline", "tally_report"]

# What a terminal of 80 characters shows in one line.
MOST_COLUMNS, MOST_ROWS_NAMED = 6, 8
VERDICT_TONES: Mapping[str, Tone] = {"kept": "good", "broken": "bad", "untested": "odd", "unfinished": "odd"}


class ResultLike(Protocol):
    """A result, as its story reads it."""

    @property
    def claim(self) -> Claim: ...
    @property
    def judgement(self) -> Judgement: ...
    @property
    def evaluator(self) -> Evaluator: ...
    @property
    def verdict(self) -> Verdict: ...
    @property
    def passed(self) -> bool: ...


def tally_report(results: Sequence[ResultLike], causes: Mapping[str, Sequence[str]]) -> Report:
    """A line for each claim, the story of each that did not pass, and the sum; `causes` are lines that say why, by claim."""
    blocks: list[Block] = [_tally_table(results)]
    failed = [result for result in results if not result.passed]
    for result in failed:
        blocks += explain_result(result, causes.get(result.claim.name, ())).blocks
    for note in notes_on(results):
        blocks.append(Line(note, tone="odd"))
    tone: Tone = "good"
    if failed:
        tone = "bad"
    blocks += [Line(""), Line(f"{len(results) - len(failed)} of {len(results)} claims passed", tone=tone)]
    return Report.of(blocks)


def explain_result(result: ResultLike, causes: Sequence[str] = ()) -> Report:
    """What was claimed, what decided it, the rows around the first breach, and lines that say why."""
    return Report.of(_story(result, causes))


def headline(result: ResultLike) -> str:
    """One sentence for the verdict."""
    judgement, read = result.judgement, result.evaluator
    node, told = _property(result)
    cases = plural(judgement.cases, *_case_words(told, judgement))
    if judgement.excused:
        cases += f" ({judgement.excused} more excused by unless)"
    # Before anything else: with no case there is nothing to count, and no row to show.
    if result.verdict == "untested" and judgement.excused:
        excused = plural(judgement.excused, *_case_words(told, judgement))
        return f"nothing to check: {excused} arose, and unless excused each; a claim that nothing tests cannot fail"
    if result.verdict == "untested":
        return f"nothing to check: {_never_raised(result)}; a claim that nothing tests cannot fail"
    if result.verdict == "unfinished":
        if judgement.open == 1:
            was = "was"
        else:
            was = "were"
        return f"the trace ended while {judgement.open} of {cases} {was} open{_how_to_finish(result)}"
    if judgement.margin is None:
        margin = ""
    else:
        margin = f"; margin {judgement.margin:g}"
    if result.verdict == "kept":
        return f"kept in all {cases}{margin}"
    if told.reason is not None:
        reason = told.reason(read, node)
    else:
        reason = ""
    if reason:
        return reason
    breach = judgement.breaches[0]
    if breach.row is None:
        where = "over the whole run"
    else:
        where = f"first in {row_text(read, breach.row)}"
    if breach.trigger is not None and breach.trigger != breach.row:
        where += f", for {row_text(read, breach.trigger)}"
    if judgement.cases > 1:
        where = f"{judgement.broken} of {cases} failed, {where}"
    if told.how is not None:
        how = told.how(read, node, breach)
    else:
        how = ""
    return f"{where}{how}{margin}"


def _tally_table(results: Sequence[ResultLike]) -> Table:
    """A line for each claim: verdict, name, cases, margin."""
    lines, tones = [], {}
    for n, family in enumerate(_families(results)):
        if len(family) > 1:
            lines.append(_family_line(family))
            tones[n] = VERDICT_TONES["kept"]
            continue
        result = family[0]
        judgement = result.judgement
        if result.passed and result.verdict != "kept":
            allowed = " (allowed)"
        else:
            allowed = ""
        cases = str(judgement.cases)
        if judgement.broken:
            cases = f"{judgement.broken} of {cases}"
        elif judgement.open:
            cases = f"{judgement.open} open of {cases}"
        if judgement.margin is None:
            margin = ""
        else:
            margin = f"{judgement.margin:g}"
        lines.append([result.verdict + allowed, result.claim.name, cases, margin])
        tones[n] = VERDICT_TONES[result.verdict]
    return Table(["verdict", "claim", "cases", "margin"], lines, frozenset({0, 1}), tones)


def _families(results: Sequence[ResultLike]) -> list[list[ResultLike]]:
    """The results, those of one `for_each` that are kept together: they fold into a line, and one that is not stands alone."""
    found: list[list[ResultLike]] = []
    folded: dict[str, list[ResultLike]] = {}
    for result in results:
        family = result.claim.family
        if not family or result.verdict != "kept":
            found.append([result])
        elif family in folded:
            folded[family].append(result)
        else:
            folded[family] = [result]
            found.append(folded[family])
    return found


def _family_line(family: Sequence[ResultLike]) -> list[str]:
    """One line for the claims of a `for_each` that are kept: how many, their cases, and their least margin."""
    cases = sum(result.judgement.cases for result in family)
    margins = [result.judgement.margin for result in family if result.judgement.margin is not None]
    least = ""
    if margins:
        least = f"{min(margins):g}"
    return ["kept", f"{family[0].claim.family} ({len(family)} of them)", str(cases), least]


def _story(result: ResultLike, causes: Iterable[str]) -> Iterator[Block]:
    claim, judgement = result.claim, result.judgement
    yield Heading(result.verdict.upper(), claim.name, VERDICT_TONES[result.verdict])
    yield Line(claim.text, "claimed", indent=1)
    if claim.why:
        yield Line(claim.why, "because", indent=1)
    yield Line(headline(result), "found", indent=1)
    if not judgement.breaches:
        return
    for line in _stood_still(result, judgement.breaches[0]):
        yield Line(line, "", indent=1)
    if claim.table is not None:
        yield claim.table.side_by_side(result.evaluator)
        return
    breach = judgement.breaches[0]
    exact = _look_alike(result, breach)
    for text, value in _deciding(result, breach, exact):
        yield Line(f"{text} = {value}", "", indent=1)
    around = _rows_around(result, breach, exact)
    if around is not None:
        yield around
    if judgement.broken > 1:
        yield Line(_also_in(judgement), indent=1)
    label = "why"
    for cause in causes:
        yield Line(cause, label, indent=1)
        label = ""


def _stood_still(result: ResultLike, breach: Breach) -> Iterator[str]:
    """The clocks that stood in rows of a breach whose claim counts time, and does not count it by a clock."""
    node, told = _property(result)
    timed = any(one.name == "on" for one in told.named) and node.option("on") is None
    if not timed or breach.trigger is None or breach.row is None:
        return
    read = result.evaluator
    for clock in clocks_of(read.names.channels):
        # Time passes from the row after the trigger on.
        stood = ~ticks_in(read, Text(clock))[breach.trigger + 1 : breach.row + 1]
        rows = int(np.count_nonzero(stood))
        if rows:
            yield f"{clock} stood still in {rows} of these {plural(len(stood), 'row')}; on={clock!r}?"


def _also_in(judgement: Judgement) -> str:
    """The rows of the breaches after the first."""
    rows = []
    for breach in judgement.breaches[1 : MOST_ROWS_NAMED + 1]:
        if breach.trigger in (None, breach.row):
            for_row = ""
        else:
            for_row = f" (for row {breach.trigger})"
        rows.append(f"{breach.row}{for_row}")
    left = judgement.broken - 1 - len(rows)
    if left > 0:
        more = f" and {left} more"
    else:
        more = ""
    return f"also in rows {', '.join(rows)}{more}"


def _property(result: ResultLike) -> tuple[Call, Property]:
    """The call of a claim's property, and the property itself."""
    told, node = result.claim.told
    return node, told


def _case_words(told: Property, judgement: Judgement) -> tuple[str, str]:
    """What one case is called; the rows of an implication are cases, since not every row is one."""
    if told.case[0] == "row" and judgement.may_be_untested:
        return ("case", "cases")
    return told.case


def _how_to_finish(result: ResultLike) -> str:
    """Which case was open first, and how many frames more decide them all."""
    waiting, read = result.judgement.waiting, result.evaluator
    if waiting is None or waiting.trigger is None:
        return "; run more frames"
    since = f", from {row_text(read, waiting.trigger)} on"
    if waiting.row is None:
        return f"{since}; run more frames"
    return f"{since}; run {plural(waiting.row - read.rows + 1, 'more frame')}"


def _never_raised(result: ResultLike) -> str:
    node, told = _property(result)
    if told.raised_by is None:
        return "no case arose"
    condition = told.raised_by(node)
    return f"{to_text(condition)} {told.never_raised}{_each_alone(result.evaluator, condition)}"


def _each_alone(read: Evaluator, node: Node) -> str:
    """In how many rows each side of an `and` held that never held as a whole."""
    if not isinstance(node, Operation) or node.op != "and":
        return ""
    held = []
    for side in node.args:
        held.append(f"{to_text(side)}: {plural(int(np.count_nonzero(read.flags(side))), 'row')}")
    return f" ({', '.join(held)})"


def _look_alike(result: ResultLike, breach: Breach) -> frozenset[Node]:
    """The signals that need all their digits: sides of a comparison that are shown alike and are not the same."""
    read, row = result.evaluator, breach.row
    found: set[Node] = set()
    if row is None or row >= read.rows:
        return frozenset()
    for node in _parts(result.claim.tree):
        if isinstance(node, Compare) and _tells_something(node):
            for one, other in itertools.pairwise(node.args):
                mine, theirs = read.at(one, row), read.at(other, row)
                if mine != theirs and shown_value(mine) == shown_value(theirs):
                    found |= {one, other}
    return frozenset(found)


def _shown(result: ResultLike, node: Node, row: int, exact: frozenset[Node]) -> str:
    value = result.evaluator.at(node, row)
    if node in exact:
        return repr(value)
    return shown_value(value)


def _deciding(result: ResultLike, breach: Breach, exact: frozenset[Node]) -> list[tuple[str, str]]:
    """The text and value of each sub-expression in the row of a breach (and of the trigger in its own row)."""
    read = result.evaluator
    if breach.row is None or breach.row >= read.rows:
        return []
    found: dict[str, str] = {}
    for part in _parts(result.claim.tree):
        value = _shown(result, part, breach.row, exact)
        which = _which_of(result, part, breach.row)
        if breach.trigger is not None and breach.trigger != breach.row:
            before = _shown(result, part, breach.trigger, exact)
            value = f"{before} in row {breach.trigger}, {value} in row {breach.row}"
        found[to_text(part)] = value + which
    return list(found.items())


def _which_of(result: ResultLike, node: Node, row: int) -> str:
    """Of a signal over many, those that decide it in a row."""
    told = None
    if isinstance(node, Call):
        told = SIGNALS[node.name].which
    if told is None or not isinstance(node, Call):
        return ""
    return f": {told(result.evaluator, node, row)}"


def _rows_around(
    result: ResultLike, breach: Breach, exact: frozenset[Node], before: int = 3, after: int = 2
) -> Table | None:
    """A small table: the deciding channels and events in the rows around a breach; None where there is nothing to show."""
    read, row = result.evaluator, breach.row
    columns = [part for part in _parts(result.claim.tree) if _is_column(part)][:MOST_COLUMNS]
    if row is None or not columns:
        return None
    rows = set(range(max(0, row - before), min(read.rows, row + after + 1)))
    if breach.trigger is not None:
        rows.add(breach.trigger)
    node, told = _property(result)
    came = None
    if told.answer is not None:
        came = told.answer(read, node, row)
    if came is not None:
        rows.update(range(max(0, came - 1), min(read.rows, came + 2)))
    lines: list[list[str]] = []
    tones: dict[int, Tone] = {}
    for n, k in enumerate(sorted(rows)):
        mark = ""
        if k == row:
            mark, tones[n] = ">", "bad"
        elif k == breach.trigger:
            mark = "*"
        lines.append([mark, str(k), *(_shown(result, part, k, exact) for part in columns)])
    return Table(["", "row", *map(to_text, columns)], lines, tones=tones)


def _parts(node: Node) -> list[Node]:
    """The signals inside a property, the outermost first; names in quotes and bare numbers say nothing."""
    found: list[Node] = []
    for child in children(node):
        if isinstance(child, Number | Text | Flag):
            continue
        if _tells_something(child):
            found.append(child)
        if isinstance(child, Call) and child.name in SIGNALS and SIGNALS[child.name].which is not None:
            # What is asked of each of many has no value of its own.
            continue
        found += _parts(child)
    return list(dict.fromkeys(found))


def _tells_something(node: Node) -> bool:
    """Whether the value of a node helps to see why: not that of a constant, such as a setting."""
    if isinstance(node, Call):
        return node.name in SIGNALS and not _is_constant(node)
    if isinstance(node, ChannelRef):
        return True
    # What is measured over rows has no value in one.
    if any(isinstance(one, Call) and (one.name in MEASURES or one.name in PROPERTIES) for one in walk(node)):
        return False
    # A sum of plain numbers is what it is in every row.
    signals = (one for one in walk(node) if isinstance(one, ChannelRef | Call))
    return isinstance(node, Operation | Compare | Membership) and any(map(_tells_something, signals))


def _is_constant(node: Call) -> bool:
    """Whether a call reads neither a channel nor what a row holds: a setting."""
    if node.name not in SIGNALS or SIGNALS[node.name].observed or not node.args:
        return False
    return all(isinstance(arg, Text) or not _has_signal(arg) for arg in node.args)


def _has_signal(node: Node) -> bool:
    return any(isinstance(one, ChannelRef) or (isinstance(one, Call) and not _is_constant(one)) for one in walk(node))


def _is_column(node: Node) -> bool:
    """Whether a node is read off the trace as it is, so that the rows around show it."""
    return isinstance(node, ChannelRef) or (isinstance(node, Call) and SIGNALS[node.name].observed)
