"""The expression tree that claims and text guards share, and its text.

Nodes are plain values: two trees that say the same are equal and hash alike, wherever in a text they stood.
"""

from __future__ import annotations

import fnmatch
import keyword
import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import TypeAlias

import msgspec

__all__ = [
    "channels_named",
    "channels_read",
    "names_and_texts",
    "Node",
    "Number",
    "Text",
    "Flag",
    "ChannelRef",
    "Operation",
    "Compare",
    "Membership",
    "Call",
    "Place",
    "children",
    "is_small",
    "walk",
    "to_text",
    "is_word",
    "stands_bare",
    "IT",
    "NAME",
]

Place: TypeAlias = tuple[int, int]
NOWHERE: Place = (0, 0)


class _Said(msgspec.Struct, frozen=True, eq=False, dict=True):
    """What the nodes have in common: they are equal where they say the same, wherever that stood."""

    # Both are kept: whoever checks a hundred claims asks thousands of times whether a node is one that is known.
    @cached_property
    def _what(self) -> tuple[object, ...]:
        return tuple(getattr(self, name) for name in self.__struct_fields__ if name != "place")

    @cached_property
    def _hash(self) -> int:
        return hash((type(self), *self._what))

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and other._what == self._what

    def __hash__(self) -> int:
        return self._hash


class Number(_Said, frozen=True, eq=False):
    """A number, zero or above; one below is an operation "neg"."""

    value: float
    place: Place = NOWHERE


class Text(_Said, frozen=True, eq=False):
    """A string: a label, a name, or a duration such as '0.8s'."""

    value: str
    place: Place = NOWHERE


class Flag(_Said, frozen=True, eq=False):
    """true or false."""

    value: bool
    place: Place = NOWHERE


class ChannelRef(_Said, frozen=True, eq=False):
    """A channel, by its name."""

    name: str
    place: Place = NOWHERE


class Operation(_Said, frozen=True, eq=False):
    """`op` is one of + - * / // % ** neg and or not."""

    op: str
    args: tuple[Node, ...]
    place: Place = NOWHERE


class Compare(_Said, frozen=True, eq=False):
    """A chain: args[0] ops[0] args[1] ops[1] args[2] …, of < <= > >= == !=."""

    ops: tuple[str, ...]
    args: tuple[Node, ...]
    place: Place = NOWHERE


class Membership(_Said, frozen=True, eq=False):
    """item in (options): options are numbers or strings."""

    item: Node
    options: tuple[Node, ...]
    place: Place = NOWHERE


class Call(_Said, frozen=True, eq=False):
    """A function of the language, with its named arguments in the order of the language's own table."""

    name: str
    args: tuple[Node, ...] = ()
    named: tuple[tuple[str, Node], ...] = ()
    place: Place = NOWHERE

    def option(self, name: str) -> Node | None:
        """The named argument, or None."""
        return dict(self.named).get(name)


Node: TypeAlias = Number | Text | Flag | ChannelRef | Operation | Compare | Membership | Call

_BINDS = {"or": 1, "and": 2, "not": 3, "+": 5, "-": 5, "*": 6, "/": 6, "//": 6, "%": 6, "neg": 7, "**": 8}
_COMPARES = 4
_ATOM = 9
# What cannot stand for a channel without quotes: the language's own words, and those that Python's syntax keeps.
_WORDS = frozenset({"true", "false", "frame", "time", *keyword.kwlist})
#: What stands for one of many, in a name or in a text.
IT = "{it}"
#: A name as it may stand in text: words of any script joined by dots; all but the first may begin with a digit.
NAME = re.compile(r"[^\W\d]\w*(?:\.\w+)*")


def children(node: Node) -> tuple[Node, ...]:
    """The nodes directly below."""
    match node:
        case Operation() | Compare():
            return node.args
        case Membership():
            return (node.item, *node.options)
        case Call():
            return (*node.args, *(value for _, value in node.named))
    return ()


def walk(node: Node) -> Iterator[Node]:
    """The node and all below it, the outermost first."""
    yield node
    for child in children(node):
        yield from walk(child)


def names_and_texts(trees: Iterable[Node]) -> tuple[set[str], set[str]]:
    """The channels that some trees name, and the texts in quotes in them, which may be channels or events too."""
    names: set[str] = set()
    texts: set[str] = set()
    for tree in trees:
        for node in walk(tree):
            if isinstance(node, ChannelRef):
                names.add(node.name)
            elif isinstance(node, Text):
                texts.add(node.value)
    return names, texts


