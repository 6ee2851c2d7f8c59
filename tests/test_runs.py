"""The one loop over frames, who watches it, and who runs many of them."""

import os
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

import pytest
from tests.conftest import Lamp

import larktally as lt
from larktally.demo import quay
from larktally.runs.many import run_each
from larktally.runs.observers import NEVER, RunObserver
from larktally.runs.recorder import Recorder
from larktally.runs.runner import Runner

TAPS = lt.InputScript().press("hop", 3).press("hop", 9)


class Notes(RunObserver):
    """Notes all that it is shown."""

    def __init__(self, asks_at=(), stops_at=NEVER):
        self.begun, self.finished, self.cuts = 0, 0, []
        self.rows_seen, self.events, self.stretches = [], [], []
        self._asks, self._stops = asks_at, stops_at

    def begin(self, run):
        self.begun += 1
        self.names = [channel.name for channel in run.reader.channels]

    def next_stop(self, row):
        return min((at for at in self._asks if at >= row), default=NEVER)

    def rows(self, stretch):
        self.stretches.append((stretch.first, stretch.length))
        self.rows_seen += list(zip(*stretch.columns, strict=True))
        self.events += [(row, name) for row, name, _, _ in stretch.events.fields()]

    def stopped_at(self, row):
        return "enough" if row >= self._stops else None

    def finish(self):
        self.finished += 1

    def cut(self, row):
        self.cuts.append(row)
        del self.rows_seen[row:]
        self.events = [one for one in self.events if one[0] < row]


def scenario(subject=Lamp, frames=300, **options):
    return lt.Scenario(subject, frames=frames, inputs=options.pop("inputs", TAPS), **options)


def test_an_observer_sees_every_row_once_and_in_order():
    notes = Notes()
    runner = Runner(scenario(), [notes])
    runner.to(300).finish()
    trace = lt.record(scenario())
    assert notes.rows_seen == [tuple(trace.row(k).values()) for k in range(301)] and notes.names == trace.channels
    assert notes.events == [(event.row, event.name) for event in trace.events] == [(9, "lit")]
    assert (notes.begun, notes.finished, notes.cuts) == (1, 1, [])
    assert [first for first, _ in notes.stretches] == [0, *(a + n for a, n in notes.stretches[:-1])]


def test_an_observer_is_asked_after_the_row_it_named_and_ends_the_run_there():
    notes, other = Notes(asks_at=(5, 40, 41), stops_at=41), Notes()
    runner = Runner(scenario(), [notes, other])
    runner.to(300).finish()
    ends = [first + length - 1 for first, length in notes.stretches]
    assert {5, 40, 41} <= set(ends) and runner.row == 41 and runner.end == (41, "enough")
    assert len(other.rows_seen) == 42 == len(notes.rows_seen)


def test_a_runner_goes_on_to_a_row_and_not_back():
    runner = Runner(scenario(), [])
    assert runner.row == 0 and runner.to(7).row == 7 and runner.to(7).row == 7
    with pytest.raises(lt.LarkTallyError, match="this run stands at row 7; row 3 is behind it"):
        runner.to(3)


@pytest.mark.parametrize("row", [0, 1, 51, 52, 53, 127, 128, 129, 219])
def test_a_snapshot_goes_back_with_the_inputs_where_they_stood_and_the_observers_with_it(row):
    notes = Notes()
    runner = Runner(quay.dusk_run, [notes]).to(row)
    kept = runner.snapshot()
    runner.to(220)
    whole, said = list(notes.rows_seen), list(notes.events)
    runner.restore(kept)
    assert runner.row == row and notes.cuts[-1] == row + 1 and notes.rows_seen == whole[: row + 1]
    runner.to(220)
    assert notes.rows_seen == whole and notes.events == said
    runner.finish()


def test_a_snapshot_without_its_inputs_is_led_on_by_the_script():
    runner = Runner(quay.dusk_run, [])
    state = runner.to(60).snapshot()._replace(feed=None)
    notes = Notes()
    other = Runner(quay.dusk_run, [notes])
    other.restore(state)
    other.to(220)
    trace = lt.record(quay.dusk_run)
    assert notes.rows_seen[1:] == [tuple(trace.row(k).values()) for k in range(61, 221)]


def test_what_cannot_save_is_not_put_back():
    runner = Runner(scenario(), [])
    with pytest.raises(lt.LarkTallyError, match="Lamp cannot save and load"):
        runner.snapshot()


class Raises(Lamp):
    """Fails in the row that its param names, in the way that it names."""

    def reset(self, setup):
        super().reset(setup)
        self.at = setup.param("at", 130)
        if self.at == 0:
            raise OSError("no lamp")

    def step(self, now):
        if now.frame == self.at:
            raise ZeroDivisionError("oil over wick")
        return super().step(now)


