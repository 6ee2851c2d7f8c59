"""Side by side: a reference and another subject under the same inputs, and where the other leaves it."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from larktally.comparing.comparison import Comparison, compare
from larktally.comparing.tolerance import Tolerances
from larktally.inputs.script import InputScript
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.subjects.protocol import SubjectLike

__all__ = ["side_by_side"]


def side_by_side(
    reference: Scenario,
    other: SubjectLike,
    *,
    names: Mapping[str, str] | None = None,
    tolerance: Tolerances = None,
    inputs: Mapping[str, str] | None = None,
    sides: tuple[str, str] = ("the rules", "the game"),
) -> Comparison:
    """Runs a reference, such as a model of the rules, and another subject, such as the shipped game, and compares them.

    The other is given the very inputs that the reference had, so that presses placed on events fall in the same frames.
    `names` maps channels of the reference to what the other calls them, `inputs` its actions likewise, and `sides` are
    what a report calls the two. Channels that only
    one of the two has are named and left out; of events the names count that both may say. Raises what record and compare raise.
    """
    first = record(reference)
    renamed = {}
    for name, values in first.inputs.items():
        renamed[(inputs or {}).get(name, name)] = values
    script = InputScript.from_columns({name: values for name, values in renamed.items() if values.any()})
    # As long as the first was: a condition over the model's channels means nothing to the game.
    second = record(reference.changed(subject=other, inputs=script, frames=first.frames, until=None, claims=()))
    # A game that announces no landings cannot be late with one.
    both = set(first.header.events) & set(second.header.events)
    first, second = (trace.changed(events=trace.events.names_only(both)) for trace in (first, second))
    return replace(compare(first, second, tolerance, names), sides=sides)
