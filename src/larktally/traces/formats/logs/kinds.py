"""Columns of a log as channels: scaled, renamed and of the kind that the mapping says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from larktally.errors import TraceError
from larktally.names import did_you_mean
from larktally.traces.formats.logs.counting import first_that_is_no_number
from larktally.traces.formats.logs.log_tables import Array
from larktally.traces.formats.logs.mapping import ColumnMapping, LogMapping
from larktally.traces.formats.logs.told import cell, few

__all__ = ["channel_values", "input_values", "labels_of"]


def channel_values(where: str, name: str, one: ColumnMapping, values: Array, place: Callable[[int], str]) -> Array:
    """A channel's values; raises TraceError with the line of one that does not fit."""
    told = f"channels, {name!r}"
    found = _as_kind(f"{where}: {told}", told, one, values, place)
    labels = labels_of(one)
    if labels:
        unknown = next((value for value in found.tolist() if value not in labels), None)
        if unknown is not None:
            near = did_you_mean(str(unknown), labels)
            raise TraceError(f"{where}: {told}: {unknown!r} is not one of its labels {few(labels)}{near}")
    return found


def labels_of(one: ColumnMapping) -> tuple[str, ...]:
    """All that a channel can be, as far as the mapping says so."""
    return tuple(one.labels.values() if isinstance(one.labels, dict) else one.labels)


def input_values(where: str, rules: LogMapping, table: Mapping[str, Array]) -> dict[str, Array]:
    """The inputs by their actions; raises TraceError for what is none."""
    found = {}
    for name, column in rules.inputs.items():
        values = table[column]
        if values.dtype.kind not in "iufb":
            raise TraceError(
                f"{where}: inputs, {name!r}: column {column!r} is text; an input is 0 and 1, or in [-1, 1]"
            )
        if not bool((np.abs(values.astype(np.float64)) <= 1).all()):
            raise TraceError(f"{where}: inputs, {name!r}: column {column!r} leaves [-1, 1]")
        found[f"input:{name}"] = values.astype(np.float64)
    return found


def _as_kind(place: str, told: str, one: ColumnMapping, values: Array, line_of: Callable[[int], str]) -> Array:
    if isinstance(one.labels, dict) and one.labels:
        renamed = one.labels
        return np.array([renamed.get(text, text) for text in map(_label_text, values.tolist())], dtype=object)
    if one.kind == "label":
        return np.array([_label_text(value) for value in values.tolist()], dtype=object)
    if one.kind == "flag":
        wrong = ~np.isin(values, (0, 1))
        if wrong.any():
            row = int(wrong.argmax())
            raise TraceError(
                f"{line_of(row)}: column {one.column!r} is true and false, or 1 and 0, not {cell(values[row])} ({told})"
            )
        return values.astype(np.bool_)
    if one.kind not in ("", "number", "count"):
        raise TraceError(f"{place}: kind is number, count, flag or label, not {one.kind!r}")
    scaled = one.scale != 1.0 or one.offset != 0.0
    if (one.kind or scaled) and values.dtype.kind == "O":
        row = first_that_is_no_number(values) or 0
        raise TraceError(
            f"{line_of(row)}: column {one.column!r} is text there, {cell(values[row])}, and holds numbers ({told})"
        )
    if scaled or one.kind == "number":
        return values.astype(np.float64) * one.scale + one.offset
    if one.kind == "count" and values.dtype.kind == "f":
        wrong = values != np.floor(values)
        if wrong.any():
            row = int(wrong.argmax())
            raise TraceError(
                f"{line_of(row)}: column {one.column!r} is {cell(values[row])} there: a number, not a count ({told})"
            )
        return values.astype(np.int64)
    return values


def _label_text(value: Any) -> str:
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if isinstance(value, bool):
        return str(value).lower()
    return str(value)
