"""The setup: what a run is made from, rate, seed and params, and what a model was given for each name it asked for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

from larktally.errors import ModelError
from larktally.names import unknown_name
from larktally.timing import Duration, Rate, as_rate, frames_in

__all__ = ["Setup"]

T = TypeVar("T")


@dataclass(slots=True)
class Setup:
    """What a run is made from: rate, seed and params. A model reads its numbers from here, so that runs can vary them.

    `settings` collects what the model was given for each name it asked for, durations in frames; claims read it.
    """

    rate: Rate = field(default_factory=Rate)
    seed: int = 0
    params: Mapping[str, Any] = field(default_factory=dict)
    settings: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.rate = as_rate(self.rate)
        self.params = dict(self.params)

    def param(self, name: str, default: T) -> T:
        """The param of that name, or the default where the run gives none; raises ModelError for another kind."""
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

    def duration(self, name: str, default: Duration) -> int:
        """The param of that name as whole frames at this run's rate: 48 for "0.8s" at 60 frames/s."""
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
