"""Claims from a TOML file: [[claim]] tables, and [define] for the expressions that they share."""

from __future__ import annotations

import fnmatch
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from larktally.claims.claim import Claim, claim
from larktally.errors import ClaimError
from larktally.language.parsing import check_define, parse
from larktally.language.tree import Node
from larktally.names import did_you_mean, no_such_file, one_or_many

__all__ = ["load_claims"]

_KEYS: dict[str, Any] = {"name": str, "that": str, "why": str, "allow": list, "tags": list, "for_each": (str, list)}
_WORDS = {str: "a string", list: "a list", (str, list): "a string or a list"}
MOST_BYTES = 10_000_000


def load_claims(path: str | Path, channels: Iterable[str] = (), tags: Iterable[str] = ()) -> list[Claim]:
    """The claims of a TOML file, in its order; `tags` keeps those with one of them.

    `for_each = "moth.*"`, or a list of such patterns, makes the claim once for every dotted name of `channels` that
    matches, written {it} in `that`.
    Raises ClaimError naming the file and the claim or key of what does not fit, and where nothing is claimed at all.
    """
    content = _read_toml(Path(path))
    for key in content.keys() - {"claim", "define"}:
        raise ClaimError(f"{path}: no key {key!r} in a claims file{did_you_mean(key, ('claim', 'define'))}")
    defines = _defines(path, content.get("define", {}))
    tables = content.get("claim", [])
    if not isinstance(tables, list) or not tables:
        raise ClaimError(f"{path}: no [[claim]] in this file, so nothing would be checked")
    names = tuple(channels)
    claims: list[Claim] = []
    taken: set[str] = set()
    for number, table in enumerate(tables, 1):
        for one in _claims(path, number, table, defines, names):
            # Verdicts, stories and --claim go by the name.
            if one.name in taken:
                raise ClaimError(f"{path}: two claims are called {one.name!r}")
            taken.add(one.name)
            claims.append(one)
    return _tagged(path, claims, set(tags))


def _read_toml(path: Path) -> dict[str, Any]:
    try:
        # Before it is read: a file that is not meant for this may be of any size.
        if path.stat().st_size > MOST_BYTES:
            raise ClaimError(f"{path}: a claims file has at most {MOST_BYTES} bytes")
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise ClaimError(no_such_file(path)) from None
    # Of a number of thousands of digits a ValueError, as the others are.
    except ValueError as error:
        if isinstance(error, ClaimError):
            raise
        raise ClaimError(f"{path}: not TOML: {error}") from None
    except RecursionError:
        raise ClaimError(f"{path}: nested too deep") from None
    except OSError as error:
        raise ClaimError(f"{path}: cannot be read: {error.strerror or error}") from None


def _defines(path: str | Path, table: object) -> Mapping[str, Node]:
    if not isinstance(table, dict):
        raise ClaimError(f"{path}: [define] is a table of names and expressions")
    defines: dict[str, Node] = {}
    for name, text in table.items():
        try:
            check_define(name)
            defines[name] = parse(text, defines)
        except ClaimError as error:
            raise ClaimError(f"{path}: define {name!r}: {error}") from None
    return defines


def _claims(
    path: str | Path, number: int, table: object, defines: Mapping[str, Node], channels: tuple[str, ...]
) -> list[Claim]:
    if isinstance(table, dict) and "name" in table:
        title = f"{path}: claim {table['name']!r}"
    else:
        title = f"{path}: claim {number}"
    if not isinstance(table, dict):
        raise ClaimError(f"{title} is no [[claim]] table")
    for key, value in table.items():
        if key not in _KEYS:
            raise ClaimError(f"{title}: no key {key!r}{did_you_mean(key, _KEYS)}; there are: {', '.join(_KEYS)}")
        if not isinstance(value, _KEYS[key]):
            raise ClaimError(f"{title}: {key} is {_WORDS[_KEYS[key]]}, not {value!r}")
    for key in ("name", "that"):
        if key not in table:
            raise ClaimError(f"{title}: {key} is missing")
    if "for_each" not in table:
        return [_claim(path, table, table["name"], table["that"], defines)]
    made = []
    for it in _matches(title, one_or_many(table["for_each"]), channels):
        name = table["name"].replace("{it}", it)
        # Two claims cannot have one name, and a story has to say which of them it is about.
        if name == table["name"]:
            name = f"{name} [{it}]"
        made.append(_claim(path, table, name, table["that"].replace("{it}", it), defines))
    return made


def _claim(path: str | Path, table: dict[str, Any], name: str, text: str, defines: Mapping[str, Node]) -> Claim:
    try:
        one = claim(name, text, why=table.get("why", ""), allow=table.get("allow", ()), tags=table.get("tags", ()))
        # Read again with what the file defines: the first reading is what checks everything else about it.
        return Claim(one.name, parse(text, defines), text, one.why, one.allow, one.tags)
    except ClaimError as error:
        raise ClaimError(f"{path}: {error}") from None


def _matches(title: str, patterns: Sequence[str], channels: tuple[str, ...]) -> list[str]:
    """The dotted names, whole or leading parts of channels, with as many segments as a pattern, that match it; each once."""
    found: dict[str, None] = {}
    for pattern in patterns:
        if not isinstance(pattern, str):
            raise ClaimError(f"{title}: for_each is a pattern of names, or a list of them, not {pattern!r}")
        depth = pattern.count(".") + 1
        names: dict[str, None] = {}
        for name in channels:
            segments = name.split(".")
            if len(segments) >= depth:
                names[".".join(segments[:depth])] = None
        matching = fnmatch.filter(names, pattern)
        # A claim about nothing would be kept whatever happens.
        if not matching:
            raise ClaimError(f"{title}: for_each = {pattern!r} matches nothing{did_you_mean(pattern, names)}")
        found |= dict.fromkeys(matching)
    return list(found)


def _tagged(path: str | Path, claims: list[Claim], tags: set[str]) -> list[Claim]:
    if not tags:
        return claims
    known = {tag for one in claims for tag in one.tags}
    if missing := tags - known:
        tag = min(missing)
        raise ClaimError(f"{path}: no claim has the tag {tag!r}{did_you_mean(tag, known)}")
    found: list[Claim] = []
    for one in claims:
        if tags & set(one.tags):
            found.append(one)
    return found
