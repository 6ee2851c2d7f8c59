"""Scenarios: a subject with inputs, frames and setup, under a name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from larktally.claims import Claim
from larktally.errors import LarkError
from larktally.inputs import InputScript
from larktally.subject import SubjectLike, make_subject, name_of
from larktally.timing import Duration, Rate, as_rate, frames_in

__all__ = ["Scenario"]

LONGEST = 10**9


@dataclass(frozen=True, slots=True)
class Scenario:
    """Everything that one run is made from, and what is claimed about it.

    `subject` is a model function, a subject or its class; `frames` a number of frames or a time (`said` is how it was
    written). `until` is a condition in the claim language: the run ends after the first row in which it holds.
    `seen=True` keeps what a sim's machines saw, for claims that ask; `allow_nan` lets number channels be NaN. Raises
    LarkError for what does not fit.
    """

    subject: SubjectLike
    frames: Duration
    inputs: InputScript = field(default_factory=InputScript)
    rate: Any = 60
    seed: int = 0
    params: Mapping[str, Any] = field(default_factory=dict)
    claims: tuple[Claim, ...] = ()
    name: str = ""
    until: str | None = None
    allow_nan: bool = False
    seen: bool = False
    said: Duration = 0

    def __init__(
        self,
        subject: SubjectLike,
        *,
        frames: Duration,
        inputs: InputScript | None = None,
        rate: Rate | int | str = 60,
        seed: int = 0,
        params: Mapping[str, Any] | None = None,
        claims: Iterable[Claim] = (),
        name: str = "",
        until: str | None = None,
        allow_nan: bool = False,
        seen: bool = False,
    ) -> None:
        if not (isinstance(subject, type) or callable(subject)):
            make_subject(subject)
        if not isinstance(seed, int) or isinstance(seed, bool) or not 0 <= seed < 2**63:
            raise LarkError(f"a seed is a whole number from 0 to 2**63 - 1, not {seed!r}")
        if inputs is not None and not isinstance(inputs, InputScript):
            raise LarkError(f"inputs are an lt.InputScript(), not {inputs!r}")
        claims = tuple(claims)
        for one in claims:
            if not isinstance(one, Claim):
                raise LarkError(f"claims are made with lt.claim(name, that), not {one!r}")
        exact = as_rate(rate)
        count = frames_in(frames, exact, what="frames:")
        if count > LONGEST:
            raise LarkError(f"frames={frames!r} is {count} frames; a run has at most {LONGEST}")
        values = {
            "subject": subject,
            "frames": count,
            "inputs": inputs if inputs is not None else InputScript(),
            "rate": exact,
            "seed": seed,
            "params": dict(params or {}),
            "claims": claims,
            "name": name,
            "until": until,
            "allow_nan": allow_nan,
            "seen": seen,
            "said": frames,
        }
        for key, value in values.items():
            object.__setattr__(self, key, value)

    @property
    def title(self) -> str:
        """Its name, or its subject's where it has none."""
        return self.name or name_of(self.subject)

    def named(self, name: str) -> Scenario:
        """The same scenario under a name, where it has none of its own."""
        return self if self.name else self.changed(name=name)

    def changed(self, **changes: Any) -> Scenario:
        """The same scenario with some of it said otherwise: changed(rate=30), changed(params={"rest": "1s"}).

        A length that was said as a time stays that time at another rate.
        """
        kept = {key: getattr(self, key) for key in self.__slots__ if key not in ("subject", "said")}
        kept["frames"] = self.said
        return Scenario(changes.pop("subject", self.subject), **{**kept, **changes})
