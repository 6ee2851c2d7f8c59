"""What is expected of a trace: signals, properties, their text, verdicts and measures."""

from larktally.claims.claim import Claim, check, check_each, claim, rows_where
from larktally.claims.files import load_claims
from larktally.claims.forms import Form, ch, language
from larktally.claims.measures import measure, measured_over
from larktally.claims.text import parse
from larktally.claims.tree import to_text
from larktally.claims.verdicts import Breach, Result, Tally

__all__ = [
    "Breach",
    "Claim",
    "Form",
    "Result",
    "Tally",
    "ch",
    "check",
    "check_each",
    "claim",
    "language",
    "load_claims",
    "measure",
    "measured_over",
    "parse",
    "rows_where",
    "to_text",
]
