"""The plain values that a subject can reach: its attributes and what is inside them, or the variables of a sim's rules.

This module reads whatever attributes there are, of whatever is within reach, since that is what it is asked about. It gives
none of them a meaning, and calls nothing.
"""

from __future__ import annotations

import enum
import hashlib
import random
import types
from collections import deque
from collections.abc import Iterable
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

from larktally.code_places import is_own
from larktally.event import Event
from larktally.names import one_or_many
from larktally.parts.part import Part
from larktally.parts.sim import Sim
from larktally.subjects.programs.program import Program

__all__ = ["LENGTH", "reachable_state"]

#: How the length of a list or dict is called, before its name.
LENGTH = "the length of "

_PLAIN = (bool, int, float, complex, str, bytes, type(None), Fraction, Decimal, enum.Enum)
_NOT_LOOKED_INTO = (Part, Sim, type, types.FunctionType, types.MethodType, types.ModuleType)
_MOST_ENTRIES = 256
_MOST_VALUES = 20_000


def reachable_state(subject: Any) -> dict[str, str]:
    """Every plain value within reach, by a name that a reader finds it by: `self.moths[2].hp`, or
    `counter in push_off (quay.py:30)`.

    Of a sim: the variables that the functions of its hooks, guards and actions close over, the globals of a model's own
    file that they name, and the attributes of its parts that are not in their saved state. Of any other object: its
    attributes, with or without slots, and what is inside of lists, dicts and objects, each looked into once; of lists and
    dicts their length too. Of a program nothing: what it holds is its own, and what speaks to it is the library's. Values
    are their repr, so that two looks compare.
    """
    if isinstance(subject, Program):
        return {}
    look = _Look(subject)
    if isinstance(subject, Sim):
        for function in subject.model_functions():
            _variables(look, function)
        for part in subject.parts.values():
            _unsaved(look, part)
    else:
        for name, value in _attributes(subject):
            look.at(f"self.{name}", "", value)
    return look.all()


def _content(cell: Any) -> Any:
    try:
        return cell.cell_contents
    except ValueError:
        return None


def _variables(look: _Look, function: Any) -> None:
    code = getattr(function, "__code__", None)
    if code is None or is_own(code.co_filename):
        return
    place = f" in {function.__name__} ({Path(code.co_filename).name}:{code.co_firstlineno})"
    for name, cell in zip(code.co_freevars, function.__closure__ or (), strict=False):
        look.at(name, place, _content(cell))
    for name in code.co_names:
        value = function.__globals__.get(name)
        # Other globals are modules, functions and classes, whose insides are not the model's state.
        if isinstance(value, (*_PLAIN, list, dict, set)):
            look.at(f"the global {name}", place, value)


def _unsaved(look: _Look, part: Part) -> None:
    """The attributes of a part that it neither saves nor works out anew: one that a rule or a step changed is forgotten."""
    kept = {*part.saved_fields(), *part.derived_fields}
    place = f" of {type(part).__name__.lower()} {part.name!r}, which is not in its state_fields"
    own = type(part).__module__.startswith("larktally.")
    for name, value in _attributes(part):
        # What our own parts hold beside their state under a private name, or as an object of ours, is worked out from it.
        inner = own and (name.startswith("_") or type(value).__module__.startswith("larktally."))
        if name not in kept and not inner:
            look.at(name, place, value)


class _Look:
    """One look: what was found, what was looked into already, and what is still to be looked into, the nearest first."""

    def __init__(self, subject: Any) -> None:
        self._found: dict[str, str] = {}
        # The objects themselves are kept, so that no id is given to another meanwhile.
        self._into: dict[int, Any] = {id(subject): subject}
        # Nearest first, so that what is found by two ways has the shorter name.
        self._waiting: deque[tuple[str, str, Any]] = deque()

    def all(self) -> dict[str, str]:
        """All that is within reach, however deep."""
        while self._waiting:
            self._inside(*self._waiting.popleft())
        return self._found

    def at(self, name: str, place: str, value: Any) -> None:
        """Notes a value under its name, or that it is to be looked into."""
        if isinstance(value, _PLAIN):
            self._found[name + place] = repr(value)
        elif isinstance(value, random.Random):
            self._found[f"{name} (its state){place}"] = _short_digest(repr(value.getstate()).encode())
        elif type(value).__module__ == "numpy" and hasattr(value, "tobytes"):
            self._found[name + place] = _array(value)
        elif isinstance(value, set | frozenset):
            self._found[name + place] = f"{{{', '.join(sorted(map(repr, value)))}}}"
        elif not isinstance(value, _NOT_LOOKED_INTO) and id(value) not in self._into:
            self._into[id(value)] = value
            self._waiting.append((name, place, value))

    def _inside(self, name: str, place: str, value: Any) -> None:
        if isinstance(value, list | tuple) and value and all(isinstance(one, Event) for one in value):
            return  # what a step says is no state: the next one says something else
        if isinstance(value, list | dict):
            # One that grew since has all its earlier entries as they were.
            self._found[f"{LENGTH}{name}{place}"] = str(len(value))
            if not value:
                return
        if not isinstance(value, list | tuple | dict):
            entries = [(f".{inner}", inside) for inner, inside in _attributes(value)]
        elif 0 < len(value) <= _MOST_ENTRIES:
            pairs: Iterable[tuple[Any, Any]] = enumerate(value)
            if isinstance(value, dict):
                pairs = value.items()
            entries = [(f"[{key!r}]", inside) for key, inside in pairs]
        else:
            if len(value) < _MOST_VALUES:
                self._found[name + place] = repr(value)
            else:
                self._found[name + place] = f"{len(value)} entries"
            return
        for inner, inside in entries:
            if len(self._found) < _MOST_VALUES:
                self.at(name + inner, place, inside)


def _attributes(value: Any) -> list[tuple[str, Any]]:
    """An object's own attributes by name, those in slots too."""
    slots = [name for kind in type(value).__mro__ for name in _slots_of(kind)]
    found = {}
    for name in slots:
        if hasattr(value, name):
            found[name] = getattr(value, name)
    return sorted({**found, **getattr(value, "__dict__", {})}.items())


def _slots_of(kind: type) -> tuple[str, ...]:
    slots = vars(kind).get("__slots__", ())
    found = []
    for name in one_or_many(slots):
        if name not in ("__dict__", "__weakref__"):
            found.append(name)
    return tuple(found)


def _array(value: Any) -> str:
    small = getattr(value, "size", 0) <= 16
    if small:
        return repr(value.tolist())
    return f"an array of {value.shape}, {_short_digest(value.tobytes())}"


def _short_digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:12]
