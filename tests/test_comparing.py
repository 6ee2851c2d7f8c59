"""Traces side by side, baselines, saved states, the rewind audit, and who wrote a value."""

import json
import random
import subprocess
import sys

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_sim import QUAY, model, run

import larktally as lt
from larktally.cli import main
from larktally.comparing.lags import lag_of
from larktally.comparing.moved_events import event_changes
from larktally.comparing.tolerance import apart
from larktally.traces.events import EventLog


def looks(late=0, rate=60, start=0, frames=200):
    """A trace whose `look` runs some frames behind from a row on, beside a channel that does not."""
    phase = lambda row: row - late if row >= start else row  # noqa: E731
    rows = np.arange(frames + 1)
    look = np.array([float((phase(row) * 7919 // 13) % 31) for row in rows])
    state = np.array([("a", "b", "c")[(phase(row) // 9) % 3] for row in rows], dtype=object)
    return lt.Trace.from_columns({"wick.look": look, "wick.gait": state, "n": rows}, rate)


def test_one_channel_that_is_late_is_said_to_be_so_from_the_row_on():
    a, b = looks(), looks(late=1, start=118)
    found = lt.compare(a, b)
    assert [(lag.channel, lag.frames, lag.row) for lag in found.lags] == [("wick.look", 1, 118), ("wick.gait", 1, 118)]
    assert found.late == 1 and "the whole run is 1 frame late" in str(found)
    only = lt.Trace.from_columns({"wick.look": b["wick.look"], "wick.gait": a["wick.gait"], "n": a["n"]}, 60)
    found = lt.compare(a, only)
    assert found.late is None and "'wick.look' is 1 frame late from row 118 on" in str(found)
    assert lt.compare(only, a).lags[0].frames == -1
    assert found.divergence.row == next(r for r in range(118, 201) if a["wick.look"][r] != b["wick.look"][r])


def test_a_lag_is_no_luck():
    draw = np.random.default_rng(5)
    for _ in range(40):
        a, b = (lt.Trace.from_columns({"x": draw.integers(0, 2, 300)}, 60).columns["x"] for _ in range(2))
        assert lag_of(a, b, lt.Tolerance()) is None
    still, jump = np.zeros(100), np.zeros(100)
    still[50:], jump[51:] = 1.0, 1.0
    a, b = (lt.Trace.from_columns({"x": x}, 60).columns["x"] for x in (still, jump))
    assert lag_of(a, b, lt.Tolerance()) is None  # one change does not tell a lag from a jump that came later


def test_another_rate_and_another_pace_are_recognised():
    fast, slow = looks(), looks()
    half = lt.Trace.from_columns({n: slow[n][::2] for n in slow.channels}, 30)
    assert lt.compare(fast, half).identical
    half = lt.Trace.from_columns({n: slow[n][::2] for n in slow.channels}, 60)
    found = lt.compare(fast, half)
    assert str(found.stretch) == "1/2" and "another pace: 1/2 as many frames" in str(found)


def test_events_are_missing_new_or_moved():
    def build(at):
        return lambda sim: sim.before("machines", lambda now: now.frame in at and now.emit("hop", n=now.frame))

    a, b = run(build({3, 9, 15}), events=("hop",)), run(build({3, 11, 17, 18}), events=("hop",))
    assert [str(one) for one in lt.compare(a, b).events] == [
        "hop from before.machines moved by +2 frames, from row 9 to 11",
        "hop from before.machines moved by +2 frames, from row 15 to 17",
        "hop from before.machines in row 18 is new",
    ]


@pytest.mark.parametrize(
    ("a", "b", "tolerance", "differs"),
    [
        (1.0, 1.0 + 2**-52, lt.Tolerance(), True),
        (1.0, 1.0 + 2**-52, lt.Tolerance(ulps=1), False),
        (1.0, 1.0 + 2**-51, lt.Tolerance(ulps=1), True),
        (-(2.0**-1074), 2.0**-1074, lt.Tolerance(ulps=2), False),
        (0.0, -0.0, lt.Tolerance(), True),
        (0.0, -0.0, lt.Tolerance(ulps=1), False),
        (1.0, 1.25, lt.Tolerance(0.25), False),
        (100.0, 101.0, lt.Tolerance(relative=0.01), False),
        (100.0, 102.0, lt.Tolerance(relative=0.01), True),
        (np.nan, np.nan, lt.Tolerance(0.1), False),
        (np.nan, 1.0, lt.Tolerance(0.1, 0.1, 9), True),
        (np.inf, np.inf, lt.Tolerance(0.1), False),
        (np.inf, -np.inf, lt.Tolerance(0.1, 0.5), True),
    ],
)
def test_tolerances(a, b, tolerance, differs):
    one, other = (lt.Trace.from_columns({"x": np.array([x])}, 60).columns["x"] for x in (a, b))
    assert apart(one, other, 1, tolerance).tolist() == [differs]


def test_a_tolerance_by_pattern_counts_for_a_replay_too(dusk_trace):
    def shaken(setup):
        from larktally.demo import quay

        sim = quay.lamplighter(setup)
        sim.after("motion", lambda now: setattr(sim.parts["wick"], "x", sim.parts["wick"].x + 1e-9))
        return sim

    assert not lt.replay(dusk_trace, shaken).identical
    found = lt.replay(dusk_trace, shaken, {"wick.x": 1e-5})
    assert found.identical, found
    found = lt.replay(dusk_trace, shaken)
    assert found.divergence.part == "wick, in the phase 'motion'" and found.divergence.what == "wick.x"
    with pytest.raises(lt.LarkTallyError, match="matches no channel"):
        lt.replay(dusk_trace, shaken, {"wick.z": 1})


def test_names_map_one_trace_s_channels_to_the_other_s(dusk_trace):
    theirs = lt.Trace.from_columns({"PosY": dusk_trace["wick.y"], "Other": dusk_trace["wick.x"]}, 60)
    found = lt.compare(dusk_trace, theirs, names={"wick.y": "PosY"})
    assert not any(one.channel == "wick.y" for one in found.channels) and "Other" in found.only_b
    with pytest.raises(lt.LarkTallyError, match="no channel 'PosZ'.*did you mean 'PosY'"):
        lt.compare(dusk_trace, theirs, names={"wick.y": "PosZ"})


def test_a_baseline_is_made_kept_and_changed_only_when_it_is_accepted(tmp_path, dusk_trace):
    from larktally.demo import quay

    folder = lt.Baselines(tmp_path / "baselines")
    named = lt.record(quay.dusk_run.named("dusk"))
    first = folder.check(named)
    assert not first.passed and "no baseline yet" in str(first) and not (tmp_path / "baselines").exists()
    assert folder.check(named, accept=True).passed and folder.names() == ["dusk"]
    kept = folder.path("dusk").read_bytes()
    assert (
        folder.check(named).passed
        and folder.check(named, accept=True).passed
        and folder.path("dusk").read_bytes() == kept
    )
    other = lt.record(quay.faulty_run.named("dusk"))
    found = folder.check(other)
    assert not found.passed and "first divergence in row 52" in str(found) and folder.path("dusk").read_bytes() == kept
    assert "what changed" in str(folder.check(other, accept=True)) and folder.check(other).passed
    with pytest.raises(lt.LarkTallyError, match="no baseline 'dusc'; did you mean 'dusk'"):
        folder.load("dusc")


def test_a_trace_carries_states_to_go_on_from(tmp_path):
    built = []

    def build(sim):
        rest = sim.cooldown("rest", 7)
        sim.after("machines", lambda now: (built.append(now.frame), now.pressed("hop") and rest.use()))

    made, script = model(build), lt.InputScript().tap("hop", 3, 11, 20)
    plain = lt.record(lt.Scenario(made, frames=300, inputs=script))
    trace = lt.record(lt.Scenario(made, frames=300, inputs=script), states=100)
    assert sorted(trace.states) == [0, 100, 200, 300] and trace.digest == plain.digest
    for suffix in ("parquet", "jsonl"):
        back = lt.load_trace(trace.save(tmp_path / f"a.{suffix}"))
        assert back.states == trace.states
        built.clear()
        live = lt.run_to(back, made, 250)
        assert built == list(range(201, 251)) and live.values == trace.row(250)
    streamed = lt.record(lt.Scenario(made, frames=300, inputs=script), states=[150], to=tmp_path / "b.parquet")
    assert list(streamed.states) == [150]
    text = (tmp_path / "a.jsonl").read_text()
    start = text.index('"state":"') + 40
    (tmp_path / "a.jsonl").write_text(text[:start] + ("A" if text[start] != "A" else "B") + text[start + 1 :])
    with pytest.raises(lt.TraceError, match="a saved state is broken"):
        lt.load_trace(tmp_path / "a.jsonl")
    with pytest.raises(lt.LarkTallyError, match="a subject that can save and load"):
        lt.record(Hidden, frames=3, states=[1])


class Hidden:
    """Saves its n and forgets its pace."""

    actions = ()

    def reset(self, setup):
        self.n, self.pace, self.laps = 0, 1, [0]

    def step(self, now):
        self.n += self.pace
        if now.frame % 10 == 0:
            self.pace += 1
            return [lt.Event("faster")]
        return None

    def observe(self):
        return {"n": self.n}


class HalfSaved(Hidden):
    def save(self):
        return json.dumps({"n": self.n}).encode()

    def load(self, saved):
        self.n = json.loads(saved)["n"]


class Unseeded(Hidden):
    def step(self, now):
        import random

        self.n = random.randrange(10**9)


MODULE = """
import larktally as lt

class Moods:
    def reset(self, setup): self.k = 0
    def step(self, now): self.k += 1
    def observe(self): return {"order": " ".join({f"mood{n}" for n in range(20)})}

def model(setup):
    sim = lt.Sim(setup)
    count = 0
    x = sim.value("x", 0)
    def step(now):
        nonlocal count
        count += 1
        x.value = count
    sim.before("machines", step)
    return sim

moods = lt.Scenario(Moods, frames=5)
counted = lt.Scenario(model, frames=60)
"""


@pytest.mark.slow
def test_the_audit_finds_hidden_state_unseeded_randomness_and_a_set_s_order(tmp_path):
    found = lt.audit(lt.Scenario(HalfSaved, frames=60), fresh=False)
    assert not found.passed and found.rerun.repeated is None
    assert (found.rerun.failed[0].saved, found.rerun.failed[0].row, found.rerun.failed[0].channels) == (
        0,
        1,
        (("n", "1", "4"),),
    )
    assert any("self.pace: " in suspect for one in found.rerun.failed for suspect in one.suspects)
    assert not any("self.n:" in suspect for one in found.rerun.failed for suspect in one.suspects)
    found = lt.audit(lt.Scenario(Unseeded, frames=20), fresh=False)
    assert found.rerun.rewinds is None and found.rerun.repeated is not None and "not the same" in str(found)
    path = tmp_path / "moods.py"
    path.write_text(MODULE)
    from larktally.runs.model_files import load_scenarios

    moods, counted = load_scenarios(str(path))
    found = lt.audit(moods, file=path)
    assert (
        found.rerun.fresh_ran
        and not found.rerun.fresh_same
        and found.rerun.repeated is None
        and "hash seed" in str(found)
    )
    found = lt.audit(counted, rows=[5, 30], frames=10)
    assert found.rerun.fresh_ran and found.rerun.fresh_same and len(found.rerun.failed) == 2
    assert "count in step (moods.py:" in str(found) and "5 when saved, 15 after load" in str(found)


def test_the_audit_names_what_load_forgets_deep_inside_lists_dicts_slots_and_generators():
    class Deep:
        def reset(self, setup):
            self.moths = [Moth(n) for n in range(2)]
            self.loop = {"self": self, "moths": self.moths, "rests": {"a": 1}}
            self.draw, self.field = random.Random(setup.seed), np.zeros(30)

        def step(self, now):
            self.moths[1].hp -= 1
            self.loop["rests"]["a"] += 1
            self.field[3] = self.draw.random()

        def observe(self):
            return {"hp": self.moths[1].hp}

        def save(self):
            return b""

        def load(self, saved):
            pass

    class Moth:
        __slots__ = ("hp", "kind")

        def __init__(self, n):
            self.hp, self.kind = 9, lt.Rate(60)

    (first, *_) = lt.audit(lt.Scenario(Deep, frames=8), rows=[2], frames=2, fresh=False).rerun.failed
    assert [suspect.split(":")[0] for suspect in first.suspects] == [
        "self.draw (its state)",
        "self.field",
        "self.loop['rests']['a']",
        "self.moths[1].hp",
    ]


@pytest.mark.slow
def test_the_audit_passes_what_is_sound():
    from larktally.demo import quay

    found = lt.audit(quay.dusk_run, rows=20, frames=40)
    assert (
        found.passed
        and found.rerun.rewinds == 11
        and found.rerun.fresh_ran
        and "rewind: 11 restores, into the same" in str(found)
    )


def test_who_wrote_a_channel_names_phase_part_file_and_line():
    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
        gait = sim.machine("wick.gait", ("standing", "airborne"), "standing")
        gait.transition("standing", to="airborne", when="pressed('hop')")(lambda now: wick.launch(vy=360))
        warm = sim.meter("warm", 10, rate=-1)
        sim.before("timers", lambda now: now.frame == 4 and warm.take(3))

    made = model(build)
    trace = lt.record(made, lt.InputScript().press("hop", 10), frames=20)
    launched = lt.who_wrote(trace, made, 10, "wick.vy")
    assert [one.row for one in launched[:2]] == [10, 10]
    assert (
        launched[1].part == "wick.gait"
        and launched[1].place.startswith("test_comparing.py:")
        and launched[1].after == 360
    )
    assert launched[0].phase == "motion" and launched[0].place == "" and launched[0].where == "gravity 900"
    state = lt.who_wrote(trace, made, 20, "wick.gait")[0]
    assert (state.row, state.before, state.after, state.phase) == (10, "standing", "airborne", "machines")
    taken = lt.who_wrote(trace, made, 4, "warm")
    assert (
        taken[1].part == "before timers: <lambda>"
        and taken[1].place.startswith("test_comparing.py:")
        and taken[1].row == 4
    )
    with pytest.raises(lt.LarkTallyError, match="no channel 'wick.vz'"):
        lt.who_wrote(trace, made, 4, "wick.vz")


def test_two_subjects_stand_in_one_trace():
    both = lt.CompositeSubject({"game": HalfSaved, "model": model(lambda sim: sim.cooldown("rest", 4), level=QUAY)})
    trace = lt.record(both, lt.InputScript().press("hop", 3), frames=20)
    assert trace["game.n"][-1] == 10 + 20 and trace["model.rest.ready"].all()
    assert [e.source for e in trace.events] == ["game", "game"]
    with pytest.raises(lt.LarkTallyError, match="at least two subjects"):
        lt.CompositeSubject({"a": Hidden})


@pytest.mark.slow
def test_compare_and_convert_on_the_command_line(tmp_path, dusk_trace):
    from larktally.demo import quay

    a, b = dusk_trace.save(tmp_path / "a.parquet"), lt.record(quay.faulty_run).save(tmp_path / "b.jsonl")

    def cli(*words):
        done = subprocess.run([sys.executable, "-m", "larktally", *map(str, words)], capture_output=True, text=True)
        assert "Traceback" not in done.stderr
        return done

    done = cli("compare", a, b, "--json")
    assert done.returncode == 1 and json.loads(done.stdout)["divergence"]["row"] == 52
    assert cli("convert", a, tmp_path / "a.csv").returncode == 0
    assert cli("compare", a, tmp_path / "a.csv", "--rate", 60).stdout.startswith("identical")
    assert cli("compare", a, b, "--tolerance", "wick.y=x").returncode == 2
    assert "suffix" in cli("convert", a, tmp_path / "a").stderr
    assert cli("convert", a, tmp_path / "s.csv", "--inputs").returncode == 0
    assert lt.InputScript.from_csv(tmp_path / "s.csv").last_frame == 190


@settings(max_examples=60, deadline=None)
@given(
    st.integers(0, 10**6), st.integers(-20, 20).filter(bool), st.integers(0, 120), st.sampled_from(["number", "label"])
)
def test_a_channel_moved_by_any_lag_from_any_row_is_found(seed, lag, start, kind):
    draw = np.random.default_rng(seed)
    long = np.repeat(draw.integers(0, 5, 60), draw.integers(1, 9, 60))[:260].astype(float)
    long = np.concatenate([long, draw.integers(0, 5, 300 - len(long)).astype(float)])
    a = long[30:270]
    b = a.copy()
    b[start:] = long[30 + start - lag : 270 - lag]
    as_kind = (lambda x: x) if kind == "number" else (lambda x: np.array([f"s{int(v)}" for v in x], dtype=object))
    one, other = (lt.Trace.from_columns({"x": as_kind(x)}, 60).columns["x"] for x in (a, b))
    found = lag_of(one, other, lt.Tolerance())
    if found is None:  # what is left agrees by itself, or holds too little to tell
        assert (a[start:] == b[start:]).mean() > 0.2 or len(set(b[start:])) < 3 or start > 100
        return
    assert found.frames == lag and found.row <= max(start, start + lag) + 1
    shifted = slice(found.row - lag, len(a) - lag) if lag > 0 else slice(found.row - lag, len(a))
    assert (b[found.row : found.row + len(a[shifted])] == a[shifted]).all()


@settings(max_examples=100, deadline=None)
@given(*[st.lists(st.tuples(st.integers(0, 40), st.sampled_from(["hop", "land"])), max_size=8)] * 2)
def test_every_event_is_the_same_missing_new_or_moved_and_none_is_lost(first, second):
    logs = [EventLog(*zip(*sorted(said))) if said else EventLog() for said in (first, second)]
    for log in logs:
        log.sources, log.data = [""] * len(log.rows), [""] * len(log.rows)
    changes = event_changes(*logs)
    for name in ("hop", "land"):
        before = sorted(row for row, said in first if said == name)
        for change in changes:
            if change.name == name and change.first is not None:
                before.remove(change.first)
            if change.name == name and change.second is not None:
                before.append(change.second)
        assert sorted(before) == sorted(row for row, said in second if said == name)
    assert not any(change.moved == 0 for change in changes)


@given(st.floats(allow_nan=False, allow_infinity=False), st.integers(0, 5), st.booleans())
def test_ulps_are_steps_from_one_float_to_the_next(start, steps, up):
    other = np.float64(start)
    for _ in range(steps):
        if abs(other) == np.finfo(np.float64).max:
            return
        other = np.nextafter(other, np.inf if up else -np.inf)
    one, two = (lt.Trace.from_columns({"x": np.array([x])}, 60).columns["x"] for x in (start, other))
    assert not apart(one, two, 1, lt.Tolerance(ulps=max(steps, 1))).any()
    if steps > 1 and start != 0:
        assert apart(one, two, 1, lt.Tolerance(ulps=steps - 1)).any() == (steps - 1 < steps)


def test_a_recording_of_another_version_is_compared_in_what_both_have(dusk_trace):
    from larktally.demo import quay

    def newer(setup):
        sim = quay.lamplighter(setup)
        sim.value("wick.coat", "grey")
        return sim

    found = lt.replay(dusk_trace, newer)
    assert found.added == ("wick.coat",) and found.divergence is None and not found.identical
    back = lt.replay(lt.record(quay.dusk_run.changed(subject=newer)), quay.dusk_run)
    assert back.removed == ("wick.coat",) and "does not have any more: wick.coat" in str(back)


def test_recordings_keep_some_channels_stop_and_are_watched(tmp_path):
    from larktally.demo import quay

    seen = []
    trace = lt.record(
        quay.dusk_run, only=["wick.?", "wick.gait"], on_progress=lambda row, frames: seen.append((row, frames))
    )
    assert (
        trace.channels == ["wick.x", "wick.y", "wick.gait"]
        and trace.header.filtered
        and seen == [(128, 220), (220, 220)]
    )
    assert lt.replay(trace, quay.dusk_run).identical
    stopped = lt.record(quay.faulty_run, stop_at_breach=True, to=tmp_path / "a.jsonl")
    assert (
        stopped.rows == 53
        and lt.load_trace(tmp_path / "a.jsonl").header.end == "breach of 'a hop starts on the ground'"
    )
    with pytest.raises(lt.LarkTallyError, match="only=.* matches no channel; there are: wick.x"):
        lt.record(quay.dusk_run, only="moth.*")
    with pytest.raises(lt.LarkTallyError, match=r"lists rows 0..220, not 300"):
        lt.record(quay.dusk_run, states=[300])
    with pytest.raises(lt.TraceError, match="a trace is saved as"):
        lt.record(quay.dusk_run, to=tmp_path / "a.txt")
    assert list(tmp_path.iterdir()) == [tmp_path / "a.jsonl"]


def test_a_reference_and_another_subject_run_side_by_side_under_the_same_presses(tmp_path):
    from larktally.demo import quay

    same = lt.side_by_side(quay.dusk_run, quay.lamplighter)
    assert same.identical, same

    def heavier(setup):
        sim = quay.lamplighter(setup)
        sim.after("machines", lambda now: setattr(sim.parts["wick"], "gravity", 1200.0))
        return sim

    apart = lt.side_by_side(quay.dusk_run, heavier)
    assert not apart.identical and apart.divergence.row == 30 and "wick.v" in str(apart)

    class Theirs:
        """The same lamplighter under names of its own."""

        actions, events = ("Left", "Right", "Jump", "Burst"), ()

        def reset(self, setup):
            self.sim = quay.lamplighter(setup)
            self.live = lt.Live(quay.dusk_run)

        def step(self, now):
            assert now.pressed("Jump") == (now.frame in (30, 52)), now.frame
            self.live.step()

        def observe(self):
            return {"PosY": self.live.values["wick.y"]}

    theirs = lt.side_by_side(
        quay.dusk_run,
        Theirs,
        names={"wick.y": "PosY"},
        inputs={"left": "Left", "right": "Right", "hop": "Jump", "burst": "Burst"},
    )
    assert theirs.divergence is None and "wick.x" in str(theirs)


@pytest.mark.slow
@pytest.mark.parametrize("name", ["dusk_run", "faulty_run"])
def test_a_long_recording_is_replayed_without_a_second_one_and_says_the_same(name, monkeypatch):
    from larktally.demo import quay

    scenario = getattr(quay, name)
    trace = lt.record(scenario)
    changed = trace.changed(events=trace.events[: len(trace.events) - 1])
    other = scenario.changed(params={"rest": "0.9s"})
    for recorded, again in (
        (trace, scenario),
        (changed, scenario),
        (trace, other),
        (trace.window(0, 90), scenario),
        (trace.window(3), scenario),
    ):
        plain = lt.replay(recorded, again)
        with monkeypatch.context() as long:
            long.setattr("larktally.explain.replaying.LONG", 0)
            found = lt.replay(recorded, again)
        assert found.plain() == plain.plain() and str(found) == str(plain)
        assert (found.replayed is recorded) == plain.identical
    own = lt.record(Shaken, frames=40)
    monkeypatch.setattr("larktally.explain.replaying.LONG", 0)
    assert lt.replay(own, Shaken).replayed is own


class Shaken:
    """No sim: labels that come up as it goes, NaN, a flag, and its own end."""

    def reset(self, setup):
        self.n = 0

    def step(self, now):
        self.n += 1
        return [lt.Event("lit", "lamp", n=self.n)] if self.n % 3 == 0 else None

    def observe(self):
        return {"n": self.n, "half": self.n / 2, "on": self.n % 2 == 0, "mood": f"mood {self.n // 10}"}


RULES = """import larktally as lt

def rules(setup):
    sim = lt.Sim(setup, actions=("jump",), events=("up",))
    height = sim.value("hero.height", 0.0)
    mood = sim.machine("hero.mood", ("low", "high"), "low")

    @mood.transition("low", to="high", when="pressed('jump')")
    def up(now):
        height.value = 3.0 if setup.seed == 0 else 2.5
        now.emit("up")

    return sim

walk = lt.Scenario(rules, frames=20, inputs=lt.InputScript().press("jump", 5))
other = walk.changed(seed=1, name="other")
"""
GAME = """import larktally as lt

class Game:
    actions, events = ("hop",), ("up", "thud")

    def reset(self, setup):
        self.y, self.mood, self.n = 0.0, "low", 0

    def step(self, now):
        self.n += 1
        if now.pressed("hop"):
            self.y, self.mood = 3.0, "high"
            return [lt.Event("up")]

    def observe(self):
        return {"PosY": self.y, "mood": self.mood, "n": self.n}

game = lt.Scenario(Game, frames=3)
"""


def test_the_rules_and_the_game_are_set_side_by_side_on_the_command_line(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "rules.py").write_text(RULES)
    (tmp_path / "game.py").write_text(GAME)
    maps = ["--map", "hero.height=PosY", "--map", "input:jump=hop", "--map", "hero.mood=mood"]

    def compared(*words):
        return CliRunner().invoke(main, ["compare", *words])

    ran = compared("rules.py:walk", "game.py", *maps)
    assert ran.exit_code == 0 and "what both have is identical" in ran.output, ran.output
    assert (
        "channels of rules.py:walk alone: hero.mood.age" in ran.output and "channels of game.py alone: n" in ran.output
    )
    ran = compared("rules.py:other", "game.py", *maps, "--json")
    assert ran.exit_code == 1 and json.loads(ran.output)["divergence"]["row"] == 5
    ran = compared("rules.py:other", "game.py", *maps)
    assert "hero.height is 2.5 in rules.py:other, 3.0 in game.py" in ran.output and " was " not in ran.output
    assert compared("rules.py:other", "game.py", *maps, "--tolerance", "0.5").exit_code == 0
    for words, said in (
        ((), "holds several scenarios: walk, other"),
        (
            ("--map", "hero.height=PosY", "--map", "hero.height=n"),
            "'hero.height' is mapped twice, to 'PosY' and to 'n'",
        ),
        (("--map", "hero.height=PosY", "--map", "hero.mood.age=PosY"), "two channels are mapped to 'PosY'"),
        (("--map", "hero.height=mood"), "'hero.height' is a number, and 'mood', which it is mapped to, a label"),
        (("--map", "hero.hight=PosY"), "did you mean 'hero.height'"),
        (("--map", "hero.height"), "--map takes A=B"),
        (("--map", "input:jump=hop"), "have no channel in common: --map A=B"),
        (("--map", "hero.height=PosY"), "no action 'jump'"),
        (("--claims", "x.toml"), "with --map and --tolerance alone"),
    ):
        action = () if "input" in str(words) or "no action" in said else maps[2:4]
        ran = compared("rules.py:walk" if words else "rules.py", "game.py", *words, *action)
        assert ran.exit_code == 2 and said in ran.stderr, (words, ran.stderr)
