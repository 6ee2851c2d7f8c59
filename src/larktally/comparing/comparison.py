"""Two traces side by side: the first divergence, a summary of each channel, events moved, a lag, another rate."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from fractions import Fraction
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec import structs
from msgspec.structs import asdict

from larktally.comparing.divergence import Divergence, first_divergence, shown_exactly
from larktally.comparing.lags import Lag, lag_of, late, stretch_of
from larktally.comparing.moved_events import EventChange, event_changes
from larktally.comparing.settings import SettingDifference, setting_differences
from larktally.comparing.tolerance import Tolerance, Tolerances, apart, tolerances_for
from larktally.errors import LarkTallyError
from larktally.names import stands_twice, unknown_name
from larktally.report import Block, Line, Report, Table
from larktally.timing import Rate
from larktally.traces.columns import Column
from larktally.traces.events import EventLog
from larktally.traces.trace import Trace
from larktally.turning import turned

__all__ = ["Comparison", "ChannelDifference", "compare", "renamed"]


class ChannelDifference(msgspec.Struct, frozen=True):
    """A channel that differs: the first row with both values, in how many rows, and for numbers the largest difference
    with its row."""

    channel: str
    row: int
    first: str
    second: str
    rows: int
    largest: float | None
    largest_row: int | None


class Comparison(msgspec.Struct, frozen=True):
    """Two traces side by side. `identical` where every channel, event and input that both have agrees, within the
    tolerances, in all rows. `settings` are what the two were made from that is not the same; `events_only_a` and
    `events_only_b` names that the other subject cannot say, which are left out. `late` is the lag that the whole run
    has, `lags` those of single channels; `stretch` the factor between their frames where one runs through the same
    values at another pace."""

    a: Trace
    b: Trace
    divergence: Divergence | None
    channels: tuple[ChannelDifference, ...]
    events: tuple[EventChange, ...]
    only_a: tuple[str, ...]
    only_b: tuple[str, ...]
    lags: tuple[Lag, ...]
    late: int | None
    stretch: Fraction | None
    settings: tuple[SettingDifference, ...] = ()
    events_only_a: tuple[str, ...] = ()
    events_only_b: tuple[str, ...] = ()
    #: What the two are called where one is not what the other was: ("the rules", "the game").
    sides: tuple[str, str] | tuple[()] = ()

    @property
    def identical(self) -> bool:
        """Whether nothing differs in what both have, and both have the same channels."""
        return self.divergence is None and not self.only_a and not self.only_b

    def plain(self) -> dict[str, Any]:
        """The comparison as plain data, for JSON."""
        return {
            "identical": self.identical,
            "rows": [self.a.rows, self.b.rows],
            "rates": [self.a.header.rate_text, self.b.header.rate_text],
            "divergence": self.divergence.plain() if self.divergence else None,
            "channels": [asdict(one) for one in self.channels],
            "events": [{**asdict(one), "moved": one.moved} for one in self.events],
            "only_a": list(self.only_a),
            "only_b": list(self.only_b),
            "lags": [asdict(one) for one in self.lags],
            "late": self.late,
            "stretch": str(self.stretch) if self.stretch is not None else None,
            "settings": [asdict(one) for one in self.settings],
            "events_only_a": list(self.events_only_a),
            "events_only_b": list(self.events_only_b),
        }

    def report(self) -> Report:
        """Where the two part, and what differs in each channel and event."""
        if self.identical:
            size = f"{self.a.rows} rows, {len(self.a.channels)} channels, {len(self.a.events)} events"
            return Report.of_lines([*self._settings(), f"identical: {size}", *self._events_left_out()])
        lines = [*self._settings(), *self._rates(), *self._names()]
        if self.divergence is None:
            lines.append("what both have is identical")
        else:
            lines += self.divergence.told(self.sides).splitlines()
        if self.late is not None:
            lines.append(f"the whole run is {late(self.late)}")
        for lag in self.lags:
            if self.late is None or lag.frames != self.late:
                lines.append(str(lag))
        blocks: list[Block] = [Line(line) for line in lines]
        if self.channels:
            shown = []
            for one in self.channels[:MOST_SHOWN]:
                shown.append(_line(one))
            was, now = self.sides or ("was", "now")
            head = ["channel", "rows", "first", was, now, "largest difference"]
            blocks += [Line("channels that differ:"), Table(head, shown, frozenset(range(len(head))) - {1}, indent=1)]
            blocks += _more(len(self.channels))
        if self.events:
            blocks.append(Line("events:"))
            for change in self.events[:MOST_SHOWN]:
                blocks.append(Line(change.told(self.sides), indent=1))
            blocks += _more(len(self.events))
        return Report.of(blocks)

    def __str__(self) -> str:
        return self.report().text()

    def _rates(self) -> list[str]:
        if self.a.rate != self.b.rate and self.a.rate and self.b.rate:
            return ["rows at the same time are compared"]
        if self.stretch is None:
            return []
        pace = f"another pace: {self.stretch} as many frames for the same values"
        if self.a.rate and self.b.rate:
            return [f"{pace}, at the same rate of {self.a.rate} frames/s"]
        return [f"{pace}; was it recorded at another rate?"]

    def _settings(self) -> list[str]:
        """What the two were made from, where it differs: the reason to look at first."""
        # Of a model and a game everybody knows that they are not the same.
        told = [one for one in self.settings if not (self.sides and one.name == "the subject")]
        if not told:
            return []
        shown = [one.told(self.sides) for one in told[:MOST_SHOWN]]
        return [f"settings that differ: {'; '.join(shown)}"]

    def _events_left_out(self) -> list[str]:
        lines = []
        one, another = self.sides or ("the first", "the second")
        for which, other, names in ((one, another, self.events_only_a), (another, one, self.events_only_b)):
            if names:
                lines.append(f"events that {which} can say and {other} cannot, left out: {', '.join(names)}")
        return lines

    def _names(self) -> list[str]:
        lines = []
        for which, names in zip(self.sides or ("the first", "the second"), (self.only_a, self.only_b), strict=True):
            if names:
                lines.append(f"channels of {which} alone: {', '.join(names)}")
        return [*lines, *self._events_left_out()]


# A first screen; the rest is in `channels`, and in --json.
MOST_SHOWN = 20


def compare(
    a: Trace, b: Trace, tolerance: Tolerances = None, names: Mapping[str, str] | None = None, lags: bool = True
) -> Comparison:
    """Two traces compared channel by channel, row by row; `b` is judged by `a`.

    `tolerance` is a number, a Tolerance, or one for each channel pattern; exact by default. `names` maps channels of `a`
    to what `b` calls them. Traces at different rates are compared in the rows that fall at the same time. `lags=False`
    leaves out the search for lags. Raises LarkTallyError for a name or pattern that matches nothing.
    """
    if names:
        b = renamed(b, names, a)
    # A log from elsewhere has events without sources and data; then they cannot be asked of the other trace either.
    a, b = _by_name_only(a, b)
    settings = tuple(setting_differences(a, b))
    unknown_a, unknown_b = _unknown_events(a, b), _unknown_events(b, a)
    whole_a, whole_b = a, b
    a, b = _without(a, unknown_a), _without(b, unknown_b)
    if a.rate and b.rate and a.rate != b.rate:
        a, b = _at_same_times(a, b)
    both = []
    for name in a.channels:
        if name in b.columns:
            both.append(name)
    allowed = tolerances_for(tolerance, both)
    differences = _differences(a, b, allowed)
    found: list[Lag] = []
    stretch = None
    if lags and differences:
        columns = [(a.columns[one.channel], b.columns[one.channel], allowed[one.channel]) for one in differences]
        for lag in (lag_of(*columns_of) for columns_of in columns):
            if lag is not None:
                found.append(lag)
        # Only where nothing is late, and the rates are said to be the same: a run at another pace is late everywhere.
        if not found and whole_a.rate == whole_b.rate:
            stretch = stretch_of(columns)
    return Comparison(
        whole_a,
        whole_b,
        first_divergence(a, b, allowed),
        tuple(differences),
        tuple(event_changes(a.events, b.events, loosely=any(not one.exact for one in allowed.values()))),
        _missing(a, b),
        _missing(b, a),
        tuple(found),
        _common_lag(found, differences),
        stretch,
        settings,
        unknown_a,
        unknown_b,
    )


def _unknown_events(one: Trace, other: Trace) -> tuple[str, ...]:
    """The names of events that happened in one run and that the subject of the other, which is another, cannot say.

    Of the same subject a name that is missing is an event that does not come any more.
    """
    if _subject_of(one) == _subject_of(other):
        return ()
    known = {*other.header.events, *other.events.names}
    found = []
    for name in sorted(set(one.events.names)):
        if name not in known:
            found.append(name)
    return tuple(found)


def _subject_of(trace: Trace) -> tuple[str, object, tuple[str, ...]]:
    header = trace.header
    return header.subject, header.program.get("name"), tuple(header.machines)


def _without(trace: Trace, names: Collection[str]) -> Trace:
    if not names:
        return trace
    kept = EventLog()
    for row, name, source, data in trace.events.fields():
        if name not in names:
            kept.append(row, name, source, data)
    return trace.changed(events=kept)


def renamed(trace: Trace, names: Mapping[str, str], other: Trace) -> Trace:
    """A trace under another's channel names; raises LarkTallyError for a name that neither has."""
    twice = stands_twice(names.values())
    if twice is not None:
        raise LarkTallyError(f"two channels are mapped to {twice!r}")
    for mine, theirs in names.items():
        if mine not in other.columns:
            raise LarkTallyError(unknown_name("channel", mine, other.channels, "the first trace") + " (in names=)")
        if theirs not in trace.columns:
            raise LarkTallyError(unknown_name("channel", theirs, trace.channels, "the second trace") + " (in names=)")
        if mine in trace.columns and mine not in names.values():
            raise LarkTallyError(
                f"{mine!r} is mapped to {theirs!r}, and the second trace has a channel {mine!r} of its own"
            )
        kind, other_kind = other.columns[mine].channel.kind, trace.columns[theirs].channel.kind
        if kind != other_kind and {kind, other_kind} != {"number", "count"}:
            raise LarkTallyError(f"{mine!r} is a {kind}, and {theirs!r}, which it is mapped to, a {other_kind}")
    back = {theirs: mine for mine, theirs in names.items()}
    columns = {}
    for name, column in trace.columns.items():
        new = back.get(name, name)
        columns[new] = Column(structs.replace(column.channel, name=new), column.stored)
    header = structs.replace(trace.header, channels=tuple(column.channel for column in columns.values()))
    return Trace(header, columns, trace.inputs, trace.events, trace.rows)


