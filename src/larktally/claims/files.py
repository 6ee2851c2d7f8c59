"""Claims from a TOML file: [[claim]] tables, and [define] for the expressions that they share."""

from __future__ import annotations

import fnmatch
import re
import tomllib
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from larktally.claims.claim import Claim, claim
from larktally.claims.text import parse
from larktally.claims.tree import Node
from larktally.errors import ClaimError, did_you_mean

__all__ = ["load_claims"]

_KEYS = {"name": str, "that": str, "why": str, "allow": list, "tags": list, "each": str}
MOST_BYTES = 10_000_000


def load_claims(path: str | Path, channels: Iterable[str] = (), tags: Iterable[str] = ()) -> list[Claim]:
    """The claims of a TOML file, in its order; `tags` keeps those with one of them.

    `each = "moth.*"` makes the claim once for every dotted name of `channels` that matches, written {it} in `that`.
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
    claims = [one for number, table in enumerate(tables, 1) for one in _claims(path, number, table, defines, names)]
    repeated = next((one.name for n, one in enumerate(claims) if one.name in [c.name for c in claims[:n]]), None)
    if repeated:
        raise ClaimError(f"{path}: two claims are called {repeated!r}")
    return _tagged(path, claims, set(tags))


def _read_toml(path: Path) -> dict[str, Any]:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ClaimError(f"{path}: a claims file has at most {MOST_BYTES} bytes")
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        beside = [entry.name for entry in path.parent.iterdir()] if path.parent.is_dir() else []
        raise ClaimError(f"{path}: no such file{did_you_mean(path.name, beside)}") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
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
            defines[name] = parse(text, defines)
        except ClaimError as error:
            raise ClaimError(f"{path}: define {name!r}: {error}") from None
    return defines


def _claims(
    path: str | Path, number: int, table: object, defines: Mapping[str, Node], channels: tuple[str, ...]
) -> list[Claim]:
    title = (
        f"{path}: claim {table['name']!r}" if isinstance(table, dict) and "name" in table else f"{path}: claim {number}"
    )
    if not isinstance(table, dict):
        raise ClaimError(f"{title} is no [[claim]] table")
    for key, value in table.items():
        if key not in _KEYS:
            raise ClaimError(f"{title}: no key {key!r}{did_you_mean(key, _KEYS)}; there are: {', '.join(_KEYS)}")
        if not isinstance(value, _KEYS[key]):
            raise ClaimError(f"{title}: {key} is a {'list' if _KEYS[key] is list else 'string'}, not {value!r}")
    for key in ("name", "that"):
        if key not in table:
            raise ClaimError(f"{title}: {key} is missing")
    made = []
    for it in _matches(title, table["each"], channels) if "each" in table else [None]:
        text = table["that"] if it is None else table["that"].replace("{it}", it)
        name = table["name"] if it is None else table["name"].replace("{it}", it)
        name = name if it is None or name != table["name"] else f"{name} [{it}]"
        try:
            one = claim(name, text, why=table.get("why", ""), allow=table.get("allow", ()), tags=table.get("tags", ()))
            made.append(Claim(one.name, parse(text, defines), text, one.why, one.allow, one.tags))
        except ClaimError as error:
            raise ClaimError(f"{path}: {error}") from None
    return made


def _matches(title: str, pattern: str, channels: tuple[str, ...]) -> list[str]:
    """The dotted names, whole or leading parts of channels, with as many segments as the pattern, that match it."""
    depth = pattern.count(".") + 1
    names = dict.fromkeys(".".join(name.split(".")[:depth]) for name in channels if name.count(".") + 1 >= depth)
    expression = re.compile(fnmatch.translate(pattern))
    found = [name for name in names if expression.match(name)]
    if not found:
        raise ClaimError(f"{title}: each = {pattern!r} matches nothing{did_you_mean(pattern, names)}")
    return found


def _tagged(path: str | Path, claims: list[Claim], tags: set[str]) -> list[Claim]:
    if not tags:
        return claims
    known = {tag for one in claims for tag in one.tags}
    if missing := tags - known:
        tag = min(missing)
        raise ClaimError(f"{path}: no claim has the tag {tag!r}{did_you_mean(tag, known)}")
    return [one for one in claims if tags & set(one.tags)]
