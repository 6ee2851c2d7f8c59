"""Scenarios: a subject with inputs, frames and setup, under a name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from larktally.claims.claim import Claim
from larktally.claims.named import NamedMeasure, named_measures
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript
from larktally.names import name_fault, one_or_many
from larktally.subjects.adapt import adapt
from larktally.subjects.own_object import name_of
from larktally.subjects.protocol import SubjectLike
from larktally.timing import Duration, RateLike, as_rate, frames_in
from larktally.traces.trace import Trace

if TYPE_CHECKING:
    from larktally.claims.named_windows import NamedWindow

__all__ = ["LONGEST", "Scenario"]

LONGEST = 10**9


@dataclass(frozen=True, slots=True)
class Scenario:
    """Everything that one run is made from, and what is claimed about it.

    `subject` is a model function, a subject or its class; `frames` a number of frames or a time (`frames_as_written` is what
    was given). `until` is a condition in the claim language: the run ends after the first row in which it holds.
    `measures` are numbers of it by the names that people use: {"hop height": "apex(wick.y)"}, or an `lt.NamedMeasure` with a
    unit and what is wanted. `windows` say for which shifts of a press a claim is kept, {"hop buffer": lt.NamedWindow("two hops",
    lt.Shift(…))}; `larktally numbers` reads them. `intended` are findings of the audit that are meant so ("flicker wick.gait").
    `seen=True` keeps what a sim's machines saw, for claims that ask; `allow_nan` lets number channels be NaN.
    Raises LarkTallyError for what does not fit.
    """

    subject: SubjectLike
    frames: Duration
    inputs: InputScript = field(default_factory=InputScript)
    rate: Any = 60
    seed: int = 0
    params: Mapping[str, Any] = field(default_factory=dict)
    claims: tuple[Claim, ...] = ()
    measures: Any = ()
    windows: Any = ()
    intended: tuple[str, ...] = ()
    name: str = ""
    until: str | None = None
    allow_nan: bool = False
    seen: bool = False
    frames_as_written: Duration = 0

    def __init__(
        self,
        subject: SubjectLike,
        *,
        frames: Duration,
        inputs: InputScript | None = None,
        rate: RateLike = 60,
        seed: int = 0,
        params: Mapping[str, Any] | None = None,
        claims: Iterable[Claim] = (),
        measures: Mapping[str, str | NamedMeasure] | Iterable[NamedMeasure] = (),
        windows: Mapping[str, NamedWindow] | Iterable[NamedWindow] = (),
        intended: Iterable[str] = (),
        name: str = "",
        until: str | None = None,
        allow_nan: bool = False,
        seen: bool = False,
    ) -> None:
        # Told where the scenario is written, not when it is first run; a class or a model function is only known once it is
        # called.
        if not (isinstance(subject, type) or callable(subject)):
            adapt(subject)
        if not isinstance(seed, int) or isinstance(seed, bool) or not 0 <= seed < 2**63:
            raise LarkTallyError(f"a seed is a whole number from 0 to 2**63 - 1, not {seed!r}")
        if inputs is not None and not isinstance(inputs, InputScript):
            raise LarkTallyError(f"inputs are an lt.InputScript(), not {inputs!r}")
        fault = name_fault(name)
        if fault and name != "":
            raise LarkTallyError(f"a scenario cannot be called {name!a}: the name {fault}")
        claims = tuple(claims)
        for one in claims:
            if not isinstance(one, Claim):
                raise LarkTallyError(f"claims are made with lt.claim(name, that), not {one!r}")
        exact = as_rate(rate)
        # Here, where a message can still say `frames`: what runs it has nothing but the number.
        count = frames_in(frames, exact, what="frames:")
        if count > LONGEST:
            raise LarkTallyError(f"frames={frames!r} is {count} frames; a run has at most {LONGEST}")
        if isinstance(windows, Mapping):
            # Most scenarios have none.
            from larktally.claims.named_windows import named_windows

            windows = named_windows(windows)
        values = {
            "subject": subject,
            "frames": count,
            "inputs": inputs if inputs is not None else InputScript(),
            "rate": exact,
            "seed": seed,
            "params": dict(params or {}),
            "claims": claims,
            "measures": tuple(measures) if not isinstance(measures, Mapping) else named_measures(measures),
            "windows": tuple(windows),
            "intended": one_or_many(intended),
            "name": name,
            "until": until,
            "allow_nan": allow_nan,
            "seen": seen,
            # As it was written, so that `changed(rate=30)` is as many seconds and not as many frames.
            "frames_as_written": frames,
        }
        for key, value in values.items():
            # A scenario is a value: the one way round its own refusal to be changed is this, while it is made.
            object.__setattr__(self, key, value)

    @classmethod
    def from_trace(cls, trace: Trace, scenario: Scenario | SubjectLike) -> Scenario:
        """A scenario that runs a subject under a trace's own inputs, seed, rate, params and number of frames.

        Raises LarkTallyError for a trace that does not hold what a run needs.
        """
        if trace.rate is None:
            raise LarkTallyError("this trace carries no rate, so it cannot be run again")
        # A press that fell between two of its rows is gone.
        if trace.header.every != 1:
            raise LarkTallyError("this recording is thinned, so it does not hold the inputs of every frame")
        return cls(
            scenario.subject if isinstance(scenario, Scenario) else scenario,
            frames=trace.frames,
            inputs=InputScript.from_columns(trace.inputs),
            rate=trace.rate,
            seed=trace.header.seed,
            params=trace.header.params,
            name=trace.header.scenario,
            allow_nan=trace.header.allow_nan,
            seen=any(name.startswith("seen:") for name in trace.columns),
        )

    @property
    def title(self) -> str:
        """Its name, or its subject's where it has none."""
        return self.name or name_of(self.subject)

    def named(self, name: str) -> Scenario:
        """The same scenario under a name, where it has none of its own."""
        if self.name:
            return self
        return self.changed(name=name)

    def turned(self, params: Mapping[str, Any], rate: RateLike | None = None) -> Scenario:
        """The same scenario with some of its params said otherwise, the others as they are, and at another rate, where one is
        given."""
        changes: dict[str, Any] = {}
        if params:
            changes["params"] = {**self.params, **params}
        if rate:
            changes["rate"] = rate
        return self.changed(**changes)

    def changed(self, **changes: Any) -> Scenario:
        """The same scenario with some of it said otherwise: changed(rate=30), changed(params={"rest": "1s"}).

        A length that was said as a time stays that time at another rate.
        """
        kept = {}
        for key in self.__slots__:
            if key not in ("subject", "frames_as_written"):
                kept[key] = getattr(self, key)
        kept["frames"] = self.frames_as_written
        return Scenario(changes.pop("subject", self.subject), **{**kept, **changes})
