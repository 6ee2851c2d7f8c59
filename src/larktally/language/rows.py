"""Evaluation on a row: a checked expression compiled once to a plain function of the values as they stand.

The function is built from the tree, node by node, as Python syntax of our own making; the user's text itself is never run,
and names in it become references to parts that were looked up beforehand. A compiled guard costs about what the same lambda
costs, and a tenth of walking the tree. Its source is in `linecache`, so that a traceback and a debugger show it.

`columns.py` computes the same functions over all rows of a trace; a differential test holds the two equal.
"""

from __future__ import annotations

import ast
import functools
import linecache
import zlib
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple, Protocol, TypeAlias, cast

from larktally.errors import ClaimError
from larktally.language.arithmetic import divided, floor_divided, modulo, power
from larktally.language.durations import with_frames
from larktally.language.names import Names
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
    is_small,
    to_text,
)

__all__ = ["Binding", "EmittedEvents", "RowCompiler", "RowFunction", "compile_lambda", "compile_row", "maker"]

#: What an event's data have to say: fields and their values.
Where: TypeAlias = "tuple[tuple[str, object], ...]"
_OPERATORS: dict[str, type[ast.operator]] = {"+": ast.Add, "-": ast.Sub, "*": ast.Mult}
_COMPARES: dict[str, type[ast.cmpop]] = {
    "<": ast.Lt,
    "<=": ast.LtE,
    ">": ast.Gt,
    ">=": ast.GtE,
    "==": ast.Eq,
    "!=": ast.NotEq,
}
# What Python's own operators answer with an exception, or not as IEEE 754 does, is computed by functions.
_COMPUTED: dict[str, Callable[[float, float], float]] = {
    "/": divided,
    "//": floor_divided,
    "%": modulo,
    "**": power,
}
# Shapes of sims in one process: a text of some kilobytes each.
MOST_KEPT = 128


class Binding(NamedTuple):
    """Where a channel's value stands: an object and its attribute."""

    owner: object
    attribute: str


class EmittedEvents(Protocol):
    """What was emitted in the row so far."""

    def count_emitted(self, name: str, source: str | None = None) -> int: ...
    def data_emitted(self, name: str, source: str | None, where: Where) -> list[dict[str, Any]]:
        """The data of the events of a name, from `source` or a part below it, that carry these values; in their order."""


class RowFunction(Protocol):
    """What the compiler needs of a function of the language."""

    def on_row(self, compiler: RowCompiler, node: Call) -> ast.expr | None: ...


