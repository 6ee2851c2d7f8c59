"""The one door: which adapter leads what a user hands over, chosen once, by type."""

from __future__ import annotations

import hashlib
import inspect
from pathlib import Path
from types import FunctionType
from typing import TYPE_CHECKING, cast

from larktally.code_places import is_own
from larktally.errors import LarkTallyError, ModelError
from larktally.parts.sim import Sim
from larktally.subjects.composite import CompositeSubject
from larktally.subjects.composite_adapter import CompositeAdapter
from larktally.subjects.model_function import ModelFunction
from larktally.subjects.own_object import OwnObject, name_of
from larktally.subjects.protocol import OutsideSubject, RunnableSubject, Subject
from larktally.subjects.sim_subject import SimSubject

if TYPE_CHECKING:
    from larktally.subjects.programs.program import Program

__all__ = ["adapt", "name_of", "source_digest"]


def adapt(subject: object) -> RunnableSubject:
    """The adapter of a subject, its class, or a model function that takes a setup; raises LarkTallyError for anything else."""
    made = subject
    # A class is called without arguments: what a run is made from comes with reset.
    if isinstance(subject, type):
        made = subject()
    known = _known(made, name_of(subject))
    if known is not None:
        return known
    # Last, since an object of a user's own may be callable and still be a subject.
    if callable(made):
        return ModelFunction(made, name_of(made), _adapt_made)
    missing = []
    for name in ("reset", "step", "observe"):
        if not callable(getattr(made, name, None)):
            missing.append(name)
    raise LarkTallyError(
        f"{type(made).__name__} is no subject: it has no {' and no '.join(missing)}; a subject has reset(setup), "
        "step(now) and observe(), or is a function that takes a setup and returns a Sim"
    )


def source_digest(subject: object) -> str:
    """The first 16 digits of the SHA-256 of the file that a subject's function or class is written in; "" where there is
    no such file."""
    written = subject
    if not isinstance(subject, type | FunctionType):
        written = type(subject)
    try:
        file = inspect.getsourcefile(written)  # type: ignore[arg-type]
        if file is None or is_own(file):
            return ""
        return hashlib.sha256(Path(file).read_bytes()).hexdigest()[:16]
    except (TypeError, OSError):
        return ""


def _known(subject: object, name: str) -> RunnableSubject | None:
    """The adapter of an object that is a subject itself; None where it is none."""
    if isinstance(subject, Sim):
        return SimSubject(subject, name)
    if isinstance(subject, OutsideSubject):
        from larktally.subjects.program_subject import ProgramSubject

        return ProgramSubject(cast("Program", subject))
    if isinstance(subject, CompositeSubject):
        return CompositeAdapter(subject, {of: adapt(one) for of, one in subject.subjects.items()})
    if isinstance(subject, Subject):
        return OwnObject(subject, name)
    return None


def _adapt_made(made: object, name: str) -> RunnableSubject:
    """The adapter of what a model function returned."""
    found = _known(made, name)
    if found is None:
        raise ModelError(
            f"{name}(setup) returned {type(made).__name__}, not a Sim or another subject; does it end with 'return sim'?"
        )
    return found
