"""Inputs that come late: against a loop that runs all of it again, from the start, at each tick."""

import json
import pickle
import random
import sys
from pathlib import Path

import numpy as np
import pytest

import larktally as lt
from larktally.runs.late_inputs import CONFIRMED_TO

ACTIONS = ("left", "right", "hop", "lean")
QUAY = lt.Level([lt.geometry.box_at((0, 0), (200, 16)), lt.geometry.box_at((60, 16), (16, 16))])


class Lamplighters:
    """Two who walk and ring a bell where they meet; one number is random. `forgets` is left out of what is saved."""

    actions = ("left", "right", "hop", lt.Action("lean", analog=True))
    events = ("rings", "steps")

    def __init__(self, forgets=()):
        self.forgets = forgets

    def reset(self, setup):
        self.state = {"west": 0.0, "east": 12.0, "lit": False, "count": 0, "mood": "calm", "draw": setup.seed}

    def step(self, now):
        state = self.state
        state["west"] += now.axis("left", "right") + 0.25 * now.value("lean")
        if now.pressed("hop"):
            state["count"] += 1
            yield lt.Event("steps", "east", number=state["count"])
            state["draw"] = (state["draw"] * 1103515245 + 12345) % 2**31
            state["east"] -= 1 + state["draw"] % 3
        near = state["east"] - state["west"] < 4
        if near and not state["lit"]:
            yield lt.Event("rings", "bell")
        state["lit"] = near
        state["mood"] = "calm" if now.held_for("right") < 5 else "keen"

    def observe(self):
        return {name: value for name, value in self.state.items() if name != "draw"}

    def save(self):
        return pickle.dumps({name: value for name, value in self.state.items() if name not in self.forgets})

    def load(self, saved):
        self.state.update(pickle.loads(saved))


def wick(setup):
    sim = lt.Sim(setup, level=QUAY, actions=(*ACTIONS[:3], lt.Action("lean", analog=True)), events=("hop",))
    body = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    rest = sim.cooldown("rest", 7)
    ask = sim.press_buffer("ask", "hop", keep=3)
    gait = sim.machine("gait", ("ground", "air"), "ground")

    @gait.transition("ground", to="air", when="ask.waiting and rest.ready")
    def up(now):
        ask.take()
        rest.use()
        body.launch(vy=200 + now.random.between(0, 50))
        now.emit("hop")

    gait.transition("air", to="ground", when="wick.grounded")
    sim.before("motion", lambda now: body.steer(vx=150 * now.axis("left", "right") + 60 * now.value("lean")))
    return sim


def script(pick, frames):
    found = lt.InputScript()
    for action in ACTIONS:
        at = 1
        while at <= frames and pick.random() < 0.7:
            at += pick.randrange(8)
            held = pick.randrange(1, 7)
            if at <= frames:
                value = 1.0
                if action == "lean":
                    value = pick.choice([1.0, -1.0, 0.5, 0.25])
                found = found.hold(action, at, held, value)
            at += held + 1
    return found.keep(1, frames)


def slowly(scenario, arrives, predict, frames):
    """What is shown and how it is put right, by running all of it again at each tick: rows, events, corrections."""
    plain = lt.record(scenario)
    truth = {name: plain.inputs[name].tolist() for name in plain.inputs}
    shown, corrections, before, used_before = [], [], None, None
    for tick in range(1, frames + max(max(ticks) for ticks in arrives.values()) + 1):
        newest, used = min(tick, frames), {}
        for name in truth:
            used[name], last = [0.0], 0.0
            for frame in range(1, newest + 1):
                if arrives[name][frame] <= tick:
                    last = truth[name][frame]
                    used[name].append(last)
                else:
                    used[name].append(last if predict == "repeat" else 0.0)
        spans = lt.InputScript.from_columns({name: np.array(values) for name, values in used.items()})
        run = lt.record(scenario.changed(inputs=spans, frames=newest))
        if used_before is not None:
            wrong = [
                f for f in range(1, len(used_before["hop"])) if any(used[n][f] != used_before[n][f] for n in truth)
            ]
            if wrong:
                row = len(used_before["hop"]) - 1
                channels = {
                    n: abs(run[n][row] - before[n][row])
                    for n in run.channels
                    if run.column(n).channel.kind in ("number", "count") and run[n][row] != before[n][row]
                }
                corrections.append((row, row - wrong[0] + 1, channels))
        if tick <= frames:
            shown.append(
                (
                    [run.columns[name].at(newest) for name in run.channels],
                    [(e.name, e.source, e.data) for e in run.events if e.row == newest],
                )
            )
        before, used_before = run, used
    return plain, shown, corrections


