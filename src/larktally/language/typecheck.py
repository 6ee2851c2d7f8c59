"""Type checking of expression trees, before anything is computed: names that exist, kinds that fit, spans in range."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Literal, NoReturn, Protocol

from larktally.errors import ClaimError, LarkTallyError
from larktally.language.columns import Labels, text_of
from larktally.language.durations import frames_of, whole_of, with_frames
from larktally.language.names import Names
from larktally.language.pointing import fail_at
from larktally.language.tree import (
    IT,
    Call,
    ChannelRef,
    Compare,
    Flag,
    Membership,
    Node,
    Number,
    Operation,
    Text,
    to_text,
    walk,
)
from larktally.names import did_you_mean, unknown_name

__all__ = ["Checker", "Parameter", "TypedFunction", "literal_of"]

_READS = {
    "number": "a number",
    "flag": "a condition (true or false)",
    "label": "a label",
    "property": "a whole claim",
    "measure": "a measure of the whole run",
    "list": "a list of measures",
}
_LONGEST = 10**15


class Parameter(Protocol):
    """One argument of a function, as the checker sees it."""

    @property
    def name(self) -> str: ...
    @property
    def takes(self) -> str: ...


class TypedFunction(Protocol):
    """What the checker needs of a function of the language."""

    @property
    def family(self) -> Literal["signal", "property", "measure"]: ...
    def arguments_of(self, node: Call) -> Sequence[tuple[Parameter, Node]]: ...
    def check(self, checker: Checker, node: Call) -> None: ...
    def kind_of(self, checker: Checker, node: Call) -> str: ...
    def labels_of(self, names: Names, node: Call, inner: Callable[[Node], Labels]) -> Labels: ...


class Checker:
    """Checks trees against the names of a trace or a sim.

    `text` is what the tree was read from, for the caret in messages; without it messages carry the part's own text.
    """

    def __init__(self, names: Names, functions: Mapping[str, TypedFunction], text: str | None = None) -> None:
        self.names, self._functions, self._text = names, functions, text
        # By identity, with the node kept: two equal nodes may stand in two places, and each has its own caret.
        self._known: dict[int, tuple[str, Node]] = {}

    def fail(self, node: Node, why: str) -> NoReturn:
        """Raises ClaimError that points at a node."""
        # A tree from the Python form, or a shared definition, has no place in this text.
        if self._text is not None and node.place != (0, 0):
            fail_at(self._text, node.place, why)
        raise ClaimError(f"{why} (in {to_text(node)[:200]})")

    def kind(self, node: Node) -> str:
        """The kind of a tree: number, flag, label, property or measure; raises ClaimError for the first thing that does not
        fit."""
        # Found once: asking again for each call around it would double the work with every one.
        if id(node) not in self._known:
            self._known[id(node)] = (self._kind(node), node)
        return self._known[id(node)][0]

    def frames(self, node: Node) -> int:
        """The frames of a duration that was checked."""
        return frames_of(node, self.names)

    def labels(self, node: Node) -> Labels:
        """The labels that a channel, or what passes one on, can be; None where that is not known."""
        if isinstance(node, ChannelRef):
            return self.names.channels[node.name].labels
        if isinstance(node, Call):
            return self._functions[node.name].labels_of(self.names, node, self.labels)
        return None

    def want(self, node: Node, wanted: str, taker: str) -> None:
        """Raises ClaimError for a node that is of another kind; `taker` is what asks for it."""
        self._want(node, wanted, taker)

    def quantity(self, parameter: Parameter, node: Node) -> None:
        """A number, or a channel's name in quotes."""
        self._want(_channel_in_quotes(node), "number", parameter.name)

    def _kind(self, node: Node) -> str:
        match node:
            case Number():
                return "number"
            case Text():
                return "label"
            case Flag():
                return "flag"
            case ChannelRef(name):
                return self._channel(node, name)
            case Operation(op, args):
                wanted = "number"
                if op in ("and", "or", "not"):
                    wanted = "flag"
                if wanted == "number" and "measure" in map(self.kind, args):
                    return self._measure_arithmetic(node)
                for arg in args:
                    self._want(arg, wanted, "'-'" if op == "neg" else repr(op))
                return wanted
            case Compare():
                return self._comparison(node)
            case Membership():
                return self._membership(node)
            case Call():
                return self._call(node)

    def _channel(self, node: Node, name: str) -> str:
        channel = self.names.channels.get(name)
        if channel is None and IT in name:
            self.fail(node, f"{IT} stands for one of many: how_many('moth.*', {IT}.flight == 'strike'), all_of, any_of")
        if channel is None:
            near = did_you_mean(name, self.names.channels)
            hint = near or f"; there are: {', '.join(list(self.names.channels)[:12])}"
            self.fail(node, f"no channel {name!r} in {self.names.where}{hint}")
        if channel.kind == "count":
            return "number"
        return channel.kind

    def _want(self, node: Node, wanted: str, taker: str) -> None:
        found = self.kind(node)
        if found == wanted:
            return
        hint = ""
        if found == "property" and isinstance(node, Compare):
            measured = "this compares a measure, which is one number of the whole run, and is a claim by itself"
            if taker in ("'and'", "'or'", "'not'"):
                self.fail(node, f"{taker} takes {_READS[wanted]}; {measured}: write two claims")
            self.fail(node, f"{taker} takes {_READS[wanted]}; {measured}, with nothing around it")
        if found == "measure":
            self.fail(node, f"{taker} takes {_READS[wanted]}; {_no_signal(node)}")
        if wanted == "flag" and found == "number":
            hint = f"; compare it: {to_text(node)[:60]} > 0"
        elif wanted == "flag" and found == "label":
            hint = f"; compare it: {to_text(node)[:60]} == '…'"
        self.fail(node, f"{taker} takes {_READS[wanted]}; this is {_READS.get(found, found)}{hint}")

    def _comparison(self, node: Compare) -> str:
        try:
            node = with_frames(node, self.names)
        except LarkTallyError as error:
            self.fail(node, str(error))
        kinds = [self.kind(arg) for arg in node.args]
        if "measure" in kinds:
            for arg in node.args:
                self._measure_or_constant(arg)
            return "property"
        for n, op in enumerate(node.ops):
            kind, other = kinds[n], kinds[n + 1]
            if kind != other:
                self.fail(node, f"{_READS[kind]} is compared with {_READS[other]}")
            if kind not in ("number", "flag", "label") or (kind != "number" and op not in ("==", "!=")):
                self.fail(node, f"{_READS[kind]} has no order; compare it with == or !=")
            self._label_value(node.args[n], node.args[n + 1])
            self._label_value(node.args[n + 1], node.args[n])
        return "flag"

    def _membership(self, node: Membership) -> str:
        kind = self.kind(node.item)
        for option in node.options:
            if self.kind(option) != kind:
                self.fail(option, f"{to_text(node.item)} is {_READS[kind]}, and cannot be {to_text(option)}")
            self._label_value(node.item, option)
        return "flag"

    def _label_value(self, node: Node, text: Node) -> None:
        """Where a label is compared with a string: one that the label can be."""
        labels = self.labels(node)
        if not isinstance(text, Text) or not labels or text.value in labels:
            return
        hint = did_you_mean(text.value, labels)
        if any(label.startswith(text.value + "/") for label in labels):
            hint = f"; for a state and those below it, write in_state({to_text(node)}, {text.value!r})"
        self.fail(
            text,
            f"{to_text(node)} is never {text.value!r}{hint}; its labels are "
            f"{', '.join(map(repr, labels[:12]))}; one that a run may not show is declared with the states or labels",
        )

    def _call(self, node: Call) -> str:
        function = self._functions[node.name]
        for parameter, value in function.arguments_of(node):
            _TAKES[parameter.takes](self, parameter, value)
        self._spans_in_order(node)
        function.check(self, node)
        return function.kind_of(self, node)

    def _spans_in_order(self, node: Call) -> None:
        """A least that is more than the most would leave nothing that could fit."""
        for low, high in (("at_least", "at_most"), ("after", "within")):
            least, most = node.option(low), node.option(high)
            if least and most and self.frames(least) > self.frames(most):
                self.fail(
                    node, f"{low}={to_text(least)} is more than {high}={to_text(most)}, so that nothing could fit"
                )

    def _wanted(self, parameter: Parameter, node: Node) -> None:
        self._want(node, parameter.takes, parameter.name)

    def _signal(self, parameter: Parameter, node: Node) -> None:
        if self.kind(node) not in ("number", "flag", "label"):
            self.fail(node, f"{parameter.name} is a signal, not {_READS['property']}")

    def _event(self, parameter: Parameter, node: Node) -> None:
        self._plain_text(parameter, node)
        name = text_of(node)
        if name in self.names.events:
            return
        hint = did_you_mean(name, self.names.events)
        if not hint and self.names.events:
            hint = f"; there are: {', '.join(self.names.events)}"
        self.fail(
            node,
            f"no event {name!r} was declared or seen{hint}; "
            f"where it may not occur in a run, declare it: events=({name!r},)",
        )

    def _action(self, parameter: Parameter, node: Node) -> None:
        self._plain_text(parameter, node)
        name = text_of(node)
        if name not in self.names.actions:
            why = unknown_name("action", name, self.names.actions)
            self.fail(node, f"{why}; declare it: actions=({name!r},)")

    def _label_channel(self, parameter: Parameter, node: Node) -> None:
        self._want(node, "label", parameter.name)

    def _span(self, parameter: Parameter, node: Node) -> None:
        least = 0
        if parameter.takes == "span1":
            least = 1
        try:
            frames = frames_of(node, self.names, least=least, what=parameter.name)
        except LarkTallyError as error:
            self.fail(node, str(error))
        if frames > _LONGEST:
            self.fail(node, f"{parameter.name} is {frames} frames; at most {_LONGEST} can be asked for")

    def _whole(self, parameter: Parameter, node: Node) -> None:
        try:
            rows = whole_of(node, self.names, what=parameter.name)
        except LarkTallyError as error:
            self.fail(node, str(error))
        if rows > _LONGEST:
            self.fail(node, f"{parameter.name} is {rows}; at most {_LONGEST} can be asked for")

    def _plain_text(self, parameter: Parameter, node: Node) -> None:
        if not isinstance(node, Text):
            self.fail(node, f"{parameter.name} is a name in quotes, not {to_text(node)}")

    def _constant(self, parameter: Parameter, node: Node) -> None:
        self._want(node, "number", parameter.name)
        if not _is_constant(node):
            self.fail(
                node, f"{parameter.name} is a number, or one of the model's: param('name'); {to_text(node)} is a signal"
            )

    def _measure_arithmetic(self, node: Operation) -> str:
        if node.op not in ("+", "-", "*", "/", "neg"):
            self.fail(node, f"measures are added, subtracted, multiplied and divided; there is no {node.op!r} of them")
        for arg in node.args:
            self._measure_or_constant(arg)
        return "measure"

    def _measure_or_constant(self, node: Node) -> None:
        """What may stand beside a measure: another one, a number, or one of the model's."""
        kind = self.kind(node)
        if kind == "measure" or (kind == "number" and _is_constant(node)):
            return
        if kind == "number":
            self.fail(
                node,
                f"{to_text(node)} is a signal, with a value in each row, and stands beside a measure of the whole run; "
                f"read one number off it: value_when({to_text(node)[:60]}, p), greatest(…)",
            )
        self.fail(node, f"a measure is a number, and {to_text(node)} is {_READS.get(kind, kind)}")

    def _judged(self, parameter: Parameter, node: Node) -> None:
        kind = self.kind(node)
        if kind == "measure" or (kind == "property" and isinstance(node, Compare)):
            return
        hint = "a claim about each row is always(implies(a, p)), one about what follows it follows(a, p, within=…)"
        self.fail(node, f"{parameter.name} compares measures, such as apex(wick.y) >= 68; {hint}")

    def _clock(self, parameter: Parameter, node: Node) -> None:
        # A clock by its name, or a condition that stands for one.
        if not isinstance(node, Text):
            self._want(node, "flag", parameter.name)

    def _literal(self, parameter: Parameter, node: Node) -> None:
        if literal_of(node) is None:
            self.fail(node, f"{parameter.name}= is what the event's data say: a string, a number or true, false")

    def _measure(self, parameter: Parameter, node: Node) -> None:
        if self.kind(node) != "measure":
            measures = []
            for name, function in self._functions.items():
                if function.family == "measure":
                    measures.append(name)
            self.fail(
                node,
                f"measured takes a measure of the whole run: {', '.join(measures)}; of a signal write "
                f"always(low <= {to_text(node)[:40]} <= high)",
            )

    def _compared(self, parameter: Parameter, node: Node) -> None:
        self._signal(parameter, _channel_in_quotes(node))


