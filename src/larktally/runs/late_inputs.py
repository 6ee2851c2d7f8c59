"""A scenario under late inputs, and what came of it: two traces, the corrections, and what became of every event."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from larktally.claims.checking import check
from larktally.claims.verdicts import Tally
from larktally.comparing.divergence import Divergence, first_divergence
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript, Span
from larktally.names import unknown_name
from larktally.report import Block, Line, Report, Table, Tone
from larktally.runs.heading import trace_of_rows
from larktally.runs.lateness import Late, Predict
from larktally.runs.record import record
from larktally.runs.rollback import Correction, Emitted, LateRun
from larktally.runs.scenario import Scenario
from larktally.runs.shown_events import FATES, ShownEvent, fates_of
from larktally.subjects.protocol import Value
from larktally.textfmt import plural
from larktally.traces.columns import Channel
from larktally.traces.events import EventLog
from larktally.traces.trace import Trace

__all__ = ["CONFIRMED_TO", "SHOWS", "RolledBack", "rollback"]

#: The channel of the displayed trace that says up to which row all was certain when a row was shown.
CONFIRMED_TO = "confirmed_to"
SHOWS = ("first", "again", "confirmed")
MOST_TOLD, MOST_ROWS = 12, 4


class RolledBack(msgspec.Struct, frozen=True, eq=False):
    """A scenario that was led with late inputs.

    `confirmed` is the run with every input in its own frame, `displayed` what a viewer saw, with the channel `confirmed_to`;
    `divergence` where the confirmed run is not the plain one, None where it is; `corrections` every going back; `events` what
    became of each; `frames_again` how many frames were run again in all, `latest` how late the latest input was; `waited` the
    ticks in which the picture stood, `dropped` the (frame, action) that came too late to count; `failures` the (row, message)
    of a subject that failed under inputs that were guessed.
    """

    scenario: Scenario
    confirmed: Trace
    displayed: Trace
    divergence: Divergence | None
    corrections: tuple[Correction, ...]
    events: tuple[ShownEvent, ...]
    frames_again: int
    latest: int
    waited: int = 0
    dropped: tuple[tuple[int, str], ...] = ()
    failures: tuple[tuple[int, str], ...] = ()

    @property
    def holds(self) -> bool:
        """Whether the confirmed run is the run that never guessed, bit for bit."""
        return self.divergence is None

    @property
    def shown_once(self) -> bool:
        """Whether every event was shown once, in its own row or another, and none that never happened."""
        return all(one.fate in ("in time", "early", "moved") for one in self.events)

    @property
    def passed(self) -> bool:
        """Whether the confirmed run holds, and every event was shown once."""
        return self.holds and self.shown_once

    def of_fate(self, fate: str) -> list[ShownEvent]:
        """The events of which this became: in time, early, moved, doubled, lost, taken back."""
        if fate not in FATES:
            raise LarkTallyError(unknown_name("fate", fate, FATES))
        found = []
        for one in self.events:
            if one.fate == fate:
                found.append(one)
        return found

    def check(self) -> tuple[Tally, Tally]:
        """The scenario's claims over what was confirmed and over what was displayed."""
        if not self.scenario.claims:
            raise LarkTallyError(f"{self.scenario.title} has no claims to check")
        return check(self.confirmed, self.scenario.claims), check(self.displayed, self.scenario.claims)

    @property
    def largest(self) -> dict[str, tuple[float, int]]:
        """For each number that was put right in view, by how much at most, and in which row."""
        found: dict[str, tuple[float, int]] = {}
        for one in self.corrections:
            for name, size in one.channels.items():
                if size is not None and (name not in found or size > found[name][0]):
                    found[name] = (size, one.row)
        return dict(sorted(found.items(), key=lambda item: -item[1][0]))

    def plain(self) -> dict[str, Any]:
        """What came of it as plain data, for JSON."""
        return {
            "holds": self.holds,
            "shown_once": self.shown_once,
            "divergence": self.divergence and self.divergence.plain(),
            "latest": self.latest,
            "corrections": [{**one._asdict(), "channels": dict(one.channels)} for one in self.corrections],
            "frames_again": self.frames_again,
            "events": [one.plain() for one in self.events],
            "fates": dict(Counter(one.fate for one in self.events)),
            "waited": self.waited,
            "dropped": list(self.dropped),
            "failures": list(self.failures),
        }

    def report(self) -> Report:
        """Whether the confirmed run holds, how often and how far it was put right, and what became of the events."""
        return Report.of(self._blocks())

    def _blocks(self) -> Iterator[Block]:
        frames = self.confirmed.frames
        if self.divergence is None:
            yield Line("confirmed: the same rows and events as with every input in time", tone="good")
        else:
            yield Line("confirmed: not the run with every input in time", tone="bad")
            for line in str(self.divergence).splitlines():
                yield Line(line, indent=1)
        deepest = max((one.depth for one in self.corrections), default=0)
        seen = sum(bool(one.channels) or one.events > 0 for one in self.corrections)
        told = f"{plural(len(self.corrections), 'correction')} in {frames} frames, up to {deepest} frames back; {seen} to be seen"
        yield Line(f"{told}; {self.frames_again} frames run again; inputs up to {self.latest} late")
        for count, what in (
            (self.waited, "ticks in which the picture stood"),
            (len(self.dropped), "inputs that came too late to count"),
        ):
            if count:
                yield Line(f"{count} {what}", tone="odd")
        if self.failures:
            row, message = self.failures[0]
            yield Line(
                f"under guessed inputs the subject failed {len(self.failures)} times, first in row {row}: {message}",
                tone="odd",
            )
        lines = []
        for name, (size, row) in list(self.largest.items())[:MOST_TOLD]:
            lines.append([name, f"{size:.6g}", f"row {row}"])
        if lines:
            yield Table(["put right in view", "by at most", "after"], lines, frozenset({0, 2}), indent=1)
        fates = Counter(one.fate for one in self.events)
        told = ", ".join(f"{fates[fate]} {fate}" for fate in FATES if fates[fate])
        tone: Tone = "good" if self.shown_once else "bad"
        yield Line(f"{plural(len(self.events), 'event')}: {told or 'none'}", tone=tone)
        yield from self._odd_events()

    def _odd_events(self) -> Iterator[Block]:
        """What was not shown in time, those of a name together, what is wrong before what is only early or late."""
        by_fate: dict[tuple[int, str, str], list[ShownEvent]] = {}
        for one in self.events:
            if one.fate != "in time":
                by_fate.setdefault((-FATES.index(one.fate), one.name, one.source), []).append(one)
        lines = []
        for (_, name, source), found in sorted(by_fate.items(), key=lambda item: (item[0][0], item[1][0].order)):
            rows = []
            for one in found[:MOST_ROWS]:
                rows.append(one.rows_told)
            more = f" and {len(found) - MOST_ROWS} more" if len(found) > MOST_ROWS else ""
            lines.append([found[0].fate, f"{name} ({source})" if source else name, f"{', '.join(rows)}{more}"])
        if lines:
            yield Table(["event", "", "row → shown in"], lines[:MOST_TOLD], frozenset({0, 1, 2}), indent=1)
        if len(lines) > MOST_TOLD:
            yield Line(f"and {len(lines) - MOST_TOLD} more", indent=1)

    def __str__(self) -> str:
        return self.report().text()


