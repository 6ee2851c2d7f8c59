"""The language put to use: trees type-checked, evaluators of traces, and conditions compiled for one row.

Here the table of functions meets the checker and the two evaluators, which know no function by name.
"""

from __future__ import annotations

import ast
import functools
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import TypeAlias, TypeVar, cast

from larktally.errors import ClaimError, ModelError
from larktally.language.columns import Evaluator
from larktally.language.functions import FUNCTIONS, SIGNALS
from larktally.language.names import Names, matching_names
from larktally.language.parsing import parse
from larktally.language.rows import Binding, EmittedEvents, RowCompiler, compile_lambda
from larktally.language.tree import Call, ChannelRef, Compare, Membership, Node, Operation, Text, children, to_text
from larktally.language.typecheck import Checker
from larktally.traces.trace import Trace

__all__ = [
    "Guard",
    "Scope",
    "choice_lines",
    "compile_choice",
    "compile_guard",
    "evaluator",
    "in_scope",
    "late_guard",
    "once",
    "reads_of",
    "typecheck",
]

# Each guard nests one deeper, and Python's compiler goes down by recursion.
MOST_IN_ONE = 50
#: A function of `now`; what it answers is a flag where a guard is wanted, and a signal's value where one is read.
Guard: TypeAlias = Callable[..., object]
T = TypeVar("T")


def typecheck(tree: Node, names: Names, text: str | None = None) -> str:
    """The kind of a tree: number, flag, label, property or measure.

    `text` is what the tree was read from, for the caret in messages; without it messages carry the part's own text.
    Raises ClaimError for the first thing that does not fit.
    """
    return Checker(names, FUNCTIONS, text).kind(tree)


def evaluator(trace: Trace, other: Trace | None = None) -> Evaluator:
    """An evaluator of a trace, and of a second one that `same` compares with."""
    return Evaluator(trace, FUNCTIONS, typecheck, other)


class Scope:
    """What a text guard is read in: the names of a sim or a run, where their values stand, and the row's events.

    `events` answers what was emitted in the row so far.
    """

    __slots__ = ("bindings", "events", "names")

    def __init__(self, names: Names, bindings: Mapping[str, Binding], events: EmittedEvents) -> None:
        self.names, self.bindings, self.events = names, bindings, events

    def compiler(self) -> RowCompiler:
        """A compiler of expressions over these names."""
        return RowCompiler(self.names, self.bindings, self.events, FUNCTIONS)


def compile_guard(text: str | Node, scope: Scope, what: str, wanted: str = "flag") -> Guard:
    """A function of `now` that computes a text as values stand when it is called.

    Raises ModelError naming `what` for text that does not fit, or that looks back over rows, which a guard cannot.
    """
    return _checked_guard(text, scope, what, wanted)()


def late_guard(text: str | Node, scope: Scope, what: str) -> Guard:
    """The same, checked now and compiled when it is first called: most guards are asked in lines of their machine's own."""
    make = once(_checked_guard(text, scope, what, "flag"))
    return lambda now: make()(now)


def once(make: Callable[[], T]) -> Callable[[], T]:
    """A function that makes something when it is first called: what functools.cache does, at a tenth of its price to set up."""
    made: list[T] = []

    def get() -> T:
        if not made:
            made.append(make())
        return made[0]

    return get


def _checked_guard(text: str | Node, scope: Scope, what: str, wanted: str) -> Callable[[], Guard]:
    """What compiles a text, once it is known that it can be."""
    try:
        tree = parse(text) if isinstance(text, str) else text
        kind = typecheck(tree, scope.names, text if isinstance(text, str) else None)
        if wanted and kind != wanted:
            raise ClaimError(f"a guard is a condition, true or false in a frame; this is a {kind}")
        compiler = scope.compiler()
        body = compiler.make(tree)
    except ClaimError as error:
        raise ModelError(f"{what}: {error}") from None
    return lambda: compile_lambda(f"larktally guard {to_text(tree)}", ("now",), body, compiler.globals)


def choice_lines(
    guards: Mapping[str, Sequence[tuple[int, str | Node | Guard | None]]], scope: Scope, then: Sequence[str]
) -> tuple[list[str], dict[str, object]]:
    """The choice of every state as lines of Python, and what their names stand for: by `state`, `age` and `now` they find the
    first guard that holds, each after its own age, and do what the lines `then` say, in which `RULE` is its index. No lines
    where no state has a rule."""
    compiler = scope.compiler()
    lines: list[str] = []
    count = 0
    for state, asked in guards.items():
        word = "if"
        if asked:
            lines.append(f"{'elif' if lines else 'if'} state == {state!r}:")
        for index, (after, guard) in enumerate(asked):
            lines.append(f"    {word} {ast.unparse(_test(compiler, count, after, guard))}:")
            lines += [f"        {line.replace('RULE', str(index))}" for line in then]
            word, count = "elif", count + 1
    names = dict(compiler.globals)
    del names["__builtins__"]
    return lines, names


def compile_choice(
    guards: Sequence[tuple[int, str | Node | Guard | None]], scope: Scope, title: str
) -> Callable[[object, int], int]:
    """A function of `now` and an age: the index of the first guard that holds, each after its own age; -1 for none.

    One call for all guards of a state costs half of one call for each.
    """
    if len(guards) > MOST_IN_ONE:
        return _choice_in_parts(guards, scope, title)
    compiler = scope.compiler()
    chosen: ast.expr = ast.Constant(-1)
    for index in reversed(range(len(guards))):
        test = _test(compiler, index, *guards[index])
        chosen = ast.IfExp(test, ast.Constant(index), chosen)
    return cast("Callable[[object, int], int]", compile_lambda(title, ("now", "age"), chosen, compiler.globals))


