"""The setup: what a run is made from, rate, seed and params, and what a model was given for each name it asked for."""

from __future__ import annotations

import re
from collections.abc import Mapping
from decimal import Decimal
from fractions import Fraction
from types import CodeType
from typing import Any, NamedTuple, TypeVar

import msgspec

from larktally.code_places import code_of_caller, place_of_caller
from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.timing import Duration, Rate, as_rate, frames_in

__all__ = ["Asked", "Setup"]

T = TypeVar("T")
_EXPONENT = re.compile(r"([+-]?\d{1,3})?")


class Asked(NamedTuple):
    """A name that a model asked for: `kind` is param, number or duration; its default as it is written there, and the bounds of
    a number. `asked_at` is the code and line that asked, None where a program announced it."""

    kind: str
    default: Any
    least: Any = None
    greatest: Any = None
    asked_at: tuple[CodeType, int] | None = None


class Setup(msgspec.Struct):
    """What a run is made from: rate, seed and params. A model reads its numbers from here, so that runs can vary them.

    `settings` collects what the model was given for each name it asked for, durations in frames; claims read it. `asked` are
    the same names with their defaults: what can be turned.
    """

    rate: Rate = msgspec.field(default_factory=Rate)
    seed: int = 0
    params: Mapping[str, Any] = msgspec.field(default_factory=dict)
    settings: dict[str, Any] = msgspec.field(default_factory=dict)
    asked: dict[str, Asked] = msgspec.field(default_factory=dict)

    def __post_init__(self) -> None:
        self.rate = as_rate(self.rate)
        self.params = dict(self.params)

    def param(self, name: str, default: T) -> T:
        """The param of that name, or the default where the run gives none; raises ModelError for another kind."""
        self.asked[name] = Asked("param", default, asked_at=code_of_caller())
        given = self.params.get(name, default)
        # 3 for 3.0 is what a shell or a table of params gives.
        if isinstance(default, float) and isinstance(given, int) and not isinstance(given, bool):
            given = float(given)
        if isinstance(default, int) and not isinstance(default, bool) and isinstance(given, float):
            default = float(default)  # type: ignore[assignment]
        if type(given) is not type(default):
            raise ModelError(f"param {name!r} is {given!r}, where the model expects something like {default!r}")
        self.settings[name] = given
        return given

    def number(
        self,
        name: str,
        default: int | float | str | Fraction | Decimal,
        *,
        least: float | Fraction | None = None,
        greatest: float | Fraction | None = None,
    ) -> Any:
        """The number of that name, or the default where the run gives none.

        Given as text ("0.75", "3/4"), a Fraction or a Decimal, the default makes it exact: a Fraction, whatever form the run
        gives, as meters take it; a float that is given then counts as it is written, so that 0.1 is 1/10. A whole default
        gives an int where the run's number is whole, every other number is a float. Raises ModelError, with the line of the
        model that asks, for what is no number, not finite, below `least` or above `greatest`.

        >>> Setup(params={"drain": "1/3", "leap": 340.5}).number("drain", "0.75")
        Fraction(1, 3)
        """
        self.asked[name] = Asked("number", default, least, greatest, code_of_caller())
        given = self.params.get(name, default)
        found = _fraction(given)
        if found is None:
            raise ModelError(
                f"{place_of_caller()}: param {name!r} is {given!r}, which is no finite number such as {default!r}"
            )
        for bound, beyond, word in ((least, "below", "least"), (greatest, "above", "greatest")):
            if bound is not None and (found < bound if word == "least" else found > bound):
                raise ModelError(f"{place_of_caller()}: param {name!r} is {given!r}, {beyond} its {word}, {bound}")
        whole = found.denominator == 1
        if isinstance(default, str | Fraction | Decimal):
            self.settings[name] = found.numerator if whole else float(found)
            return found
        if isinstance(default, int) and whole:
            self.settings[name] = found.numerator
            return found.numerator
        # Of a float the very one that was given, not one that went through decimals.
        number = given if isinstance(given, float) else float(found)
        self.settings[name] = number
        return number

    def duration(self, name: str, default: Duration) -> int:
        """The param of that name as whole frames at this run's rate: 48 for "0.8s" at 60 frames/s."""
        self.asked[name] = Asked("duration", default, asked_at=code_of_caller())
        frames = frames_in(self.params.get(name, default), self.rate, what=f"param {name!r}:")
        # In frames, as the model has it: a claim that reads the param compares with rows.
        self.settings[name] = frames
        return frames

    def check_all_read(self) -> None:
        """Raises ModelError where a param was given that the model never asked for: it would change nothing."""
        for name in self.params:
            if name not in self.settings:
                raise ModelError(
                    unknown_name("param", name, self.settings)
                    + "; a model reads its params while it is built, with setup.param, and this one read no other"
                )


def _fraction(given: object) -> Fraction | None:
    """A number, or a text that is one, exactly as it is written; None for anything else, and for what is not finite."""
    if isinstance(given, bool) or not isinstance(given, int | float | str | Fraction | Decimal):
        return None
    if isinstance(given, int | Fraction):
        return Fraction(given)
    # A float counts as it is written: 0.1 is a tenth.
    text = repr(given) if isinstance(given, float) else str(given).strip()
    # "1e999999999" is a short text and a number of a billion digits.
    if len(text) > 100 or not _EXPONENT.fullmatch(text.lower().partition("e")[2]):
        return None
    try:
        return Fraction(text)
    except (ValueError, ZeroDivisionError):
        return None