def compared(subject, seed, frames=22):
    pick = random.Random(seed)
    scenario = lt.Scenario(subject, frames=frames, inputs=script(pick, frames), seed=pick.randrange(99))
    predict = pick.choice(["repeat", "none"])
    behind = {name: [pick.randrange(0, 6) for _ in range(frames + 1)] for name in ACTIONS}
    if pick.random() < 0.3:
        # Apart by as many frames each, as a steady line has it; and one in time.
        behind = {name: [pick.choice([0, 1, 6])] * (frames + 1) for name in ACTIONS}
    late = {name: (lambda frame, by=by: by[frame]) for name, by in behind.items()}
    arrives = {name: [frame + by for frame, by in enumerate(one)] for name, one in behind.items()}
    found = lt.rollback(scenario, late=late, predict=predict)
    plain, shown, corrections = slowly(scenario, arrives, predict, frames)
    assert found.holds and found.confirmed.rows == plain.rows, seed
    assert list(found.confirmed.events.fields()) == list(plain.events.fields())
    told = [
        (one.row, one.depth, {n: size for n, size in one.channels.items() if size is not None})
        for one in found.corrections
    ]
    assert told == corrections, seed
    for row, (values, events) in enumerate(shown, 1):
        seen = found.displayed
        assert [seen.columns[name].at(row) for name in plain.channels] == values, (seed, row)
        assert [(e.name, e.source, e.data) for e in seen.events if e.row == row] == events
    # Each event of the confirmed run, and each that was shown, is counted once.
    assert sum(one.row is not None for one in found.events) == len(plain.events)
    assert sum(len(one.shown) for one in found.events) == len(found.displayed.events)
    for one in found.events:
        assert (one.fate == "taken back") == (one.row is None) and (one.fate == "lost") == (not one.shown)
        assert (one.fate == "doubled") == (len(one.shown) > 1)
    return found


@pytest.mark.parametrize("subject", [Lamplighters, wick])
def test_what_is_shown_and_put_right_is_what_a_slow_loop_finds(subject):
    found = [compared(subject, seed) for seed in range(25)]
    assert sum(len(one.corrections) for one in found) > 50
    assert {event.fate for one in found for event in one.events} >= {"in time", "lost", "taken back"}


@pytest.mark.slow
@pytest.mark.parametrize(("subject", "cases"), [(Lamplighters, 1700), (wick, 300)])
def test_two_thousand_cases_confirm_the_plain_run(subject, cases):
    for seed in range(100, 100 + cases):
        compared(subject, seed, 14)


def meeting(**more):
    inputs = lt.InputScript().hold("right", 3, 12).press("hop", 5).press("hop", 9)
    return lt.Scenario(
        Lamplighters, frames=40, inputs=inputs, claims=[lt.claim("once", "at_most(event('rings'), 1)")], **more
    )


def test_late_by_nothing_is_in_time_and_a_lag_as_long_as_the_latest_shows_all_in_time():
    found = lt.rollback(meeting(), late=0)
    assert found.passed and not found.corrections and {one.fate for one in found.events} == {"in time"}
    assert found.displayed[CONFIRMED_TO].tolist() == list(range(41))
    lagged = lt.rollback(meeting(), late=6, lag=6)
    assert lagged.passed and lagged.corrections and {one.fate for one in lagged.events} == {"in time"}
    late = lt.rollback(meeting(), late=6)
    assert late.displayed[CONFIRMED_TO].tolist() == [max(row - 6, 0) for row in range(41)]


