"""Text guards: the claim language over the values as they stand, compiled once to a plain function.

The function is built from the checked tree, node by node, as Python syntax of our own making; the user's text itself is
never run, and names in it become references to parts that were looked up beforehand.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple, TypeAlias

from larktally.claims.kinds import check_tree, setting_value, states_below
from larktally.claims.text import parse
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
    to_text,
    walk,
)
from larktally.claims.vocabulary import Vocabulary
from larktally.errors import ClaimError, ModelError

__all__ = ["compile_choice", "compile_guard", "compile_row", "in_scope", "reads_of", "Guard", "Source"]

Guard: TypeAlias = Callable[[Any], Any]
_AST_OPS: dict[str, type[ast.operator] | type[ast.cmpop]] = {
    "+": ast.Add,
    "-": ast.Sub,
    "*": ast.Mult,
    "<": ast.Lt,
    "<=": ast.LtE,
    ">": ast.Gt,
    ">=": ast.GtE,
    "==": ast.Eq,
    "!=": ast.NotEq,
}
_HELPED = {"/": "_divide", "//": "_floor", "%": "_modulo", "**": "_power"}
_INPUTS = {"held": "held_by", "pressed": "pressed_by", "released": "released_by", "value": "value_by"}


class Source(NamedTuple):
    """Where a channel's value stands: an object and its attribute."""

    owner: Any
    attribute: str


def compile_guard(
    text: str | Node, words: Vocabulary, sources: Mapping[str, Source], events: Any, what: str, wanted: str = "flag"
) -> Guard:
    """A function of `now` that computes a text as values stand when it is called.

    `events` answers count(name, source) for the row so far. Raises ModelError naming `what` for text that does not fit,
    or that looks back over rows, which a guard cannot.
    """
    try:
        tree = parse(text) if isinstance(text, str) else text
        kind = check_tree(tree, words, text if isinstance(text, str) else None)
        if wanted and kind != wanted:
            raise ClaimError(f"a guard is a condition, true or false in a frame; this is a {kind}")
        maker = _Maker(words, sources, events)
        body = maker.make(tree)
    except ClaimError as error:
        raise ModelError(f"{what}: {error}") from None
    function = ast.Lambda(args=ast.arguments([], [ast.arg("now")], None, [], [], None, []), body=body)
    code = compile(ast.fix_missing_locations(ast.Expression(function)), f"<guard {to_text(tree)}>", "eval")
    return eval(code, maker.names)  # type: ignore[no-any-return]


def in_scope(text: str, scope: str, words: Vocabulary, parts: Iterable[str] = ()) -> str | Node:
    """A text with names below `scope` made whole: 'rest.ready' in the scope 'moth.2' is 'moth.2.rest.ready' where that
    exists. The text itself where nothing changes, so that messages can point into it."""
    if not scope:
        return text
    try:
        tree = parse(text)
    except ClaimError:
        return text
    known = frozenset(parts)

    def whole(node: Node) -> Node:
        match node:
            case ChannelRef(name) if f"{scope}.{name}" in words.channels:
                return ChannelRef(f"{scope}.{name}", node.place)
            case Call(name, args, named):
                own = [
                    (key, Text(f"{scope}.{value.value}"))
                    if key == "source" and isinstance(value, Text) and f"{scope}.{value.value}" in known
                    else (key, value)
                    for key, value in named
                ]
                return Call(name, tuple(map(whole, args)), tuple(own), node.place)
            case Operation(op, args):
                return Operation(op, tuple(map(whole, args)), node.place)
            case Comparison(ops, args):
                return Comparison(ops, tuple(map(whole, args)), node.place)
            case Membership(item, options):
                return Membership(whole(item), options, node.place)
        return node

    made = whole(tree)
    return text if made == tree else made


