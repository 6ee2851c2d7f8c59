"""Names that a user gives: the nearest that exists for a wrong one, and patterns such as 'wick.*' that choose several."""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from larktally.errors import LarkTallyError, TraceError
from larktally.textfmt import UNSHOWN

__all__ = [
    "check_table",
    "did_you_mean",
    "existing_file",
    "matching",
    "name_fault",
    "no_such_file",
    "one_or_many",
    "stands_twice",
    "unknown_name",
]


LONGEST_NAME = 1000


def name_fault(name: object) -> str:
    """What is wrong with a name of a channel, an action, an event or a part, "" where nothing is.

    >>> name_fault("wick.y"), name_fault(" wick"), name_fault("bell\\x07")
    ('', 'has space around it', "holds the character '\\\\x07'")
    """
    if not isinstance(name, str):
        return "is no text"
    if not name:
        return "is empty"
    if name != name.strip():
        return "has space around it"
    if len(name) > LONGEST_NAME:
        return f"has {len(name)} letters, and a name has at most {LONGEST_NAME}"
    unshown = UNSHOWN.search(name)
    if unshown is not None:
        return f"holds the character {unshown[0]!a}"
    return ""


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
    kin = []
    for name in names:
        if part and (name == part or name.startswith(part + ".")):
            kin.append(name)
    # Loaded for a name that is wrong, which most are not.
    import difflib

    # A slip of a letter first; otherwise the part is right and what follows it is not.
    if kin and ("." in part or part in kin) and not difflib.get_close_matches(found, names, n=1, cutoff=0.9):
        return f"; {part!r} has {', '.join(map(repr, kin[:12]))}."
    close = difflib.get_close_matches(found, names, n=1, cutoff=0.5)
    if not close:
        # No name is near: perhaps only its last word was said, or it was written in capitals.
        lowered = {name.lower(): name for name in names}
        last = found.lower().rsplit(".", 1)[-1]
        close = [lowered[k] for k in lowered if k.rsplit(".", 1)[-1] == last or k.startswith(found.lower() + ".")][:1]
    if close:
        return f"; did you mean {close[0]!r}?"
    return ""


def unknown_name(kind: str, found: object, known: Iterable[str], place: str = "") -> str:
    """One sentence for a name that does not exist: what was found, the nearest, and what there is.

    >>> unknown_name("state", "airbourne", ["standing", "airborne"])
    "no state 'airbourne'; did you mean 'airborne'? There are: 'standing', 'airborne'"
    """
    names = list(known)
    where = ""
    if place:
        where = f" in {place}"
    near = did_you_mean(str(found), names)
    if not names:
        return f"no {kind} {found!r}{where}: there are none"
    listed = ", ".join(repr(name) for name in names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    return f"no {kind} {found!r}{where}{near or '.'} There are: {listed}"


def matching(names: Sequence[str], patterns: Iterable[str], prefix: str) -> list[str]:
    """The names that any of the patterns matches, in their order.

    Raises LarkTallyError, with `prefix` before the pattern, for one that matches none: it would silently do nothing.
    """
    chosen: set[str] = set()
    for pattern in patterns:
        found = []
        for name in names:
            if fnmatch.fnmatchcase(name, pattern):
                found.append(name)
        if not found:
            near = did_you_mean(pattern, names) or f"; there are: {', '.join(names[:12])}"
            raise LarkTallyError(f"{prefix}{pattern!r} matches no channel{near}")
        chosen.update(found)
    # In the order of the trace, not of the patterns.
    return [name for name in names if name in chosen]


def one_or_many(given: str | Iterable[str]) -> tuple[str, ...]:
    """What a user wrote as a name or as several."""
    if isinstance(given, str):
        return (given,)
    return tuple(given)


def stands_twice(names: Iterable[str]) -> str | None:
    """The first name that came up before, None where all differ.

    >>> stands_twice(["wick.y", "moth.y", "wick.y"])
    'wick.y'
    """
    known: set[str] = set()
    for name in names:
        if name in known:
            return name
        known.add(name)
    return None


def no_such_file(path: Path) -> str:
    """What is said of a file that is not there: its path, and the nearest name in its folder."""
    beside: list[str] = []
    if path.parent.is_dir():
        for entry in path.parent.iterdir():
            beside.append(entry.name)
    return f"{path}: no such file{did_you_mean(path.name, beside)}"


def existing_file(path: str | Path) -> Path:
    """The path of a file that is there; raises TraceError with the nearest name in its folder where it is not."""
    path = Path(path)
    if path.is_file():
        return path
    if path.exists():
        raise TraceError(f"{path}: not a file")
    raise TraceError(no_such_file(path))


def check_table(
    where: str,
    table: Mapping[str, Any],
    keys: Mapping[str, Any],
    words: Mapping[Any, str],
    *,
    beside: Iterable[str] = (),
    needed: Iterable[str] = (),
    error: type[LarkTallyError] = LarkTallyError,
) -> None:
    """Checks a table that a user wrote: each key is one of `keys`, with the types that its value may have, called by their
    `words`, and those that are `needed` are there; `beside` are keys that are known too. Raises the error."""
    for key, value in table.items():
        if key not in keys:
            known = [*keys, *beside]
            raise error(f"{where}: no key {key!r}{did_you_mean(key, known)}; there are: {', '.join(known)}")
        kind = keys[key]
        # True is an int to Python, and to nobody who writes a file.
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool):
            raise error(f"{where}: {key} is {words[kind]}, not {value!r}")
    for key in needed:
        if key not in table:
            raise error(f"{where}: {key} is missing")