@pytest.mark.parametrize("subject", [Lamplighters, wick])
def test_a_scenario_as_displayed_runs_as_what_was_displayed_and_whatever_takes_a_scenario_takes_it(subject):
    for seed in range(6):
        pick = random.Random(seed)
        scenario = lt.Scenario(subject, frames=22, inputs=script(pick, 22), seed=seed)
        for late, show in ((3, "first"), ("0..5", "again"), ({"left right": 4}, "first")):
            trace = lt.record(lt.as_displayed(scenario, late=late, show=show, seed=7))
            found = lt.rollback(scenario, late=late, show=show, seed=7).displayed
            assert trace.rows == found.rows and trace.channels == found.channels
            for name in trace.channels:
                assert trace.columns[name].values.tolist() == found.columns[name].values.tolist(), (seed, name)
            before_the_end = [one for one in found.events.fields() if one[0] < 22]
            assert [one for one in trace.events.fields() if one[0] < 22] == before_the_end


def test_why_of_what_was_displayed_is_the_step_that_made_it_and_says_what_was_made_again():
    seen = lt.as_displayed(meeting(), late=6)
    trace = lt.record(seen)
    found = lt.rollback(meeting(), late=6)
    told = str(lt.causes(trace, seen, 15))
    # Known up to frame 9, in which a press came that nobody had guessed.
    assert "with inputs known up to frame 9; put right just before it: rows 9..14 were made again" in told
    assert "self.state['west'] = 13 (was 12)" in told and "_run" not in told
    for row in range(1, 41):
        causes = lt.causes(trace, seen, row)
        again = [one for one in found.corrections if one.row == row - 1]
        assert ("made again" in causes.note) == bool(again) and not causes.differing
    hop = lt.Scenario(wick, frames=20, inputs=lt.InputScript().press("hop", 3))
    shown = lt.as_displayed(hop, late={"hop": 4})
    told = str(lt.causes(lt.record(shown), shown, 3))
    assert "known up to frame 0" in told and "nothing was taken" in told


def test_the_fewest_presses_that_ring_twice_are_found():
    def canal(setup):
        sim = lt.Sim(setup, level=QUAY, actions=("west", "east"), events=("rings",))
        west, east = sim.body("west", size=(12, 20), at=(80, 16)), sim.body("east", size=(12, 20), at=(150, 16))
        bell = sim.machine("bell", ("silent", "rung"), "silent")
        speed = setup.param("speed", 120.0)
        sim.before("motion")(
            lambda now: (west.steer(vx=speed * now.value("west")), east.steer(vx=-120 * now.value("east")))
        )
        bell.transition("silent", to="rung", when="east.x - west.x < 16")(lambda now: now.emit("rings"))
        bell.transition("rung", to="silent", when="east.x - west.x > 20")
        return sim

    once = lt.claim("once at most", "at_most(event('rings'), 1)")
    meeting = lt.Scenario(canal, frames=90, claims=[once], inputs=lt.InputScript().hold("west", 1, 60))
    seen = lt.as_displayed(meeting, late={"east": 6})
    assert lt.check(lt.record(meeting), [once]).passed and lt.check(lt.record(seen), [once]).passed
    # East stops just before they meet, and much else is pressed.
    inputs = (
        lt.InputScript()
        .hold("west", 1, 30)
        .hold("east", 1, 10)
        .press("east", 40)
        .hold("west", 50, 9)
        .hold("east", 70, 12)
    )
    found = lt.shrink(seen.changed(inputs=inputs))
    assert len(found.scenario.inputs.spans) == 2 and {one.action for one in found.scenario.inputs.spans} == {
        "west",
        "east",
    }
    explored = lt.explore(meeting.changed(subject=seen.subject, inputs=lt.InputScript(), allow_nan=True), runs=32)
    assert explored.runs == 32 and all(one.failure == "" for one in explored.found)
    again = lt.rollback(meeting.changed(inputs=found.scenario.inputs, frames=found.scenario.frames), late={"east": 6})
    assert sum(len(one.shown) for one in again.events if one.name == "rings") == 2
    # Its params are read in there.
    assert len(lt.vary(seen, {"speed": [60.0, 120.0]}).kept) == 2
    over = lt.Scenario(Edge, frames=30, inputs=lt.InputScript().hold("stop", 2, 3))
    ended = lt.record(lt.as_displayed(over, late=5))
    assert ended.header.end == "fell" and ended.rows == lt.record(over).rows + 5