def compile_row(sources: Sequence[Source]) -> Callable[[], tuple[Any, ...]]:
    """A function that reads all sources at once, as a tuple: what a row of a sim is made by.

    Built in the same way as a guard; it costs a fifth of reading the attributes one part after the other.
    """
    maker = _Maker(Vocabulary({}), {}, None)
    values: list[ast.expr] = [ast.Attribute(maker._owner(owner), attribute, ast.Load()) for owner, attribute in sources]
    function = ast.Lambda(args=ast.arguments([], [], None, [], [], None, []), body=ast.Tuple(values, ast.Load()))
    code = compile(ast.fix_missing_locations(ast.Expression(function)), "<row>", "eval")
    return eval(code, maker.names)  # type: ignore[no-any-return]


def compile_choice(
    guards: Sequence[tuple[int, str | Node | Guard | None]],
    words: Vocabulary,
    sources: Mapping[str, Source],
    events: Any,
) -> Callable[[Any, int], int]:
    """A function of `now` and an age: the index of the first guard that holds, each after its own age; -1 for none.

    One call for all guards of a state costs half of one call for each.
    """
    maker = _Maker(words, sources, events)
    chosen: ast.expr = ast.Constant(-1)
    for index in reversed(range(len(guards))):
        after, guard = guards[index]
        tests: list[ast.expr] = []
        if after > 1:
            tests.append(ast.Compare(ast.Name("age", ast.Load()), [ast.GtE()], [ast.Constant(after)]))
        if callable(guard):
            maker.names[f"_guard{index}"] = guard
            tests.append(ast.Call(ast.Name(f"_guard{index}", ast.Load()), [ast.Name("now", ast.Load())], []))
        elif guard is not None:
            tests.append(maker.make(parse(guard) if isinstance(guard, str) else guard))
        test = ast.BoolOp(ast.And(), tests) if len(tests) > 1 else tests[0] if tests else ast.Constant(True)
        chosen = ast.IfExp(test, ast.Constant(index), chosen)
    function = ast.Lambda(args=ast.arguments([], [ast.arg("now"), ast.arg("age")], None, [], [], None, []), body=chosen)
    code = compile(ast.fix_missing_locations(ast.Expression(function)), "<choice>", "eval")
    return eval(code, maker.names)  # type: ignore[no-any-return]


def reads_of(
    text: str | Node, words: Vocabulary, sources: Mapping[str, Source], events: Any
) -> list[tuple[str, Guard]]:
    """The channels, inputs, events and settings that a text reads, each as its own text and a function of `now` for its
    value."""
    tree = parse(text) if isinstance(text, str) else text
    read = ("event", "events", "frame", "time", "param", *_INPUTS)
    named = [n for n in walk(tree) if isinstance(n, ChannelRef) or (isinstance(n, Call) and n.name in read)]
    return [(to_text(n), compile_guard(n, words, sources, events, "guard", "")) for n in dict.fromkeys(named)]


