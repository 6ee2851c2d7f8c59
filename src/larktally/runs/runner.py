"""The runner: the one loop over frames there is.

Recording, replay, live runs, audits, explanations and coverage are observers or callers of it, so that they cannot disagree
about what a run is: how its rows are checked, where it ends, what its inputs are.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from larktally.claims.claim import mentions_seen
from larktally.errors import LarkTallyError, SubjectFailed, WriteError
from larktally.event import Event
from larktally.inputs.script import InputScript
from larktally.inputs.view import FeedState, InputFeed, check_within
from larktally.parts.context import StepContext
from larktally.parts.part import Part
from larktally.parts.unknown_attributes import no_such_attribute
from larktally.runs.conditional_inputs import ConditionalInputs
from larktally.runs.observers import End, RunObserver, RunStart, Stretch
from larktally.runs.scenario import Scenario
from larktally.setup import Setup
from larktally.subjects.adapt import adapt
from larktally.subjects.protocol import RawRow, Value, checked_events
from larktally.traces.columns import RowError
from larktally.traces.events import EventLog, check_event_name, data_text

__all__ = ["Runner", "Snapshot"]

# Few rows at a time are taken apart while they are still in the processor's cache, which halves what recording costs.
GATHER = 128


class Snapshot(NamedTuple):
    """A run at a row: its subject's saved state, and where its inputs stand, None where only the state was kept."""

    row: int
    state: bytes
    feed: FeedState | None = None


