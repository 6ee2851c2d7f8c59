"""Type checking of expression trees, before anything is computed: names that exist, kinds that fit, spans in range."""

from __future__ import annotations

from collections.abc import Callable
from typing import NoReturn

from larktally.claims.grammar import FUNCTIONS, Parameter
from larktally.claims.text import fail_at
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
)
from larktally.claims.vocabulary import Vocabulary
from larktally.errors import ClaimError, LarkError, did_you_mean, unknown_name
from larktally.timing import frames_in

__all__ = ["check_tree", "span_frames", "states_below", "setting_value"]

_SAYS = {"number": "a number", "flag": "a condition (true or false)", "label": "a label", "property": "a whole claim"}
_LONGEST = 10**15


def check_tree(tree: Node, words: Vocabulary, text: str | None = None) -> str:
    """The kind of a tree: number, flag, label, property or measure.

    `text` is what the tree was read from, for the caret in messages; without it messages carry the part's own text.
    Raises ClaimError for the first thing that does not fit.
    """
    return _Checker(words, text).kind(tree)


def span_frames(node: Node, words: Vocabulary) -> int:
    """The frames of a duration that check_tree has passed."""
    return frames_in(_duration(node), words.rate)


def _duration(node: Node) -> int | str:
    if isinstance(node, Number) and float(node.value).is_integer():
        return int(node.value)
    if isinstance(node, Text):
        return node.value
    raise LarkError(f"a duration is written 9, '9f' or '0.35s', not {to_text(node)}")


def states_below(labels: tuple[str, ...], state: str) -> list[int]:
    """The codes of a state's own label and of those below it ('airborne/rising' for 'airborne')."""
    return [code for code, label in enumerate(labels) if label == state or label.startswith(state + "/")]


def setting_value(words: Vocabulary, name: str) -> Node:
    """A setting as a constant of the language."""
    value = words.settings[name]
    if isinstance(value, bool):
        return Flag(value)
    if isinstance(value, int | float):
        return Number(value) if value >= 0 else Operation("neg", (Number(-value),))
    return Text(str(value))


