"""The claim language: its tree, its text and Python forms, its functions, type check, and evaluation on columns and on a row.

Every function of the language is an attribute here, for the Python form: `lt.language.always(…)`; docs/claims.md tells each.
"""

from larktally.language.forms import Form, ch, form_of, function_names
from larktally.language.parsing import parse
from larktally.language.tree import to_text

__all__ = ["Form", "ch", "parse", "to_text"]


def __getattr__(name: str) -> object:
    return form_of(name)


def __dir__() -> list[str]:
    return [*__all__, *function_names()]
