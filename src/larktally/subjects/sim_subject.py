"""A sim as a subject: its own tuples as rows, and all that its header tells."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable

from msgspec import structs

from larktally.event import Event
from larktally.inputs.view import FrameInput
from larktally.parts.sim import Sim
from larktally.setup import Setup
from larktally.subjects.protocol import Batch, Frames, Inputs, RowReader, SubjectInfo, Value, checked_events, transposed
from larktally.traces.header import PhaseOrder

__all__ = ["SimSubject"]


class SimSubject:
    """A sim that was built for one run."""

    batch = 1

    def __init__(self, sim: Sim, name: str = "Sim") -> None:
        self.target = sim
        self.name = name
        self.step: Callable[[FrameInput], Iterable[Event] | None] = sim.step

    # Once a run: outlines, scene and the level's digest are in it, and a live run asks for names and actions in every frame.
    @functools.cached_property
    def info(self) -> SubjectInfo:
        sim = self.target
        channels = tuple(sim.channels)
        return SubjectInfo(
            channels=channels,
            actions=sim.actions,
            events=sim.events,
            closed=frozenset(channel.name for channel in channels if channel.kind == "label"),
            nan_channels=frozenset(sim.nan_channels),
            saves=True,
            order=tuple(PhaseOrder(phase, parts) for phase, parts in sim.order()),
            unstepped=tuple(name for name, part in sim.parts.items() if not part.phase),
            machines=sim.machines(),
            outlines=sim.outlines(),
            level=sim.level.digest,
            scene=sim.scene(),
        )

    def reset(self, setup: Setup) -> list[Event]:
        return checked_events(self.target.reset(setup))

    def reader(self, seen: bool) -> RowReader:
        sim, channels = self.target, tuple(self.target.channels)
        # What the machines saw is taken only where someone asks: it is a second row in every frame.
        if not seen:
            return RowReader(channels, sim.channel_values, transposed)
        sim.watch_seen()
        # Under a name that no channel of a user's can have: a colon stands in none.
        channels += tuple(structs.replace(one, name=f"seen:{one.name}") for one in channels)
        return RowReader(channels, lambda: sim.channel_values() + sim.seen_row(), transposed)

    def row(self) -> tuple[Value, ...]:
        return self.target.channel_values()

    def save(self) -> bytes:
        return self.target.save()

    def load(self, saved: bytes) -> None:
        self.target.load(saved)

    def finish(self) -> str:
        return self.target.unknown_attributes()

    def step_many(self, first: int, frames: int, inputs: Inputs, following: Frames | None = None) -> Batch:
        raise NotImplementedError("a sim is stepped frame by frame")

    def cut(self, frame: int, row: tuple[Value, ...]) -> None:
        raise NotImplementedError("a sim is stepped frame by frame")
