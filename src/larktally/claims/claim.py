"""Claims: a name, and a property that is claimed under it."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import msgspec

from larktally.claims.expected import ExpectedTable, load_expected
from larktally.errors import ClaimError
from larktally.language.forms import Form
from larktally.language.function import Property
from larktally.language.functions import property_of
from larktally.language.parsing import parse
from larktally.language.tree import Call, Node, Text, to_text, walk
from larktally.names import one_or_many

__all__ = ["Claim", "claim", "expect", "mentions_seen"]

# A broken claim cannot be allowed: one that may fail is no claim.
_ALLOWED = ("untested", "unfinished")


class Claim(msgspec.Struct, frozen=True):
    """A named statement about a trace: what is claimed, why, and which verdicts besides kept will do.

    `table` is what is expected where it is claimed by a table, and `tree` says only so. `family` is the name that claims made
    `for_each` of many have in common.
    """

    name: str
    tree: Node
    text: str
    why: str = ""
    allow: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    table: ExpectedTable | None = None
    family: str = ""

    @property
    def told(self) -> tuple[Property, Call]:
        """The property that is claimed, and the call of it; raises ClaimError for what claims nothing."""
        if self.table is not None:
            return self.table.told(), Call("expected", (Text(self.table.path),))
        return property_of(self.tree)

    def __str__(self) -> str:
        return f"{self.name}: {self.text}"


def claim(name: str, that: str | Form, *, why: str = "", allow: Iterable[str] = (), tags: Iterable[str] = ()) -> Claim:
    """A claim from text or from the Python form.

    >>> claim("a hop starts on the ground", "always(implies(event('hop'), prev(wick.grounded)))").name
    'a hop starts on the ground'

    Raises ClaimError where the text does not parse or is no property, and for an `allow` that is no such verdict.
    """
    if not isinstance(name, str) or not name.strip():
        raise ClaimError(f"a claim has a name that is not empty, not {name!r}")
    allowed = one_or_many(allow)
    for verdict in allowed:
        if verdict not in _ALLOWED:
            raise ClaimError(f"claim {name!r}: allow takes 'untested' and 'unfinished', not {verdict!r}")
    try:
        if isinstance(that, Form):
            tree = that.tree
        else:
            tree = parse(that)
    except ClaimError as error:
        raise ClaimError(f"claim {name!r}: {error}") from None
    if isinstance(that, Form):
        text = to_text(tree)
    else:
        text = that
    return Claim(name, tree, text, why, allowed, (tags,) if isinstance(tags, str) else tuple(tags))


def expect(
    path: str | Path, name: str = "", *, why: str = "", allow: Iterable[str] = (), tags: Iterable[str] = ()
) -> Claim:
    """A claim that a trace is what a table says: a CSV with `row` (or `time`, in seconds), channels and events.

    A blank cell is not looked at. `wick.x~0.5` in the heading is a tolerance; without one numbers are equal as float64 of
    the text. An event's cell is how many fell in that row. The claim's name is the file's, unless one is given.
    Raises ClaimError for what is no such table.
    """
    table = load_expected(path)
    made = claim(name or Path(path).name, "always(true)", why=why, allow=allow, tags=tags)
    text = f"as {table.path} says"
    return Claim(made.name, Call("expected", (Text(table.path),)), text, made.why, made.allow, made.tags, table)


def mentions_seen(claims: Iterable[Claim]) -> bool:
    """Whether any claim asks what the machines saw, which a recording has to keep for it."""
    nodes = (node for one in claims for node in walk(one.tree))
    return any(isinstance(node, Call) and node.name == "seen" for node in nodes)