def test_the_actions_that_are_late_are_said_by_name_or_by_groups():
    by_name = lt.rollback(meeting(), late=4, actions=["left", "right"])
    by_group = lt.rollback(meeting(), late={"left right": 4})
    assert by_name.plain() == by_group.plain() and not [one for one in by_name.corrections if "count" in one.channels]
    with pytest.raises(lt.LarkTallyError, match="late= does so by groups already"):
        lt.rollback(meeting(), late={"left": 2}, actions=["left"])


def test_a_subject_without_actions_and_a_run_of_one_frame_are_in_time():
    def bell(setup):
        sim = lt.Sim(setup, events=("rings",))
        sim.interval("ring", 5)
        return sim

    assert lt.rollback(lt.Scenario(bell, frames=20), late=6).passed
    assert lt.rollback(lt.Scenario(Lamplighters, frames=1, inputs=lt.InputScript().press("hop", 1)), late=3).holds


def test_events_are_shown_when_confirmed_or_again_and_counted():
    confirmed = lt.rollback(meeting(), late=6, show="confirmed")
    assert confirmed.passed and {(one.row, one.shown) for one in confirmed.of_fate("moved")} >= {(5, (11,)), (9, (15,))}
    first = lt.rollback(meeting(), late=6)
    assert {one.row for one in first.of_fate("lost")} >= {5, 9} and not first.shown_once
    again = lt.rollback(meeting(), late=6, show="again")
    assert not [one for one in again.events if one.fate == "lost"]
    before, after = first.check()
    assert before.passed and len(after) == 1
    plain = json.loads(json.dumps(first.plain()))
    assert plain["fates"]["lost"] == len(first.of_fate("lost")) and plain["holds"]
    assert "lost" in str(first) and "correction" in str(first)


def test_the_picture_shades_the_rows_that_were_made_again_and_a_trace_of_it_is_saved_and_read(tmp_path):
    found = lt.rollback(meeting(), late=6)
    figure = lt.draw_late(found)
    shaded = sum(len([one for one in axes.patches if one.get_zorder() == 0]) for axes in figure.axes)
    assert shaded >= len(found.corrections) and f"{len(found.corrections)} corrections" in figure.get_suptitle()
    for trace in (found.confirmed, found.displayed):
        assert lt.load_trace(trace.save(tmp_path / "late.parquet")).digest == trace.digest


def test_a_delay_gives_inputs_longer_to_come_and_the_run_is_the_delayed_one():
    found = lt.rollback(meeting(), late=4, delay=4)
    assert found.passed and not found.corrections and found.latest == 0
    assert [one.row for one in found.events if one.name == "steps"] == [9, 13]


def test_what_is_later_than_the_window_is_waited_for_or_never_counts():
    waited = lt.rollback(meeting(), late=5, window=2, too_late="wait")
    assert waited.holds and waited.waited == 3 and max(one.depth for one in waited.corrections) <= 2
    dropped = lt.rollback(meeting(), late=5, window=2, too_late="drop")
    # Nothing that was pressed comes in time to count.
    assert dropped.holds and dropped.dropped and not dropped.confirmed.inputs["right"].any() and not dropped.corrections


def test_a_guess_of_ones_own_sees_what_came_before():
    asked = []

    def guess(action, came):
        asked.append((action, tuple(came)))
        return came[-1][1] if came else 0

    own, repeat = (lt.rollback(meeting(), late=3, predict=one) for one in (guess, "repeat"))
    assert own.plain() == repeat.plain() and any(came for _, came in asked)
    assert all(frame < 41 for _, came in asked for frame, _ in came)