def channels_read(trees: Iterable[Node], known: Iterable[str]) -> set[str]:
    """Those of some channels that trees may read: by name, in quotes, below a name in quotes (a clock's), or by a pattern."""
    names, texts = names_and_texts(trees)
    found = set()
    for name in known:
        segments = name.split(".")
        leading = {".".join(segments[:n]) for n in range(1, len(segments) + 1)}
        # Of what a pattern matches everything, since whether it is there stands beside it.
        matched = any(fnmatch.filter(leading, text) for text in texts)
        if name in names or leading & texts or segments[-1] in texts or matched:
            found.add(name)
    return found


def channels_named(names: Iterable[str], texts: Iterable[str], known: Iterable[str]) -> set[str]:
    """Those of some channels that are named outright, or that are meant where {it} stands for one that a pattern matches."""
    own = {name for name in names if IT not in name}
    filled = [name for name in names if IT in name]
    patterns = [text for text in texts if "*" in text or "?" in text or "[" in text]
    found = set()
    for name in known:
        matched = any(fnmatch.fnmatchcase(name, one.replace(IT, pattern)) for one in filled for pattern in patterns)
        if name in own or matched:
            found.add(name)
    return found


def is_word(name: str) -> bool:
    """Whether a name is one of the language's own words, or one that Python's syntax keeps."""
    return name in _WORDS


def stands_bare(name: str) -> bool:
    """Whether a channel's name can stand in text as it is, rather than as ch('…')."""
    # Everything else is written ch('…'), so that a text always reads back to its tree.
    return NAME.fullmatch(name.replace(IT, "it")) is not None and name not in _WORDS


def to_text(node: Node) -> str:
    """The node in the claim language; reading it back gives an equal tree.

    >>> to_text(Compare(("<",), (ChannelRef("wick.y"), Operation("neg", (Number(2),)))))
    'wick.y < -2'
    """
    return _write(node, 0)


def _write(node: Node, outer: int) -> str:
    text, binds = _written(node)
    if binds < outer:
        return f"({text})"
    return text


def _written(node: Node) -> tuple[str, int]:
    match node:
        case Number(value):
            return (repr(int(value)) if float(value).is_integer() and abs(value) < 1e15 else repr(float(value))), _ATOM
        case Text(value):
            return _quoted(value), _ATOM
        case Flag(value):
            return ("true" if value else "false"), _ATOM
        case ChannelRef(name):
            return (name if stands_bare(name) else f"ch({_quoted(name)})"), _ATOM
        case Operation():
            return _written_operation(node), _BINDS[node.op]
        case Compare(ops, args):
            rest = "".join(f" {op} {_write(arg, _COMPARES + 1)}" for op, arg in zip(ops, args[1:], strict=True))
            return _write(args[0], _COMPARES + 1) + rest, _COMPARES
        case Membership(item, options):
            inside = ", ".join(_write(option, 0) for option in options) + ("," if len(options) == 1 else "")
            return f"{_write(item, _COMPARES + 1)} in ({inside})", _COMPARES
        case Call(name, args, named):
            # What takes no argument (frame, time) is written without parentheses.
            if not args and not named:
                return name, _ATOM
            inside = ", ".join(
                [*(_write(arg, 0) for arg in args), *(f"{key}={_write(value, 0)}" for key, value in named)]
            )
            return f"{name}({inside})", _ATOM


def _written_operation(node: Operation) -> str:
    binds = _BINDS[node.op]
    if node.op == "neg":
        return "-" + _write(node.args[0], binds)
    if node.op == "not":
        return "not " + _write(node.args[0], binds)
    if node.op in ("and", "or"):
        return f" {node.op} ".join(_write(arg, binds + 1) for arg in node.args)
    if node.op == "**":
        return f"{_write(node.args[0], binds + 1)} ** {_write(node.args[1], _BINDS['neg'])}"
    return f"{_write(node.args[0], binds)} {node.op} {_write(node.args[1], binds + 1)}"


def _quoted(value: str) -> str:
    return repr(value)


def is_small(node: Node) -> bool:
    """Whether a node is a number below 2**53. Beyond it a whole number is not a float64 any more: only there does it matter in
    which of the two a count is compared."""
    return isinstance(node, Number) and abs(node.value) < 2.0**53
