"""State charts in, from SCXML: what machines share with it is read, and anything else is refused by name."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import NoReturn
from xml.etree.ElementTree import Element

from larktally.charts.scxml import DATAMODEL, LARK, SCXML, history_id, joined
from larktally.errors import ClaimError, LarkTallyError
from larktally.language.parsing import parse
from larktally.names import did_you_mean, existing_file
from larktally.traces.outline import ANY, BACK, STAY, Outline, Rule, StateSetting, parents_of

__all__ = ["read_chart", "chart_from_text"]

LARGEST = 4_000_000
DEEPEST = 40
_HOOKS = {"onentry": "enter", "onexit": "leave"}
_STATE_CHILDREN = ("state", "final", "history", "initial", "transition", "onentry", "onexit")


def read_chart(path: str | Path) -> Outline:
    """The machine of an SCXML file, as an outline for `sim.machine_from`.

    Conditions are in the claims' text language. Raises LarkTallyError naming the file and the element for what machines do
    not have (parallel, data models, invoke, send, wildcard events), and for documents with a DTD or entities.
    """
    path = existing_file(path)
    # Before it is read: a machine of a thousand states has a hundredth of that.
    if path.stat().st_size > LARGEST:
        raise LarkTallyError(f"{path}: larger than {LARGEST} bytes, so not read")
    try:
        return chart_from_text(path.read_bytes(), str(path))
    except OSError as error:
        raise LarkTallyError(f"{path}: cannot be read: {error.strerror or error}") from None


def chart_from_text(text: bytes | str, place: str = "chart") -> Outline:
    """The same, from the document's text."""
    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import ParseError, fromstring

    try:
        # Entities are how a small document becomes a large one, or reads a file.
        root = fromstring(text, forbid_dtd=True)
    except DefusedXmlException:
        raise LarkTallyError(f"{place}: it has a DTD or entities, which are not read") from None
    except (ParseError, ValueError, LookupError) as error:
        raise LarkTallyError(f"{place}: not well-formed XML: {error}") from None
    return _Document(root, place).outline()


