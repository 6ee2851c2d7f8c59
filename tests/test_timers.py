"""What counts frames, row by row: the tables of the docstrings, plain ways to say the same, and the faults of float sums."""

import re
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.test_sim import QUAY, assert_restores, model, run

import larktally as lt
from larktally.parts.timers.animation import Animation
from larktally.parts.timers.chain import Chain
from larktally.parts.timers.clock import Clock
from larktally.parts.timers.cooldown import Cooldown
from larktally.parts.timers.countdown import Countdown
from larktally.parts.timers.gate import Gate
from larktally.parts.timers.interval import Delay, Interval
from larktally.parts.timers.meter import Meter
from larktally.parts.timers.stat import Stat
from larktally.parts.timers.stock import Stock
from larktally.parts.timers.stopwatch import Stopwatch
from larktally.parts.timers.time_window import TimeWindow
from larktally.summed import STYLES, SummedTimer, durations, frames_of


def played(make, ops, frames, rate=60, **options):
    """A run of one part; `ops[row]` are functions of it that are called after that row's machines."""

    def build(sim):
        part = make(sim)
        sim.after("machines", lambda now: [op(part) for op in ops.get(now.frame, ())])

    return lt.record(model(build, **options), frames=frames, rate=rate)


def table_of(kind):
    """The frame table of a part's docstring: its rows as {column: text}."""
    lines = [line.strip() for line in kind.__doc__.splitlines()]
    rules = [n for n, line in enumerate(lines) if re.fullmatch(r"=+( +=+)+", line)]
    edges = [match.span() for match in re.finditer("=+", lines[rules[0]])]
    cells = lambda line: [line[a : (b if n + 1 < len(edges) else None)].strip() for n, (a, b) in enumerate(edges)]  # noqa: E731
    header = cells(lines[rules[0] + 1])
    return [dict(zip(header, cells(line), strict=True)) for line in lines[rules[1] + 1 : rules[2]]]


def shown(value):
    return str(value).lower() if isinstance(value, bool) else f"{value:g}" if isinstance(value, float) else str(value)


use, start, ask = (lambda p: p.use()), (lambda p: p.start()), (lambda p: p.ask() and p.take())
STRIKES = {"swing": lt.Clip(4, marks={"blow": 2}), "idle": lt.Clip(9, loop=True)}
TABLES = [
    (
        Countdown,
        lambda s: s.countdown("p", 3),
        {10: [start], 11: [lambda p: p.pause()], 13: [lambda p: p.resume()]},
    ),
    (Stopwatch, lambda s: s.stopwatch("p"), {10: [start], 12: [lambda p: p.lap()], 13: [lambda p: p.finish()]}),
    (Cooldown, lambda s: s.cooldown("p", 3), {10: [use], 12: [use]}),
    (Stock, lambda s: s.stock("p", 2, 3), {10: [use], 12: [use], 13: [use]}),
    (Interval, lambda s: s.interval("p", 3), {}),
    (Delay, lambda s: s.delay("p", 3), {10: [start]}),
    (TimeWindow, lambda s: s.time_window("p", 3), {10: [lambda p: p.open()]}),
    (Chain, lambda s: s.chain("p", 3, 3), {10: [use], 12: [use]}),
    (Stat, lambda s: s.stat("p", 120), {10: [lambda p: p.modify("damp", scale=0.5, frames=3)]}),
    (Gate, lambda s: s.gate("p", 3), {row: [ask] for row in range(10, 15)}),
    (Animation, lambda s: s.animation("p", STRIKES, "idle"), {10: [lambda p: p.play("swing")]}),
    (Clock, lambda s: s.clock("p", "1/2"), {4: [lambda p: p.run(1)], 5: [lambda p: p.hold(2)]}),
    (Meter, lambda s: s.meter("p", 3, rate=-1, marks=[2]), {3: [lambda p: p.take(1)]}),
]


@pytest.mark.parametrize(("kind", "make", "ops"), TABLES, ids=lambda value: getattr(value, "__name__", ""))
def test_the_frame_table_of_a_part_s_docstring_is_what_happens(kind, make, ops):
    trace = played(make, ops, 20, rate=2 if kind is Meter else 60)
    for line in table_of(kind):
        row = int(line.pop("row"))
        said = line.pop("event", line.pop("said", None))
        line.pop("what use returned", None)
        for column, text in line.items():
            if text:
                name = f"p.{column}" if f"p.{column}" in trace.columns else "p"
                assert shown(trace.column(name).at(row)) == text, (row, column)
        if said is not None and "," not in said and "its time" not in said and "nobody" not in said:
            names = [event.name for event in trace.events.between(row, row)]
            assert names == [word for word in said.split() if "=" not in word], row
        elif said is not None and "," in said and kind is not Gate:
            assert [e.name for e in trace.events.between(row, row)] == said.split(", "), row


