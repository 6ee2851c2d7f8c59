"""Which actions a subject takes, of which kind, and on which keys."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from larktally.errors import InputError
from larktally.inputs.keys import known_code
from larktally.names import name_fault, unknown_name

__all__ = ["Action", "Actions"]


class Action(msgspec.Struct, frozen=True):
    """A named input: on/off, or analog in [-1, 1]; `keys` are the W3C codes it is bound to.

    >>> Action("hop", keys=("Space", "pad:button0"))
    Action(name='hop', analog=False, keys=('Space', 'pad:button0'))

    Raises InputError for a name that is empty or a key code that does not exist.
    """

    name: str
    analog: bool = False
    keys: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        fault = name_fault(self.name)
        if fault:
            raise InputError(f"an action cannot be called {self.name!a}: the name {fault}")
        if isinstance(self.keys, str):
            keys = (self.keys,)
        else:
            keys = tuple(self.keys)
        msgspec.structs.force_setattr(self, "keys", tuple(known_code(code) for code in keys))


class Actions:
    """The closed set of a subject's actions, or, where `declared` is false, an open one that grows as it is used."""

    __slots__ = ("_by_key", "_by_name", "_how", "declared")

    def __init__(self, actions: Iterable[str | Action] | None, how: str = "declare it: actions=(…, {!r})") -> None:
        self.declared = actions is not None
        # How one that is missing would be made known, as the end of a message.
        self._how = how
        self._by_name: dict[str, Action] = {}
        self._by_key: dict[str, str] = {}
        for given in actions or ():
            if isinstance(given, Action):
                action = given
            else:
                action = Action(given)
            if action.name in self._by_name:
                raise InputError(f"action {action.name!r} is declared twice")
            self._by_name[action.name] = action
            for key in action.keys:
                if key in self._by_key:
                    raise InputError(f"key {key} is on two actions: {self._by_key[key]!r} and {action.name!r}")
                self._by_key[key] = action.name

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_name)

    def __contains__(self, name: object) -> bool:
        return name in self._by_name

    def all(self) -> tuple[Action, ...]:
        """The actions themselves, in order."""
        return tuple(self._by_name.values())

    @property
    def analog(self) -> tuple[str, ...]:
        """The names of the analog ones."""
        found = []
        for action in self._by_name.values():
            if action.analog:
                found.append(action.name)
        return tuple(found)

    def kind_of(self, name: str) -> type[int] | type[float]:
        """int for an action that is declared on/off, whose values are 0 and 1; float for any other."""
        if self.declared and not self._by_name[name].analog:
            return int
        return float

    def named(self, name: str) -> str:
        """The action for an action's name or for a key code bound to one; raises InputError where there is none."""
        if name in self._by_name:
            return name
        if name in self._by_key:
            return self._by_key[name]
        if not self.declared:
            self._by_name[name] = Action(name)
            return name
        raise InputError(unknown_name("action", name, [*self._by_name, *self._by_key]) + f"; {self._how.format(name)}")

    def check_value(self, name: str, value: float) -> None:
        """Raises InputError where an action cannot take a value: outside [-1, 1], or between for one that is on/off."""
        if not -1 <= value <= 1:
            raise InputError(f"action {name!r} takes a value in [-1, 1], not {value!r}")
        if self.declared and value not in (0, 1) and not self._by_name[name].analog:
            raise InputError(
                f"action {name!r} is on/off and cannot be {value!r}; declare it lt.Action({name!r}, analog=True)"
            )
