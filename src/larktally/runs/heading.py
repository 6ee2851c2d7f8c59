"""The header of a recording: what the run was made from, read off the scenario and its subject."""

from __future__ import annotations

import platform
from collections.abc import Iterable
from typing import Any

from larktally.inputs import Actions
from larktally.runs.scenario import Scenario
from larktally.subject import Setup, declared_names, name_of
from larktally.traces import Channel, Header
from larktally.traces.header import PhaseOrder
from larktally.version import __version__

__all__ = ["header_of"]


def header_of(
    scenario: Scenario,
    inner: Any,
    setup: Setup,
    actions: Actions,
    *,
    channels: tuple[Channel, ...],
    inputs: tuple[str, ...],
    seen_events: Iterable[str],
    partial: bool,
    end: str | None,
    stopped: str | None,
) -> Header:
    """The header of a run; a sim also tells its order, its machines and its scene."""
    sim = hasattr(inner, "seen_row")
    declared = declared_names(inner, "events") or ()
    return Header(
        rate_text=str(scenario.rate),
        scenario=scenario.name,
        subject=name_of(scenario.subject),
        seed=scenario.seed,
        params=dict(scenario.params),
        settings=dict(setup.settings),
        channels=channels,
        inputs=inputs,
        actions=tuple(actions),
        analog=actions.analog,
        events=tuple(dict.fromkeys([*declared, *seen_events])),
        order=tuple(PhaseOrder(phase, parts) for phase, parts in inner.order()) if sim else (),
        machines=inner.machines() if sim else {},
        outlines=inner.outlines() if sim else {},
        level=inner.level.digest if sim else "",
        scene=inner.scene() if sim else {},
        program=inner.plain if hasattr(inner, "step_many") else {},
        allow_nan=scenario.allow_nan,
        partial=partial,
        end=end,
        stopped=stopped,
        made_with={"larktally": __version__, "python": platform.python_version()},
    )
