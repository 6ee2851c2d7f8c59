"""The functions of the claim language, as one table in the order of the docs.

A new function is an object in one of the modules here, and its name in that module's list.
"""

from __future__ import annotations

from larktally.errors import ClaimError
from larktally.language.function import Function, Measure, Property, Signal
from larktally.language.functions import (
    answers,
    bounds,
    counted,
    every_row,
    inputs,
    lookback,
    matching,
    measures,
    observed,
    of_many,
    per_row,
    stretches,
    whole_run,
    windows,
)
from larktally.language.tree import Call, Compare, Node, to_text

__all__ = ["FUNCTIONS", "MEASURES", "PROPERTIES", "SIGNALS", "property_of"]

SIGNALS: dict[str, Signal] = {
    one.name: one
    for one in (
        *per_row.SIGNALS,
        *observed.SIGNALS,
        *inputs.SIGNALS,
        *lookback.SIGNALS,
        *windows.SIGNALS,
        *of_many.SIGNALS,
    )
}
PROPERTIES: dict[str, Property] = {
    one.name: one
    for one in (
        *every_row.PROPERTIES,
        *answers.PROPERTIES,
        *stretches.PROPERTIES,
        *counted.PROPERTIES,
        *matching.PROPERTIES,
        *bounds.PROPERTIES,
        *whole_run.PROPERTIES,
    )
}
MEASURES: dict[str, Measure] = {one.name: one for one in measures.MEASURES}
FUNCTIONS: dict[str, Function] = {**SIGNALS, **PROPERTIES, **MEASURES}


def property_of(tree: Node) -> tuple[Property, Call]:
    """The property that a claim is, and the call of it; a comparison of measures is one without a name.

    Raises ClaimError for what claims nothing.
    """
    if isinstance(tree, Compare):
        return bounds.COMPARED, Call(bounds.COMPARED.name, (tree,), (), tree.place)
    if isinstance(tree, Call) and tree.name in PROPERTIES:
        return PROPERTIES[tree.name], tree
    raise ClaimError(f"{to_text(tree)} is no property")
