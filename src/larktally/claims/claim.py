"""Claims: a name, and a property that is claimed under it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from larktally.errors import ClaimError
from larktally.language.forms import Form
from larktally.language.parsing import parse
from larktally.language.tree import Call, Node, to_text, walk
from larktally.names import one_or_many

__all__ = ["Claim", "claim", "mentions_seen"]

# A broken claim cannot be allowed: one that may fail is no claim.
_ALLOWED = ("untested", "unfinished")


@dataclass(frozen=True, slots=True)
class Claim:
    """A named statement about a trace: what is claimed, why, and which verdicts besides kept will do."""

    name: str
    tree: Node
    text: str
    why: str = ""
    allow: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()

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


def mentions_seen(claims: Iterable[Claim]) -> bool:
    """Whether any claim asks what the machines saw, which a recording has to keep for it."""
    nodes = (node for one in claims for node in walk(one.tree))
    return any(isinstance(node, Call) and node.name == "seen" for node in nodes)