def _choice_in_parts(
    guards: Sequence[tuple[int, str | Node | Guard | None]], scope: Scope, title: str
) -> Callable[[object, int], int]:
    """The same for more guards than one expression may nest: asked a part at a time."""
    parts = []
    for first in range(0, len(guards), MOST_IN_ONE):
        part = guards[first : first + MOST_IN_ONE]
        parts.append((first, compile_choice(part, scope, f"{title}, from rule {first + 1} on")))

    def choose(now: object, age: int) -> int:
        for first, choice in parts:
            index = choice(now, age)
            if index >= 0:
                return first + index
        return -1

    return choose


def _test(compiler: RowCompiler, index: int, after: int, guard: str | Node | Guard | None) -> ast.expr:
    """Whether a rule's state has lasted long enough and its guard holds."""
    tests: list[ast.expr] = []
    if after > 1:  # age is 1 or more when the rules are tried
        tests.append(ast.Compare(ast.Name("age", ast.Load()), [ast.GtE()], [ast.Constant(after)]))
    if callable(guard):
        name = f"_guard{index}"
        compiler.globals[name] = guard
        tests.append(ast.Call(ast.Name(name, ast.Load()), [ast.Name("now", ast.Load())], []))
    elif guard is not None:
        tests.append(compiler.make(parse(guard) if isinstance(guard, str) else guard))
    if not tests:
        return ast.Constant(True)
    if len(tests) == 1:
        return tests[0]
    return ast.BoolOp(ast.And(), tests)


def reads_of(text: str | Node, scope: Scope) -> list[tuple[str, Guard]]:
    """The channels, inputs, events and settings that a text reads, each as its own text and a function of `now` for its
    value."""
    tree = parse(text) if isinstance(text, str) else text
    found: list[tuple[str, Guard]] = []
    for node in dict.fromkeys(_read_in(tree)):
        if isinstance(node, ChannelRef):
            # Most are, and need nothing compiled: the rules of a hundred machines read a hundred timers.
            guard: Guard = functools.partial(_channel_value, scope.bindings[node.name])
        else:
            guard = compile_guard(node, scope, "guard", "")
        found.append((to_text(node), guard))
    return found


def _channel_value(binding: Binding, now: object) -> object:
    return getattr(binding.owner, binding.attribute)


def _read_in(tree: Node) -> Iterable[Node]:
    """The nodes of a tree that read something: channels, and functions of names alone (an event, an input, a setting)."""
    many = isinstance(tree, Call) and tree.name in SIGNALS and SIGNALS[tree.name].which is not None
    if many or isinstance(tree, ChannelRef):
        yield tree
        return
    if isinstance(tree, Call) and all(isinstance(arg, Text) for arg in tree.args):
        yield tree
    for child in children(tree):
        yield from _read_in(child)


def _body_of(part: str, side: str, names: Names) -> str:
    """The nearest part above one that records what it touches; "" where none does."""
    segments = part.split(".")
    for n in range(len(segments), 0, -1):
        body = ".".join(segments[:n])
        if f"{body}.touching.{side}" in names.channels:
            return body
    return ""


def in_scope(text: str, scope: str, names: Names, parts: Collection[str] = (), part: str = "") -> str | Node:
    """A text with names below `scope` made whole: 'rest.ready' in the scope 'moth.2' is 'moth.2.rest.ready' where that
    exists. The text itself where nothing changes, so that messages can point into it.

    `part` is the one whose text it is: what a body touches is asked of the body that it belongs to.
    """
    if not scope and "touching" not in text:
        return text
    try:
        tree = parse(text)
    except ClaimError:
        return text

    def whole_option(key: str, value: Node) -> Node:
        """The part that an event comes from stands in quotes, so that it is no channel."""
        if key == "source" and isinstance(value, Text) and f"{scope}.{value.value}" in parts:
            return Text(f"{scope}.{value.value}")
        return value

    def whole_text(called: str, arg: Node) -> Node:
        """A pattern of names stands in quotes too."""
        if SIGNALS.get(called) and SIGNALS[called].which is not None and isinstance(arg, Text):
            below = f"{scope}.{arg.value}"
            if scope and matching_names(below, names.channels):
                return Text(below)
        return whole(arg)

    def whole(node: Node) -> Node:
        match node:
            case Call("touching", (Text(side),), ()):
                body = _body_of(part, side, names)
                return Call("touching", node.args, (("of", Text(body)),) if body else (), node.place)
            case ChannelRef(name) if f"{scope}.{name}" in names.channels:
                return ChannelRef(f"{scope}.{name}", node.place)
            case Call(name, args, named):
                listed = []
                for key, value in named:
                    listed.append((key, whole_option(key, value)))
                own = tuple(listed)
                return Call(name, tuple(whole_text(name, arg) for arg in args), own, node.place)
            case Operation(op, args):
                return Operation(op, tuple(map(whole, args)), node.place)
            case Compare(ops, args):
                return Compare(ops, tuple(map(whole, args)), node.place)
            case Membership(item, options):
                return Membership(whole(item), options, node.place)
        return node

    made = whole(tree)
    if made == tree:
        return text
    return made
