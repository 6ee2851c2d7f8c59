"""State charts out, as SCXML (W3C Recommendation, 2015): what it has no word for stands under a namespace of our own."""

from __future__ import annotations

import json
import re
from xml.etree import ElementTree as tree

from larktally.errors import ClaimError
from larktally.language.parsing import parse
from larktally.language.tree import Call, Node, Operation, Text, to_text
from larktally.traces.outline import ANY, BACK, STAY, Outline, Rule, parents_of

__all__ = ["chart_to_scxml", "SCXML", "LARK", "DATAMODEL", "EMIT"]

SCXML = "http://www.w3.org/2005/07/scxml"
LARK = "urn:larktally:chart:1"
DATAMODEL = "x-larktally-claims"
EMIT = re.compile(r"emit\('([^']*)'\)")


def chart_to_scxml(outline: Outline) -> str:
    """A machine as an SCXML document, text; `read_chart` gives the same outline back.

    States, nested states, initial, history (deep), final, transitions with event, cond and target, and raised events
    are SCXML's own. Timed and repeated rules, names and order of rules, calls of functions, during hooks, settings,
    push and back, and rules of any state stand in the namespace `urn:larktally:chart:1`.
    """
    # Module-wide in ElementTree, and without it every element would be called ns0:.
    tree.register_namespace("", SCXML)
    tree.register_namespace("lark", LARK)
    root = tree.Element(_w3c("scxml"), {"version": "1.0", "name": outline.name, "datamodel": DATAMODEL})
    root.set("initial", state_id(outline.start))
    # Only what SCXML would otherwise read differently: a plain machine is a plain document.
    _set(root, order=outline.order if outline.order != "transition-first" else "")
    _set(root, settle=str(outline.settle) if outline.settle != 1 else "")
    shown = []
    for s in outline.states:
        if s not in outline.composites:
            shown.append(s)
    made: dict[str, tree.Element] = {}
    for leaf in shown:
        for state in (*parents_of(leaf), leaf):
            if state not in made:
                parents = parents_of(state)
                made[state] = _state(made[parents[-1]] if parents else root, outline, state)
    if tuple(made) != outline.states:
        _set(root, states=json.dumps(outline.states))
    for rank, rule in enumerate(outline.rules):
        for source in rule.sources:
            if source == ANY:
                _transition(tree.SubElement(root, _own("transition")), rule, rank, outline)
            else:
                _transition(tree.SubElement(made[source], _w3c("transition")), rule, rank, outline)
    tree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tree.tostring(root, encoding="unicode") + "\n"


def state_id(state: str) -> str:
    """The document's id of a state: airborne/rising is airborne.rising."""
    return state.replace("/", ".").replace(" ", "_")


def history_id(state: str) -> str:
    """The id of the history inside a composite state."""
    return state_id(state) + ".history"


def _state(parent: tree.Element, outline: Outline, state: str) -> tree.Element:
    leaf = state in outline.leaves
    own_rules = any(state in rule.sources for rule in outline.rules)
    hooks = {kind: by[state] for kind, by in outline.hooks.items() if state in by}
    plain_final = state in outline.final and leaf and not own_rules
    element = tree.SubElement(parent, _w3c("final" if plain_final else "state"), {"id": state_id(state)})
    if " " in state:
        _set(element, name=state)
    if state in outline.final and not plain_final:
        _set(element, final="true")
    if state in outline.initial:
        element.set("initial", state_id(outline.initial[state]))
    if state in outline.remember:
        history = tree.SubElement(element, _w3c("history"), {"id": history_id(state), "type": "deep"})
        inside = next(s for s in outline.leaves if s.startswith(state + "/"))
        tree.SubElement(history, _w3c("transition"), {"target": state_id(outline.initial.get(state, inside))})
    for kind, name in (("enter", "onentry"), ("leave", "onexit")):
        if hooks.get(kind):
            _calls(tree.SubElement(element, _w3c(name)), hooks[kind])
    for name in hooks.get("during", ()):
        tree.SubElement(element, _own("during"), {"name": name})
    for one in outline.settings:
        if one.state == state:
            value = {"part": one.part, "attribute": one.attribute, "value": json.dumps(one.value)}
            tree.SubElement(element, _own("setting"), value)
    return element


def _transition(element: tree.Element, rule: Rule, rank: int, outline: Outline) -> None:
    event, cond = _split(rule.when)
    if event:
        element.set("event", event)
    if cond:
        element.set("cond", cond)
    if rule.when and joined(event, cond) != rule.when:
        _set(element, when=rule.when)
    if rule.target in outline.remember:
        element.set("target", history_id(rule.target))
    elif rule.target not in (BACK, STAY):
        element.set("target", state_id(rule.target))
    _set(element, name=rule.name, rank=str(rank), back="true" if rule.target == BACK else "")
    _set(element, after=str(rule.after or ""), every=str(rule.every or ""), push="true" if rule.push else "")
    _set(element, asks=rule.asks, twin=rule.twin if rule.twin != rule.name else "")
    if rule.does:
        _calls(element, (rule.does,))


def _split(when: str) -> tuple[str, str]:
    """A guard as an event's name and what else has to hold; an event is only taken out where it comes first."""
    if not when:
        return "", ""
    try:
        node = parse(when)
    except ClaimError:
        return "", when
    if _event_name(node):
        return _event_name(node), ""
    if isinstance(node, Operation) and node.op == "and" and _event_name(node.args[0]):
        if len(node.args) == 2:
            rest = node.args[1]
        else:
            rest = Operation("and", node.args[1:])
        return _event_name(node.args[0]), to_text(rest)
    return "", when


def joined(event: str, cond: str) -> str:
    """The guard's text from an event's name and a condition: what `_split` took apart."""
    if not event:
        return cond
    said: Node = Call("event", (Text(event),))
    if not cond:
        return to_text(said)
    node = parse(cond)
    if isinstance(node, Operation) and node.op == "and":
        more = node.args
    else:
        more = (node,)
    return to_text(Operation("and", (said, *more)))


def _event_name(node: Node) -> str:
    if isinstance(node, Call) and node.name == "event" and len(node.args) == 1 and not node.named:
        (name,) = node.args
        if isinstance(name, Text) and re.fullmatch(r"[\w-]+", name.value):
            return name.value
    return ""


def _calls(element: tree.Element, names: tuple[str, ...]) -> None:
    for name in names:
        raised = EMIT.fullmatch(name)
        if raised:
            tree.SubElement(element, _w3c("raise"), {"event": raised[1]})
        else:
            tree.SubElement(element, _own("call"), {"name": name})


def _set(element: tree.Element, **values: str) -> None:
    for name, value in values.items():
        if value:
            element.set(_own(name), value)


def _w3c(name: str) -> str:
    return f"{{{SCXML}}}{name}"


def _own(name: str) -> str:
    return f"{{{LARK}}}{name}"
