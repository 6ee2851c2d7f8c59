"""Claims from a TOML file: [[claim]] tables, and [define] for the expressions that they share."""

from __future__ import annotations

import math
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from larktally.claims.across import TRENDS, Across
from larktally.claims.claim import Claim, claim, expect
from larktally.claims.named import NamedMeasure
from larktally.claims.named_windows import NamedWindow
from larktally.errors import ClaimError, LarkTallyError
from larktally.inputs.shift import Shift
from larktally.language.forms import Form
from larktally.language.names import matching_names
from larktally.language.parsing import check_define, parse
from larktally.language.tree import Node
from larktally.names import check_table, did_you_mean, no_such_file, one_or_many, stands_twice, unknown_name

__all__ = ["Rules", "load_claims", "load_intended", "load_rules"]

_KEYS: dict[str, Any] = {
    "name": str,
    "that": str,
    "table": str,
    "why": str,
    "allow": list,
    "tags": list,
    "for_each": (str, list),
}
_MEASURE_KEYS: dict[str, Any] = {"name": str, "of": str, "unit": str, "wanted": (int, float, list)}
_WINDOW_KEYS: dict[str, Any] = {
    "name": str,
    "of": str,
    "shift": str,
    "held": int,
    "wanted": (int, float, list),
    "runs": str,
}
_ACROSS_KEYS: dict[str, Any] = {
    "name": str,
    "of": str,
    "over": str,
    "spread": (int, float),
    "trend": str,
    "unit": str,
    "why": str,
    "runs": str,
}
_WORDS: dict[Any, str] = {
    str: "a string",
    list: "a list",
    (str, list): "a string or a list",
    int: "a whole number",
    (int, float): "a number",
    (int, float, list): "a number, or a list of the least and the greatest",
}
_TABLES = ("claim", "measure", "across", "define", "intended")
MOST_BYTES = 10_000_000


class Rules(msgspec.Struct, frozen=True):
    """All that a claims file holds: claims, named measures and windows, and rules across runs."""

    claims: tuple[Claim, ...]
    measures: tuple[NamedMeasure, ...] = ()
    across: tuple[Across, ...] = ()
    windows: tuple[NamedWindow, ...] = ()
    #: Whether claims are made for each of some channels: without their names the file cannot be read to its end.
    needs_channels: bool = False


def load_claims(path: str | Path, channels: Iterable[str] = (), tags: Iterable[str] = ()) -> list[Claim]:
    """The claims of a TOML file, in its order; `tags` keeps those with one of them.

    `for_each = "moth.*"`, or a list of such patterns, makes the claim once for every dotted name of `channels` that
    matches, written {it} in `that`. `table = "walk.csv"`, beside the file, stands for `that`: what is expected row by row.
    Raises ClaimError naming the file and the claim or key of what does not fit, and where nothing is claimed at all.
    """
    claims = load_rules(path, channels, tags).claims
    if not claims:
        raise ClaimError(f"{path}: no [[claim]] in this file, so nothing would be checked")
    return list(claims)


def load_rules(path: str | Path, channels: Iterable[str] | None = (), tags: Iterable[str] = ()) -> Rules:
    """The claims of a TOML file, its [[measure]] tables (name, of, unit, wanted; of windows name, of,
    shift, held, wanted, runs), and its [[across]] tables (name, of, over,
    and spread or trend).

    Where the channels are None, nothing is made `for_each` of them: the file alone is read. Raises ClaimError as load_claims
    does, for a file without any of them too.
    """
    content = _content(path)
    defines = _defines(path, content.get("define", {}))
    names = None
    if channels is not None:
        names = tuple(channels)
    claims: list[Claim] = []
    for number, table in enumerate(_tables(path, content, "claim"), 1):
        claims += _claims(path, number, table, defines, names)
    measures: list[NamedMeasure] = []
    windows: list[NamedWindow] = []
    for number, table in enumerate(_tables(path, content, "measure"), 1):
        if isinstance(table, dict) and "shift" in table:
            windows.append(
                _window(path, _checked(path, "measure", number, table, _WINDOW_KEYS, ("name", "of")), defines)
            )
        else:
            measures.append(
                _measure(path, _checked(path, "measure", number, table, _MEASURE_KEYS, ("name", "of")), defines)
            )
    across = [
        _across(path, _checked(path, "across", n, table, _ACROSS_KEYS, ("name", "of", "over")), defines)
        for n, table in enumerate(_tables(path, content, "across"), 1)
    ]
    if not (claims or measures or windows or across):
        raise ClaimError(f"{path}: no [[claim]] in this file, so nothing would be checked")
    # Verdicts, stories and --claim go by the name.
    twice = stands_twice([*(one.name for one in claims), *(one.name for one in across)])
    if twice is not None:
        raise ClaimError(f"{path}: two claims are called {twice!r}")
    twice = stands_twice([*(one.name for one in measures), *(one.name for one in windows)])
    if twice is not None:
        raise ClaimError(f"{path}: two measures are called {twice!r}")
    needs = names is None and any("for_each" in table for table in content.get("claim", ()))
    return Rules(tuple(_tagged(path, claims, set(tags))), tuple(measures), tuple(across), tuple(windows), needs)


