"""Findings of the same scenario run otherwise: a button held or hammered, another rate."""

from __future__ import annotations

import dis
from collections.abc import Iterator
from fractions import Fraction
from types import CodeType, FunctionType

import numpy as np
from msgspec.structs import replace

from larktally.auditing.checks import flicker
from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript, Span
from larktally.runs.branches import Trunk
from larktally.runs.live import Live
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.trace import Trace

__all__ = ["HAMMERED", "HELD", "RATES", "hammered", "held_down", "other_rates"]

HELD, HAMMERED, RATES = "held down", "hammered", "other rates"
# How long a button is held or hammered to see what it does then, and after it, and how many buttons are tried.
FRAMES, AFTER, MOST_ACTIONS = 60, 10, 12
# A hop more in the air is one and a half times as high; one in every other frame has no end.
FAR_BEYOND = 2.5
# Euler steps of another length end a few hundredths apart, and rules a frame; a rest that counts frames among steps that do not
# is a part of the way. What is moved by the frame comes twice as far, or half.
APART = 1.45
_PLACES = ("x", "y", "z")


def held_down(seen: Seen, scenario: Scenario) -> Iterator[Finding]:
    """What flickers while a button is held that does not without: a key that toggles in every frame."""
    usual = {one.about for one in flicker.look(seen)}
    for action, start, other in _with_each(seen, scenario, every=1):
        if isinstance(other, LarkTallyError):
            told = f"held for {FRAMES} frames from frame {start} on, the run fails: {str(other).splitlines()[0]}"
            yield Finding(HELD, action, told, "sure", (start,), 1, weight=3)
            continue
        for one in flicker.look(Seen(other, scenario)):
            if one.about not in usual:
                told = f"{one.message}, while {action!r} is held from frame {start} on"
                about = f"{one.about} by {action}"
                yield replace(one, check=HELD, about=about, message=told, certainty="sure")


def hammered(seen: Seen, scenario: Scenario) -> Iterator[Finding]:
    """A place far beyond all that the script's own presses reach, where one of them is pressed in every other frame.

    Not: an action that the script never presses, of which nothing is known; a place that is reached by going on.
    """
    for action, start, other in _with_each(seen, scenario, every=2):
        if isinstance(other, LarkTallyError) or not len(seen.pressed.get(action, ())):
            continue
        press = int(seen.pressed[action][0])
        for name, column in seen.of_kind("number"):
            if name.rpartition(".")[2] not in _PLACES or name not in other.columns:
                continue
            # Where a press leads: what is only left behind, or falls, comes as far with one as with thirty.
            own, there = column.stored.astype(np.float64), other.columns[name].stored.astype(np.float64)
            way = np.sign(own[min(press + 2, len(own) - 1)] - own[max(press - 1, 0)])
            own, there = way * (own - own[0]), way * (there - there[0])
            # Along the way that a body walks it gets as far as it is let.
            walked = abs(own[-1]) > 0.5 * np.ptp(own)
            reach, gone = float(own.max()), float(there.max())
            # On and on, as long as it is hammered: a press that is let once goes as far as one in the script does.
            early, middle, late = (float(there[min(start + n, len(there) - 1)]) for n in (20, 40, 60))
            endless = early > 0.4 * reach and middle > 1.3 * early and late > 1.2 * middle
            if way and reach > 0 and gone > FAR_BEYOND * reach and endless and not walked:
                row = int(np.argmax(there > reach * 1.05))
                told = (
                    f"comes {gone:g} far where the script's own presses come {reach:g}: {action!r} pressed in every other frame "
                    f"from frame {start} on goes on without end, beyond from row {row} on"
                )
                claim = f"reach({name}) <= {reach * 1.5:.6g}"
                yield Finding(HAMMERED, f"{name} by {action}", told, "likely", (row,), 1, "", claim, "", 3)
                break