operations = st.dictionaries(
    st.integers(1, 40),
    st.lists(st.sampled_from(["start", "pause", "resume", "stop", "change"]), max_size=2),
    max_size=12,
)
shares = st.sampled_from(["1", "1/2", "2/3", "1/4", "0"])


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(operations, st.integers(1, 7), st.dictionaries(st.integers(1, 40), shares, max_size=3))
def test_a_countdown_is_over_n_ticks_of_its_clock_after_its_start_less_its_pauses(ops, length, rates):
    def build(sim):
        clock = sim.clock("c")
        count = sim.countdown("p", length, clock="c")

        def act(now):
            if now.frame in rates:
                clock.run(rates[now.frame])
            for op in ops.get(now.frame, ()):
                count.change(length + 2) if op == "change" else getattr(count, op)()

        sim.after("machines", act)

    trace = run(build, 45)
    ticks, part, share = [0], Fraction(0), Fraction(1)
    for row in range(1, 46):
        part += share
        ticks.append(ticks[-1] + (part >= 1))
        part -= part >= 1
        if row in rates and Fraction(rates[row]) != share:
            part, share = Fraction(0), Fraction(rates[row])
    ends, left, longer, over = None, 0, length, []  # ends: the tick at which it is over, None where it does not run
    for row in range(46):
        if ends is not None:
            left = ends - ticks[row]
            if left == 0:
                ends, over = None, [*over, row]
        for op in ops.get(row, ()):
            if op == "start":
                left, ends = longer, ticks[row] + longer
            elif op == "pause":
                ends = None
            elif op == "resume" and left and ends is None:
                ends = ticks[row] + left
            elif op == "stop":
                left, ends = 0, None
            elif op == "change":
                longer = length + 2
        assert (trace["p.left"][row], trace["p.running"][row]) == (left, ends is not None), row
    assert [e.row for e in trace.events.named("over")] == over


uses = st.lists(st.integers(1, 50), max_size=14)


@settings(max_examples=120, deadline=None)
@given(uses, st.integers(1, 8), st.integers(1, 3), st.sampled_from(["one", "all"]))
def test_charges_come_back_n_frames_after_they_began_to(rows, length, charges, refill):
    trace = played(
        lambda sim: sim.cooldown("p", length, charges=charges, refill=refill),
        {row: [use] * rows.count(row) for row in rows},
        60,
    )
    there, due, used, refused = charges, None, [], []
    for row in range(61):
        if due == row:
            there = charges if refill == "all" else there + 1
            due = row + length if there < charges else None
        for _ in range(rows.count(row)):
            if there:
                there, due = there - 1, due or row + length
                used.append(row)
            else:
                refused.append(row)
        assert trace["p.ready"][row] == (there > 0) and trace["p.left"][row] == (due - row if due else 0)
    assert [e.row for e in trace.events.named("used")] == used and [
        e.row for e in trace.events.named("refused")
    ] == refused


@settings(max_examples=120, deadline=None)
@given(uses, st.integers(1, 3), st.integers(1, 9), st.booleans(), st.booleans())
def test_a_stock_counts_down_its_uses_and_is_full_n_frames_after_its_refill_began(
    rows, most, length, by_itself, during
):
    refills = {row for row in rows if row % 3 == 0}
    ops = {row: [use] * rows.count(row) + [lambda p: p.refill()] * (row in refills) for row in rows}
    make = lambda sim: sim.stock("p", most, length, by_itself=by_itself, while_refilling=during)  # noqa: E731
    trace = played(make, ops, 60)
    left, full_at = most, None
    for row in range(61):
        if row == full_at:
            left, full_at = most, None
        for _ in range(rows.count(row)):
            if left and (during or full_at is None):
                left -= 1
                full_at = row + length if not left and by_itself and full_at is None else full_at
        if row in refills and full_at is None and left < most:
            full_at = row + length
        assert trace["p"][row] == left and trace["p.refilling"][row] == (full_at is not None)


@settings(max_examples=120, deadline=None)
@given(
    uses, st.integers(2, 4), st.integers(1, 9), st.lists(st.tuples(st.integers(1, 50), st.integers(1, 12)), max_size=3)
)
def test_a_chain_goes_on_only_within_its_frames_and_its_time_stands_in_the_air(rows, steps, within, flights):
    air = {row for first, count in flights for row in range(first, first + count)}

    def build(sim):
        ground, hops = sim.value("ground", True), sim.chain("p", steps, within, runs_while="ground")

        def act(now):
            ground.value = now.frame not in air
            for _ in range(rows.count(now.frame)):
                hops.use()

        sim.after("machines", act)

    trace = run(build, 60)
    following, passed = 0, None
    for row in range(61):
        if passed is not None and (row - 1) not in air:
            passed += 1
            if passed == within:
                following, passed = 0, None
        for _ in range(rows.count(row)):
            following, passed = (following + 1) % steps, 0
        assert trace["p"][row] == following and trace["p.left"][row] == (0 if passed is None else within - passed)


amounts = st.sampled_from(["1", "1/3", "0.25", "2"])


