"""Reading the claim language: Python's expression syntax through `ast`, against a closed list of what may stand in it.

The text is never run. What it may cost is bounded: 10,000 characters, and nesting 100 deep.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping
from typing import NoReturn

from larktally.claims.grammar import FUNCTIONS, Function, signature
from larktally.claims.tree import (
    Call,
    ChannelRef,
    Comparison,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Place,
    Text,
)
from larktally.errors import ClaimError, did_you_mean

__all__ = ["parse", "fail_at"]

MOST_CHARACTERS = 10_000
DEEPEST = 100
_BINARY: dict[type[ast.operator], str] = {
    ast.Add: "+",
    ast.Sub: "-",
    ast.Mult: "*",
    ast.Div: "/",
    ast.FloorDiv: "//",
    ast.Mod: "%",
    ast.Pow: "**",
}
_COMPARE: dict[type[ast.cmpop], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
_HINTS: dict[type[ast.AST], str] = {
    ast.Lambda: "a lambda",
    ast.IfExp: "'if … else'; write (p and q) or (not p and r)",
    ast.Subscript: "square brackets; for the row before, write prev(x)",
    ast.List: "a list outside of 'in'",
    ast.Tuple: "a tuple outside of 'in'",
    ast.BinOp: "that operator; 'and' and 'or' join conditions here",
    ast.UnaryOp: "that operator; 'not' turns a condition round",
    ast.JoinedStr: "an f-string",
    ast.NamedExpr: "':='; shared expressions stand under [define]",
}
_CHAIN = re.compile(r"""'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|[^\W\d]\w*(?:\.\w+)+""")
_STAND_INS = str.maketrans("0123456789", "ᚠᚢᚦᚨᚱᚲᚷᚹᚺᚾ")
_BACK = str.maketrans("ᚠᚢᚦᚨᚱᚲᚷᚹᚺᚾ", "0123456789")


def parse(text: str, defines: Mapping[str, Node] | None = None) -> Node:
    """The tree of a text; `defines` are shared expressions that stand for their names.

    >>> from larktally.claims.tree import to_text
    >>> to_text(parse("always( implies(event('hop'),prev(wick.grounded)) )"))
    "always(implies(event('hop'), prev(wick.grounded)))"

    Raises ClaimError with the place in the text for anything that is not of the language.
    """
    if not isinstance(text, str):
        raise ClaimError(f"a claim or condition is text, not {text!r}")
    if len(text) > MOST_CHARACTERS:
        raise ClaimError(f"{len(text)} characters of text; at most {MOST_CHARACTERS} are read")
    flat = re.sub(r"[\r\n\t]", " ", text)
    lead = len(flat) - len(flat.lstrip())
    source = _CHAIN.sub(_with_letters, flat[lead:])
    try:
        tree = ast.parse(source, mode="eval")
    except SyntaxError as error:
        start = max(min((error.offset or 1) - 1 + lead, len(flat)), 0)
        fail_at(text, (start, start + 1), f"cannot be read: {_plain_reason(error.msg)}")
    except (ValueError, MemoryError, RecursionError):
        raise ClaimError("the text cannot be read: it is nested too deep, or holds a number too long") from None
    return _Reader(text, source, lead, defines or {}).read(tree.body, 0)


def fail_at(text: str, place: Place, why: str) -> NoReturn:
    """Raises ClaimError with the text and a caret under the place."""
    flat = re.sub(r"[\r\n\t]", " ", text)
    start, end = place
    left = max(0, start - 60)
    shown = flat[left : left + 110]
    caret = " " * (start - left) + "^" * max(1, min(end, left + 110) - start)
    raise ClaimError(f"{why}\n    {shown}\n    {caret}")


def _with_letters(found: re.Match[str]) -> str:
    """Lets a segment begin with a digit (moth.2.x), which Python's syntax does not: same length, other characters."""
    word = found[0]
    if word[0] in "'\"":
        return word
    first, *rest = word.split(".")
    return ".".join([first, *(part.translate(_STAND_INS) if part[0].isdigit() else part for part in rest)])


def _plain_reason(message: str | None) -> str:
    known = {
        "invalid syntax. Perhaps you forgot a comma?": "two things stand side by side; a comma or operator is missing"
    }
    reason = (message or "").split(" (<unknown>")[0]
    if "assign" in reason or "meant '=='" in reason:
        return "'=' stands where '==' is meant"
    return known.get(reason, reason or "the text ends too early")


