"""What can go wrong, as types, and the nearest existing name for a wrong one.

Every error that a user can cause is a LarkError; the command line turns each into one message and an exit status.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from typing import Any

__all__ = [
    "LarkError",
    "ModelError",
    "InputError",
    "ClaimError",
    "TraceError",
    "SubjectFailed",
    "did_you_mean",
    "unknown_name",
]


class LarkError(ValueError):
    """Something a user can mend: bad usage, a bad file, a model that contradicts itself."""


class ModelError(LarkError):
    """A model that cannot be built, or a rule that does what rules may not."""


class InputError(LarkError):
    """A script, an action or a key that does not fit the subject."""


class ClaimError(LarkError):
    """A claim that does not parse, or names what the trace does not hold."""


class TraceError(LarkError):
    """A trace or a trace file that is broken, cut short, or of another kind."""


class SubjectFailed(LarkError):
    """A subject that raised or observed what cannot be recorded.

    `row` is the row that could not be made; `trace` holds every row before it (None where not even reset worked);
    `__cause__` is the subject's own error, where it raised one.
    """

    def __init__(self, message: str, row: int, trace: Any = None) -> None:
        super().__init__(message)
        self.row = row
        self.trace = trace


def did_you_mean(found: str, known: Iterable[str]) -> str:
    """The end of a message: "; did you mean 'wick.y'?", or "" where nothing is near.

    Where a dotted name is wrong only in what follows a part that exists, what that part has is listed.

    >>> did_you_mean("wick.burts", ["wick.y", "wick.burst.left"])
    "; did you mean 'wick.burst.left'?"
    >>> did_you_mean("wick.oil.amount", ["wick.y", "wick.oil", "wick.oil.empty"])
    "; 'wick.oil' has 'wick.oil', 'wick.oil.empty'."
    """
    names = list(known)
    part = found.rpartition(".")[0]
    kin = [name for name in names if part and (name == part or name.startswith(part + "."))]
    if kin and ("." in part or part in kin) and not difflib.get_close_matches(found, names, n=1, cutoff=0.9):
        return f"; {part!r} has {', '.join(map(repr, kin[:12]))}."
    close = difflib.get_close_matches(found, names, n=1, cutoff=0.5)
    if not close:
        lowered = {name.lower(): name for name in names}
        last = found.lower().rsplit(".", 1)[-1]
        close = [lowered[k] for k in lowered if k.rsplit(".", 1)[-1] == last or k.startswith(found.lower() + ".")][:1]
    return f"; did you mean {close[0]!r}?" if close else ""


def unknown_name(kind: str, found: object, known: Iterable[str], place: str = "") -> str:
    """One sentence for a name that does not exist: what was found, the nearest, and what there is.

    >>> unknown_name("state", "airbourne", ["standing", "airborne"])
    "no state 'airbourne'; did you mean 'airborne'? There are: 'standing', 'airborne'"
    """
    names = list(known)
    where = f" in {place}" if place else ""
    near = did_you_mean(str(found), names)
    if not names:
        return f"no {kind} {found!r}{where}: there are none"
    listed = ", ".join(repr(name) for name in names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    return f"no {kind} {found!r}{where}{near or '.'} There are: {listed}"