@pytest.mark.parametrize("forgotten", ["west", "count", "draw"])
def test_a_state_that_is_left_out_of_save_is_the_first_wrong_row_with_its_name(forgotten):
    scenario = lt.Scenario(Lamplighters((forgotten,)), frames=40, inputs=meeting().inputs)
    # Guesses that press what nobody pressed, so that there is something to put back.
    found = lt.rollback(
        scenario, late=6, predict=lambda action, came: float(action in ("right", "hop") and len(came) % 3 == 1)
    )
    shown = {"draw": "east"}.get(forgotten, forgotten)
    assert not found.holds and found.divergence.what == shown and shown in str(found)
    plain = lt.record(meeting())
    assert found.divergence.row == min(row for row in range(41) if found.confirmed[shown][row] != plain[shown][row])


class Edge:
    """Falls off an edge unless it stops in time, and the run is over then; leaning fails."""

    actions = ("stop", "lean")

    def reset(self, setup):
        self.x = 0

    def step(self, now):
        self.x += not now.held("stop")
        if now.held("lean"):
            raise ValueError("no rail")
        if self.x == 10:
            return [lt.Event("end", reason="fell")]
        return None

    def observe(self):
        return {"x": self.x}

    def save(self):
        return pickle.dumps(self.x)

    def load(self, saved):
        self.x = pickle.loads(saved)


def test_an_end_counts_once_it_is_confirmed_and_a_failure_that_was_only_guessed_is_put_right():
    stops = lt.Scenario(Edge, frames=30, inputs=lt.InputScript().hold("stop", 8, 20))
    found = lt.rollback(stops, late=5)
    assert found.holds and found.confirmed.rows == 31 and "end" in {one.name for one in found.of_fate("taken back")}
    over = lt.Scenario(Edge, frames=30, inputs=lt.InputScript().hold("stop", 2, 3))
    found = lt.rollback(over, late=5)
    assert found.holds and found.confirmed.rows == lt.record(over).rows < 31
    guessed = lt.rollback(stops, late=3, predict=lambda action, came: float(action == "lean" and len(came) == 4))
    assert guessed.holds and guessed.failures and "no rail" in str(guessed)


def test_peers_confirm_the_same_whoever_is_late():
    peers = {"west": ("left", "right", "lean"), "east": ("hop",)}
    found = lt.rollback_of_peers(meeting(), peers, late="2..9")
    assert (
        found.apart is None and set(found.runs) == {"west", "east"} and "west and east confirm the same" in str(found)
    )
    # Each has its own in time: it never corrects what it pressed itself.
    assert not [one for one in found.runs["east"].corrections if "count" in one.channels]
    with pytest.raises(lt.LarkTallyError, match="both have the action 'hop'"):
        lt.rollback_of_peers(meeting(), {"west": ("hop",), "east": ("hop",)}, late=3)
    forgets = lt.Scenario(Lamplighters(("east",)), frames=40, inputs=meeting().inputs)
    apart = lt.rollback_of_peers(forgets, peers, late=6)
    assert apart.apart is not None and apart.apart[2].what == "east" and not apart.passed


def test_what_peers_confirm_otherwise_is_told_with_its_line():
    class Two:
        actions = ("west", "east")

        def reset(self, setup):
            self.west, self.east = 0, 9

        def step(self, now):
            self.west += now.held("west")
            self.east -= now.held("east")

        def observe(self):
            return {"west": self.west, "east": self.east}

        def save(self):
            return bytes([self.west])

        def load(self, saved):
            self.west = saved[0]

    inputs = lt.InputScript().hold("west", 2, 6).hold("east", 3, 4)
    apart = lt.rollback_of_peers(lt.Scenario(Two, frames=20, inputs=inputs), {"w": ("west",), "e": ("east",)}, late=3)
    assert apart.apart[2].what == "east" and "test_late.py:" in apart.place and f"set at {apart.place}" in str(apart)


