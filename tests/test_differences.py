"""What a comparison says of two runs: which events are the same, what they were made from, and angles."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_sim import run

import larktally as lt
from larktally.traces.events import EventLog


def hopping(setup):
    """Wick hops where he is asked to, under a gravity of the setup's; a value beside the body is its own part."""
    sim = lt.Sim(setup, level=lt.Level.from_rows("....\n....\n####", cell=16), actions=("hop", "left"))
    wick = sim.body("wick", size=(8, 8), at=(20, 16), gravity=setup.param("gravity", 900))
    facing = sim.value("wick.facing", 1)
    gait = sim.machine("wick.gait", ("standing", "airborne"), "standing")
    gait.transition("standing", to="airborne", when="pressed('hop')", name="hops")(lambda now: wick.launch(vy=240))
    gait.transition("airborne", to="standing", when="wick.grounded", name="lands")
    gait.during("standing")(lambda now: setattr(facing, "value", -1 if now.held("left") else 1))
    return sim


def hop(press=10, frames=60, **options):
    script = lt.InputScript().press("hop", press).hold("left", options.pop("left", 50), 4)
    return lt.record(lt.Scenario(hopping, inputs=script, frames=frames, **options))


def test_events_are_paired_by_what_they_say():
    found = lt.compare(hop(10), hop(13))
    assert [str(one) for one in found.events if one.name == "changed"] == [
        "changed from wick.gait (by hops, from standing, to airborne) moved by +3 frames, from row 10 to 13",
        "changed from wick.gait (by lands, from airborne, to standing) moved by +3 frames, from row 41 to 44",
    ]
    once = lt.InputScript().press("hop", 10)
    longer = lt.record(lt.Scenario(hopping, inputs=once.press("hop", 100), frames=112))
    shorter = lt.record(lt.Scenario(hopping, inputs=once, frames=112))
    told = [str(one) for one in lt.compare(shorter, longer).events]
    assert "changed from wick.gait (by hops, from standing, to airborne) in row 100 is new" in told
    assert not any("moved" in one for one in told)


def test_each_of_two_events_in_one_row_is_told_by_its_own_numbers():
    logs = []
    for speeds in ((1, 2), (3, 2), (1, 2, 4), (3, 4)):
        log = EventLog()
        for speed in speeds:
            log.add(5, "landed", "wick", {"on": "quay", "speed": speed})
        logs.append(lt.Trace.from_columns({"y": np.arange(9.0)}).changed(events=log))
    said = [[str(one) for one in lt.compare(logs[0], other).events] for other in logs]
    what = "landed from wick (on quay) in row 5"
    assert said[:2] == [[], [f"{what}: speed was 1, now 3"]]
    assert said[2:] == [[f"{what} is new"], [f"{what}: speed was 1, now 3", f"{what}: speed was 2, now 4"]]


@settings(max_examples=120, deadline=None)
@given(
    *[
        st.lists(st.tuples(st.integers(0, 30), st.sampled_from("ab"), st.sampled_from("xy"), st.integers(0, 2)))
        for _ in "12"
    ]
)
def test_what_is_said_of_events_accounts_for_each_of_them(first, second):
    logs = []
    for events in (first, second):
        log = EventLog()
        for row, name, word, number in sorted(events):
            log.add(row, name, "", {"to": word, "n": number})
        logs.append(log)
    made = [lt.Trace.from_columns({"y": np.arange(31.0)}).changed(events=log) for log in logs]
    changes = lt.compare(*made).events
    for which, events in (("first", first), ("second", second)):
        for kind in {(name, word) for _, name, word, _ in events}:
            rows = sorted(row for row, name, word, _ in events if (name, word) == kind)
            told = [getattr(one, which) for one in changes if (one.name, one.says) == (kind[0], f"to {kind[1]}")]
            # Each that is told of is there as often as that, and a row that is not told of is the same in both.
            left = list(rows)
            for row in told:
                if row is not None:
                    left.remove(row)
            others = second if which == "first" else first
            same = [row for row, name, word, _ in others if (name, word) == kind]
            assert all(row in same for row in left)


def test_the_first_line_says_which_settings_differ():
    plain = hop()
    cases = {
        "gravity was 900, now 880": hop(params={"gravity": 880}),
        "seed was 0, now 3": hop(seed=3),
        "the script, in 'hop' from row 10 on": hop(12),
        "rate was 60 frames/s, now 120": hop(rate=120, frames=120),
    }
    for said, other in cases.items():
        assert lt.compare(plain, other).report().text().splitlines()[0].startswith(f"settings that differ: {said}"), (
            said
        )

    def heavier(setup):
        sim = hopping(setup)
        sim.parts["wick.gait"].transition("standing", to="airborne", after=30, name="bored")
        return sim

    changed = lt.record(lt.Scenario(heavier, inputs=lt.InputScript().press("hop", 10).hold("left", 50, 4), frames=60))
    changed = changed.changed(header=lt_header(changed, subject="hopping"))
    assert str(lt.compare(plain, changed).settings[0]) == "the rules of wick.gait"
    edited = plain.changed(header=lt_header(plain, made_with={**plain.header.made_with, "source": "0" * 16}))
    assert [str(one) for one in lt.compare(plain, edited).settings] == ["the file of the model"]
    assert str(lt.compare(plain, edited)).splitlines()[1].startswith("identical")
    assert lt.compare(plain, hop()).settings == ()


