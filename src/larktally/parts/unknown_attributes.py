"""Attributes that a part does not have: one that a model sets by mistake, which would silently do nothing, or asks for."""

from __future__ import annotations

import dis
import functools
from collections.abc import Iterable
from types import CodeType, MemberDescriptorType

from larktally.parts.context import StepContext
from larktally.parts.part import Part

__all__ = ["no_such_attribute", "unknown_attribute"]

_STORE_ATTR = dis.opmap["STORE_ATTR"]
_COMMON = frozenset(("sim", "name", "clock", "slot", "scope"))


def unknown_attribute(parts: Iterable[Part]) -> str:
    """What is wrong with the first attribute that a model has set on one of the library's own parts which has none of
    that name; "" where none was.

    To be asked when a run is over: looking into an object's attributes makes each access to them slower from then on.
    """
    for part in parts:
        kind = type(part)
        # A part of a user's own has whatever attributes it likes.
        if not kind.__module__.startswith("larktally."):
            continue
        own = _own(kind) | {shown.attribute for shown in part.channels()}  # type: ignore[arg-type]
        for name in vars(part):
            if name not in own and not name.startswith("_"):
                called = kind.__name__.lower()
                hint = _hint(name, _settable(part, own))
                yours = f"A value of your own is sim.value('{part.name}.{name}', …)"
                return (
                    f"{called} {part.name!r}: the model sets {name!r}, which a {called} does not have; {hint} {yours}"
                )
    return ""


def _settable(part: Part, own: Iterable[str]) -> list[str]:
    """What a model may set on a part: what it holds under a public name, and what is set by a property."""
    held = vars(part)
    found = []
    for name in own:
        shown = getattr(type(part), name, None)
        settable = isinstance(shown, MemberDescriptorType) or getattr(shown, "fset", None) is not None
        if (name in held or settable) and name not in _COMMON and name[0] != "_":
            found.append(name)
    return sorted(found)


@functools.cache
def _own(kind: type) -> frozenset[str]:
    """The attributes of a class of parts: those of the class, those annotated, and those that its methods set."""
    names = set(dir(kind))
    for base in kind.__mro__:
        # What a class declares and a method sets is its own too, such as `vz` of a body.
        names.update(getattr(base, "__annotations__", ()))
        for member in vars(base).values():
            function = getattr(member, "fget", member)
            if hasattr(function, "__code__"):
                names.update(_stored(function.__code__))
    return frozenset(names)


def _stored(code: CodeType) -> list[str]:
    """The attributes that a function sets."""
    # Two bytes an instruction, the second of them the place of the name. `dis` tells the same in a hundred times the time,
    # and is asked where there are too many names for one byte.
    if len(code.co_names) > 255:
        return [one.argval for one in dis.get_instructions(code) if one.opname == "STORE_ATTR"]
    bytecode = code.co_code
    return [code.co_names[at] for what, at in zip(bytecode[::2], bytecode[1::2], strict=True) if what == _STORE_ATTR]


def no_such_attribute(asked: Part | StepContext, name: str) -> str:
    """One sentence for what was asked of a part, or of `now`, that it does not have: the nearest, or what it has."""
    public = [one for one in dir(asked) if not one.startswith("_") and one not in _COMMON and not hasattr(Part, one)]
    # What can be called first: it is a call that is misspelt most.
    known = sorted(public, key=lambda one: not callable(getattr(type(asked), one, None)))
    what = "now"
    if isinstance(asked, Part):
        what = f"{type(asked).__name__.lower()} {asked.name!r}"
    return f"{what} has no {name!r}; {_hint(name, known)}"


def _hint(name: str, known: list[str]) -> str:
    # Loaded for a name that is wrong, which most are not.
    import difflib

    near = difflib.get_close_matches(name, known, n=1, cutoff=0.7)
    if near:
        return f"did you mean {near[0]!r}?"
    return f"it has {', '.join(known[:16])}."