def other_rates(seen: Seen, scenario: Scenario) -> Iterator[Finding]:
    """A place that is another one at half and at twice the rate, of a subject that goes by the rate, or that moves things itself.

    Not: timers that count frames, nor a subject that never looks at the rate.
    """
    if not _goes_by_rate(scenario):
        return
    for ratio in (Fraction(2), Fraction(1, 2)):
        script = _rescaled(InputScript.from_columns(seen.trace.inputs), ratio)
        frames = max(int(seen.trace.frames * ratio), 1)
        changed = scenario.changed(
            rate=scenario.rate * ratio, inputs=script, frames=frames, until=None, claims=(), measures=()
        )
        try:
            other = record(changed)
        except LarkTallyError:
            continue
        for name, column in seen.of_kind("number"):
            if name.rpartition(".")[2] not in _PLACES or name not in other.columns:
                continue
            reach, there = float(np.ptp(_extent(column.stored))), float(np.ptp(_extent(other.columns[name].stored)))
            if reach > 0 and not reach / APART <= there <= reach * APART:
                told = (
                    f"comes {there:g} far at {changed.rate} frames/s, with the same script in seconds, where it comes {reach:g} "
                    f"at {scenario.rate}: something counts by frames that is meant by time"
                )
                claim = f'[[across]] of = "reach({name})", over = "rate", spread = {0.2 * reach:.3g}'
                yield Finding(RATES, name, told, "likely", (), 0, "", claim, "", 2)
                return


def _with_each(seen: Seen, scenario: Scenario, every: int) -> Iterator[tuple[str, int, Trace | LarkTallyError]]:
    """The run with each action pressed besides from its middle on: held, or in every so-manieth frame."""
    last = seen.trace.frames
    if last < 2 * FRAMES:
        return
    start = last // 2
    usual = InputScript.from_columns(seen.trace.inputs)
    # What it leads to shows while it is pressed, and soon after.
    frames = min(start + FRAMES + AFTER, last)
    trunk = None
    if Live(scenario).saves:
        trunk = Trunk(scenario.changed(inputs=usual, until=None, frames=last, claims=(), measures=()), start - 1)
    for action in seen.trace.header.actions[:MOST_ACTIONS]:
        more = InputScript().hold(action, start, FRAMES)
        if every > 1:
            more = InputScript(Span(action, start + n, 1) for n in range(0, FRAMES, every))
        script = (usual | more).keep(1, frames)
        try:
            if trunk is not None:
                yield action, start, trunk.branch(script, frames)
            else:
                changed = scenario.changed(inputs=script, until=None, frames=frames, claims=(), measures=())
                yield action, start, record(changed)
        except LarkTallyError as error:
            yield action, start, error


def _extent(values: np.ndarray) -> np.ndarray:
    return np.asarray(values[np.isfinite(values)], dtype=np.float64)


def _rescaled(script: InputScript, ratio: Fraction) -> InputScript:
    """A script in as many seconds at another rate: whole frames, the first of them 1."""
    spans = []
    for span in script.spans:
        start, frames = max(round(int(span.start) * ratio), 1), max(round(int(span.frames) * ratio), 1)
        spans.append(replace(span, start=start, frames=frames))
    return InputScript(spans)


def _goes_by_rate(scenario: Scenario) -> bool:
    """Whether a class looks at the rate, or a model sets a place itself."""
    subject = scenario.subject
    if isinstance(subject, FunctionType):
        stored = {
            one.argval
            for code in _codes(subject.__code__)
            for one in dis.get_instructions(code)
            if one.opname == "STORE_ATTR"
        }
        return bool(stored & set(_PLACES))
    kind = subject if isinstance(subject, type) else type(subject)
    # What it inherits is its own code too.
    functions = [one for base in kind.__mro__ for one in vars(base).values() if isinstance(one, FunctionType)]
    names = {name for one in functions for code in _codes(one.__code__) for name in code.co_names}
    return "rate" in names


def _codes(code: CodeType) -> Iterator[CodeType]:
    yield code
    for constant in code.co_consts:
        if isinstance(constant, CodeType):
            yield from _codes(constant)