class Runner:
    """Leads a scenario's subject through its frames, and shows its observers every row.

    It stands at row 0 once it is made; `to` leads it on. Raises SubjectFailed, which names the row, where the subject raises
    or does not fit, and LarkTallyError for a scenario that does not fit its subject.
    """

    def __init__(self, scenario: Scenario, observers: Iterable[RunObserver] = ()) -> None:
        self.scenario = scenario
        self.setup = Setup(scenario.rate, scenario.seed, scenario.params)
        self._inputs = scenario.inputs
        self.subject = adapt(scenario.subject)
        self.row = 0
        self.end: End | None = None
        #: What was emitted in the row at which it stands.
        self.events: list[Event] = []
        self._observers = tuple(observers)
        self._feed: InputFeed
        # Of a subject that is asked ahead: the inputs of the frames that will be wanted next.
        self._lookahead: InputFeed | None = None
        self._pending: list[RawRow] = []
        # The row of the first that is pending: in a stretch that fails, the run stands elsewhere.
        self._pending_from = 0
        self._log = EventLog()
        self._known_events: set[tuple[str, str]] = set()
        try:
            self._begin()
        except LarkTallyError:
            raise
        except (Exception, SystemExit) as error:
            raise SubjectFailed(f"row 0: reset failed: {_shown(error)}", 0) from error

    @property
    def feed(self) -> InputFeed:
        """The inputs, as far as they were led."""
        return self._feed

    def to(self, row: int) -> Runner:
        """Leads the run on to a row, or to its end where that comes first."""
        if row < self.row:
            raise LarkTallyError(f"this run stands at row {self.row}; row {row} is behind it")
        while self.row < row and self.end is None:
            self._stretch(row)
        return self

    def finish(self) -> None:
        """Tells the observers that the run is over, and asks whether anything was wrong all along: an attribute that a part
        does not have. Raises SubjectFailed."""
        try:
            for observer in self._observers:
                observer.finish()
        except RowError as error:
            raise self._failed(error.row, str(error), error) from None
        # Only now: looking into a part's attributes makes every later access to them slower.
        wrong = self.subject.finish()
        if wrong:
            raise self._failed(self.row + 1, wrong, None)

    def snapshot(self) -> Snapshot:
        """The run as it stands; raises LarkTallyError where its subject cannot save."""
        self._check_saves()
        return Snapshot(self.row, self.subject.save(), self._feed.save())

    def restore(self, snapshot: Snapshot, inputs: InputScript | None = None) -> None:
        """Goes back, or on, to where a snapshot was taken, of this run or of another of the same scenario; with other
        `inputs`, under them from then on."""
        # Before anything is touched: a subject that cannot load must not be left half-way.
        self._check_saves()
        self.subject.load(snapshot.state)
        if inputs is not None:
            self._inputs = inputs
        if snapshot.feed is not None and inputs is None:
            self._feed.load(snapshot.feed)
        else:
            self._feed = self._fresh_feed(snapshot.row)
        self._lookahead = None
        for observer in self._observers:
            observer.cut(snapshot.row + 1)
        self._pending_from = snapshot.row + 1
        self.row, self.end, self.events = snapshot.row, None, []

    def _begin(self) -> None:
        """Row 0: reset, the channels it shows, and how rows are taken from then on."""
        events = self.subject.reset(self.setup)
        info = self.subject.info
        self._feed = self._fresh_feed()
        check_within(self._feed.script, int(self.scenario.frames))
        reader = self.subject.reader(self.scenario.seen or mentions_seen(self.scenario.claims))
        self._conditional = None
        self._may_stop = any(observer.may_stop for observer in self._observers)
        if self._feed.relative:
            self._conditional = ConditionalInputs(self._feed, info.channels, info.events)
        # Chosen before the first frame, so that the loop below has no look-ups.
        # The step is the subject's own, with nothing of ours in between.
        self._step, self._take, self._columns = self.subject.step, reader.take, reader.columns
        for observer in self._observers:
            observer.begin(RunStart(self.subject.name, info, reader, self._feed, self.setup, self.subject.save))
        self._pending.append(self._take())
        self._note(0, events)
        self.events = events
        self._hand_over()

    def _fresh_feed(self, row: int = 0) -> InputFeed:
        return InputFeed(self._inputs, self.subject.info.actions, self.scenario.rate, row)

    def _check_saves(self) -> None:
        if not self.subject.info.saves:
            raise LarkTallyError(f"{self.subject.name} cannot save and load, so its run cannot be put back")

    def _stretch(self, row: int) -> None:
        """Some frames on, no farther than to a row, and no farther than an observer has to be asked."""
        first = self.row + 1
        size = GATHER
        if self.subject.batch > 1:
            size = self.subject.batch
        # A press that hangs on a row has to be known before the next frame; of a subject that takes one at a time it is.
        if self._conditional is not None and self.subject.batch > 1:
            stop = first
        else:
            stop = min(row, self.row + size)
        for observer in self._observers:
            stop = min(stop, observer.next_stop(first))
        try:
            if self.subject.batch > 1:
                # Where nobody was to be asked within it, nor will be before the next frames, those are certain to be wanted.
                certain = stop == first + size - 1 and not self._may_stop
                self._batch(first, stop, min(row, stop + size) if certain else stop)
            else:
                self.row = self._frames(first, stop + 1)
                self._hand_over()
        except RowError as error:
            raise self._failed(error.row, str(error), error) from None
        except SubjectFailed as failed:
            raise self._failed(failed.row, str(failed), failed) from failed.__cause__
        except WriteError:
            # A full disk is no fault of the subject's.
            raise
        except (Exception, SystemExit) as error:
            # A model that calls sys.exit must not end the command with a status of its own choice.
            at = self._feed.view.frame
            raise self._failed(at, f"row {at}: step failed: {_shown(error)}", error) from error
        if self._conditional is not None and self.subject.batch > 1:
            self._conditional.look(self.row, self.subject.row(), self.events)

    def _frames(self, first: int, stop: int) -> int:
        """The loop that every frame goes through: rows up to, not including, `stop`; the last one made."""
        take, step, keep = self._take, self._step, self._pending.append
        view, due, advance = self._feed.view, self._feed.due, self._feed.advance
        made, emitted, conditional = first, None, self._conditional
        for made in range(first, stop):
            # Where nothing changes, showing the view its frame is all that advance would do.
            if made in due:
                advance(made)
            else:
                view.frame = made
            emitted = step(view)
            if emitted:
                emitted = self._note(made, checked_events(emitted))
                keep(take())
                if self.end is not None:
                    break
            else:
                keep(take())
            if conditional is not None:
                conditional.look(made, self.subject.row(), list(emitted or ()))
        self.events = list(emitted or ())
        return made

    def _batch(self, first: int, last: int, ahead_to: int) -> None:
        """The same for a subject that takes many frames at once; those after `last`, up to `ahead_to`, will be asked for next."""
        inputs = _inputs_of(self._feed, first, last)
        following = None
        if ahead_to > last:
            # A feed of its own: the one of the run stands where the run stands.
            feed = self._lookahead
            if feed is None or feed.view.frame != last:
                feed = self._lookahead = self._fresh_feed(last)
            feed.noted.clear()
            following = (ahead_to - last, _inputs_of(feed, last + 1, ahead_to))
        batch = self.subject.step_many(first, last - first + 1, inputs, following)
        made = first + len(batch.columns[0]) - 1
        self.events = []
        for frame, event in batch.events:
            self._note(frame, (event,))
            if self.end is not None:
                # A program that ends its run in the middle of a message has made rows that did not happen.
                made = min(made, frame)
                break
        self.events = [event for frame, event in batch.events if frame == made]
        self.row = made
        count = made - first + 1
        if count < len(batch.columns[0]):
            self.subject.cut(made, tuple(column[count - 1] for column in batch.columns))
        self._hand_over([column[:count] for column in batch.columns])
        if batch.failure is not None and self.end is None:
            raise batch.failure

    def _note(self, row: int, events: Sequence[Event]) -> Sequence[Event]:
        """Notes the events of a row; one called `end` ends the run with it."""
        for event in events:
            try:
                # The names of a run are few, and looked at once.
                if (event.name, event.source) not in self._known_events:
                    check_event_name(event.name, event.source)
                    self._known_events.add((event.name, event.source))
                self._log.append(row, event.name, event.source, data_text(event.data) if event.data else "")
            except LarkTallyError as error:
                # With its own row, wherever in a batch it stands.
                raise RowError("", row, str(error)) from None
            if event.name == "end":
                self.end = End(row, str(event.data.get("reason", "end")))
        return events

    def _hand_over(self, columns: Sequence[Sequence[Value]] | None = None) -> None:
        """Shows the observers the rows that were made since the last time, and asks them whether to go on."""
        first = self._pending_from
        if columns is None:
            columns = list(self._columns(self._pending, first))
            count = len(self._pending)
        else:
            count = len(columns[0])
        stretch = Stretch(first, count, columns, self._log)
        # Before the observers see it: one that raises has taken these rows, and they are not to be handed over again.
        self._pending.clear()
        self._pending_from = first + count
        self._log = EventLog()
        for observer in self._observers:
            observer.rows(stretch)
        for observer in self._observers:
            reason = observer.stopped_at(self.row)
            if reason is not None and self.end is None:
                self.end = End(self.row, reason)

    def _failed(self, row: int, message: str, cause: BaseException | None) -> SubjectFailed:
        """What went wrong, once the observers have the good rows before it; an earlier row that does not fit comes first."""
        try:
            if self._pending:
                self._hand_over_before(row)
            for observer in self._observers:
                observer.cut(row)
        except RowError as earlier:
            self._pending.clear()
            return self._failed(earlier.row, str(earlier), earlier)
        self.row = row - 1
        failed = SubjectFailed(message, row)
        failed.__cause__ = cause
        if isinstance(cause, RowError | SubjectFailed):
            failed.__cause__ = None
        return failed

    def _hand_over_before(self, row: int) -> None:
        """Hands over the rows that were made in a stretch before it failed."""
        del self._pending[max(row - self._pending_from, 0) :]
        kept = sum(at < row for at in self._log.rows)
        self._log = self._log[:kept]
        if self._pending:
            self._hand_over()


def _inputs_of(feed: InputFeed, first: int, last: int) -> dict[str, list[float]]:
    """A feed led on through some frames, and what each action was in each of them."""
    view, noted = feed.view, len(feed.noted)
    inputs: dict[str, list[float]] = {}
    held = dict(view.value_by)
    for frame in range(first, last + 1):
        if frame in feed.due:
            feed.advance(frame)
    view.frame = last
    for name in view.actions:
        inputs[name] = []
    # Between two changes of an action it stays as it is: a stretch of frames costs as much as what changes in it.
    for frame, name, value in feed.noted[noted:]:
        inputs[name] += [held[name]] * (frame - first - len(inputs[name]))
        held[name] = value
    for name, values in inputs.items():
        values += [held[name]] * (last - first + 1 - len(values))
    return inputs


def _shown(error: BaseException) -> str:
    """An error of the subject's own, as messages show it: of a part or of `now`, what it has instead."""
    if isinstance(error, AttributeError) and isinstance(error.obj, Part | StepContext):
        return no_such_attribute(error.obj, error.name or "")
    if isinstance(error, LarkTallyError):
        return str(error)
    return f"{type(error).__name__}: {error}"