def _no_signal(node: Node) -> str:
    """What to write in place of a measure where a signal is due."""
    text = to_text(node)[:60]
    return f"{text} is one number of the whole run, and no signal; claim it as it is: low <= {text} <= high"


def _is_constant(node: Node) -> bool:
    """Whether a node has one value for the whole run: made of numbers and of the model's."""
    for one in walk(node):
        if isinstance(one, ChannelRef) or (isinstance(one, Call) and one.name != "param"):
            return False
    return True


def literal_of(node: Node) -> str | float | bool | None:
    """The plain value that a node writes out; None for anything that has to be computed."""
    match node:
        case Number(value) | Text(value) | Flag(value):
            return value
        case Operation("neg", (Number(value),)):
            return -value
    return None


def _channel_in_quotes(node: Node) -> Node:
    """A channel whose name stands in quotes, as that channel."""
    if isinstance(node, Text):
        return ChannelRef(node.value, node.place)
    return node


#: What each kind of parameter is checked by.
_TAKES: dict[str, Callable[[Checker, Parameter, Node], None]] = {
    "number": Checker._wanted,
    "flag": Checker._wanted,
    "any": Checker._signal,
    "event": Checker._event,
    "action": Checker._action,
    "label": Checker._label_channel,
    "span0": Checker._span,
    "span1": Checker._span,
    "whole": Checker._whole,
    "text": Checker._plain_text,
    "state": Checker._plain_text,
    "param": Checker._plain_text,
    "channel": Checker._plain_text,
    "constant": Checker._constant,
    "literal": Checker._literal,
    "clock": Checker._clock,
    "measure": Checker._measure,
    "judged": Checker._judged,
    # Checked with each name filled in, by the function itself.
    "template": lambda checker, parameter, node: None,
    "quantity": Checker.quantity,
    "compared": Checker._compared,
}