class _Document:
    """One document being read: ids become state names first, then everything that refers to them."""

    def __init__(self, root: Element, place: str) -> None:
        self.root, self.place = root, place
        if root.tag != f"{{{SCXML}}}scxml":
            self.refuse(f"its root is {_local(root)!r}, not scxml in the namespace {SCXML}")
        if root.get("datamodel", DATAMODEL) not in (DATAMODEL, "null"):
            self.refuse(f"its data model is {root.get('datamodel')!r}; conditions are read in {DATAMODEL!r}")
        self.names: dict[str, str] = {}
        self.history: dict[str, str] = {}
        self.elements: dict[str, Element] = {}
        self._name_states(root, "", 0)

    def refuse(self, why: str) -> NoReturn:
        raise LarkTallyError(f"{self.place}: {why}")

    def outline(self) -> Outline:
        states = tuple(self.elements)
        rules = self._rules()
        if not states:
            self.refuse("it has no states")
        own = self.root.get(f"{{{LARK}}}states")
        if own is not None:
            states = self._listed(own, states)
        hooks: dict[str, dict[str, tuple[str, ...]]] = {"enter": {}, "during": {}, "leave": {}}
        for state, element in self.elements.items():
            self._read_hooks(state, element, hooks)
        first = self.root.get("initial")
        if first:
            start = self.state(first, "initial of scxml")
        else:
            start = next(iter(self.elements))
        initial = {s: found for s, e in self.elements.items() if (found := self._initial(s, e))}
        plain = Outline(self.root.get("name") or "machine", states, start, initial)
        leaf = start
        # A machine starts in a leaf; SCXML may name a state with states inside.
        while leaf in plain.composites:
            leaf = initial.get(leaf) or next(s for s in self.elements if s.startswith(leaf + "/"))
        return Outline(
            plain.name,
            states,
            leaf,
            initial,
            tuple(sorted(self.history.values())),
            tuple(s for s, e in self.elements.items() if _local(e) == "final" or e.get(f"{{{LARK}}}final") == "true"),
            self.root.get(f"{{{LARK}}}order", "transition-first"),
            self._count(self.root, "settle") or 1,
            rules,
            {kind: by for kind, by in hooks.items() if by},
            tuple(self._settings()),
        )

    def _name_states(self, parent: Element, inside: str, depth: int) -> None:
        # Documents nested without end would end Python's own stack.
        if depth > DEEPEST:
            self.refuse(f"states lie more than {DEEPEST} deep")
        for element in parent:
            kind = _local(element)
            if kind not in ("state", "final"):
                continue
            name = element.get("id") or self.refuse(f"a {kind} in {inside or 'scxml'} has no id")
            if name in self.names:
                self.refuse(f"two states have the id {name!r}")
            full = element.get(f"{{{LARK}}}name")
            if full is None:
                dotted = inside.replace("/", ".").replace(" ", "_") + "."
                local = name
                if inside and name.startswith(dotted):
                    local = name[len(dotted) :]
                full = local
                if inside:
                    full = f"{inside}/{local}"
            self.names[name] = full
            self.elements[full] = element
            for child in element:
                if _local(child) == "history":
                    self._name_history(child, full, element)
            self._name_states(element, full, depth + 1)

    def _name_history(self, element: Element, full: str, parent: Element) -> None:
        name = element.get("id") or history_id(full)
        # Over flat states shallow and deep are the same.
        flat = not any(_local(e) == "state" and any(_local(c) in ("state", "final") for c in e) for e in parent)
        if element.get("type", "shallow") != "deep" and not flat:
            self.refuse(
                f"history {name!r} is shallow over nested states; a machine here goes back all the way: type='deep'"
            )
        self.history[name] = full

    def state(self, name: str, where: str) -> str:
        """The state of an id; raises LarkTallyError with the nearest one."""
        if name not in self.names:
            self.refuse(f"{where}: no state {name!r}{did_you_mean(name, self.names)}")
        return self.names[name]

    def _listed(self, text: str, states: tuple[str, ...]) -> tuple[str, ...]:
        try:
            listed = tuple(json.loads(text))
        except (ValueError, TypeError, RecursionError):
            self.refuse("lark:states is no list of states")
        missing = set()
        for s in states:
            if s not in listed and not any(str(one).startswith(s + "/") for one in listed):
                missing.add(s)
        if missing or set(listed) - set(states):
            self.refuse("lark:states does not name the states of the document")
        return listed

    def _initial(self, state: str, element: Element) -> str:
        name = element.get("initial")
        inner = element.find(f"{{{SCXML}}}initial/{{{SCXML}}}transition")
        if name is None and inner is not None:
            name = inner.get("target")
        if name is None:
            return ""
        found = self.state(name, f"initial of {state!r}")
        if parents_of(found)[-1:] != (state,):
            self.refuse(f"initial of {state!r}: {name!r} is not one of its own children")
        return found

    def _read_hooks(self, state: str, element: Element, hooks: dict[str, dict[str, tuple[str, ...]]]) -> None:
        for child in element:
            kind = _local(child)
            if child.tag.startswith(f"{{{LARK}}}"):
                if kind == "during":
                    hooks["during"][state] = (*hooks["during"].get(state, ()), child.get("name", ""))
                elif kind != "setting":
                    self.refuse(f"state {state!r}: no element lark:{kind}")
            elif not child.tag.startswith(f"{{{SCXML}}}") or kind not in _STATE_CHILDREN:
                self.refuse(f"state {state!r} holds {kind!r}, which machines do not have")
            elif kind in _HOOKS:
                hooks[_HOOKS[kind]][state] = (*hooks[_HOOKS[kind]].get(state, ()), *self._content(child, state))

    def _content(self, element: Element, where: str) -> list[str]:
        """What is run, by name: functions to be bound, or events to be emitted."""
        found = []
        for child in element:
            if child.tag == f"{{{SCXML}}}raise" and child.get("event"):
                found.append(f"emit('{child.get('event')}')")
            elif child.tag == f"{{{LARK}}}call" and child.get("name"):
                found.append(str(child.get("name")))
            else:
                self.refuse(f"{where!r} runs {_local(child)!r}; only raise and lark:call are run")
        return found

    def _rules(self) -> tuple[Rule, ...]:
        found: list[tuple[int, str, Element]] = []
        for element, source in self._transitions():
            rank = self._count(element, "rank", len(found))
            found.append((rank, source, element))
        # The order of rules is a machine's own, and a document has them by their state.
        found.sort(key=lambda one: one[0])
        rules: list[tuple[int, Rule]] = []
        for rank, source, element in found:
            rule = self._rule(element, source)
            same = rules and rules[-1][0] == rank and element.get(f"{{{LARK}}}rank") is not None
            if same:
                before = rules[-1][1]
                rule = Rule(rule.name, (*before.sources, source), *_rest(rule))
                if (rule.name, *_rest(rule)) != (before.name, *_rest(before)):
                    self.refuse(f"transitions {before.name!r} and {rule.name!r} have the same lark:rank")
                rules.pop()
            rules.append((rank, rule))
        names = [rule.name for _, rule in rules]
        for name in names:
            if names.count(name) > 1:
                self.refuse(f"two transitions are called {name!r}; give them a lark:name")
        return _with_twins([rule for _, rule in rules])

    def _transitions(self) -> Iterator[tuple[Element, str]]:
        for child in self.root:
            if child.tag == f"{{{LARK}}}transition":
                yield child, ANY
            elif not child.tag.startswith(f"{{{SCXML}}}") or _local(child) not in ("state", "final"):
                self.refuse(f"scxml holds {_local(child)!r}, which machines do not have")
        for state, element in self.elements.items():
            for child in element:
                if child.tag == f"{{{SCXML}}}transition":
                    yield child, state

    def _rule(self, element: Element, source: str) -> Rule:
        def own(name: str) -> str:
            return element.get(f"{{{LARK}}}{name}", "")

        target = self._target(element, source, own("back") == "true")
        where = f"transition of {source!r}"
        when = own("when") or self._guard(element, where)
        after, every = self._count(element, "after"), self._count(element, "every")
        if not (when or own("asks") or after or every):
            # SCXML's transition without event or condition is taken at once; here that has to be said.
            when = "true"
        does = self._content(element, where)
        if len(does) > 1:
            self.refuse(f"{where} runs {len(does)} things; a transition has one action")
        shown = {BACK: "back", STAY: "stay"}.get(target, target)
        name = own("name") or f"{source} to {shown}" + (f" on {element.get('event')}" if element.get("event") else "")
        push = own("push") == "true"
        return Rule(name, (source,), target, when, own("asks"), after, every, push, "".join(does), own("twin"))

    def _target(self, element: Element, source: str, back: bool) -> str:
        target = element.get("target")
        if back or target is None:
            if back:
                return BACK
            return STAY
        if " " in target.strip():
            self.refuse(f"transition of {source!r} has several targets, {target!r}; a machine is in one state")
        if target in self.history:
            return self.history[target]
        found = self.state(target, f"transition of {source!r}")
        if found in self.history.values():
            self.refuse(
                f"transition of {source!r} enters {found!r} afresh, which has a history; here a state that remembers is "
                "always entered where it was: target its history, or one of its children"
            )
        return found

    def _guard(self, element: Element, where: str) -> str:
        events, cond = element.get("event", "").split(), element.get("cond", "")
        for event in events:
            if "*" in event or event.startswith(("done.", "error.")) or event.endswith("."):
                self.refuse(
                    f"{where}: the event {event!r} is a pattern or the interpreter's own; events here have one name"
                )
        try:
            if cond:
                parse(cond)
            if len(events) > 1:
                said = " or ".join(f"event('{event}')" for event in events)
                if cond:
                    return f"({said}) and ({cond})"
                return said
            return joined(events[0] if events else "", cond)
        except ClaimError as error:
            self.refuse(f"{where}: its condition is in the claims' language: {error}")

    def _settings(self) -> Iterator[StateSetting]:
        for state, element in self.elements.items():
            for child in element:
                if child.tag == f"{{{LARK}}}setting":
                    try:
                        value = json.loads(child.get("value", ""))
                    except (ValueError, RecursionError):
                        self.refuse(f"state {state!r}: lark:setting has no JSON value")
                    yield StateSetting(state, child.get("part", ""), child.get("attribute", ""), value)

    def _count(self, element: Element, name: str, default: int = 0) -> int:
        text = element.get(f"{{{LARK}}}{name}")
        if text is None:
            return default
        if not text.isdecimal() or len(text) > 9:
            self.refuse(f"lark:{name} is a whole number, not {text!r}")
        return int(text)


def _rest(rule: Rule) -> tuple[str, str, str, int, int, bool, str, str]:
    return rule.target, rule.when, rule.asks, rule.after, rule.every, rule.push, rule.does, rule.twin


def _with_twins(rules: list[Rule]) -> tuple[Rule, ...]:
    first: dict[str, str] = {}
    found = []
    for rule in rules:
        twin = rule.twin or (first.setdefault(rule.when, rule.name) if rule.when else rule.name)
        found.append(Rule(rule.name, rule.sources, *_rest(rule)[:-1], twin))
    return tuple(found)


def _local(element: Element) -> str:
    return str(element.tag).rpartition("}")[2]