class _Reader:
    """Turns Python's tree of one text into ours."""

    def __init__(self, text: str, source: str, lead: int, defines: Mapping[str, Node]) -> None:
        self._text, self._lead, self._defines = text, lead, defines
        encoded = source.encode()
        self._plain = len(encoded) == len(source)
        self._encoded = encoded

    def read(self, node: ast.expr, depth: int) -> Node:
        if depth > DEEPEST:
            raise ClaimError(f"nested deeper than {DEEPEST}; name parts of it under [define]")
        place = self._place(node)
        match node:
            case ast.Constant(value):
                return self._constant(value, place)
            case ast.Name() | ast.Attribute():
                return self._name(node, place)
            case ast.Call():
                return self._call(node, place, depth)
            case ast.BoolOp(op, values):
                word = "and" if isinstance(op, ast.And) else "or"
                return Operation(word, tuple(self.read(value, depth + 1) for value in values), place)
            case ast.UnaryOp(op, operand) if isinstance(op, ast.Not | ast.USub):
                return Operation("not" if isinstance(op, ast.Not) else "neg", (self.read(operand, depth + 1),), place)
            case ast.BinOp(left, op, right) if type(op) in _BINARY:
                return Operation(_BINARY[type(op)], (self.read(left, depth + 1), self.read(right, depth + 1)), place)
            case ast.Compare():
                return self._compare(node, place, depth)
        fail_at(self._text, place, f"the claim language has no {_HINTS.get(type(node), type(node).__name__.lower())}")

    def _place(self, node: ast.expr) -> Place:
        start, end = node.col_offset, node.end_col_offset or node.col_offset
        if not self._plain:
            start, end = (len(self._encoded[:offset].decode(errors="ignore")) for offset in (start, end))
        return start + self._lead, end + self._lead

    def _constant(self, value: object, place: Place) -> Node:
        if isinstance(value, bool):
            return Flag(value, place)
        if isinstance(value, int | float):
            try:
                if float(value) != float("inf"):
                    return Number(value if abs(value) <= 2**53 else float(value), place)
            except OverflowError:
                pass
            fail_at(self._text, place, "a number beyond float64")
        if isinstance(value, str):
            return Text(value, place)
        fail_at(self._text, place, f"the claim language has no {value!r}")

    def _name(self, node: ast.Name | ast.Attribute, place: Place) -> Node:
        segments: list[str] = []
        inner: ast.expr = node
        while isinstance(inner, ast.Attribute):
            segments.insert(0, inner.attr.translate(_BACK))
            inner = inner.value
        if not isinstance(inner, ast.Name):
            fail_at(self._text, place, "a dot stands only in a channel's name")
        name = ".".join([inner.id, *segments])
        if name in ("true", "false"):
            return Flag(name == "true", place)
        if name in ("frame", "time"):
            return Call(name, (), (), place)
        return self._defines.get(name) or ChannelRef(name, place)

    def _call(self, node: ast.Call, place: Place, depth: int) -> Node:
        if not isinstance(node.func, ast.Name):
            fail_at(self._text, place, "only the language's own functions can be called, by their bare names")
        function = FUNCTIONS.get(node.func.id)
        if function is None or node.func.id in ("frame", "time"):
            near = did_you_mean(node.func.id, FUNCTIONS)
            fail_at(self._text, self._place(node.func), f"no function {node.func.id!r} in the claim language{near}")
        args = [self.read(arg, depth + 1) for arg in node.args if not isinstance(arg, ast.Starred)]
        named = {word.arg: self.read(word.value, depth + 1) for word in node.keywords if word.arg}
        if len(args) + len(named) != len(node.args) + len(node.keywords):
            fail_at(self._text, place, f"{node.func.id}: '*' and '**' do not stand in a call here, nor one name twice")
        if why := misfit(function, len(args), named):
            fail_at(self._text, place, why)
        if function.name == "ch" and isinstance(args[0], Text):
            return ChannelRef(args[0].value, place)
        return Call(function.name, tuple(args), in_table_order(function, named), place)

    def _compare(self, node: ast.Compare, place: Place, depth: int) -> Node:
        if len(node.ops) == 1 and isinstance(node.ops[0], ast.In | ast.NotIn):
            found: Node = Membership(self.read(node.left, depth + 1), self._options(node.comparators[0], depth), place)
            return found if isinstance(node.ops[0], ast.In) else Operation("not", (found,), place)
        if not all(type(op) in _COMPARE for op in node.ops):
            fail_at(self._text, place, "'in' stands alone, and 'is' not at all; compare with == or !=")
        args = tuple(self.read(arg, depth + 1) for arg in [node.left, *node.comparators])
        return Comparison(tuple(_COMPARE[type(op)] for op in node.ops), args, place)

    def _options(self, node: ast.expr, depth: int) -> tuple[Node, ...]:
        listed = node.elts if isinstance(node, ast.Tuple | ast.List) else [node]
        options = tuple(self.read(option, depth + 1) for option in listed)
        for option in options:
            negative = isinstance(option, Operation) and option.op == "neg" and isinstance(option.args[0], Number)
            if not isinstance(option, Text | Number) and not negative:
                fail_at(self._text, option.place, "after 'in' stand numbers or strings: x in ('a', 'b')")
        return options


def misfit(function: Function, args: int, named: Mapping[str, object]) -> str | None:
    """Why a call does not fit the table, or None."""
    least = sum(parameter.needed for parameter in function.positional)
    fits = args >= 2 if function.many else least <= args <= len(function.positional)
    known = {parameter.name for parameter in function.named}
    wrong = next((name for name in named if name not in known), None)
    lacking = next((p.name for p in function.named if p.needed and p.name not in named), None)
    if wrong is not None:
        return f"{function.name} takes no {wrong!r}{did_you_mean(wrong, known)}; it is {signature(function)}"
    if lacking:
        return f"{function.name} needs {lacking}=; it is {signature(function)}"
    return None if fits else f"{function.name} does not take {args} arguments; it is {signature(function)}"


def in_table_order(function: Function, named: Mapping[str, Node]) -> tuple[tuple[str, Node], ...]:
    """The named arguments as the table orders them, so that equal calls are equal trees."""
    return tuple((p.name, named[p.name]) for p in function.named if p.name in named)