class _Checker:
    def __init__(self, words: Vocabulary, text: str | None) -> None:
        self._words, self._text = words, text
        self._known: dict[int, tuple[str, Node]] = {}
        self._checks: dict[str, Callable[[Parameter, Node], None]] = {
            "event": self._event,
            "action": self._action,
            "label": self._label_channel,
            "span0": self._span,
            "span1": self._span,
            "whole": self._whole,
            "text": self._plain_text,
            "state": self._plain_text,
            "param": self._plain_text,
            "channel": self._plain_text,
            "constant": self._constant,
            "measure": self._measure,
            "quantity": self._quantity,
            "compared": self._compared,
        }

    def fail(self, node: Node, why: str) -> NoReturn:
        if self._text is not None and node.place != (0, 0):
            fail_at(self._text, node.place, why)
        raise ClaimError(f"{why} (in {to_text(node)[:200]})")

    def kind(self, node: Node) -> str:
        """The kind of a node, found once: asking again for each call around it would double the work with every one."""
        if id(node) not in self._known:
            self._known[id(node)] = (self._kind(node), node)
        return self._known[id(node)][0]

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
            case Operation():
                wanted = "flag" if node.op in ("and", "or", "not") else "number"
                for arg in node.args:
                    self._want(arg, wanted, f"{node.op!r}" if node.op != "neg" else "'-'")
                return wanted
            case Comparison():
                return self._comparison(node)
            case Membership():
                return self._membership(node)
            case Call():
                return self._call(node)

    def _channel(self, node: Node, name: str) -> str:
        channel = self._words.channels.get(name)
        if channel is None:
            near = did_you_mean(name, self._words.channels)
            hint = "" if near else f"; there are: {', '.join(list(self._words.channels)[:12])}"
            self.fail(node, f"no channel {name!r} in {self._words.where}{near or hint}")
        return "number" if channel.kind == "count" else channel.kind

    def _want(self, node: Node, wanted: str, taker: str) -> None:
        found = self.kind(node)
        if found != wanted:
            hint = ""
            if wanted == "flag" and found == "number":
                hint = f"; compare it: {to_text(node)[:60]} > 0"
            elif wanted == "flag" and found == "label":
                hint = f"; compare it: {to_text(node)[:60]} == '…'"
            self.fail(node, f"{taker} takes {_SAYS[wanted]}; this is {_SAYS.get(found, found)}{hint}")

    def _comparison(self, node: Comparison) -> str:
        kinds = [self.kind(arg) for arg in node.args]
        for op, left, right, kind, other in zip(node.ops, node.args, node.args[1:], kinds, kinds[1:], strict=False):
            if kind != other:
                self.fail(node, f"{_SAYS[kind]} is compared with {_SAYS[other]}")
            if kind not in ("number", "flag", "label") or (kind != "number" and op not in ("==", "!=")):
                self.fail(node, f"{_SAYS[kind]} has no order; compare it with == or !=")
            for label, text in ((left, right), (right, left)):
                if isinstance(text, Text):
                    self._label_value(label, text)
        return "flag"

    def _membership(self, node: Membership) -> str:
        kind = self.kind(node.item)
        for option in node.options:
            if self.kind(option) != kind:
                self.fail(option, f"{to_text(node.item)} is {_SAYS[kind]}, and cannot be {to_text(option)}")
            if isinstance(option, Text):
                self._label_value(node.item, option)
        return "flag"

    def _labels(self, node: Node) -> tuple[str, ...] | None:
        while isinstance(node, Call) and node.name in ("prev", "seen"):
            node = node.args[0]
        if isinstance(node, ChannelRef):
            return self._words.channels[node.name].labels
        return None

    def _label_value(self, node: Node, text: Text) -> None:
        labels = self._labels(node)
        if labels and text.value not in labels:
            inside = [label for label in labels if label.startswith(text.value + "/")]
            hint = (
                f"; for a state and those below it, write in_state({to_text(node)}, {text.value!r})" if inside else ""
            )
            self.fail(
                text,
                f"{to_text(node)} is never {text.value!r}{hint or did_you_mean(text.value, labels)}; its labels are "
                f"{', '.join(map(repr, labels[:12]))}; one that a run may not show is declared with the states or labels",
            )

    def _call(self, node: Call) -> str:
        function = FUNCTIONS[node.name]
        expected = function.positional * len(node.args) if function.many else function.positional
        pairs = list(zip(expected, node.args, strict=False))
        pairs += [(p, value) for p in function.named for name, value in node.named if name == p.name]
        for parameter, value in pairs:
            if parameter.takes in ("number", "flag"):
                self._want(value, parameter.takes, f"{node.name}: {parameter.name}")
            elif parameter.takes == "any":
                if self.kind(value) not in ("number", "flag", "label"):
                    self.fail(value, f"{node.name} takes a signal, not {_SAYS['property']}")
            else:
                self._checks[parameter.takes](parameter, value)
        self._check_together(node)
        if function.result == "same":
            return self.kind(node.args[0])
        if function.result == "param":
            return self._setting(node)
        return function.result

    def _check_together(self, node: Call) -> None:
        if node.name in ("count", "total") and len(node.named) > 1:
            self.fail(node, f"{node.name} takes last= or since=, not both")
        if node.name in ("spaced", "stays") and not node.named:
            self.fail(node, f"{node.name} needs at_least= or at_most=")
        if node.name == "stays" and node.option("exactly") and len(node.named) > 1:
            self.fail(node, "stays takes exactly= alone")
        for low, high in (("at_least", "at_most"), ("after", "within")):
            least, most = node.option(low), node.option(high)
            if least and most and span_frames(least, self._words) > span_frames(most, self._words):
                self.fail(
                    node, f"{low}={to_text(least)} is more than {high}={to_text(most)}, so that nothing could fit"
                )
        if node.name == "in_state":
            labels, state = self._labels(node.args[0]), node.args[1]
            if isinstance(state, Text) and labels is not None and not states_below(labels, state.value):
                parents = [label.rsplit("/", n)[0] for label in labels for n in range(label.count("/") + 1)]
                self.fail(state, unknown_name("state", state.value, dict.fromkeys(parents)))
        if node.name == "same" and node.option("tol") is not None:
            self._quantity(Parameter("x", "quantity"), node.args[0])
        if node.name == "per_second" and self._words.rate is None:
            self.fail(node, "per_second needs a rate, and none is known here; give one (--rate)")
        if node.name == "time" and self._words.rate is None:
            self.fail(node, "time needs a rate, and none is known here; give one (--rate), or use frame")

    def _setting(self, node: Call) -> str:
        name = node.args[0].value if isinstance(node.args[0], Text) else ""
        if name not in self._words.settings:
            self.fail(node.args[0], unknown_name("param", name, self._words.settings))
        return self.kind(setting_value(self._words, name))

    def _event(self, parameter: Parameter, node: Node) -> None:
        self._plain_text(parameter, node)
        name = node.value if isinstance(node, Text) else ""
        if name not in self._words.events:
            near = did_you_mean(name, self._words.events)
            known = f"; there are: {', '.join(self._words.events)}" if self._words.events and not near else ""
            self.fail(
                node,
                f"no event {name!r} was declared or seen{near or known}; "
                f"where it may not occur in a run, declare it: events=({name!r},)",
            )

    def _action(self, parameter: Parameter, node: Node) -> None:
        self._plain_text(parameter, node)
        name = node.value if isinstance(node, Text) else ""
        if name not in self._words.actions:
            why = unknown_name("action", name, self._words.actions)
            self.fail(node, f"{why}; declare it: actions=({name!r},)")

    def _label_channel(self, parameter: Parameter, node: Node) -> None:
        self._want(node, "label", parameter.name)

    def _span(self, parameter: Parameter, node: Node) -> None:
        try:
            frames = frames_in(_duration(node), self._words.rate, least=int(parameter.takes[-1]), what=parameter.name)
        except LarkError as error:
            self.fail(node, str(error))
        if frames > _LONGEST:
            self.fail(node, f"{parameter.name} is {frames} frames; at most {_LONGEST} can be asked for")

    def _whole(self, parameter: Parameter, node: Node) -> None:
        if not isinstance(node, Number) or not float(node.value).is_integer() or node.value > _LONGEST:
            self.fail(node, f"{parameter.name} is a whole number of rows, 0 or more, not {to_text(node)}")

    def _plain_text(self, parameter: Parameter, node: Node) -> None:
        if not isinstance(node, Text):
            self.fail(node, f"{parameter.name} is a name in quotes, not {to_text(node)}")

    def _constant(self, parameter: Parameter, node: Node) -> None:
        self._want(node, "number", parameter.name)

    def _measure(self, parameter: Parameter, node: Node) -> None:
        if not isinstance(node, Call) or self.kind(node) != "measure":
            measures = ", ".join(name for name, function in FUNCTIONS.items() if function.family == "measure")
            self.fail(node, f"measured takes a measure of the whole run: {measures}")

    def _quantity(self, parameter: Parameter, node: Node) -> None:
        if isinstance(node, Text):
            node = ChannelRef(node.value, node.place)
        self._want(node, "number", parameter.name)

    def _compared(self, parameter: Parameter, node: Node) -> None:
        if isinstance(node, Text):
            node = ChannelRef(node.value, node.place)
        if self.kind(node) not in ("number", "flag", "label"):
            self.fail(node, f"same takes a signal, not {_SAYS['property']}")