def lt_header(trace, **changes):
    from msgspec import structs

    return structs.replace(trace.header, **changes)


def test_an_event_that_the_other_subject_cannot_say_is_left_out_and_named_and_one_that_stopped_coming_is_not():
    class Game:
        def __init__(self, said):
            self.said = said

        def reset(self, setup):
            self.row = 0

        def step(self, now):
            self.row += 1
            return [lt.Event(name) for name in self.said if self.row == 5]

        def observe(self):
            return {"y": float(self.row)}

    class Rules(Game):
        pass

    rules, game = lt.record(Rules(("landed", "hop")), frames=9), lt.record(Game(("hop", "clang")), frames=9)
    found = lt.compare(rules, game)
    assert found.identical and (found.events_only_a, found.events_only_b) == (("landed",), ("clang",))
    assert "events that the first can say and the second cannot, left out: landed" in str(found)
    silent = lt.compare(lt.record(Game(("hop",)), frames=9), lt.record(Game(()), frames=9))
    assert not silent.identical and [str(one) for one in silent.events] == ["hop in row 5 is missing"]


def test_runs_that_parted_have_no_lag_and_short_ones_no_pace():
    rng = np.random.default_rng(4)
    base = np.cumsum(rng.integers(-1, 2, 400)).astype(float)
    other = np.append(base[:60], np.cumsum(rng.integers(-1, 2, 340)) + base[59]).astype(float)
    # It comes to look like the other's past, much later.
    other[300:] = base[293:393]
    parted = lt.compare(*(lt.Trace.from_columns({"y": one}, 60) for one in (base, other)))
    assert parted.lags == () and parted.late is None
    late = lt.compare(*(lt.Trace.from_columns({"y": one}, 60) for one in (base[7:], base[:-7])))
    assert [lag.frames for lag in late.lags] == [7]
    for rows in range(4, 9):
        short = lt.compare(*(lt.Trace.from_columns({"y": one[:rows]}, 60) for one in (base, base[::2])))
        assert short.stretch is None
    twice = lt.compare(*(lt.Trace.from_columns({"y": one}, 60) for one in (base, base[::2])))
    assert "another pace: 1/2 as many frames for the same values, at the same rate of 60" in str(twice)


def test_a_value_is_held_by_itself_and_not_by_the_body_before_its_dot():
    found = lt.compare(hop(left=50), hop(left=45)).divergence
    assert found.what == "wick.facing" and found.part == "wick.facing, which rules and hooks set"
    assert lt.compare(hop(), hop(params={"gravity": 880})).divergence.part == "wick, in the phase 'motion'"


def test_same_and_compare_take_rows_at_the_same_times_and_the_story_shows_both():
    slow = lt.Trace.from_columns({"y": np.arange(0, 20.0)}, 30)
    fast = lt.Trace.from_columns({"y": np.arange(0, 20, 0.5)}, 60)
    (result,) = lt.check(fast, [lt.claim("c", "same(y)")], against=slow)
    assert result.verdict == "kept" and result.cases == 20 and lt.compare(slow, fast).identical
    off = fast["y"].copy()
    off[12] += 0.25
    (result,) = lt.check(lt.Trace.from_columns({"y": off}, 60), [lt.claim("c", "same(y)")], against=slow)
    assert result.breaches == (lt.Breach(None, 12),)
    assert "y is 6.25 here and 6 in the other trace in its row 6, at the same time" in str(result)
    (ends,) = lt.check(slow.window(0, 9), [lt.claim("c", "same(y)")], against=slow)
    assert "this trace ends in row 9, the other goes on" in str(ends)
    (last_bit,) = lt.check(
        lt.Trace.from_columns({"y": np.array([0.1 + 0.2])}), [lt.claim("c", "same(y)")],
        against=lt.Trace.from_columns({"y": np.array([0.3])}),
    )  # fmt: skip
    assert "y is 0.30000000000000004 here and 0.3 in the other" in str(last_bit)


def short_way(one, other, full):
    """The signed short way from one angle to another, by trying."""
    return min((one - other + turn * full for turn in range(-4, 5)), key=lambda way: (abs(way), -way))