@pytest.mark.slow
@settings(max_examples=120, deadline=None)
@given(
    st.dictionaries(
        st.integers(1, 30), st.tuples(st.sampled_from(["take", "give", "run", "run-"]), amounts), max_size=8
    ),
    st.integers(0, 5),
    st.booleans(),
)
def test_a_meter_is_the_exact_sum_of_its_rates_kept_in_its_bounds(ops, wait, stuck):
    make = lambda sim: sim.meter("p", 4, start=2, recovers="1/2", recovers_after=wait, stuck_empty=stuck, rate="-1/7")  # noqa: E731
    calls = {
        row: [lambda p, op=op, by=by: p.run("-" + by) if op == "run-" else getattr(p, op)(by)]
        for row, (op, by) in ops.items()
    }
    trace = played(make, calls, 40, rate="60000/1001")
    amount, rate, taken, frame = Fraction(2), Fraction(-1, 7), None, Fraction(1001, 60000)
    for row in range(41):
        if row and not (stuck and amount == 0):
            rising = Fraction(1, 2) if taken is None or row - taken > wait else 0
            amount = min(max(amount + (rate + rising) * frame, Fraction(0)), Fraction(4))
        elif taken is not None:
            taken += 1  # a meter that is stuck does not wait either
        op, by = ops.get(row, ("", "0"))
        by = Fraction(by)
        if op == "take":
            amount, taken = max(amount - by, Fraction(0)), row
        elif op == "give":
            amount = min(amount + by, Fraction(4))
        elif op:
            rate = -by if op == "run-" else by
        assert trace["p"][row] == float(amount) and trace["p.empty"][row] == (amount == 0), row


def test_sixty_frames_at_1_a_second_take_exactly_1_and_marks_are_passed_both_ways():
    make = lambda sim: sim.meter("warmth", 3, rate=-1, marks=["1/2", 2])  # noqa: E731
    trace = played(make, {150: [lambda p: p.give(3)]}, 200)
    assert trace["warmth"][[60, 120]].tolist() == [2.0, 1.0] and [e.row for e in trace.events.named("emptied")] == []
    assert [(e.row, e.data["mark"], e.data["way"]) for e in trace.events.named("passed")] == [
        (60, 2, "down"), (150, 0.5, "down"), (150, 2, "up"),
    ]  # fmt: skip


@settings(max_examples=100, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.integers(1, 30),
            st.sampled_from([("wet", "scale", 0.7), ("wet", "scale", 0.3), ("oil", "add", 7.3), ("rope", "set", 11.0)]),
            st.integers(1, 9),
            st.sampled_from(["refresh", "extend", "independent", "strongest"]),
        ),
        max_size=7,
    )
)
def test_a_stat_is_computed_from_its_base_and_returns_to_the_same_bits(given_):
    ops = {}
    for row, (name, kind, amount), frames, stacking in given_:
        ops.setdefault(row, []).append(
            lambda p, n=name, k=kind, a=amount, f=frames, s=stacking: p.modify(n, **{k: a}, frames=f, stacking=s)
        )
    trace = played(lambda sim: sim.stat("p", 120.1), ops, 120)
    held = []  # [name, kind, amount, the row from which it does not count]
    for row in range(121):
        held = [one for one in held if one[3] > row]
        for at, (name, kind, amount), frames, stacking in given_:
            if at != row:
                continue
            old = next((one for one in held if one[0] == name), None)
            if old is None or stacking == "independent":
                held.append([name, kind, amount, row + frames])
            elif stacking == "refresh":
                old[2:] = amount, row + frames
            elif stacking == "extend":
                old[2:] = amount, old[3] + frames
            elif kind != "scale" or abs(120.1 * amount - 120.1) >= abs(120.1 * old[2] - 120.1):
                old[2:] = amount, row + frames
        value = ([120.1] + [one[2] for one in held if one[1] == "set"])[-1]
        for kind, fold in (("add", float.__add__), ("scale", float.__mul__)):
            for one in held:
                value = fold(value, one[2]) if one[1] == kind else value
        assert trace["p"][row] == value and trace["p.modifiers"][row] == len(held)
    assert trace["p"][-1] == 120.1


@pytest.mark.slow
@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from([0.1, 0.35, 0.7, 1.0, 2.4]),
    st.sampled_from(["30", "60", "144", "60000/1001"]),
    st.sampled_from([32, 64]),
    st.sampled_from(["down", "up"]),
    st.booleans(),
    st.sampled_from(["reset", "subtract"]),
    st.sampled_from(["after", "before"]),
)
def test_a_summed_interval_fires_where_the_literal_float_loop_does_bit_for_bit(
    seconds, rate, width, way, at_end, then, check
):
    style = SummedTimer(width, way, at_end, then, check)
    trace = played(lambda sim: sim.interval("p", f"{seconds}s", style=style), {}, 400, rate=rate)
    kind = {32: np.float32, 64: np.float64}[width]
    step, length = kind(float(1 / lt.Rate(rate))), kind(seconds)
    timer = length if way == "down" else kind(0)
    fired = []
    for row in range(1, 401):

        def over(timer):
            if way == "down":
                return timer <= 0 if at_end else timer < 0
            return timer >= length if at_end else timer > length

        first = check == "before" and over(timer)
        if not first:
            timer = timer - step if way == "down" else timer + step
        if first or (check == "after" and over(timer)):
            fired.append(row)
            if then == "reset":
                timer = length if way == "down" else kind(0)
            else:
                timer = timer + length if way == "down" else timer - length
        assert trace["p.sum"][row] == float(timer), row
    assert np.flatnonzero(trace["p.due"]).tolist() == fired
    left = trace["p.left"]
    assert all(left[row] == left[row - 1] - 1 for row in range(1, 401) if row not in fired)


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(["0.1s", "0.35s", "0.9s", "1.5s"]),
    st.sampled_from(["30", "60", "144", "60000/1001"]),
    st.sampled_from([32, 64]),
    st.booleans(),
    st.sampled_from(["reset", "subtract"]),
    st.sampled_from([0, 1, 100]),
)
def test_a_time_on_a_running_clock_is_the_literal_loop(time, rate, width, at_end, then, begin):
    style = SummedTimer(width, "clock", at_end, then)

    def build(sim):
        sim.interval("p", time, style=style)
        again = sim.delay("q", time, style=style)
        sim.after("machines", lambda now: now.frame == begin and again.start())

    trace = lt.record(model(build), frames=500, rate=rate)
    kind = {32: np.float32, 64: np.float64}[width]
    step, length = kind(float(1 / lt.Rate(rate))), kind(float(time[:-1]))
    clock, fired, due = kind(0), [], []
    following, once = clock + length, None
    for row in range(1, 501):
        clock = clock + step
        if clock >= following if at_end else clock > following:
            fired.append(row)
            following = (following if then == "subtract" else clock) + length
        if once is not None and (clock >= once if at_end else clock > once):
            due.append(row)
            once = None
        if row == begin:
            once = clock + length
        assert trace["p.sum"][row] == float(clock), row
    assert np.flatnonzero(trace["p.due"]).tolist() == fired
    assert np.flatnonzero(trace["q.due"]).tolist() == due
    left = trace["p.left"]
    assert all(left[row] == left[row - 1] - 1 for row in range(1, 501) if row not in fired)


