"""Reading the claim language: Python's expression syntax through `ast`, against a closed list of what may stand in it.

The text is never run. What it may cost is bounded: 10,000 characters, nesting 100 deep, and 10,000 parts with all that is defined
put in.
"""

from __future__ import annotations

import ast
import functools
import keyword
import re
import warnings
from collections.abc import Mapping

from larktally.errors import ClaimError
from larktally.language.function import Function, signature
from larktally.language.functions import FUNCTIONS
from larktally.language.pointing import fail_at
from larktally.language.tree import (
    IT,
    NAME,
    ChannelRef,
    Compare,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Place,
    Text,
    children,
    is_word,
)
from larktally.names import did_you_mean

__all__ = ["check_define", "misfit", "parse"]

MOST_CHARACTERS = 10_000
DEEPEST = 100
MOST_NODES = 10_000
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
# A string, which is left alone, or a name; a number's own dot or exponent is no part of one.
_NAMES = re.compile(rf"""'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|(?<![\w.]){NAME.pattern}""")


# As long as {it} is, so that places stay, and of letters that no name has by chance.
_IT = "\ua66eit\ua66e"


def _outside_strings(text: str, old: str, new: str) -> str:
    """A text in which something is put in place of something else, but not in quotes."""
    if old not in text:
        return text
    pieces, at = [], 0
    for quoted in _STRINGS.finditer(text):
        pieces += [text[at : quoted.start()].replace(old, new), quoted[0]]
        at = quoted.end()
    return "".join([*pieces, text[at:].replace(old, new)])


_NAMED = re.compile(r"\s*=(?!=)")


def parse(text: str, defines: Mapping[str, Node] | None = None) -> Node:
    """The tree of a text; `defines` are shared expressions that stand for their names.

    >>> from larktally.language.tree import to_text
    >>> to_text(parse("always( implies(event('hop'),prev(wick.grounded)) )"))
    "always(implies(event('hop'), prev(wick.grounded)))"

    Raises ClaimError with the place in the text for anything that is not of the language.
    """
    if not isinstance(text, str):
        raise ClaimError(f"a claim or condition is text, not {text!r}")
    if not defines:
        return _read(text)
    found = _read_with(text, defines)
    _check_growth(found)
    return found


@functools.lru_cache(maxsize=4096)
def _read(text: str) -> Node:
    """A text read once, however many sims of one model are built with it: trees are values, and say the same for ever."""
    return _read_with(text, {})


def _read_with(text: str, defines: Mapping[str, Node]) -> Node:
    # Before Python's parser sees it: a megabyte of brackets ends its stack.
    if len(text) > MOST_CHARACTERS:
        raise ClaimError(f"{len(text)} characters of text; at most {MOST_CHARACTERS} are read")
    flat = re.sub(r"[\r\n\t]", " ", text)
    flat = _outside_strings(flat, IT, _IT)
    lead = len(flat) - len(flat.lstrip())
    source = _NAMES.sub(_stand_in, flat[lead:])
    _check_foreign(text, flat)
    try:
        with warnings.catch_warnings():
            # What Python warns of ('is' with a number, an unknown escape) is judged here, and not by it.
            warnings.simplefilter("ignore")
            tree = ast.parse(source, mode="eval")
    except SyntaxError as error:
        start = max(min((error.offset or 1) - 1 + lead, len(flat)), 0)
        fail_at(text, (start, start + 1), f"cannot be read: {_plain_reason(error.msg)}")
    except (ValueError, MemoryError, RecursionError):
        raise ClaimError("the text cannot be read: it is nested too deep, or holds a number too long") from None
    return _Reader(text, flat, source, lead, defines).read(tree.body, 0)


def _check_growth(tree: Node) -> None:
    """Raises ClaimError for a tree that what is defined makes larger, or deeper, than any text: whoever reads it goes through
    every place, and a define that names the one before twice doubles it each time."""
    grown: dict[int, tuple[int, int]] = {}

    def measured(node: Node) -> tuple[int, int]:
        # By identity: what is defined once stands in many places as one object.
        if id(node) not in grown:
            nodes, depth = 1, 0
            for child in children(node):
                below, deeper = measured(child)
                nodes, depth = nodes + below, max(depth, deeper + 1)
            grown[id(node)] = nodes, depth
        return grown[id(node)]

    nodes, depth = measured(tree)
    if nodes > MOST_NODES:
        raise ClaimError(f"with what is defined it grows to {nodes} parts; at most {MOST_NODES} are read")
    if depth > DEEPEST:
        raise ClaimError(f"with what is defined it is nested {depth} deep; at most {DEEPEST}")