@settings(max_examples=150, deadline=None)
@given(
    st.lists(st.integers(-72, 72).map(lambda n: n * 10.0), min_size=4, max_size=12),
    st.integers(-72, 72).map(lambda n: n * 10.0),
)
def test_an_angle_goes_the_short_way_in_playback_comparison_and_claims(angles, shift):
    turning = lt.Trace.from_columns({"heading": np.array(angles)}, 10, wraps={"heading": 360})
    steps = [0.0, *(short_way(one, before, 360) for before, one in zip(angles, angles[1:]))]
    signal = lambda text: lt.rows_where(turning, text).tolist()  # noqa: E731
    for row, step in enumerate(steps):
        assert row in signal(f"delta(heading) == {step}") and row in signal(f"per_second(heading) == {step * 10}")
        assert (row in signal(f"near(heading, {shift}, 25)")) == (abs(short_way(angles[row], shift, 360)) <= 25)
    other = lt.Trace.from_columns({"heading": np.array(angles) + shift}, 10, wraps={"heading": 360})
    apart = abs(short_way(shift, 0.0, 360))
    found = lt.compare(turning, other)
    assert found.identical == (apart == 0) and (apart == 0 or found.channels[0].largest == apart)
    assert lt.compare(turning, other, tolerance=apart).identical
    (same,) = lt.check(turning, [lt.claim("c", f"same(heading, tol={apart})")], against=other)
    assert same.verdict == "kept" and same.margin == 0.0
    thin = turning.thinned(2)
    for row in range(1, len(angles) - 1, 2):
        middle = thin.at("heading", row)
        assert math.isclose(
            middle, angles[row - 1] + short_way(angles[row + 1], angles[row - 1], 360) / 2, abs_tol=1e-9
        )


def test_an_angle_is_said_by_a_value_an_array_a_mapping_and_a_file(tmp_path):
    def build(sim):
        heading = sim.value("wick.heading", 350, wraps=360)
        gait = sim.machine("gait", ("a", "b"), "a")
        gait.transition("a", to="b", when="near(wick.heading, 0, 5)")
        sim.before("machines", lambda now: setattr(heading, "value", (heading.value + 3) % 360))

    trace = run(build, 10)
    assert trace["gait"].tolist().index("b") == 2 and trace.columns["wick.heading"].channel.wraps == 360
    for suffix in (".parquet", ".jsonl"):
        again = lt.load_trace(trace.save(tmp_path / f"a{suffix}"))
        assert again.columns["wick.heading"].channel.wraps == 360 and again.digest == trace.digest
    log, mapping = tmp_path / "log.csv", tmp_path / "log.toml"
    log.write_text("frame,yaw\n0,350\n1,10\n")
    mapping.write_text('frame = "frame"\nrate = 60\n[channels]\n"wick.yaw" = { column = "yaw", wraps = 360 }\n')
    read = lt.load_trace(log, mapping=mapping)
    assert lt.rows_where(read, "delta(wick.yaw) == 20").tolist() == [1]
    assert read.thinned(1).at("wick.yaw", 0.5) == 360


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda: run(lambda sim: sim.value("a", "north", wraps=360)), "wraps, and starts as 'north'"),
        (lambda: run(lambda sim: sim.value("a", 1.0, wraps=0)), "wraps is a whole turn"),
        (lambda: lt.Trace.from_columns({"a": np.zeros(2)}, wraps={"b": 360}), "no channel 'b'"),
        (lambda: lt.Trace.from_columns({"a": np.zeros(2, bool)}, wraps={"a": 360}), "is a flag: an angle is a number"),
        (lambda: lt.Trace.from_columns({"a": np.zeros(2)}, wraps={"a": math.inf}), "such as 360, not inf"),
    ],
)
def test_what_is_no_angle_is_told(make, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        make()


def test_a_story_shows_as_many_digits_as_it_takes_and_no_constants():
    speed = 113.69999999999999
    trace = lt.Trace.from_columns({"speed": np.full(4, speed), "hound.pose.frame": np.arange(4)}, 60)
    told = lambda text: str(lt.check(trace, [lt.claim("c", text)])[0])  # noqa: E731
    assert f"speed = {speed!r}\n" in told("always(speed == 113.7)") and f"  {speed!r}\n" in told(
        "always(speed == 113.7)"
    )
    assert "speed = 113.7\n" in told("always(speed < 100)")
    constants = told("always(speed - 189 < -75 - abs(-3) - 5)")
    assert "-75 = -75" not in constants and "abs(-3) =" not in constants and "speed - 189 = " in constants
    assert "hound.pose.frame = 2\n" in told("always(hound.pose.frame < 2)")
    for measure in (
        "time_to(hound.pose.frame == 2)",
        "first_row(hound.pose.frame == 2)",
        "last_row(hound.pose.frame == 2)",
    ):
        assert "in row 2 (0.033 s)" in told(f"measured({measure}, 7, 9)"), measure