def test_nine_tenths_of_a_second_on_a_clock_are_54_or_55_frames_by_how_long_it_has_been_going():
    (row,) = lt.durations(["0.9s"], ["60"])
    spread = row.clocks["float64 now > next"]
    assert set(spread) == {54, 55} and sum(spread.values()) == 36_000
    # The same by hand, over the first minute.
    clock, sums = 0.0, []
    for _ in range(3700):
        sums.append(clock)
        clock += 1 / 60
    ends = []
    for start in range(3600):
        ends.append(next(n for n in range(50, 60) if sums[start + n] > sums[start] + 0.9))
    assert set(ends) == {54, 55}
    assert ends == [clock_ends(start) for start in range(3600)]


def clock_ends(start):
    from larktally.summed import clock_at, frames_on_clock

    style = SummedTimer(64, "clock", False)
    return frames_on_clock(start, style.target(clock_at(start, lt.Rate(60), 64), Fraction("0.9")), lt.Rate(60), style)


@pytest.mark.parametrize(
    ("options", "said"),
    [({"direction": "clock", "check": "before"}, "a clock goes on by itself"), ({"check": "never"}, "checked 'after' or 'before'"),
     ({"direction": "round"}, "'down', 'up' or on a 'clock'")],
)  # fmt: skip
def test_what_no_summed_time_can_be_is_told(options, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        SummedTimer(**options)


def test_a_tenth_of_a_second_is_six_frames_or_seven_where_a_float_was_summed():
    assert [row.exact_frames for row in durations(["0.1s"], ["60", "50", "144"])] == [6, 5, None]
    row = durations("0.1s", ["60"])[0]
    assert row.exact == 6 and {name for name, late in row.apart.items() if late == 1} == {*row.styles} - {
        "float32 up >= t"
    }
    for style in STYLES:
        kind, step = style.kind, style.kind(1 / 60)
        total, count = kind(0.1) if style.direction == "down" else kind(0), 0
        while True:
            total, count = total - step if style.direction == "down" else total + step, count + 1
            if style.over(total, Fraction(1, 10)):
                break
        assert row.styles[str(style)] == count == frames_of(Fraction(1, 10), lt.Rate(60), style)[0]


def test_a_cooldown_that_never_left_zero_fires_every_frame_by_hand_and_not_here():
    by_hand = 0
    left = 0
    for _ in range(30):
        if left <= 0:  # the usual mistake: it is left at zero, and nothing sets it again
            by_hand += 1
    trace = played(lambda sim: sim.cooldown("p", 10), {row: [use] for row in range(1, 31)}, 30)
    assert by_hand == 30 and len(trace.events.named("used")) == 3 and len(trace.events.named("refused")) == 27


def test_a_hurt_counts_once_in_its_grace_and_grace_ends_where_the_touch_does():
    touched = [*range(30, 60), *range(80, 82)]
    ops = {row: [lambda p: p.hurt()] for row in touched}
    trace = played(lambda sim: sim.grace("p", 10), ops, 100)
    assert [e.row for e in trace.events.named("hurt")] == [30, 80]
    assert [e.row for e in trace.events.named("ready")] == [61, 90] and not trace["p.active"][-1]
    again = played(lambda sim: sim.grace("p", 10, once=False), ops, 100)
    assert [e.row for e in again.events.named("hurt")] == [30, 40, 50, 80]


def test_a_group_shares_one_rest_a_rest_counts_from_the_end_and_a_length_changes_in_the_middle():
    def build(sim):
        common = sim.cooldown("common", 5)
        a, b = sim.cooldown("a", 2, shared=common), sim.cooldown("b", 9, shared=common)
        swing = sim.cooldown("swing", 4, since="end")
        calls = {
            3: a.use, 4: b.use, 8: b.use, 12: lambda: b.change(6, now=True), 10: swing.use, 15: swing.done, 16: swing.use,
            20: lambda: (swing.use(), swing.reset()),
        }  # fmt: skip
        sim.after("machines", lambda now: calls.get(now.frame, bool)())

    trace = run(build, 30)
    said = [(e.row, e.name, e.source) for e in trace.events]
    assert (4, "refused", "b") in said and (8, "used", "b") in said and (8, "used", "common") in said
    assert trace["b.left"].tolist()[8:16] == [9, 8, 7, 6, 2, 1, 0, 0]
    assert trace["swing.ready"].tolist()[9:21] == [True, *[False] * 9, True, True]
    assert (16, "refused", "swing") in said and (19, "ready", "swing") in said and (20, "reset", "swing") in said


def test_an_interval_waits_or_begins_anew_where_its_condition_does_not_hold():
    for otherwise, due in (("wait", [3, 10, 13]), ("reset", [3, 11, 14])):

        def build(sim, otherwise=otherwise):
            on = sim.value("on", True)
            sim.interval("drip", 3, runs_while="on", otherwise=otherwise)
            sim.after("machines", lambda now: setattr(on, "value", not 4 <= now.frame <= 7))

        trace = run(build, 14)
        assert np.flatnonzero(trace["drip.due"]).tolist() == due


def test_a_countdown_ticks_its_seconds_says_when_the_last_begin_and_rounds_for_the_screen():
    make = lambda show: lambda sim: sim.countdown("bell", "3s", each="second", last="1s", show=show, running=True)  # noqa: E731
    trace = played(make("up"), {}, 40, rate=10)
    assert [(e.row, e.name, e.data.get("seconds")) for e in trace.events] == [
        (0, "started", None), (10, "tick", 2), (20, "tick", 1), (20, "last", None), (30, "tick", 0), (30, "over", None),
    ]  # fmt: skip
    assert trace["bell.seconds"].tolist()[:2] + trace["bell.seconds"].tolist()[29:31] == [3, 3, 1, 0]
    assert played(make("down"), {}, 5, rate=10)["bell.seconds"].tolist() == [3, 2, 2, 2, 2, 2]
    assert played(make("nearest"), {}, 6, rate=10)["bell.seconds"].tolist() == [3, 3, 3, 3, 3, 3, 2]
    added = played(lambda sim: sim.countdown("bell", 5, running=True), {2: [lambda p: p.add(4)]}, 12)
    assert added["bell.left"].tolist()[:4] == [5, 4, 7, 6] and [e.row for e in added.events.named("over")] == [9]


def test_a_clip_at_its_own_rate_shows_each_frame_in_its_row_and_says_the_marks_passed_over():
    clips = {"slow": lt.Clip(3, loop=True, rate=24), "fast": lt.Clip(6, rate=144, marks={"a": 1, "b": 2, "c": 5})}
    trace = played(lambda sim: sim.animation("pose", clips, "slow"), {10: [lambda p: p.play("fast")]}, 16)
    assert trace["pose.frame"].tolist()[:10] == [int(row * Fraction(24, 60)) % 3 for row in range(10)]
    assert trace["pose.frame"].tolist()[10:14] == [0, 2, 4, 5]
    assert [(e.row, e.data.get("mark", e.name)) for e in trace.events] == [
        (11, "a"),
        (11, "b"),
        (13, "c"),
        (13, "finished"),
    ]
    kept = {"walk": lt.Clip(12, loop=True), "run": lt.Clip(8, loop=True)}
    trace = played(lambda sim: sim.animation("pose", kept, "walk"), {6: [lambda p: p.play("run", keep_phase=True)]}, 10)
    assert trace["pose.frame"].tolist()[5:9] == [5, 4, 5, 6]


def test_a_body_follows_a_clip_s_moves_in_place_of_its_velocity_and_a_wall_stops_it():
    level = lt.Level([lt.geometry.box_at((0, 0), (200, 16)), lt.geometry.box_at((60, 16), (16, 64))])

    def build(sim):
        wick = sim.body("wick", size=(12, 20), at=(20, 16), velocity=(60, 0))
        facing = sim.value("facing", 1)
        game = sim.machine("game", ("walk", "lunge"), "walk")
        game.transition("walk", to="lunge", when="frame == 3")
        game.transition("lunge", to="walk", after=4)
        clips = {"walk": lt.Clip(9, loop=True), "lunge": lt.Clip(4, moves=[(1, 0), (9, 0), (30, 2), (5, -2)])}
        pose = sim.animation("pose", clips, "walk")
        pose.chosen_by(game, {"walk": "walk", "lunge": "lunge"})
        pose.leads(wick, facing)

    trace = run(build, 10, level=level)
    assert trace["wick.x"].tolist()[:8] == [20, 21, 22, 23, 32, 48, 48, 48]
    assert trace["wick.y"].tolist()[2:8] == [16, 16, 16, 18, 16, 16]
    assert trace["wick.vx"].tolist()[6] == 60.0 and trace["pose"].tolist()[2:8] == ["walk", *["lunge"] * 4, "walk"]


def test_a_hit_stop_holds_one_clock_for_frames_of_another():
    def build(sim):
        menu = sim.clock("menu", "1/2")
        play = sim.clock("play")
        sim.countdown("bell", 20, running=True)
        sim.after("machines", lambda now: now.frame == 4 and play.hold(3, of=menu))

    trace = run(build, 16)
    assert trace["play.ticking"].tolist()[:13] == [True] * 5 + [False] * 7 + [True]
    assert trace["bell.left"].tolist()[4] == trace["bell.left"].tolist()[11] == 16
    with pytest.raises(lt.ModelError, match="has to be made before it"):
        run(lambda sim: sim.clock("a").hold(3, of=sim.clock("b")))


def everything(setup):
    sim = lt.Sim(setup, level=QUAY, actions=("a", "b", "c", "d"))
    play, _ = sim.clock("play"), sim.clock("menu")
    summed = SummedTimer(32, "up", True, "subtract")
    parts = {
        "a": [sim.cooldown("rest", 9, charges=2), sim.stock("oil", 3, 11), sim.chain("hops", 3, 7, style="summed")],
        "b": [
            sim.countdown("bell", "0.25s up", each="frame"),
            sim.delay("fuse", 6),
            sim.stopwatch("lap", style=summed),
        ],
    }
    opening, stat, grace = sim.time_window("way", 6), sim.stat("speed", 10), sim.grace("grace", 8)
    warmth = sim.meter("warmth", 3, rate="-1/3", recovers=1, recovers_after=5, marks=[1])
    sim.interval("drip", "0.07s", style=summed)
    pose = sim.animation("pose", STRIKES, "idle")

    def act(now):
        if now.pressed("a"):
            [part.use() for part in parts["a"]]
        if now.pressed("b"):
            [part.start() for part in parts["b"]]
            pose.play("swing", again=True)
        if now.pressed("c"):
            opening.open()
            stat.modify("wet", scale=0.3, frames=9, stacking="extend")
            warmth.take("1/7")
            grace.hurt()
            parts["b"][0].pause()
        if now.pressed("d"):
            play.run("1/3") if play.rate == 1 else play.run(1)
            play.hold(4)
            parts["b"][0].resume()

    sim.after("machines", act)
    return sim


def test_everything_that_counts_is_restored_in_the_middle():
    script = lt.InputScript.at_random({"a": 0.1, "b": 0.06, "c": 0.08, "d": 0.05}, 150, seed=4, hold=3)
    assert_restores(everything, script, 150, (7, 40, 77, 120))


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda sim: sim.countdown("p", 0), "has to be at least 1"),
        (lambda sim: sim.countdown("p", 3, each="minute"), "each is 'frame' or 'second'"),
        (lambda sim: sim.countdown("p", 3, style="float"), "style is 'exact', 'summed' or lt.SummedTimer"),
        (lambda sim: sim.cooldown("p", 3, charges=0), "charges, at least 1"),
        (lambda sim: sim.cooldown("p", 3).done(), "done\\(\\) is for since='end'"),
        (lambda sim: sim.stock("p", 0, 3), "uses, at least 1"),
        (lambda sim: sim.chain("p", 1, 3), "steps, at least 2"),
        (lambda sim: sim.chain("p", 3, 3).pick(1, 2), "3 steps, and pick was given 2"),
        (lambda sim: sim.interval("p", 3, runs_while="wick.y"), "no channel"),
        (lambda sim: sim.meter("p", 3, rate=0.1), "write it as text, '0.1'"),
        (lambda sim: sim.meter("p", 3, start=4), "starts in \\[0, 3\\]"),
        (lambda sim: sim.stat("p", 3).modify("m", add=1, scale=2), "takes one of add="),
        (lambda sim: sim.stat("p", 3).modify("m", add=1, stacking="most"), "stacking is one of"),
        (lambda sim: lt.Clip(4, moves=[(1, 0)]), "a move for each of them"),
        (lambda sim: lt.Clip(1, moves=[(1, 0)], rate=24), "runs at the sim's rate"),
    ],
)
def test_what_cannot_count_is_told_so(make, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(make, 3)


class Ticks:
    """A clock told from its changes of rate: how often it has ticked up to and with each row."""

    def __init__(self, rates, rows):
        self.count, part, share = [0], Fraction(0), Fraction(1)
        for row in range(1, rows + 1):
            part += share
            self.count.append(self.count[-1] + (part >= 1))
            part -= part >= 1
            if row in rates and Fraction(rates[row]) != share:
                part, share = Fraction(0), Fraction(rates[row])

    def ticks(self, row):
        return row > 0 and self.count[row] > self.count[row - 1]


clock_changes = st.dictionaries(st.integers(1, 40), shares, max_size=3)
calls = st.dictionaries(st.integers(1, 40), st.sampled_from(["start", "end", "pause", "resume"]), max_size=9)


def on_a_clock(make, ops, rates, frames=45):
    """A run of one part on a clock whose rate changes; `ops[row]` is called after that row's machines."""

    def build(sim):
        clock = sim.clock("c")
        part = make(sim)

        def act(now):
            if now.frame in rates:
                clock.run(rates[now.frame])
            if now.frame in ops:
                ops[now.frame](part)

        sim.after("machines", act)

    return run(build, frames)


ONCE = {
    "delay": (lambda n: lambda s: s.delay("p", n, clock="c"), {"start": "start", "end": "call_off"}, "due"),
    "opening": (lambda n: lambda s: s.time_window("p", n, clock="c"), {"start": "open", "end": "take"}, "closed"),
}


@pytest.mark.slow
@settings(max_examples=100, deadline=None)
@given(st.sampled_from(list(ONCE)), calls, st.integers(1, 9), clock_changes)
def test_a_delay_and_an_opening_end_n_ticks_after_they_began_unless_ended_before(kind, ops, length, rates):
    make, words, said = ONCE[kind]
    trace = on_a_clock(
        make(length), {row: lambda p, w=w: getattr(p, words.get(w, w))() for row, w in ops.items()}, rates
    )
    ticks = Ticks(rates, 45).count
    began, stood, left, ends = (
        None,
        None,
        0,
        [],
    )  # began: the tick of its start; stood: what was left when it was paused
    for row in range(46):
        if began is not None and stood is None:
            left = max(length - (ticks[row] - began), 0)
            if left == 0:
                ends, began = [*ends, row], None
        op = ops.get(row)
        if op == "start":
            began, stood, left = ticks[row], None, length
        elif op == "end":
            began, stood, left = None, None, 0
        elif op == "pause" and began is not None and stood is None:
            stood = left
        elif op == "resume" and stood is not None:
            began, stood = ticks[row] - (length - stood), None
        assert trace["p.left"][row] == left, row
    assert [e.row for e in trace.events.named(said)] == ends


@pytest.mark.slow
@settings(max_examples=100, deadline=None)
@given(calls, clock_changes)
def test_a_stopwatch_counts_the_ticks_in_which_it_ran(ops, rates):
    words = {"start": "start", "end": "finish"}
    trace = on_a_clock(
        lambda s: s.stopwatch("p", clock="c"),
        {row: lambda p, w=w: getattr(p, words.get(w, w))() for row, w in ops.items()},
        rates,
    )
    ticks, count, running = Ticks(rates, 45), 0, False
    for row in range(46):
        count += running and ticks.ticks(row)
        op = ops.get(row)
        if op == "start":
            count, running = 0, True
        elif op in ("end", "pause"):
            running = False
        elif op == "resume":
            running = True
        assert (trace["p.count"][row], trace["p.running"][row]) == (count, running), row
        assert trace["p.seconds"][row] == count // 60


@pytest.mark.slow
@settings(max_examples=100, deadline=None)
@given(st.integers(1, 6), st.sets(st.integers(1, 40), max_size=25), st.sampled_from(["wait", "reset"]), clock_changes)
def test_an_interval_counts_the_ticks_in_which_its_condition_holds(length, off, otherwise, rates):
    def build(sim):
        clock, on = sim.clock("c"), sim.value("on", True)
        sim.interval("p", length, runs_while="on", otherwise=otherwise, clock="c")

        def act(now):
            on.value = now.frame not in off
            if now.frame in rates:
                clock.run(rates[now.frame])

        sim.after("machines", act)

    trace, ticks, counted, due = run(build, 45), Ticks(rates, 45), 0, []
    for row in range(1, 46):
        if ticks.ticks(row):
            counted = counted + 1 if row - 1 not in off else counted if otherwise == "wait" else 0
            if counted == length:
                due, counted = [*due, row], 0
        assert trace["p.left"][row] == length - counted, row
    assert [e.row for e in trace.events.named("due")] == due


@settings(max_examples=100, deadline=None)
@given(st.sets(st.integers(1, 45), max_size=30), st.integers(1, 9), st.booleans())
def test_a_gate_lets_a_touch_count_once_and_opens_when_its_lock_and_the_touch_are_over(touched, length, once):
    trace = played(lambda sim: sim.gate("p", length, once=once), {row: [ask] for row in touched}, 60)
    locked_at, taken = None, []
    for row in range(61):
        if locked_at is not None and row >= locked_at + length and (not once or row - 1 not in touched):
            locked_at = None
        if locked_at is None and row in touched:
            locked_at, taken = row, [*taken, row]
        assert trace["p"][row] == ("ready" if locked_at is None else "locked"), row
        assert trace["p.left"][row] == (0 if locked_at is None else max(locked_at + length - row, 0))
    assert [e.row for e in trace.events.named("taken")] == taken


@settings(max_examples=80, deadline=None)
@given(
    st.integers(1, 9),
    st.booleans(),
    st.sampled_from([24, 30, 60, 90, 144]),
    st.dictionaries(st.integers(0, 8), st.just("m"), max_size=3),
    clock_changes,
)
def test_a_clip_shows_its_frames_by_its_own_rate_and_says_each_mark_in_its_row(frames, loop, rate, marks, rates):
    marks = {f"m{at}": at for at in marks if at < frames}
    clips = {"idle": lt.Clip(1, loop=True), "play": lt.Clip(frames, loop=loop, marks=marks, rate=rate)}
    make = lambda sim: sim.animation("p", clips, "idle", clock="c")  # noqa: E731
    trace, ticks = on_a_clock(make, {3: lambda p: p.play("play")}, rates), Ticks(rates, 45).count
    said, ended = [], None
    for row in range(3, 46):
        shown = [int((ticks[r] - ticks[3]) * Fraction(rate, 60)) for r in (row - 1, row)] if row > 3 else [-1, 0]
        if ended is None:
            passed = range(shown[0] + 1, shown[1] + 1)
            for frame in passed if loop else [f for f in passed if f < frames]:
                said += [(row, name) for name, at in marks.items() if at == frame % frames]
            ended = row if not loop and shown[1] >= frames else None
        expected = shown[1] % frames if loop else min(shown[1], frames - 1)
        assert trace["p.frame"][row] == expected, row
    assert [(e.row, e.data["mark"]) for e in trace.events.named("mark")] == said
    assert [e.row for e in trace.events.named("finished")] == ([ended] if ended else [])


STOPPABLE = {
    "cooldown": (lambda s: s.cooldown("p", 4), lambda p: p.use(), "used"),
    "charges": (lambda s: s.cooldown("p", 4, charges=2, refill="all"), lambda p: p.use(), "used"),
    "in use": (lambda s: s.cooldown("p", 4, since="end"), lambda p: p.use() and p.done(), "used"),
    "stock": (lambda s: s.stock("p", 1, 4), lambda p: p.use(), "used"),
    "by hand": (lambda s: s.stock("p", 1, 4, by_itself=False), lambda p: p.use() or p.refill(), "used"),
    "countdown": (lambda s: s.countdown("p", 4), start, "started"),
    "stopwatch": (lambda s: s.stopwatch("p"), start, "started"),
    "interval": (lambda s: s.interval("p", 4), start, "due"),
    "delay": (lambda s: s.delay("p", 4), start, "started"),
    "time window": (lambda s: s.time_window("p", 4), lambda p: p.open(), "opened"),
    "chain": (lambda s: s.chain("p", within=4, steps=3), lambda p: p.use(), "used"),
    "gate": (lambda s: s.gate("p", 4), ask, "taken"),
    "grace": (lambda s: s.grace("p", 4), lambda p: p.hurt(), "hurt"),
}  # fmt: skip


@pytest.mark.parametrize("kind", STOPPABLE)
def test_what_was_stopped_says_a_declared_event_and_works_again(kind):
    make, begin, said = STOPPABLE[kind]
    again = {3: [begin], 5: [lambda p: p.stop()], **{row: [begin] for row in range(8, 22, 3)}}
    events = played(make, again, 30).events.named(said)
    assert [e.row for e in events if e.row > 5], kind


def test_a_stopped_rest_is_over_and_a_stopped_refill_begins_anew_with_the_next_use():
    rest = played(lambda s: s.cooldown("p", 9), {2: [use], 4: [lambda p: p.stop()], 5: [use]}, 20)
    assert [(e.row, e.name) for e in rest.events] == [(2, "used"), (4, "stopped"), (5, "used"), (14, "ready")]
    assert rest["p.ready"].tolist()[1:6] == [True, False, False, True, False]
    oil = played(lambda s: s.stock("p", 1, 5), {2: [use], 4: [lambda p: p.stop()], 6: [use], 12: [use]}, 14)
    assert [(e.row, e.name) for e in oil.events][:6] == [
        (2, "used"), (2, "empty"), (2, "refilling"), (4, "stopped"), (6, "refused"), (6, "refilling"),
    ]  # fmt: skip
    assert [e.row for e in oil.events.named("full")] == [11] and [e.row for e in oil.events.named("used")] == [2, 12]


def test_time_added_in_the_row_of_the_end_is_refused_and_a_last_stretch_longer_than_the_time_is_said_at_its_start():
    more = {row: [lambda p: p.add(4)] for row in (4, 5, 6)}
    trace = played(lambda s: s.countdown("p", 5, last=9, running=True), {5: more[5], 7: more[6]}, 12)
    assert [(e.row, e.name, e.data) for e in trace.events] == [
        (0, "started", {"left": 5}), (0, "last", {"left": 5}), (5, "over", {}), (5, "refused", {"frames": 4}),
        (7, "refused", {"frames": 4}),
    ]  # fmt: skip
    assert trace["p.left"].tolist() == [5, 4, 3, 2, 1, *[0] * 8]
    kept = played(lambda s: s.countdown("p", 5, last=5, running=True), {4: more[4], 5: more[5]}, 12)
    assert [(e.row, e.name) for e in kept.events] == [
        (0, "started"), (0, "last"), (4, "added"), (5, "added"), (8, "last"),
    ]  # fmt: skip


@settings(max_examples=200, deadline=None)
@given(
    st.integers(1, 80),
    st.sampled_from(["30", "60", "60000/1001", "24000/1001", "50", "144"]),
    st.sampled_from(["up", "down", "nearest"]),
    st.sampled_from(["up", "down", "nearest"]),
)
def test_a_screen_shows_the_seconds_left_of_the_time_as_it_was_written(tenths, rate, rounding, show):
    seconds, exact = Fraction(tenths, 10), Fraction(rate)
    trace = played(
        lambda s: s.countdown("p", f"{float(seconds)}s {rounding}", show=show, running=True), {}, 9, rate=rate
    )
    frames = int(trace["p.left"][0])
    rounds = {"up": lambda x: -(-x // 1), "down": lambda x: x // 1, "nearest": lambda x: (x + Fraction(1, 2)) // 1}
    for row, value in enumerate(trace["p.seconds"].tolist()):
        left = max(seconds - row / exact, Fraction(0))
        wanted = max(rounds[show](left), 1) if show == "up" else rounds[show](left)
        assert value == (wanted if row < frames else 0), row