def check_define(name: str) -> None:
    """Raises ClaimError for a name under which an expression would never be found: no name, or one of the language's own."""
    if not NAME.fullmatch(name) or "." in name:
        raise ClaimError("a name is a word, without dots or spaces")
    if name in FUNCTIONS or is_word(name):
        raise ClaimError("it is a word of the language, which would mean something else from then on; choose another")


# What other languages write, by the form that it has here; a string of the claim's own is left out.
_FOREIGN = (
    (re.compile(r"&&?"), "'and' joins conditions here"),
    (re.compile(r"\|\|?"), "'or' joins conditions here"),
    (re.compile(r"\^"), "'!=' says that one of two conditions holds alone, and '**' is a power"),
    (re.compile(r"!(?!=)|~"), "'not' turns a condition round here"),
    (re.compile(r"<>"), "'!=' compares here"),
    (re.compile(r"[!=]=="), "'==' and '!=' compare here"),
    (re.compile(r"=>"), "'>=' compares here, and implies(p, q) says that q follows from p"),
    (re.compile(r"\?"), "(p and q) or (not p and r) says it here"),
    (re.compile(r";"), "one claim is one expression; 'and' joins two"),
    (re.compile(r"(?<![\w.])finally(?=\s*\()"), "eventually(p) asks for p in some row"),
)
# What people try for the value that something had a row ago.
_ROW_BEFORE = frozenset({"before", "previous", "previously", "was", "old"})
_STRINGS = re.compile(r"""'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*\"""")


def _check_foreign(text: str, flat: str) -> None:
    """Raises ClaimError for an operator of another language, with the form that is meant."""
    bare = _STRINGS.sub(lambda found: " " * len(found[0]), flat)
    first = None
    for pattern, hint in _FOREIGN:
        found = pattern.search(bare)
        if found is not None and (first is None or found.start() < first[0]):
            first = found.start(), found.end(), found[0], hint
    if first is not None:
        start, end, word, hint = first
        fail_at(text, (start, end), f"{word!r} is of another language; {hint}")