def rollback(
    scenario: Scenario,
    *,
    late: Late | Mapping[str, Late],
    actions: Sequence[str] = (),
    predict: Predict = "repeat",
    window: int | None = None,
    too_late: str = "",
    delay: int = 0,
    lag: int = 0,
    show: str = "first",
    seed: int = 0,
) -> RolledBack:
    """Leads a scenario with inputs that come late, as a game does that is played over a network: it goes on with guesses, and
    goes back and runs again when the true ones come. The subject has to save and load.

    `late` is a number of frames, "2..9" drawn from `seed`, a function of the frame, or one of these for each group of actions:
    {"left right": "2..9", "hop": 0}; an action in no group is in time, nor is one late that is not in `actions`, where those
    are said. `predict` guesses what has not come: "repeat" the last that came, "none", or a function of an action and of what
    came of it, (frame, value) each. `window` is how many frames may be gone back; where inputs come later, `too_late` says
    whether they are waited for ("wait") or never count ("drop"). To try: `delay` lets every input count so many frames after
    it was pressed; `lag` shows each frame so many frames later; `show` shows events "first", when their row is shown; "again",
    also when it is run again; or when they are "confirmed". Raises LarkTallyError for what does not fit.
    """
    if actions:
        if isinstance(late, Mapping):
            raise LarkTallyError("actions= says whose inputs are late, and late= does so by groups already")
        late = {" ".join([actions] if isinstance(actions, str) else actions): late}
    for name, number in (("delay", delay), ("lag", lag), ("window", 0 if window is None else window)):
        if not isinstance(number, int) or isinstance(number, bool) or not 0 <= number <= 600:
            raise LarkTallyError(f"{name} is a number of frames from 0 to 600, not {number!r}")
    if show not in SHOWS:
        raise LarkTallyError(unknown_name("way to show events", show, SHOWS))
    if too_late not in ("", "wait", "drop"):
        raise LarkTallyError(f"too_late is 'wait' or 'drop', not {too_late!r}")
    plain = record(scenario)
    if delay:
        plain = record(_delayed(scenario, plain, delay))
    truth = list(zip(*(values.tolist() for values in plain.inputs.values()), strict=True)) or [()] * plain.rows
    run = LateRun(
        scenario,
        tuple(plain.inputs),
        truth,
        plain.frames,
        late=late,
        predict=predict,
        window=window,
        drop=too_late == "drop",
        lag=lag,
        delay=delay,
        show=show,
        seed=seed,
    )
    if run.latest > run.window and not too_late:
        raise LarkTallyError(
            f"inputs come up to {run.latest} frames late, and window={window} frames are gone back: too_late='wait' waits for "
            "them, too_late='drop' lets them never count"
        )
    if run.latest and not run.window:
        raise LarkTallyError("window=0 goes back by no frame, and inputs come late: at least 1")
    run.led()
    if run.dropped:
        # Those are what the run was played with, then.
        plain = record(scenario.changed(inputs=InputScript.from_columns(run.inputs), frames=plain.frames, until=None))
    confirmed = _trace(scenario, run, [(one.values, one.events) for one in run.confirmed])
    rows = [((*one.values, one.confirmed_to), one.events) for one in run.shown]
    displayed = _trace(scenario, run, rows, (Channel(CONFIRMED_TO, "count"),))
    events = fates_of(
        _by_row(one.events for one in run.confirmed), _by_row(one.events for one in run.shown), max(run.latest + lag, 1)
    )
    return RolledBack(
        scenario,
        confirmed,
        displayed,
        first_divergence(plain, confirmed),
        tuple(run.corrections),
        tuple(events),
        run.frames_again,
        run.latest,
        run.ticks_waited,
        tuple(run.dropped),
        tuple(run.failures),
    )


def _delayed(scenario: Scenario, plain: Trace, by: int) -> Scenario:
    """The scenario with every input so many frames later, those that would come after its end left out."""
    spans: list[Span] = []
    for span in InputScript.from_columns(plain.inputs).spans:
        spans.append(Span(span.action, int(span.start) + by, span.frames, span.value))
    return scenario.changed(inputs=InputScript(spans).keep(1, int(scenario.frames)))


def _by_row(rows: Iterable[Sequence[Emitted]]) -> Iterator[tuple[int, Emitted]]:
    for row, events in enumerate(rows):
        for event in events:
            yield row, event


def _trace(
    scenario: Scenario,
    run: LateRun,
    rows: Sequence[tuple[tuple[Value, ...], Sequence[Emitted]]],
    more: Sequence[Channel] = (),
) -> Trace:
    """Rows as a trace like any other."""
    log = EventLog()
    for row, event in _by_row(events for _, events in rows):
        log.append(row, *event)
    return trace_of_rows(
        scenario, run.start, list(zip(*(values for values, _ in rows), strict=True)), run.inputs, log, more
    )
