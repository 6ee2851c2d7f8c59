"""Several subjects in one run, each under a name: a game and the model of its rules, side by side in one trace."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import msgspec

from larktally.errors import LarkError
from larktally.inputs import FrameInput
from larktally.parts.part import check_part_name
from larktally.subject import Event, Setup, SubjectLike, can_save, declared_names, events_of, innermost, make_subject

__all__ = ["Together"]


class Together:
    """A subject made of several, stepped in order with the same inputs. Channels and event sources get the name in front.

    >>> import larktally as lt
    >>> class One:
    ...     def reset(self, setup): self.n = 0
    ...     def step(self, now): self.n += 1
    ...     def observe(self): return {"n": self.n}
    >>> lt.record(lt.Together({"a": One, "b": One}), frames=2).row(2)
    {'a.n': 2, 'b.n': 2}
    """

    def __init__(self, subjects: Mapping[str, SubjectLike]) -> None:
        if len(subjects) < 2:
            raise LarkError("lt.Together takes at least two subjects, each under a name: {'game': …, 'model': …}")
        self._subjects = {check_part_name(name): make_subject(one) for name, one in subjects.items()}

    def reset(self, setup: Setup) -> Iterable[Event]:
        """Back to the beginning, each with a setup of its own."""
        said: list[Event] = []
        for name, one in self._subjects.items():
            own = Setup(setup.rate, setup.seed, setup.params)
            said += _from(name, one.reset(own))
            setup.settings.update(own.settings)
        return said

    def step(self, now: FrameInput) -> Iterable[Event]:
        """One frame on, one after the other."""
        return [event for name, one in self._subjects.items() for event in _from(name, one.step(now))]

    def observe(self) -> dict[str, Any]:
        """Every channel of each, under its name."""
        return {f"{name}.{c}": value for name, one in self._subjects.items() for c, value in one.observe().items()}

    @property
    def actions(self) -> list[Any]:
        """What any of them takes."""
        found: dict[str, Any] = {}
        for one in self._subjects.values():
            for action in declared_names(innermost(one), "actions") or ():
                found.setdefault(getattr(action, "name", action), action)
        return list(found.values())

    @property
    def events(self) -> list[str]:
        """What any of them may say."""
        return list(
            dict.fromkeys(e for one in self._subjects.values() for e in declared_names(innermost(one), "events") or ())
        )

    @property
    def labels(self) -> dict[str, Any]:
        """The labels that any of them declares."""
        declared = {name: getattr(innermost(one), "labels", None) or {} for name, one in self._subjects.items()}
        return {f"{name}.{channel}": labels for name, own in declared.items() for channel, labels in own.items()}

    def save(self) -> bytes:
        """The saved states of all; raises LarkError where one cannot save."""
        return msgspec.msgpack.encode({name: self._able(name).save() for name in self._subjects})

    def load(self, saved: bytes) -> None:
        """Puts them all back."""
        for name, state in msgspec.msgpack.decode(saved, type=dict[str, bytes]).items():
            self._able(name).load(state)

    def _able(self, name: str) -> Any:
        inner: Any = innermost(self._subjects[name])
        if not can_save(inner):
            raise LarkError(f"subject {name!r} cannot save and load")
        return inner


def _from(name: str, said: Iterable[Event] | None) -> Iterator[Event]:
    for event in events_of(said):
        yield Event(event.name, f"{name}.{event.source}" if event.source else name, **event.data)
