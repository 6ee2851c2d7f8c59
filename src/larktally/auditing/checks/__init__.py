"""The checks of an audit that look at a run, as one table: a module each, with what it must not blame beside what it finds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from larktally.auditing.checks import (
    answers_stop,
    coasting,
    flicker,
    in_the_pause,
    lapses,
    late_by_one,
    machines,
    nearly_back,
    never_left,
    on_end,
    passed_over,
    thrown_out,
    trouble,
    zones,
)
from larktally.auditing.finding import Finding
from larktally.auditing.seen import Seen

__all__ = ["CHECKS", "Check"]


class Check(NamedTuple):
    """One check: its name, what it needs to see ("" for any trace, "machines", "sim"), and how it looks."""

    name: str
    needs: str
    look: Callable[[Seen], Iterable[Finding]]


CHECKS: tuple[Check, ...] = (
    Check(machines.NAME, "machines", machines.look),
    Check(machines.TIME, "machines", machines.look_at_time),
    Check(zones.NAME, "sim", zones.look),
    Check(flicker.NAME, "", flicker.look),
    Check(thrown_out.NAME, "machines", thrown_out.look),
    Check(never_left.NAME, "machines", never_left.look),
    Check(passed_over.NAME, "", passed_over.look),
    Check(answers_stop.NAME, "", answers_stop.look),
    Check(on_end.NAME, "", on_end.look),
    Check(on_end.TWICE, "", on_end.look_for_twice),
    Check(coasting.NAME, "", coasting.look),
    Check(in_the_pause.NAME, "", in_the_pause.look),
    Check(late_by_one.NAME, "", late_by_one.look),
    Check(lapses.NAME, "", lapses.look),
    Check(trouble.NAME, "", trouble.look),
    Check(nearly_back.NAME, "", nearly_back.look),
)
