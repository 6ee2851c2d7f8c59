"""Several who play one scenario together, each late for the others: whether they confirm the same, and what each of them saw."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from larktally.auditing.seen import Seen
from larktally.comparing.divergence import Divergence, first_divergence
from larktally.errors import LarkTallyError
from larktally.report import Block, Line, Report
from larktally.runs.late_inputs import RolledBack, rollback
from larktally.runs.lateness import Late
from larktally.runs.record import record
from larktally.runs.scenario import Scenario

__all__ = ["Peers", "rollback_of_peers"]


@dataclass(frozen=True, slots=True, eq=False)
class Peers:
    """Several who play together, each with its own inputs in time and those of the others late: `runs` by name, and the first row
    on which two of them confirm not the same, None where all agree; `place` the line that set there what differs, where it is
    known."""

    runs: Mapping[str, RolledBack]
    apart: tuple[str, str, Divergence] | None
    place: str = ""

    @property
    def passed(self) -> bool:
        """Whether all confirm the same, which is the plain run, and each shows every event once."""
        return self.apart is None and all(one.passed for one in self.runs.values())

    def plain(self) -> dict[str, Any]:
        """The same as plain data, for JSON."""
        apart = None
        if self.apart is not None:
            apart = {"peers": list(self.apart[:2]), "divergence": self.apart[2].plain(), "place": self.place}
        return {"runs": {name: one.plain() for name, one in self.runs.items()}, "apart": apart}

    def report(self) -> Report:
        """Whether they agree, and what each of them saw."""
        blocks: list[Block] = []
        if self.apart is None:
            blocks.append(Line(f"{' and '.join(self.runs)} confirm the same", tone="good"))
        else:
            one, other, divergence = self.apart
            blocks.append(Line(f"{one} and {other} confirm not the same", tone="bad"))
            for line in str(divergence).splitlines():
                blocks.append(Line(line, indent=1))
            if self.place:
                blocks.append(Line(f"set at {self.place}", indent=1))
        for name, run in self.runs.items():
            blocks += [Line(""), Line(name, tone="strong"), *run.report().blocks]
        return Report.of(blocks)

    def __str__(self) -> str:
        return self.report().text()


def rollback_of_peers(
    scenario: Scenario, peers: Mapping[str, Sequence[str]], *, late: Late = 0, seed: int = 0, **options: Any
) -> Peers:
    """Several who play one scenario together: each leads it with its own actions in time, and those of the others `late`.

    `peers` says whose each action is, {"west": ("left", "right"), "east": ("other left", "other right")}; the options are
    those of `rollback`. Raises LarkTallyError for less than two, and for an action that two have.
    """
    if len(peers) < 2:
        raise LarkTallyError(
            "peers are two or more, each with its actions: {'west': ('left', 'right'), 'east': ('other_left',)}"
        )
    owner: dict[str, str] = {}
    for peer, actions in peers.items():
        for action in actions:
            if action in owner:
                raise LarkTallyError(f"peers {owner[action]!r} and {peer!r} both have the action {action!r}")
            owner[action] = peer
    runs: dict[str, RolledBack] = {}
    for number, peer in enumerate(peers):
        groups: dict[str, Late] = {}
        for other, actions in peers.items():
            if other != peer:
                groups[" ".join(actions)] = late
        runs[peer] = rollback(scenario, late=groups, seed=seed + number, **options)
    first, *others = runs.items()
    apart = None
    for name, run in others:
        divergence = first_divergence(first[1].confirmed, run.confirmed)
        if divergence is not None and (apart is None or divergence.row < apart[2].row):
            apart = (first[0], name, divergence)
    place = ""
    if apart is not None and apart[2].what in first[1].confirmed.columns:
        # By a run of its own: what was led with guesses is another's to explain.
        plain = record(scenario)
        seen, what = Seen(plain, scenario), apart[2].what
        # Where nothing has set it by then, it is what sets it at all.
        place = seen.place_that_set(what, min(apart[2].row, plain.frames)) or seen.place_that_set(what, plain.frames)
    return Peers(runs, apart, place)
