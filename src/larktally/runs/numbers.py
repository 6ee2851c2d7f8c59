"""Numbers to turn: what a model asked its setup for, with defaults, bounds, and the line of code that says each."""

from __future__ import annotations

import linecache
import math
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

from larktally.runs.observers import RunObserver, RunStart
from larktally.runs.runner import Runner
from larktally.runs.scenario import Scenario
from larktally.setup import Asked

__all__ = ["AskedNumbers", "TurnableNumber", "asked_numbers"]


@dataclass(frozen=True, slots=True)
class TurnableNumber:
    """A name that a model asks for: `value` is what the run had, as it was given, `default` what it has without; the bounds of a
    number where the model says them; `place` the file and line, and `line` the text that stands there."""

    name: str
    kind: str
    default: Any
    value: Any
    least: float | None
    greatest: float | None
    place: str
    line: str

    @property
    def code(self) -> str:
        """The line of code that makes the value the default: that of the model where the default stands in it as it is, and
        otherwise the params of a scenario."""
        was, now = _written(self.default), _written(self.value)
        name = self.line.find(repr(self.name).replace("'", '"'))
        if name < 0:
            name = self.line.find(repr(self.name))
        for text in (was, was.replace("'", '"')):
            at = self.line.find(text, name + len(self.name)) if name >= 0 else -1
            if at >= 0:
                quote = now.replace("'", '"') if '"' in text else now
                return self.line[:at] + quote + self.line[at + len(text) :]
        return f'params={{"{self.name}": {now}}}'

    def plain(self) -> dict[str, Any]:
        """The number as plain data, for JSON: a fraction as its text."""
        return {
            "name": self.name,
            "kind": self.kind,
            "default": _plain(self.default),
            "value": _plain(self.value),
            "least": self.least,
            "greatest": self.greatest,
            "place": self.place,
            "code": self.code,
        }


class AskedNumbers(RunObserver):
    """Watches a run for what its model asked for; `found` has it, in the order in which it was asked."""

    def __init__(self, params: Mapping[str, Any]) -> None:
        self._params = params
        self.found: list[TurnableNumber] = []

    def begin(self, run: RunStart) -> None:
        self.found = [self._number(name, asked) for name, asked in run.setup.asked.items()]

    def _number(self, name: str, asked: Asked) -> TurnableNumber:
        place, line = "", ""
        if asked.asked_at is not None:
            code, number = asked.asked_at
            place = f"{Path(code.co_filename).name}:{number}"
            line = linecache.getline(code.co_filename, number).strip()
        bounds = (_bound(asked.least), _bound(asked.greatest))
        return TurnableNumber(
            name, asked.kind, asked.default, self._params.get(name, asked.default), *bounds, place, line
        )


def asked_numbers(scenario: Scenario) -> list[TurnableNumber]:
    """What a scenario's model asks for while it is built."""
    asked = AskedNumbers(scenario.params)
    Runner(scenario, [asked])
    return asked.found


def _bound(value: Any) -> float | None:
    if value is None or not math.isfinite(value):
        return None
    return float(value)


def _plain(value: Any) -> Any:
    """As JSON has it: what is no number, flag or text is shown as it is written."""
    if isinstance(value, Fraction):
        return str(value)
    if isinstance(value, bool | int | str) or (isinstance(value, float) and math.isfinite(value)):
        return value
    return str(value)


def _written(value: Any) -> str:
    if isinstance(value, Fraction):
        return repr(str(value))
    return repr(value)