def _differences(a: Trace, b: Trace, allowed: Mapping[str, Tolerance]) -> list[ChannelDifference]:
    rows = min(a.rows, b.rows)
    found = []
    for name, tolerance in allowed.items():
        one, other = a.columns[name], b.columns[name]
        wrong = apart(one, other, rows, tolerance)
        if wrong.any():
            row = int(wrong.argmax())
            largest, largest_row = _largest(one, other, wrong)
            count = int(np.count_nonzero(wrong))
            found.append(
                ChannelDifference(
                    name, row, shown_exactly(one, row), shown_exactly(other, row), count, largest, largest_row
                )
            )
    return sorted(found, key=lambda one: one.row)


def _largest(a: Column, b: Column, wrong: npt.NDArray[np.bool_]) -> tuple[float | None, int | None]:
    if a.channel.kind not in ("number", "count") or b.channel.kind not in ("number", "count"):
        return None, None
    rows = np.flatnonzero(wrong)
    with np.errstate(all="ignore"):
        off = np.abs(turned(b.stored[rows].astype(np.float64) - a.stored[rows].astype(np.float64), a.channel.wraps))
    # A NaN against a number is as far apart as it can be; left as it is, it would hide the others.
    off = np.where(np.isnan(off), np.inf, off)
    return float(off.max()), int(rows[off.argmax()])