class _Maker:
    """Makes Python syntax from a checked tree, and the names that it refers to."""

    def __init__(self, words: Vocabulary, sources: Mapping[str, Source], events: Any) -> None:
        self._words, self._sources = words, sources
        self.names: dict[str, Any] = {"__builtins__": {}, "_abs": abs, "_events": events, **_HELPERS}
        self._owners: dict[int, str] = {}

    def make(self, node: Node) -> ast.expr:
        match node:
            case Number(value):
                return ast.Constant(float(value))
            case Text(value) | Flag(value):
                return ast.Constant(value)
            case ChannelRef(name):
                source = self._sources[name]
                return ast.Attribute(self._owner(source.owner), source.attribute, ast.Load())
            case Operation():
                return self._operation(node)
            case Comparison(ops, args):
                first, *rest = map(self.make, args)
                return ast.Compare(first, [_AST_OPS[op]() for op in ops], rest)  # type: ignore[misc]
            case Membership(item, options):
                inside = ast.Tuple([self.make(option) for option in options], ast.Load())
                return ast.Compare(self.make(item), [ast.In()], [inside])
            case Call():
                return self._call(node)

    def _owner(self, owner: Any) -> ast.expr:
        name = self._owners.setdefault(id(owner), f"_part{len(self._owners)}")
        self.names[name] = owner
        return ast.Name(name, ast.Load())

    def _operation(self, node: Operation) -> ast.expr:
        args = [self.make(arg) for arg in node.args]
        if node.op in ("and", "or"):
            return ast.BoolOp(ast.And() if node.op == "and" else ast.Or(), args)
        if node.op in ("not", "neg"):
            return ast.UnaryOp(ast.Not() if node.op == "not" else ast.USub(), args[0])
        if node.op in _HELPED:
            return self._helper(_HELPED[node.op], *args)
        return ast.BinOp(args[0], _AST_OPS[node.op](), args[1])  # type: ignore[arg-type]

    def _helper(self, name: str, *args: ast.expr) -> ast.expr:
        return ast.Call(ast.Name(name, ast.Load()), list(args), [])

    def _call(self, node: Call) -> ast.expr:
        named = node.args[0].value if node.args and isinstance(node.args[0], Text) else ""
        if node.name in _INPUTS:
            table = ast.Attribute(
                ast.Attribute(ast.Name("now", ast.Load()), "inputs", ast.Load()), _INPUTS[node.name], ast.Load()
            )
            return ast.Subscript(table, ast.Constant(named), ast.Load())
        if node.name in ("event", "events"):
            source = node.option("source")
            said = self._helper(
                "_events", ast.Constant(named), ast.Constant(source.value if isinstance(source, Text) else None)
            )
            return said if node.name == "events" else ast.Compare(said, [ast.Gt()], [ast.Constant(0)])
        if node.name in ("frame", "time"):
            return ast.Attribute(ast.Name("now", ast.Load()), node.name, ast.Load())
        if node.name == "param":
            return self.make(setting_value(self._words, str(named)))
        if node.name == "in_state":
            return self._in_state(node)
        if node.name == "implies":
            premise, conclusion = map(self.make, node.args)
            return ast.BoolOp(ast.Or(), [ast.UnaryOp(ast.Not(), premise), conclusion])
        if node.name in ("abs", "min", "max", "near"):
            return self._helper(f"_{node.name}", *map(self.make, node.args))
        raise ModelError(
            f"{to_text(node)} looks at other rows, and a guard sees only this frame; keep it in a value, a timer or a request"
        )

    def _in_state(self, node: Call) -> ast.expr:
        machine, state = node.args
        if not isinstance(machine, ChannelRef) or not isinstance(state, Text):
            raise ModelError(f"{to_text(node)}: in_state takes a machine's channel and a state's name")
        labels = self._words.channels[machine.name].labels
        inside = ast.Tuple([ast.Constant(labels[code]) for code in states_below(labels, state.value)], ast.Load())
        return ast.Compare(self.make(machine), [ast.In()], [inside])


def _divide(x: float, y: float) -> float:
    try:
        return x / y
    except ZeroDivisionError:
        return math.nan if x == 0 or x != x else math.copysign(math.inf, x) * math.copysign(1.0, y)


def _floor(x: float, y: float) -> float:
    if y == 0:
        return _divide(x, y)
    return float(x) // y if math.isfinite(x) else math.nan


def _modulo(x: float, y: float) -> float:
    return float(x) % y if y != 0 and math.isfinite(x) else math.nan


def _power(x: float, y: float) -> float:
    try:
        return math.pow(x, y)
    except OverflowError:
        return -math.inf if x < 0 and y % 2 == 1 else math.inf
    except ValueError:
        return math.inf if x == 0 else math.nan


def _min(x: float, y: float) -> float:
    return math.nan if x != x or y != y else min(x, y)


def _max(x: float, y: float) -> float:
    return math.nan if x != x or y != y else max(x, y)


def _near(x: float, y: float, tolerance: float) -> bool:
    return abs(x - y) <= tolerance


_HELPERS: dict[str, Any] = {
    "_divide": _divide,
    "_floor": _floor,
    "_modulo": _modulo,
    "_power": _power,
    "_min": _min,
    "_max": _max,
    "_near": _near,
}