@pytest.mark.parametrize("at", [1, 2, 127, 128, 129, 130, 256, 300])
def test_a_run_that_fails_in_any_row_of_a_stretch_hands_over_all_rows_before_it(at):
    notes = Notes()
    runner = Runner(scenario(Raises, params={"at": at}), [notes])
    with pytest.raises(lt.SubjectFailed, match=f"row {at}: step failed: ZeroDivisionError: oil over wick") as failed:
        runner.to(300)
    assert failed.value.row == at and len(notes.rows_seen) == at and runner.row == at - 1
    assert isinstance(failed.value.__cause__, ZeroDivisionError) and notes.cuts == [at]


def test_a_reset_that_fails_is_row_0():
    with pytest.raises(lt.SubjectFailed, match="row 0: reset failed: OSError: no lamp") as failed:
        lt.record(scenario(Raises, params={"at": 0}))
    assert failed.value.row == 0


class Odd(RunObserver):
    """An observer that goes wrong itself."""

    def rows(self, stretch):
        if stretch.first + stretch.length > 200:
            raise lt.LarkTallyError("the disk is full")


def test_two_recorders_of_one_run_make_the_same_trace_and_an_observer_that_raises_ends_it():
    made = scenario()
    recorders = [Recorder(made), Recorder(made, only=["y"])]
    runner = Runner(made, recorders).to(300)
    runner.finish()
    whole, part = (one.finished(runner, None) for one in recorders)
    assert (
        whole.digest == lt.record(made).digest and part.channels == ["y"] and part["y"].tolist() == whole["y"].tolist()
    )
    with pytest.raises(lt.SubjectFailed, match="the disk is full"):
        Runner(made, [Odd()]).to(300)


# --- many runs -------------------------------------------------------------------------------------------------------


def digest_of_rest(rest):
    return rest, lt.record(quay.dusk_run.changed(params={"rest": rest}, claims=())).digest


def fails_at_three(n):
    if n == 3:
        raise ValueError("three")
    return n, os.getpid()


RESTS = ["0.5s", "0.6s", "0.8s", "1s", "0.7s"]


@pytest.mark.slow
def test_many_runs_give_the_same_in_this_process_in_several_and_in_an_executor():
    here = list(run_each(digest_of_rest, RESTS))
    assert [rest for rest, _ in here] == RESTS and len({digest for _, digest in here}) == 5
    assert list(run_each(digest_of_rest, iter(RESTS), workers=2)) == here
    with ThreadPoolExecutor(3) as threads:
        assert list(run_each(digest_of_rest, RESTS, executor=threads)) == here


@pytest.mark.slow
def test_work_in_processes_is_done_elsewhere_and_in_order():
    found = list(run_each(fails_at_three, [9, 8, 7, 6], workers=2))
    assert [n for n, _ in found] == [9, 8, 7, 6] and os.getpid() not in {pid for _, pid in found}


@pytest.mark.parametrize("workers", [1, pytest.param(2, marks=pytest.mark.slow)])
def test_an_error_comes_where_its_result_would_have_come(workers):
    results, done = run_each(fails_at_three, range(6), workers=workers), []
    with pytest.raises(ValueError, match="three"):
        for n, _ in results:
            done.append(n)
    assert done == [0, 1, 2]


def test_one_worker_runs_only_what_is_asked_for_and_shows_how_far_it_is():
    begun, shown = [], []
    results = run_each(begun.append, range(100), on_progress=lambda done, of: shown.append((done, of)))
    for _ in range(3):
        next(results)
    assert begun == [0, 1, 2] and shown == [(1, 100), (2, 100), (3, 100)]
    assert list(run_each(str, [])) == [] and list(run_each(str, iter(()), workers=1)) == []
    for wrong in (0, -1, True, 1.5, "some"):
        with pytest.raises(lt.LarkTallyError, match="workers is a number of processes"):
            list(run_each(str, [1], workers=wrong))


@pytest.mark.slow
def test_what_is_not_waited_for_does_not_go_on():
    with ProcessPoolExecutor(1) as pool:
        results = run_each(digest_of_rest, ["0.5s"] * 400, executor=pool)
        next(results)
        results.close()
    assert next(run_each(digest_of_rest, ["0.5s"]))[0] == "0.5s"


def test_a_branch_is_what_the_same_inputs_record_from_the_start():
    from larktally.runs.branches import Trunk

    usual = lt.record(quay.dusk_run)
    script = lt.InputScript.from_columns(usual.inputs)
    scenario = quay.dusk_run.changed(inputs=script)
    for row in (0, 1, 30, 127, 128, 219):
        trunk = Trunk(scenario, row)
        for frames, more in ((usual.frames, "hop"), (min(row + 5, usual.frames), "burst"), (usual.frames, "left")):
            inputs = (script | lt.InputScript().hold(more, row + 1, 2).keep(row + 1, frames)).keep(1, frames)
            whole = lt.record(scenario.changed(inputs=inputs, frames=frames, claims=(), measures=()))
            assert trunk.branch(inputs, frames).digest == whole.digest, (row, frames, more)
