"""Signals read off the inputs of a row, or what had gathered of them when a clock ticked."""

from __future__ import annotations

import ast
from collections.abc import Callable
from typing import Protocol, runtime_checkable

import numpy as np
import numpy.typing as npt

from larktally.errors import ClaimError
from larktally.inputs.view import HELD_FROM, FrameInput
from larktally.language.columns import Array, Evaluator, text_of
from larktally.language.function import Signal, arguments
from larktally.language.rolling import began, next_row
from larktally.language.rows import RowCompiler
from larktally.language.ticks import check_clock, ticks_in
from larktally.language.tree import Call, ChannelRef, Text
from larktally.language.typecheck import Checker

__all__ = ["SIGNALS"]

Bools = npt.NDArray[np.bool_]


@runtime_checkable
class _SimClock(Protocol):
    """A clock that can be asked while a run goes on."""

    def seen_inputs(self, inputs: FrameInput) -> FrameInput: ...


def _held(read: Evaluator, node: Call) -> Bools:
    return np.asarray(np.abs(read.input(node.args[0])) >= HELD_FROM)


def _from_inputs(table: str, argument: int = 0) -> Callable[[RowCompiler, Call], ast.expr]:
    """On a row: an action's entry in one of the tables of the frame's inputs; which argument names it."""

    def read_off(compiler: RowCompiler, node: Call) -> ast.expr:
        inputs = compiler.now("inputs")
        clock = _clock(node)
        if clock:
            owner = compiler.owner(f"{clock}.ticking")
            if not isinstance(owner, _SimClock):
                raise ClaimError(f"on={clock!r} is for guards of a sim, and for claims about a finished trace")
            # Of the row's own inputs, whatever the clock of the part whose guard it is.
            asked = ast.Attribute(compiler.reference(owner), "seen_inputs", ast.Load())
            inputs = ast.Call(asked, [compiler.now("sim", "inputs")], [])
        action = ast.Constant(text_of(node.args[argument]))
        return ast.Subscript(ast.Attribute(inputs, table, ast.Load()), action, ast.Load())

    return read_off


def _clock(node: Call) -> str:
    """The clock whose parts' sight is meant; "" for every row."""
    given = node.option("on")
    if given is None:
        return ""
    return text_of(given)


def _clock_exists(checker: Checker, node: Call) -> None:
    clock = _clock(node)
    if clock:
        check_clock(checker, node, clock)


def _clock_named(checker: Checker, node: Call) -> None:
    check_clock(checker, node.args[0], text_of(node.args[0]))


def _ticks_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    ticking = compiler.make(ChannelRef(f"{text_of(node.args[0])}.ticking"))
    first = ast.Compare(compiler.now("frame"), [ast.Eq()], [ast.Constant(0)])
    return ast.BoolOp(ast.Or(), [ticking, first])


def _axis_on_row(compiler: RowCompiler, node: Call) -> ast.expr:
    negative, positive = (_from_inputs("value_by", n)(compiler, node) for n in (0, 1))
    return ast.BinOp(positive, ast.Sub(), negative)


def _pressed(read: Evaluator, node: Call) -> Array:
    held, clock = _held(read, node), _clock(node)
    if not clock:
        return began(held)
    return _edges_on_clock(read, held, clock)[0]


def _released(read: Evaluator, node: Call) -> Array:
    held, clock = _held(read, node), _clock(node)
    if not clock:
        return began(np.logical_not(held))
    return _edges_on_clock(read, held, clock)[1]


def _edges_on_clock(read: Evaluator, held: Bools, clock: str) -> tuple[Bools, Bools]:
    """In which ticks of a clock its parts see a press, and a release; row 0 is a tick.

    A press is seen in the first tick from its row on, where it is still held by then or the clock listened when it began;
    a release in the first tick from its own, where the press was seen.
    """
    rows = read.rows
    ticking = ticks_in(read, Text(clock))
    listening = np.asarray(read.value(ChannelRef(f"{clock}.listening")), dtype=np.bool_)
    # One row more than there are: where no tick comes any more.
    tick = np.append(next_row(ticking), rows)
    starts = np.flatnonzero(began(held))
    if held[0]:
        starts = np.append(0, starts)
    ends = np.append(next_row(np.logical_not(held)), rows)[starts]
    seen_in = tick[starts]
    seen = (seen_in < rows) & ((ends > seen_in) | listening[starts])
    pressed, released = np.zeros(rows + 1, dtype=np.bool_), np.zeros(rows + 1, dtype=np.bool_)
    # What is held in row 0 no frame pressed.
    pressed[seen_in[seen & (starts > 0)]] = True
    released[tick[ends[seen]]] = True
    return pressed[:rows], released[:rows]


SIGNALS = (
    Signal(
        name="held",
        positional=arguments("a:action"),
        result="flag",
        meaning="the action is held in this row",
        columns=_held,
        row=_from_inputs("held_by"),
        observed=True,
    ),
    Signal(
        name="pressed",
        positional=arguments("a:action"),
        named=arguments("on:text?"),
        result="flag",
        meaning="held in this row, not in the one before; on='play': as that clock's parts see it",
        columns=_pressed,
        row=_from_inputs("pressed_by"),
        fits=_clock_exists,
        observed=True,
    ),
    Signal(
        name="released",
        positional=arguments("a:action"),
        named=arguments("on:text?"),
        result="flag",
        meaning="held in the row before, not in this one; on='play': as that clock's parts see it",
        columns=_released,
        row=_from_inputs("released_by"),
        fits=_clock_exists,
        observed=True,
    ),
    Signal(
        name="value",
        positional=arguments("a:action"),
        result="number",
        meaning="the action's analog value",
        columns=lambda read, node: read.input(node.args[0]),
        row=_from_inputs("value_by"),
        observed=True,
    ),
    Signal(
        name="axis",
        positional=arguments("neg:action pos:action"),
        result="number",
        meaning="value(pos) - value(neg)",
        columns=lambda read, node: read.input(node.args[1]) - read.input(node.args[0]),
        row=_axis_on_row,
        observed=True,
    ),
    Signal(
        name="clock",
        positional=arguments("name:text"),
        result="flag",
        meaning="that clock ticked in this row; row 0 is a tick",
        columns=lambda read, node: ticks_in(read, node.args[0]),
        row=_ticks_on_row,
        fits=_clock_named,
        observed=True,
    ),
)
