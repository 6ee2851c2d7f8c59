"""What two runs were made from that is not the same: the first thing to know where their rows differ."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np

from larktally.textfmt import shortened, shown_value
from larktally.traces.trace import Trace

__all__ = ["SettingDifference", "setting_differences"]


class SettingDifference(msgspec.Struct, frozen=True):
    """A setting of two runs, by name, with what it was in each; "" where there is no value to show. `row` is from which row on a
    script is another."""

    name: str
    first: str
    second: str
    row: int | None = None

    def __str__(self) -> str:
        return self.told(())

    def told(self, sides: tuple[str, str] | tuple[()]) -> str:
        """The setting in words; `sides` are what the two runs are called, where one is not what the other was."""
        if sides and (self.first or self.second):
            return f"{self.name} is {self.first} in {sides[0]}, {self.second} in {sides[1]}"
        if self.first or self.second:
            return f"{self.name} was {self.first}, now {self.second}"
        return self.name

    @property
    def beside(self) -> str:
        """What it is in the second run, in a few words."""
        if self.second:
            return f"{self.name} {self.second}"
        return f"another in {self.name}"


def setting_differences(a: Trace, b: Trace) -> list[SettingDifference]:
    """Rate, seed, params and numbers of the model, the script and the model itself, where both headers hold them."""
    one, other = a.header, b.header
    found: list[SettingDifference] = []
    # A log carries no rate, no seed and no model: there is nothing to set beside those of a run.
    recorded = bool(one.made_with) and bool(other.made_with)
    if a.rate and b.rate and a.rate != b.rate:
        found.append(SettingDifference("rate", f"{a.rate} frames/s", f"{b.rate}"))
    if recorded:
        if one.subject != other.subject:
            found.append(SettingDifference("the subject", one.subject, other.subject))
        if one.seed != other.seed:
            found.append(SettingDifference("seed", str(one.seed), str(other.seed)))
        found += _by_name({**one.params, **one.settings}, {**other.params, **other.settings}, a.rate == b.rate)
    found += _scripts(a, b)
    if recorded and one.subject == other.subject:
        found += _models(a, b)
    return found


def _by_name(first: Mapping[str, object], second: Mapping[str, object], same_rate: bool) -> list[SettingDifference]:
    found = []
    for name in dict.fromkeys([*first, *second]):
        mine, theirs = first.get(name), second.get(name)
        # At another rate the same time is another number of frames.
        frames = isinstance(mine, int) and isinstance(theirs, int) and not same_rate
        if mine != theirs and not frames:
            found.append(SettingDifference(name, _shown(mine), _shown(theirs)))
    return found


def _shown(value: object) -> str:
    return "not there" if value is None else shown_value(value)


def _scripts(a: Trace, b: Trace) -> list[SettingDifference]:
    """The first row whose inputs are not the same, in runs at one rate."""
    if a.rate != b.rate or not (a.inputs or b.inputs):
        return []
    rows = min(a.rows, b.rows)
    none = np.zeros(rows)
    first: dict[str, int] = {}
    for name in dict.fromkeys([*a.inputs, *b.inputs]):
        wrong = a.inputs.get(name, none)[:rows] != b.inputs.get(name, none)[:rows]
        if wrong.any():
            first[name] = int(wrong.argmax())
    if not first:
        return []
    name = min(first, key=lambda one: first[one])
    return [SettingDifference(f"the script, in {name!r} from row {first[name]} on", "", "", first[name])]


def _models(a: Trace, b: Trace) -> list[SettingDifference]:
    """What of the model is another, as far as the headers hold it."""
    found = []
    one, other = a.header, b.header
    rules = []
    for machine in dict.fromkeys([*one.outlines, *other.outlines]):
        if one.outlines.get(machine) != other.outlines.get(machine):
            rules.append(machine)
    if rules:
        found.append(SettingDifference(f"the rules of {shortened(', '.join(rules))}", "", ""))
    if one.level != other.level:
        found.append(SettingDifference("the level", "", ""))
    if one.order != other.order:
        found.append(SettingDifference("the order of the frame, or its parts", "", ""))
    if one.scene.get("bodies") != other.scene.get("bodies"):
        found.append(SettingDifference("the size of a body", "", ""))
    if one.program.get("version") != other.program.get("version"):
        was, now = (str(header.program.get("version", "none")) for header in (one, other))
        found.append(SettingDifference("the program's version", was, now))
    # The last to say, and only where nothing else is: a comment is another file too.
    sources = [header.made_with.get("source") for header in (one, other)]
    if not found and None not in sources and sources[0] != sources[1]:
        found.append(SettingDifference("the file of the model", "", ""))
    return found