def test_every_guess_wrong_and_six_late_costs_seven_steps_one_load_and_one_save():
    calls = {"step": 0, "load": 0, "save": 0}

    class Counted(Lamplighters):
        def step(self, now):
            calls["step"] += 1
            return list(super().step(now))

        def save(self):
            calls["save"] += 1
            return super().save()

        def load(self, saved):
            calls["load"] += 1
            super().load(saved)

    frames = 200
    inputs = lt.InputScript().tap("hop", 1, 2, frames // 2)
    scenario = lt.Scenario(Counted, frames=frames, inputs=inputs)
    lt.record(scenario)
    before = dict(calls)
    found = lt.rollback(scenario, late=6)
    # The plain run is one step a frame; the tail after the last frame has corrections alone.
    assert len(found.corrections) >= frames - 1
    assert calls["step"] - before["step"] - frames <= 7 * (frames + 6)
    assert calls["load"] - before["load"] <= frames + 6 and calls["save"] - before["save"] <= frames + 7


def test_the_audit_finds_what_late_inputs_show_with_the_state_that_is_not_put_back():
    class Ratchet(Lamplighters):
        def reset(self, setup):
            super().reset(setup)
            self.hidden = 0

        def step(self, now):
            self.hidden += now.pressed("hop")
            self.state["east"] -= self.hidden >= 5
            yield from super().step(now)

    for subject, found in ((Ratchet, True), (Lamplighters, False)):
        told = lt.audit(
            lt.Scenario(subject, frames=60, inputs=meeting().inputs), fresh=False, only=["late"], late_by="2..9"
        )
        assert bool(told.findings) == found and told.ran == ("late",)
    (one,) = lt.audit(lt.Scenario(Ratchet, frames=60, inputs=meeting().inputs), fresh=False, only=["late"]).findings
    assert one.certainty == "sure" and "row" in one.message and "hidden: " in one.message
    forgets = lt.Scenario(Lamplighters(("count",)), frames=60, inputs=meeting().inputs)
    found = lt.audit(forgets, fresh=False, only=["late", "saved state"]).findings
    # Told once, whichever of the two checks sees it first.
    assert [one.about for one in found].count("count") == 1


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"late": -1}, "late is a number of frames from 0 to 600, not -1"),
        ({"late": "9..2"}, "'A..B' up to 600"),
        ({"late": lambda frame: frame / 2}, r"not 0.5 \(in frame 1\)"),
        ({"late": {"left hop": 2, "hop": 0}}, "action 'hop' is in two groups, 'left hop' and 'hop'"),
        ({"late": {"jump": 2}}, "no action 'jump'"),
        ({"late": 4, "window": 2}, "too_late='wait' waits for them"),
        ({"late": 4, "window": 0, "too_late": "drop"}, "at least 1"),
        ({"late": 4, "predict": "best"}, "predict is 'repeat', 'none'"),
        ({"late": 4, "predict": lambda action, came: 3}, "the guess of 'left' is 3; it takes a value 0 or 1"),
        ({"late": 4, "show": "once"}, "no way to show events 'once'"),
        ({"late": 4, "too_late": "maybe"}, "too_late is 'wait' or 'drop'"),
        ({"late": 4, "lag": -1}, "lag is a number of frames"),
    ],
)
def test_what_does_not_fit_is_told(given, told):
    with pytest.raises(lt.LarkTallyError, match=told):
        lt.rollback(meeting(), **given)


@pytest.mark.parametrize("fault", ["", "save forgets oil", "save forgets rng"])
def test_a_program_is_led_with_late_inputs_and_what_it_forgets_is_seen(fault):
    program = lt.Program([sys.executable, str(Path(__file__).parent / "planted_program.py"), fault], step_within="20s")
    inputs = lt.InputScript().hold("walk", 2, 9, 0.75).press("hop", 6).hold("burst", 14, 3).press("hop", 22)
    scenario = lt.Scenario(program, frames=60, inputs=inputs)
    found = lt.rollback(scenario, late="1..6", predict=lambda action, came: float(len(came) % 3 == 0))
    assert found.holds == (not fault) and len(found.corrections) > 10
    if not fault:
        assert found.confirmed.rows == 61 and found.confirmed["x"].tolist() == lt.record(scenario)["x"].tolist()


def test_a_subject_that_cannot_save_is_told():
    class Bare:
        actions = ("hop",)

        def reset(self, setup):
            self.x = 0

        def step(self, now):
            self.x += now.held("hop")

        def observe(self):
            return {"x": self.x}

    with pytest.raises(lt.LarkTallyError, match="cannot save and load"):
        lt.rollback(lt.Scenario(Bare, frames=9), late=2)
