"""Signals that a row tells by its own values: arithmetic, conditions, settings, states."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable
from typing import TypeAlias

import numpy as np
import numpy.typing as npt

from larktally.errors import ClaimError
from larktally.language.arithmetic import greater, smaller
from larktally.language.columns import Array, Evaluator, Labels, as_codes, text_of
from larktally.language.function import Signal, arguments
from larktally.language.names import Names, wraps_of
from larktally.language.rows import RowCompiler
from larktally.language.tree import Call, ChannelRef, Node, Number, Place, Text, to_text
from larktally.language.typecheck import Checker
from larktally.names import unknown_name
from larktally.turning import turned

Numbers: TypeAlias = npt.NDArray[np.float64]

__all__ = ["IMPLIES", "SIGNALS", "states_below"]


def _elementwise(function: Callable[..., object]) -> Callable[[Evaluator, Call], Array]:
    """On columns: a function of the arguments' arrays."""
    return lambda read, node: np.asarray(function(*(read.value(arg) for arg in node.args)))


def _computed(function: Callable[..., object]) -> Callable[[RowCompiler, Call], ast.expr]:
    """On a row: a function of the arguments' numbers."""
    return lambda compiler, node: compiler.call(function, *(compiler.number(arg) for arg in node.args))


def _smaller(x: Numbers, y: Numbers) -> Numbers:
    # Not np.minimum: which of 0.0 and -0.0 it gives hangs on the processor.
    return np.where((y < x) | (y != y), y, x)


def _greater(x: Numbers, y: Numbers) -> Numbers:
    return np.where((y > x) | (y != y), y, x)


def _turn_of(names: Names, node: Call) -> float | None:
    """A whole turn, where one of two numbers that are compared is an angle."""
    return wraps_of(node.args[0], names) or wraps_of(node.args[1], names)


def _near(read: Evaluator, node: Call) -> Array:
    x, y, tolerance = (read.numbers(arg) for arg in node.args)
    return np.asarray(np.abs(turned(x - y, _turn_of(read.names, node))) <= tolerance)


def _is_near(x: float, y: float, tolerance: float) -> bool:
    return abs(x - y) <= tolerance


def _is_near_turned(x: float, y: float, tolerance: float, full: float) -> bool:
    return bool(abs(turned(np.asarray(x - y), full)) <= tolerance)


def _near_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    full = _turn_of(compiler.names, node)
    args = [compiler.number(arg) for arg in node.args]
    if full is None:
        return compiler.call(_is_near, *args)
    return compiler.call(_is_near_turned, *args, ast.Constant(full))


def _near_slack(read: Evaluator, node: Call) -> npt.NDArray[np.float64]:
    x, y, tolerance = (read.numbers(arg) for arg in node.args)
    return np.asarray(tolerance - np.abs(turned(x - y, _turn_of(read.names, node))))


def _full_of(names: Names, node: Call) -> float:
    """The whole turn of a `turn`: what is said, or that of an angle among the two, or 360."""
    given = node.option("full")
    if isinstance(given, Number):
        return float(given.value)
    return _turn_of(names, node) or 360.0


def _turn_fits(checker: Checker, node: Call) -> None:
    given = node.option("full")
    if given is not None and not (isinstance(given, Number) and 0 < float(given.value) < math.inf):
        checker.fail(given, f"full is a whole turn, a number above 0 such as 360, not {to_text(given)}")


def _turn(read: Evaluator, node: Call) -> Array:
    x, y = (read.numbers(arg) for arg in node.args)
    return np.asarray(turned(np.asarray(x - y), _full_of(read.names, node)))


def _turn_between(x: float, y: float, full: float) -> float:
    # Floats both, as columns are: a whole number would be divided otherwise.
    return float(turned(np.asarray(float(x) - float(y)), full))


def _turn_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    full = ast.Constant(_full_of(compiler.names, node))
    return compiler.call(_turn_between, *(compiler.number(arg) for arg in node.args), full)


def _implied(compiler: RowCompiler, node: Call) -> ast.expr:
    premise, conclusion = map(compiler.make, node.args)
    return ast.BoolOp(ast.Or(), [ast.UnaryOp(ast.Not(), premise), conclusion])


def _channel_named(args: tuple[Node, ...], place: Place) -> Node:
    if not isinstance(args[0], Text):
        raise ClaimError(f"ch takes a channel's name in quotes, not {to_text(args[0])}")
    return ChannelRef(args[0].value, place)


def _setting_kind(checker: Checker, node: Call) -> str:
    name = text_of(node.args[0])
    if name not in checker.names.settings:
        checker.fail(node.args[0], unknown_name("param", name, checker.names.settings))
    return checker.kind(checker.names.setting(name))


