"""Several subjects in one run, each under a name: a game and the model of its rules, side by side in one trace."""

from __future__ import annotations

from collections.abc import Mapping

from larktally.errors import LarkTallyError
from larktally.parts.part import check_part_name
from larktally.subjects.protocol import SubjectLike

__all__ = ["CompositeSubject"]


class CompositeSubject:
    """A subject made of several, stepped in order with the same inputs. Channels and event sources get the name in front.

    >>> import larktally as lt
    >>> class One:
    ...     def reset(self, setup): self.n = 0
    ...     def step(self, now): self.n += 1
    ...     def observe(self): return {"n": self.n}
    >>> lt.record(lt.CompositeSubject({"a": One, "b": One}), frames=2).row(2)
    {'a.n': 2, 'b.n': 2}
    """

    def __init__(self, subjects: Mapping[str, SubjectLike | CompositeSubject]) -> None:
        if len(subjects) < 2:
            raise LarkTallyError(
                "lt.CompositeSubject takes at least two subjects, each under a name: {'game': …, 'model': …}"
            )
        self.subjects = {check_part_name(name): one for name, one in subjects.items()}