def _stand_in(found: re.Match[str]) -> str:
    """What Python's syntax is shown in place of a name that it would not read: as many letters, so that places stay.

    A word may begin with a digit (moth.2.x), be of any script, or be one of Python's own (lamp.is.lit). What it says is read
    off the text itself, at the place where it stands.
    """
    word = found[0]
    # Data of an event may be called as Python's own words are: event('changed', from='standing').
    named = keyword.iskeyword(word) and _NAMED.match(found.string, found.end())
    plain = word[0] in "'\"" or (word.isascii() and "." not in word)
    if plain and not named:
        return word
    return "_" * len(word)


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

    def __init__(self, text: str, flat: str, source: str, lead: int, defines: Mapping[str, Node]) -> None:
        self._text, self._flat, self._lead, self._defines = text, flat, lead, defines
        encoded = source.encode()
        self._plain = len(encoded) == len(source)
        self._encoded = encoded

    def read(self, node: ast.expr, depth: int) -> Node:
        # Every later step goes down the tree by recursion.
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
                word = "or"
                if isinstance(op, ast.And):
                    word = "and"
                return Operation(word, tuple(self.read(value, depth + 1) for value in values), place)
            case ast.UnaryOp(op, operand) if isinstance(op, ast.Not | ast.USub):
                return Operation("not" if isinstance(op, ast.Not) else "neg", (self.read(operand, depth + 1),), place)
            case ast.BinOp(left, op, right) if type(op) in _BINARY:
                return Operation(_BINARY[type(op)], (self.read(left, depth + 1), self.read(right, depth + 1)), place)
            case ast.Compare():
                return self._compare(node, place, depth)
        return fail_at(
            self._text, place, f"the claim language has no {_HINTS.get(type(node), type(node).__name__.lower())}"
        )

    def _place(self, node: ast.expr | ast.keyword) -> Place:
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
        return fail_at(self._text, place, f"the claim language has no {value!r}")

    def _name(self, node: ast.Name | ast.Attribute, place: Place) -> Node:
        name = self._word(node, place)
        if name in ("true", "false"):
            return Flag(name == "true", place)
        if name in self._defines:
            return self._defines[name]
        function = FUNCTIONS.get(name)
        if function is not None and not function.positional:
            return function.call((), {}, place)
        return ChannelRef(name, place)

    def _word(self, node: ast.expr, place: Place) -> str:
        """A name as it is written; a dot that stands apart from its words, or behind anything else, is none of a name."""
        word = self._flat[place[0] : place[1]]
        if not isinstance(node, ast.Name) or not NAME.fullmatch(word):
            fail_at(self._text, place, "a dot stands only in a channel's name, with no space around it")
        return word.replace(_IT, IT)

    def _call(self, node: ast.Call, place: Place, depth: int) -> Node:
        if not isinstance(node.func, ast.Name):
            fail_at(self._text, place, "only the language's own functions can be called, by their bare names")
        called = self._word(node.func, self._place(node.func))
        # `wick.y(3)` is a channel used as a function, and deserves that message.
        if "." in called:
            fail_at(self._text, place, "only the language's own functions can be called, by their bare names")
        function = FUNCTIONS.get(called)
        if function is not None and not function.positional:
            fail_at(self._text, self._place(node.func), f"{called} is written without brackets")
        if function is None:
            near = did_you_mean(called, FUNCTIONS)
            if called in _ROW_BEFORE:
                near = "; prev(x) is what x was in the row before"
            fail_at(self._text, self._place(node.func), f"no function {called!r} in the claim language{near}")
        keys = [self._key(word) for word in node.keywords]
        args = [self.read(arg, depth + 1) for arg in node.args if not isinstance(arg, ast.Starred)]
        named = {}
        for key, word in zip(keys, node.keywords, strict=True):
            if key:
                named[key] = self.read(word.value, depth + 1)
        if len(args) + len(named) != len(node.args) + len(node.keywords):
            fail_at(self._text, place, f"{called}: '*' and '**' do not stand in a call here, nor one name twice")
        if why := misfit(function, len(args), named):
            fail_at(self._text, place, why)
        try:
            return function.call(tuple(args), named, place)
        except ClaimError as error:
            fail_at(self._text, place, str(error))

    def _key(self, word: ast.keyword) -> str:
        """The name of a named argument as it is written: Python's own words are hidden from its parser."""
        if not word.arg or word.arg.strip("_"):
            return word.arg or ""
        start, _ = self._place(word)
        key = self._flat[start : start + len(word.arg)]
        # `always(wick.y = 3)`: a channel's name is no argument's, whatever stands in for it.
        if not keyword.iskeyword(key):
            fail_at(self._text, self._place(word), "'=' stands where '==' is meant")
        return key

    def _compare(self, node: ast.Compare, place: Place, depth: int) -> Node:
        if len(node.ops) == 1 and isinstance(node.ops[0], ast.In | ast.NotIn):
            found: Node = Membership(self.read(node.left, depth + 1), self._options(node.comparators[0], depth), place)
            if isinstance(node.ops[0], ast.In):
                return found
            return Operation("not", (found,), place)
        if not all(type(op) in _COMPARE for op in node.ops):
            fail_at(self._text, place, "'in' stands alone, and 'is' not at all; compare with == or !=")
        listed = []
        for arg in [node.left, *node.comparators]:
            listed.append(self.read(arg, depth + 1))
        args = tuple(listed)
        return Compare(tuple(_COMPARE[type(op)] for op in node.ops), args, place)

    def _options(self, node: ast.expr, depth: int) -> tuple[Node, ...]:
        if isinstance(node, ast.Tuple | ast.List):
            listed = node.elts
        else:
            listed = [node]
        options = tuple(self.read(option, depth + 1) for option in listed)
        for option in options:
            # -3 is a sign and a number to the parser.
            negative = isinstance(option, Operation) and option.op == "neg" and isinstance(option.args[0], Number)
            if not isinstance(option, Text | Number) and not negative:
                fail_at(self._text, option.place, "after 'in' stand numbers or strings: x in ('a', 'b')")
        return options


def misfit(function: Function, args: int, named: Mapping[str, object]) -> str | None:
    """Why a call does not fit its function, or None."""
    known = {one.name for one in function.named}
    for name in named:
        if name not in known and not function.by_data:
            near = did_you_mean(name, known)
            compared = "" if near else f"; a comparison is written '==', as in {name} == …"
            return f"{function.name} takes no {name!r}{near}; it is {signature(function)}{compared}"
    for one in function.named:
        if one.needed and one.name not in named:
            return f"{function.name} needs {one.name}=; it is {signature(function)}"
    least = sum(one.needed for one in function.positional)
    if function.many:
        fits = args >= 2
    else:
        fits = least <= args <= len(function.positional)
    if fits:
        return None
    return f"{function.name} does not take {args} arguments; it is {signature(function)}"