def load_intended(path: str | Path) -> tuple[str, ...]:
    """What a claims file says is intended of what an audit finds: `intended = ["flicker sign.lit"]`, before its tables. Raises
    ClaimError."""
    listed = _content(path).get("intended", [])
    if not isinstance(listed, list) or not all(isinstance(one, str) for one in listed):
        raise ClaimError(f"{path}: intended is a list of strings, a check and what it is about each, not {listed!r}")
    return tuple(listed)


def _content(path: str | Path) -> dict[str, Any]:
    content = _read_toml(Path(path))
    for key in content.keys() - set(_TABLES):
        raise ClaimError(f"{path}: no key {key!r} in a claims file{did_you_mean(key, _TABLES)}")
    return content


def _tables(path: str | Path, content: Mapping[str, Any], key: str) -> list[Any]:
    found = content.get(key, [])
    if not isinstance(found, list):
        raise ClaimError(f"{path}: {key} is written [[{key}]], a table for each")
    return found


def _checked(
    path: str | Path, what: str, number: int, table: object, keys: Mapping[str, Any], needed: Sequence[str]
) -> dict[str, Any]:
    """A table whose keys are known and of their kind; raises ClaimError naming it."""
    title = f"{path}: {what} {number}"
    if not isinstance(table, dict):
        raise ClaimError(f"{title} is no [[{what}]] table")
    if isinstance(table.get("name"), str):
        title = f"{path}: {what} {table['name']!r}"
    check_table(title, table, keys, _WORDS, needed=needed, error=ClaimError)
    return table


def _measure(path: str | Path, table: dict[str, Any], defines: Mapping[str, Node]) -> NamedMeasure:
    try:
        tree = parse(table["of"], defines)
        return NamedMeasure(table["of"], table.get("unit", ""), table.get("wanted"), table["name"], tree)
    except ClaimError as error:
        raise ClaimError(f"{path}: measure {table['name']!r}: {error}") from None


def _window(path: str | Path, table: dict[str, Any], defines: Mapping[str, Node]) -> NamedWindow:
    try:
        shift = Shift.from_text(table["shift"], table.get("held", 1))
        judged = claim(table["name"], Form(parse(table["of"], defines)))
        return NamedWindow(judged, shift, wanted=table.get("wanted"), name=table["name"], runs=table.get("runs", "*"))
    except LarkTallyError as error:
        raise ClaimError(f"{path}: measure {table['name']!r}: {error}") from None


def _across(path: str | Path, table: dict[str, Any], defines: Mapping[str, Node]) -> Across:
    title = f"{path}: across {table['name']!r}"
    spread, trend = table.get("spread"), table.get("trend")
    if spread is None and trend is None:
        raise ClaimError(f"{title}: spread= or trend= is missing: how far apart, or {', '.join(TRENDS)}")
    if spread is not None and not 0 <= spread < math.inf:
        raise ClaimError(f"{title}: spread is a number of 0 or more, not {spread!r}")
    if trend is not None and trend not in TRENDS:
        raise ClaimError(f"{title}: {unknown_name('trend', trend, TRENDS)}")
    try:
        measure = NamedMeasure(table["of"], table.get("unit", ""), None, table["name"], parse(table["of"], defines))
    except ClaimError as error:
        raise ClaimError(f"{title}: {error}") from None
    return Across(table["name"], measure, table["over"], spread, trend, table.get("why", ""), table.get("runs", "*"))


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
    path: str | Path, number: int, table: object, defines: Mapping[str, Node], channels: tuple[str, ...] | None
) -> list[Claim]:
    table = _checked(path, "claim", number, table, _KEYS, ("name",))
    title = f"{path}: claim {table['name']!r}"
    if ("that" in table) == ("table" in table):
        raise ClaimError(f"{title}: that is missing: a claim says that=, or table= with what is expected, and not both")
    if "table" in table:
        if "for_each" in table:
            raise ClaimError(f"{title}: for_each goes with that=; a table names its channels itself")
        try:
            options = {key: table[key] for key in ("why", "allow", "tags") if key in table}
            # Beside the claims file, wherever the command is run.
            return [expect(Path(path).parent / table["table"], table["name"], **options)]
        except ClaimError as error:
            raise ClaimError(f"{title}: {error}") from None
    if channels is None and "for_each" in table:
        return [_claim(path, table, table["name"], table["that"].replace("{it}", "it"), defines)]
    if "for_each" not in table:
        return [_claim(path, table, table["name"], table["that"], defines)]
    made = []
    for it in _matches(title, one_or_many(table["for_each"]), channels or ()):
        name = table["name"].replace("{it}", it)
        # Two claims cannot have one name, and a story has to say which of them it is about.
        if name == table["name"]:
            name = f"{name} [{it}]"
        one = _claim(path, table, name, table["that"].replace("{it}", it), defines)
        made.append(replace(one, family=table["name"]))
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
        matching = matching_names(pattern, channels)
        # A claim about nothing would be kept whatever happens.
        if not matching:
            names = {name.rpartition(".")[0] for name in channels} | set(channels)
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
