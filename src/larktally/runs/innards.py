"""The plain values that a subject can reach but does not save: attributes, and the variables of its rules' functions."""

from __future__ import annotations

import types
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from larktally.parts.machine import Machine
from larktally.parts.part import Part
from larktally.parts.sim import Sim

__all__ = ["innards"]

_PLAIN = (bool, int, float, str, bytes, type(None))
_DEEPEST = 4
_OWN = Path(__file__).parents[1]


def innards(subject: Any) -> dict[str, str]:
    """Every plain value within reach, by a name that a reader finds it by: `counter in push_off (quay.py:30)`.

    Of a sim: the variables that the functions of its hooks, guards and actions close over, and the globals of a model's
    own file that they name. Of any other object: its attributes. Values are their repr, so that two looks compare.
    """
    found: dict[str, str] = {}
    if isinstance(subject, Sim):
        for function in _functions(subject):
            found |= _variables(function)
    else:
        for name, value in sorted(getattr(subject, "__dict__", {}).items()):
            _note(found, f"self.{name}", value, 0)
    return found


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


def _variables(function: Any) -> dict[str, str]:
    code = getattr(function, "__code__", None)
    found: dict[str, str] = {}
    if code is None or _OWN in Path(code.co_filename).parents:
        return found
    place = f"in {function.__name__} ({Path(code.co_filename).name}:{code.co_firstlineno})"
    for name, cell in zip(code.co_freevars, function.__closure__ or (), strict=False):
        _note(found, f"{name} {place}", _content(cell), 0)
    for name in code.co_names:
        value = function.__globals__.get(name)
        if isinstance(value, (*_PLAIN, list, dict, set)):
            _note(found, f"the global {name} {place}", value, 0)
    return found


def _note(found: dict[str, str], name: str, value: Any, depth: int) -> None:
    if isinstance(value, _PLAIN):
        found[name] = repr(value)
    elif isinstance(value, list | tuple | dict | set | frozenset):
        text = repr(value)
        if len(text) < 100_000:
            found[name] = text
    elif depth < _DEEPEST and not isinstance(value, Part | Sim | type | types.FunctionType | types.ModuleType):
        for inner, inside in sorted(getattr(value, "__dict__", {}).items()):
            _note(found, f"{name.split(' ')[0]}.{inner} {' '.join(name.split(' ')[1:])}".strip(), inside, depth + 1)
