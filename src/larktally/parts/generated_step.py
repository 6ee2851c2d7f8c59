"""A sim's frame as one function: what its parts say of their steps, put together as Python that can be read and printed.

A part's own `step` stays the one that counts; what it says beside it (`Part.inlined`) does the same without the calls, and a
differential test holds the two equal. Parts in a row with the same lines run in one loop, so that a crowd is as short as
one. The text is compiled once for all sims of a shape, and is in `linecache`, so that a traceback and a debugger show it.
"""

from __future__ import annotations

import functools
import textwrap
from collections.abc import Callable, Iterable, Sequence
from typing import Any, NamedTuple, cast

from larktally.language.rows import maker
from larktally.parts.part import Inlined, Part, Watch

__all__ = ["Run", "generated_step"]

# From so many parts on one question for all of them costs less than one for each.
LEAST_WATCHED = 3
# In a comment; a crowd would fill a page.
MOST_NAMED = 4


class _Shape(NamedTuple):
    """Lines, and the names in them beside `me`: what parts have in common that are stepped in one loop."""

    lines: str
    names: tuple[str, ...] = ()
    watch: Callable[[Sequence[Any]], Watch] | None = None


_CALL = _Shape("me()")


class Run(NamedTuple):
    """What runs in a frame: in which phase, under which name, the part whose step it is (None for a hook), and the call."""

    phase: str
    name: str
    part: Part | None
    call: Callable[[], Any]


def generated_step(sim: object, runs: Sequence[Run]) -> tuple[Callable[[], None], str]:
    """A function that does what calling all runs in order does, and its text. `sim` tells the frame."""
    groups: list[tuple[_Shape, list[Run], list[Any]]] = []
    for run in runs:
        shape, stands_for = _shape_of(run)
        if groups and groups[-1][0] == shape and groups[-1][1][-1].phase == run.phase:
            groups[-1][1].append(run)
            groups[-1][2].append(stands_for)
        else:
            groups.append((shape, [run], [stands_for]))
    text = _text_of((shape, members) for shape, members, _ in groups)
    given: list[Any] = []
    for shape, members, stand_for in groups:
        if _stands_alone(shape, members):
            given.append(stand_for[0])
        else:
            given.append(tuple(stand_for))
        if _watched(shape, members):
            assert shape.watch is not None
            given.append(shape.watch([run.part for run in members]))
    made = maker(text, "step")(sim, *given)
    return cast("Callable[[], None]", made), text


def _shape_of(run: Run) -> tuple[_Shape, Any]:
    """The shape of a run, and what its names stand for: the part or the call itself for `me`, and then the others."""
    part = run.part
    found = None
    if part is not None:
        found = _inlined(part)
    if part is None or found is None:
        return _CALL, run.call
    lines, names, watch = found.lines, dict(found.names), found.watch
    for gate, test in (("clock", "ticking"), ("slot", "present")):
        asked = getattr(part, gate)
        if asked is not None:
            lines = f"if {gate}.{test}:\n{_indented(lines)}"
            names[gate] = asked
            # Whether anything changes is up to the gate then, too.
            watch = None
    if not names:
        return _Shape(lines, (), watch), part
    return _Shape(lines, tuple(names), watch), (part, *names.values())


def _watched(shape: _Shape, members: Sequence[Run]) -> bool:
    return shape.watch is not None and len(members) >= LEAST_WATCHED


def _stands_alone(shape: _Shape, members: Sequence[Run]) -> bool:
    """Whether it is one, in no loop that its own lines go on in."""
    return len(members) == 1 and "continue" not in shape.lines


def _inlined(part: Part) -> Inlined | None:
    """What a part says its step is; nothing where a class below it, or the part itself, has a step of its own."""
    # Not by `vars`: in Python 3.11 and 3.12 an object whose dict was asked for reads its attributes more slowly ever after.
    if getattr(part.step, "__func__", None) is not type(part).step:
        return None
    for kind in type(part).__mro__:
        if "inlined" in vars(kind):
            return part.inlined()
        if "step" in vars(kind):
            return None
    return None


def _text_of(groups: Iterable[tuple[_Shape, list[Run]]]) -> str:
    body: list[str] = []
    parameters = ["sim"]
    for n, (shape, members) in enumerate(groups):
        named = [" ".join(run.name.split()) for run in members[:MOST_NAMED]]
        more = ""
        if len(members) > MOST_NAMED:
            more = f" and {len(members) - MOST_NAMED} more"
        targets = ", ".join(["me", *shape.names])
        if _stands_alone(shape, members):
            loop = f"{targets} = one_{n}\n{shape.lines}"
            parameters.append(f"one_{n}")
        else:
            loop = f"for {targets} in group_{n}:\n{_indented(shape.lines)}"
            parameters.append(f"group_{n}")
        if _watched(shape, members):
            loop = f"if not watch_{n}.quiet():\n{_indented(loop)}\n    watch_{n}.look()"
            parameters.append(f"watch_{n}")
        body += [f"# {members[0].phase}: {', '.join(named)}{more}", loop]
    lines = "\n".join(f"        {line}" for line in ["frame = sim.frame", *"\n".join(body).split("\n")])
    return f"def made_for({', '.join(parameters)}):\n    def step():\n{lines}\n    return step\n"


@functools.lru_cache(maxsize=1024)
def _indented(lines: str) -> str:
    """Lines one step in: the same few for every sim."""
    return textwrap.indent(lines, "    ")