def _common_lag(lags: list[Lag], differences: list[ChannelDifference]) -> int | None:
    """The lag that every channel that differs has, where there are several."""
    # One channel that is late is that channel's; the run is late where every one is, by as much.
    if len(lags) < 2 or len(lags) < len(differences):
        return None
    (frames, count), *_ = Counter(lag.frames for lag in lags).most_common(1)
    if count == len(differences):
        return frames
    return None


def _at_same_times(a: Trace, b: Trace) -> tuple[Trace, Trace]:
    """The rows of both that fall at the same times, each as a trace of its own at the slower common rate."""
    assert a.rate is not None and b.rate is not None
    ratio = Fraction(a.rate) / Fraction(b.rate)
    return _every(a, ratio.numerator), _every(b, ratio.denominator)


def _by_name_only(a: Trace, b: Trace) -> tuple[Trace, Trace]:
    """Both with events that have names alone, where one of them comes from a file that keeps no more (a CSV)."""
    bare = []
    for t in (a, b):
        bare.append(not any(t.events.sources) and not any(t.events.data) and len(t.events) > 0)
    if bare[0] == bare[1]:
        return a, b
    return a.changed(events=a.events.names_only()), b.changed(events=b.events.names_only())


def _every(trace: Trace, n: int) -> Trace:
    """Every n-th row; an event counts in the first such row at or after it."""
    events = EventLog()
    for row, name, source, text in trace.events.fields():
        # Rounded up: an event falls into the next row that both have, and never before it happened.
        if -(-row // n) * n < trace.rows:
            events.append(-(-row // n), name, source, text)
    header = structs.replace(trace.header, rate_text=str(Rate(Fraction(trace.header.rate_text) / n)))
    return trace.taken(slice(None, None, n), events, header)


def _line(one: ChannelDifference) -> list[str]:
    if one.largest is None:
        largest = ""
    else:
        largest = f"{one.largest:g} in row {one.largest_row}"
    return [one.channel, str(one.rows), f"row {one.row}", one.first, one.second, largest]


def _more(count: int) -> list[Line]:
    if count > MOST_SHOWN:
        return [Line(f"and {count - MOST_SHOWN} more", indent=1)]
    return []


def _missing(one: Trace, other: Trace) -> tuple[str, ...]:
    """The channels of one that the other does not have; of a recording that kept only some, that says nothing."""
    if other.header.filtered:
        return ()
    found = []
    for name in one.channels:
        if name not in other.columns:
            found.append(name)
    return tuple(found)
