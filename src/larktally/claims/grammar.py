"""The functions of the claim language, as one table: their arguments, their result, and what they mean.

Reading, type checking, the Python form and the documentation all go by this table.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

__all__ = ["Function", "Parameter", "Family", "FUNCTIONS", "signature"]

Family: TypeAlias = Literal["signal", "property", "measure"]


@dataclass(frozen=True, slots=True)
class Parameter:
    """One argument.

    `takes` is a kind of signal (number, flag, any, label), a name in quotes (channel, event, action, param, field,
    state, text), quantity (a number, or a channel's name in quotes), compared (any signal, or a channel's name in quotes),
    constant, measure, span0 and span1 (durations from
    0 and from 1 frame on) or whole (a number of rows).
    """

    name: str
    takes: str
    needed: bool = True


@dataclass(frozen=True, slots=True)
class Function:
    """A function: arguments by position, arguments by name, the kind of its result."""

    name: str
    family: Family
    positional: tuple[Parameter, ...]
    named: tuple[Parameter, ...]
    result: str
    meaning: str
    many: bool = False


def _parameters(text: str) -> tuple[Parameter, ...]:
    pairs = (word.split(":") for word in text.split())
    return tuple(Parameter(name, takes.rstrip("?"), not takes.endswith("?")) for name, takes in pairs)


def _function(
    family: Family, name: str, positional: str, named: str, result: str, meaning: str, many: bool = False
) -> Function:
    return Function(name, family, _parameters(positional), _parameters(named), result, meaning, many)


_WINDOW = "last:span1? since:flag?"
_LAST = "last:span1?"
_SIGNALS = (
    ("ch", "name:channel", "", "channel", "the channel of any name"),
    ("param", "name:param", "", "param", "what the model was given for a name; a duration in frames"),
    ("frame", "", "", "number", "the row's number"),
    ("time", "", "", "number", "the row's time in seconds"),
    ("abs", "x:number", "", "number", "x without its sign"),
    ("min", "x:number y:number", "", "number", "the smaller one"),
    ("max", "x:number y:number", "", "number", "the greater one"),
    ("near", "x:number y:number tol:number", "", "flag", "|x - y| <= tol"),
    ("implies", "p:flag q:flag", "", "flag", "q, wherever p holds"),
    ("event", "name:event", "source:text?", "flag", "it happened in this row"),
    ("events", "name:event", "source:text?", "number", "how many of them in this row"),
    (
        "data",
        "name:event field:text",
        "source:text?",
        "number",
        "the number that the row's last such event carried; NaN without one",
    ),
    ("held", "a:action", "", "flag", "the action is held in this row"),
    ("pressed", "a:action", "", "flag", "held in this row, not in the one before"),
    ("released", "a:action", "", "flag", "held in the row before, not in this one"),
    ("value", "a:action", "", "number", "the action's analog value"),
    ("in_state", "machine:label state:state", "", "flag", "in that state or one below it"),
    ("prev", "x:any n:span0?", "", "same", "x n rows earlier; before row 0 its row-0 value"),
    ("seen", "x:any", "", "same", "x as this row's machines saw it (sims only)"),
    ("began", "p:flag", "", "flag", "p holds and did not in the row before; false in row 0"),
    ("ended", "p:flag", "", "flag", "p held in the row before and does not now; false in row 0"),
    ("changed", "x:any", "", "flag", "x differs from the row before; false in row 0"),
    ("delta", "x:number", "", "number", "x minus its value in the row before; 0 in row 0"),
    ("per_second", "x:number", "", "number", "delta(x) times the rate"),
    ("lasted", "p:flag", "", "number", "rows for which p has held up to and including this one"),
    ("since", "p:flag", "", "number", "rows since p last held, 0 where it holds, infinite before the first"),
    ("latest", "x:number", "when:flag", "number", "x in the last row, up to this one, where p held; NaN before"),
    (
        "count",
        "p:flag",
        _WINDOW,
        "number",
        "rows in which p held: so far, in the last W rows, or from the last row of q on",
    ),
    (
        "total",
        "x:number",
        _WINDOW,
        "number",
        "the sum of x: so far, over the last W rows, or from the last row of q on",
    ),
    ("highest", "x:number", _LAST, "number", "the greatest x, so far or over the last W rows"),
    ("lowest", "x:number", _LAST, "number", "the smallest x, so far or over the last W rows"),
    ("mean", "x:number", _LAST, "number", "the mean of x, so far or over the last W rows"),
)
_PROPERTIES = (
    ("always", "p:flag", "", "p in every row"),
    ("never", "p:flag", "", "p in no row"),
    ("eventually", "p:flag", "", "p in some row"),
    ("at", "k:span0 p:flag", "", "p in row k"),
    ("follows", "a:flag p:flag", "within:span0 after:span0? unless:flag?", "after each a, p within so many rows"),
    ("lasts", "a:flag p:flag W:span1", "", "from each a on, p for W rows"),
    ("until", "a:flag p:flag q:flag", "", "from each a on, p until q"),
    ("precedes", "a:flag b:flag", "", "before each b, an a of its own"),
    ("spaced", "p:flag", "at_least:span0? at_most:span0?", "successive rows with p are so far apart"),
    ("stays", "p:flag", "at_least:span1? at_most:span1? exactly:span1?", "each unbroken stretch of p is so long"),
    ("exactly", "p:flag n:whole", "", "n rows with p"),
    ("at_least", "p:flag n:whole", "", "n rows with p, or more"),
    ("at_most", "p:flag n:whole", "", "n rows with p, or fewer"),
    ("measured", "m:measure low:constant high:constant", "", "low <= m <= high"),
    ("same", "x:compared", "tol:number?", "x is in every row what it is in the other trace, or within tol of it"),
)

_MEASURES = (
    ("apex", "x:quantity", "how far x rose above its row-0 value"),
    ("reach", "x:quantity", "how far x came from its row-0 value, either way"),
    ("greatest", "x:quantity", "the greatest x"),
    ("smallest", "x:quantity", "the smallest x"),
    ("area", "x:quantity", "the sum of x over all rows, times the length of a frame in seconds"),
    ("settling", "x:quantity tol:number", "the row from which x stays within tol of its last value"),
    ("value_when", "x:quantity p:flag", "x in the first row with p"),
    ("first_row", "p:flag", "the first row with p"),
    ("last_row", "p:flag", "the last row with p"),
    ("time_to", "p:flag", "the time of the first row with p, in seconds"),
    ("rows_with", "p:flag", "how many rows have p"),
    ("air_time", "grounded:flag", "rows of the longest stretch off the ground"),
    ("longest", "p:flag", "rows of the longest unbroken stretch of p"),
    ("shortest", "p:flag", "rows of the shortest unbroken stretch of p"),
    ("longest_gap", "p:flag", "the most rows from one row with p to the next"),
    ("shortest_gap", "p:flag", "the fewest rows from one row with p to the next"),
)

FUNCTIONS: dict[str, Function] = {
    **{name: _function("signal", name, args, named, kind, text) for name, args, named, kind, text in _SIGNALS},
    **{name: _function("property", name, args, named, "property", text) for name, args, named, text in _PROPERTIES},
    **{name: _function("measure", name, args, "", "measure", text) for name, args, text in _MEASURES},
    "in_order": _function(
        "property", "in_order", "p:flag", "", "property", "first a, after it b, after that c, …", many=True
    ),
}


def signature(function: Function) -> str:
    """How a function is called, for messages.

    >>> signature(FUNCTIONS["follows"])
    'follows(a, p, within=…, [after=…], [unless=…])'
    """
    if function.many:
        return f"{function.name}(a, b, …)"
    words = [p.name if p.needed else f"[{p.name}]" for p in function.positional]
    words += [f"{p.name}=…" if p.needed else f"[{p.name}=…]" for p in function.named]
    return f"{function.name}({', '.join(words)})"