def _setting_labels(names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels:
    value = names.setting(text_of(node.args[0]))
    if isinstance(value, Text):
        return (value.value,)
    return None


def _setting_on_columns(read: Evaluator, node: Call) -> Array:
    return read.value(read.names.setting(text_of(node.args[0])))


def _setting_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    return compiler.make(compiler.names.setting(text_of(node.args[0])))


def _time(read: Evaluator, node: Call) -> Array:
    rate = read.names.rate
    if rate is None:
        raise ClaimError("time needs a rate")
    return np.asarray(np.arange(read.rows) * float(rate.denominator) / float(rate.numerator))


def _needs_rate(checker: Checker, node: Call) -> None:
    if checker.names.rate is None:
        checker.fail(node, "time needs a rate, and none is known here; give one (--rate), or use frame")


def states_below(labels: tuple[str, ...], state: str) -> list[int]:
    """The codes of a state's own label and of those below it ('airborne/rising' for 'airborne')."""
    found: list[int] = []
    for code, label in enumerate(labels):
        if label == state or label.startswith(state + "/"):
            found.append(code)
    return found


def _state_exists(checker: Checker, node: Call) -> None:
    labels, state = checker.labels(node.args[0]), node.args[1]
    if labels is None or states_below(labels, text_of(state)):
        return
    parents = []
    for label in labels:
        for n in range(label.count("/") + 1):
            parents.append(label.rsplit("/", n)[0])
    checker.fail(state, unknown_name("state", text_of(state), dict.fromkeys(parents)))


def _in_state(read: Evaluator, node: Call) -> Array:
    labels = read.labels(node.args[0]) or ()
    below = np.zeros(max(len(labels), 1), dtype=np.bool_)
    below[states_below(labels, text_of(node.args[1]))] = True
    return below[as_codes(read.value(node.args[0]))]


def _in_state_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    machine, state = node.args
    if not isinstance(machine, ChannelRef):
        raise ClaimError(f"{to_text(node)}: in_state takes a machine's channel and a state's name")
    labels = compiler.names.channels[machine.name].labels
    inside: list[ast.expr] = []
    for code in states_below(labels, text_of(state)):
        inside.append(ast.Constant(labels[code]))
    return ast.Compare(compiler.make(machine), [ast.In()], [ast.Tuple(inside, ast.Load())])


def _touching_channel(names: Names, node: Call) -> str:
    """The channel that a `touching` reads; raises ClaimError where there is none, or more than one."""
    side, given = text_of(node.args[0]), node.option("of")
    channels = [name for name in names.channels if ".touching." in name]
    if given is not None:
        channels = [name for name in channels if name.startswith(f"{text_of(given)}.touching.")]
    if not channels:
        raise ClaimError("no body records what it touches; build it with shows=('touching',)")
    found = [name for name in channels if name.endswith(f".touching.{side}")]
    if not found:
        raise ClaimError(unknown_name("side", side, dict.fromkeys(name.rpartition(".")[2] for name in channels)))
    if len(found) > 1:
        raise ClaimError(f"{len(found)} bodies record what they touch: say of='{found[0].partition('.touching.')[0]}'")
    return found[0]


def _touching_fits(checker: Checker, node: Call) -> None:
    try:
        _touching_channel(checker.names, node)
    except ClaimError as error:
        checker.fail(node, str(error))


IMPLIES = Signal(
    name="implies",
    positional=arguments("p:flag q:flag"),
    result="flag",
    meaning="q, wherever p holds",
    columns=_elementwise(lambda p, q: np.logical_or(np.logical_not(p), q)),
    row=_implied,
)
SIGNALS = (
    Signal(
        name="ch",
        positional=arguments("name:channel"),
        result="channel",
        meaning="the channel of any name",
        columns=lambda read, node: read.value(ChannelRef(text_of(node.args[0]))),
        builds=_channel_named,
    ),
    Signal(
        name="param",
        positional=arguments("name:param"),
        result=_setting_kind,
        meaning="what the model was given for a name; a duration in frames",
        columns=_setting_on_columns,
        row=_setting_on_row,
        labels=_setting_labels,
    ),
    Signal(
        name="frame",
        result="number",
        meaning="the row's number",
        columns=lambda read, node: np.arange(read.rows, dtype=np.float64),
        row=lambda compiler, node: compiler.now("frame"),
    ),
    Signal(
        name="time",
        result="number",
        meaning="the row's time in seconds",
        fits=_needs_rate,
        columns=_time,
        row=lambda compiler, node: compiler.now("time"),
    ),
    Signal(
        name="abs",
        positional=arguments("x:number"),
        result="number",
        meaning="x without its sign",
        columns=_elementwise(np.abs),
        row=_computed(abs),
    ),
    Signal(
        name="min",
        positional=arguments("x:number y:number"),
        result="number",
        meaning="the smaller one",
        columns=_elementwise(_smaller),
        row=_computed(smaller),
    ),
    Signal(
        name="max",
        positional=arguments("x:number y:number"),
        result="number",
        meaning="the greater one",
        columns=_elementwise(_greater),
        row=_computed(greater),
    ),
    Signal(
        name="near",
        positional=arguments("x:number y:number tol:number"),
        result="flag",
        meaning="|x - y| <= tol, of angles the short way",
        columns=_near,
        row=_near_on_row,
        slack=_near_slack,
    ),
    Signal(
        name="turn",
        positional=arguments("x:number y:number"),
        named=arguments("full:number?"),
        result="number",
        meaning="the signed short way from y to x on a circle, in (-full/2, full/2]; full is 360, or what an angle says",
        columns=_turn,
        row=_turn_on_row,
        fits=_turn_fits,
    ),
    IMPLIES,
    Signal(
        name="touching",
        positional=arguments("side:text"),
        named=arguments("of:text?"),
        result="flag",
        meaning="a solid stands flush with that side of the body: left, right, above, below (front, back)",
        fits=_touching_fits,
        columns=lambda read, node: read.value(ChannelRef(_touching_channel(read.names, node))),
        row=lambda compiler, node: compiler.make(ChannelRef(_touching_channel(compiler.names, node))),
        observed=True,
    ),
    Signal(
        name="in_state",
        positional=arguments("machine:label state:state"),
        result="flag",
        meaning="in that state or one below it",
        fits=_state_exists,
        columns=_in_state,
        row=_in_state_on_row,
    ),
)
