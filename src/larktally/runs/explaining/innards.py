"""The plain values that a subject can reach: its attributes and what is inside them, or the variables of a sim's rules."""

from __future__ import annotations

import enum
import hashlib
import random
import types
from collections import deque
from collections.abc import Callable, Iterator
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

from larktally.parts.machine import Machine
from larktally.parts.part import Part
from larktally.parts.sim import Sim
from larktally.places import is_own

__all__ = ["innards"]

_PLAIN = (bool, int, float, complex, str, bytes, type(None), Fraction, Decimal, enum.Enum)
_NOT_LOOKED_INTO = (Part, Sim, type, types.FunctionType, types.MethodType, types.ModuleType)
_MOST_ENTRIES = 256
_MOST_VALUES = 20_000


def innards(subject: Any) -> dict[str, str]:
    """Every plain value within reach, by a name that a reader finds it by: `self.moths[2].hp`, or
    `counter in push_off (quay.py:30)`.

    Of a sim: the variables that the functions of its hooks, guards and actions close over, and the globals of a model's
    own file that they name. Of any other object: its attributes, with or without slots, and what is inside of lists,
    dicts and objects, each looked into once. Values are their repr, so that two looks compare.
    """
    look = _Look(subject)
    if isinstance(subject, Sim):
        for function in _functions(subject):
            _variables(look, function)
    else:
        for name, value in _attributes(subject):
            look.at(f"self.{name}", "", value)
    return look.all()


def _functions(sim: Sim) -> Iterator[Callable[..., Any]]:
    """Every function of a user's own that a sim calls."""
    for part in sim.parts.values():
        if isinstance(part, Machine):
            for by_state in part._hooks.values():
                yield from (hook for hooks in by_state.values() for hook in hooks)
            for rule in part.transitions:
                yield from (one for one in (rule.when, rule.action) if callable(one))
        yield from (one for one in vars(part).values() if isinstance(one, types.FunctionType))
    for hooks in sim._hooks.values():
        for _, hook in hooks:
            yield from (cell.cell_contents for cell in hook.__closure__ or () if callable(_content(cell)))


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
        if isinstance(value, (*_PLAIN, list, dict, set)):
            look.at(f"the global {name}", place, value)


class _Look:
    """One look: what was found, what was looked into already, and what is still to be looked into, the nearest first."""

    def __init__(self, subject: Any) -> None:
        self._found: dict[str, str] = {}
        self._into: dict[int, Any] = {id(subject): subject}
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
        if not isinstance(value, list | tuple | dict):
            entries = [(f".{inner}", inside) for inner, inside in _attributes(value)]
        elif 0 < len(value) <= _MOST_ENTRIES:
            pairs = value.items() if isinstance(value, dict) else enumerate(value)
            entries = [(f"[{key!r}]", inside) for key, inside in pairs]
        else:
            self._found[name + place] = repr(value) if len(value) < _MOST_VALUES else f"{len(value)} entries"
            return
        for inner, inside in entries:
            if len(self._found) < _MOST_VALUES:
                self.at(name + inner, place, inside)


def _attributes(value: Any) -> list[tuple[str, Any]]:
    """An object's own attributes by name, those in slots too."""
    slots = [name for kind in type(value).__mro__ for name in _slots_of(kind)]
    found = {name: getattr(value, name) for name in slots if hasattr(value, name)}
    return sorted({**found, **getattr(value, "__dict__", {})}.items())


def _slots_of(kind: type) -> tuple[str, ...]:
    slots = vars(kind).get("__slots__", ())
    names = (slots,) if isinstance(slots, str) else tuple(slots)
    return tuple(name for name in names if name not in ("__dict__", "__weakref__"))


def _array(value: Any) -> str:
    small = getattr(value, "size", 0) <= 16
    return repr(value.tolist()) if small else f"an array of {value.shape}, {_short_digest(value.tobytes())}"


def _short_digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()[:12]
