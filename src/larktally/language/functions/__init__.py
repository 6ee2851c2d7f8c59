"""The functions of the claim language, as one table in the order of the docs.

A new function is an object in one of the modules here, and its name in that module's list.
"""

from __future__ import annotations

from larktally.language.function import Function, Measure, Property, Signal
from larktally.language.functions import (
    answers,
    counted,
    every_row,
    inputs,
    lookback,
    measures,
    observed,
    per_row,
    stretches,
    whole_run,
    windows,
)

__all__ = ["FUNCTIONS", "MEASURES", "PROPERTIES", "SIGNALS"]

SIGNALS: dict[str, Signal] = {
    one.name: one for one in (*per_row.SIGNALS, *observed.SIGNALS, *inputs.SIGNALS, *lookback.SIGNALS, *windows.SIGNALS)
}
PROPERTIES: dict[str, Property] = {
    one.name: one
    for one in (
        *every_row.PROPERTIES,
        *answers.PROPERTIES,
        *stretches.PROPERTIES,
        *counted.PROPERTIES,
        *whole_run.PROPERTIES,
    )
}
MEASURES: dict[str, Measure] = {one.name: one for one in measures.MEASURES}
FUNCTIONS: dict[str, Function] = {**SIGNALS, **PROPERTIES, **MEASURES}