class RowCompiler:
    """Makes Python syntax from a checked tree, and the names that it refers to (`globals`).

    `events` answers what was emitted in the row so far.
    """

    def __init__(
        self,
        names: Names,
        bindings: Mapping[str, Binding],
        events: EmittedEvents | None,
        functions: Mapping[str, RowFunction],
    ) -> None:
        self.names, self._bindings, self._functions = names, bindings, functions
        self._events = events
        # Without builtins, nothing that stands in the syntax by mistake can reach them.
        self.globals: dict[str, object] = {"__builtins__": {}}
        self._owners: dict[int, str] = {}
        self._sources: dict[str, str] = {}

    def make(self, node: Node) -> ast.expr:
        """The syntax that computes a node."""
        match node:
            case Number(value):
                return ast.Constant(float(value))
            case Text(value) | Flag(value):
                return ast.Constant(value)
            case ChannelRef(name):
                binding = self._bindings[name]
                return ast.Attribute(self.reference(binding.owner), binding.attribute, ast.Load())
            case Operation():
                return self._operation(node)
            case Compare():
                return self._comparison(node)
            case Membership(item, options):
                inside = ast.Tuple([self.make(option) for option in options], ast.Load())
                return ast.Compare(self.make(item), [ast.In()], [inside])
            case Call(name):
                made = self._functions[name].on_row(self, node)
                if made is None:
                    raise ClaimError(
                        f"{to_text(node)} looks at other rows, and a guard sees only this frame; "
                        "keep it in a value, a timer or a press buffer"
                    )
                return made

    def number(self, node: Node) -> ast.expr:
        """The syntax that computes a node as a float: a count channel holds an int, and arithmetic is float64 throughout."""
        made = self.make(node)
        if isinstance(node, ChannelRef) and self.names.channels[node.name].kind == "count":
            return self.call(float, made)
        return made

    def call(self, function: Callable[..., object], *args: ast.expr) -> ast.expr:
        """A call of a function of ours."""
        name = f"_{function.__name__}"
        self.globals[name] = function
        return ast.Call(ast.Name(name, ast.Load()), list(args), [])

    def count_events(self, name: str, source: str | None) -> ast.expr:
        """How many events of a name this row holds so far."""
        if self._events is not None:
            # Bound once: looking the method up costs a third of the call.
            self.globals["_count_emitted"] = self._events.count_emitted
        return ast.Call(ast.Name("_count_emitted", ast.Load()), [ast.Constant(name), self._source(source)], [])

    def data_of_events(self, name: str, source: str | None, where: Where) -> ast.expr:
        """The data of the events of a name that this row holds so far, of those that carry some values."""
        if self._events is not None:
            self.globals["_data_emitted"] = self._events.data_emitted
        args: list[ast.expr] = [ast.Constant(name), self._source(source), ast.Constant(cast(Any, where))]
        return ast.Call(ast.Name("_data_emitted", ast.Load()), args, [])

    def _source(self, source: str | None) -> ast.expr:
        """A part that events come from, as a name that stands for its own: of a hundred machines that each wait for a timer of
        their own the syntax is then the same."""
        if source is None:
            return ast.Constant(None)
        name = self._sources.setdefault(source, f"_source{len(self._sources)}")
        self.globals[name] = source
        return ast.Name(name, ast.Load())

    def now(self, *attributes: str) -> ast.expr:
        """An attribute of the context that the function is called with, or one of that."""
        made: ast.expr = ast.Name("now", ast.Load())
        for attribute in attributes:
            made = ast.Attribute(made, attribute, ast.Load())
        return made

    def owner(self, channel: str) -> object:
        """The object that a channel's value stands in."""
        return self._bindings[channel].owner

    def reference(self, owner: object) -> ast.expr:
        """A reference to an object."""
        # By identity: two parts may compare equal, and are two.
        name = self._owners.setdefault(id(owner), f"_part{len(self._owners)}")
        self.globals[name] = owner
        return ast.Name(name, ast.Load())

    def _operation(self, node: Operation) -> ast.expr:
        if node.op in ("and", "or"):
            return ast.BoolOp(ast.And() if node.op == "and" else ast.Or(), [self.make(arg) for arg in node.args])
        if node.op == "not":
            return ast.UnaryOp(ast.Not(), self.make(node.args[0]))
        args = [self.number(arg) for arg in node.args]
        if node.op == "neg":
            return ast.UnaryOp(ast.USub(), args[0])
        # The operators left are those that Python and IEEE 754 agree on.
        if node.op in _COMPUTED:
            return self.call(_COMPUTED[node.op], *args)
        return ast.BinOp(args[0], _OPERATORS[node.op](), args[1])

    def _comparison(self, node: Compare) -> ast.expr:
        node = with_frames(node, self.names)
        # An int is compared with a small constant just as its float would be: no call of float() for `wick.burst.left == 0`.
        plain = len(node.args) == 2 and any(is_small(arg) for arg in node.args)
        if plain:
            make = self.make
        else:
            make = self.number
        first, *rest = map(make, node.args)
        return ast.Compare(first, [_COMPARES[op]() for op in node.ops], rest)


def compile_lambda(
    title: str, parameters: Sequence[str], body: ast.expr, names: dict[str, object]
) -> Callable[..., object]:
    """A function of the parameters that computes `body`; `title` is what a traceback calls the file it stands in."""
    arguments = ast.arguments([], [ast.arg(name) for name in parameters], None, [], [], None, [])
    tree = ast.fix_missing_locations(ast.Expression(ast.Lambda(arguments, body)))
    # A one-element entry is read when a line of it is first asked for: writing out the source costs as much as compiling it.
    linecache.cache[title] = (lambda: ast.unparse(tree) + "\n",)
    return cast("Callable[..., object]", eval(compile(tree, title, "eval"), names))


def compile_row(bindings: Sequence[Binding]) -> Callable[[], tuple[float | int | bool | str, ...]]:
    """A function that reads all bindings at once, as a tuple: what a row of a sim is made by.

    It costs a fifth of reading the attributes one part after the other.
    """
    # By identity: two parts may compare equal, and are two.
    owners: dict[int, tuple[str, object]] = {}
    values = []
    for owner, attribute in bindings:
        name, _ = owners.setdefault(id(owner), (f"part_{len(owners)}", owner))
        values.append(f"{name}.{attribute},")
    names = ", ".join(name for name, _ in owners.values())
    text = f"def made_for({names}):\n    return lambda: ({' '.join(values)})\n"
    return cast(
        "Callable[[], tuple[float | int | bool | str, ...]]",
        maker(text, "row")(*(owner for _, owner in owners.values())),
    )


@functools.lru_cache(maxsize=MOST_KEPT)
def maker(text: str, what: str) -> Callable[..., Callable[..., object]]:
    """The function `made_for` that a text of our own defines: compiled once for all that have the same text."""
    title = f"larktally {what} {zlib.crc32(text.encode()):08x}"
    linecache.cache[title] = (lambda: text,)
    # Without builtins, nothing that stands in the text by mistake can reach them.
    names: dict[str, Any] = {"__builtins__": {}}
    exec(compile(text, title, "exec"), names)
    return cast("Callable[..., Callable[..., object]]", names["made_for"])
