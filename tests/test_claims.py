"""The claim language against a slow oracle, and what its messages say."""

import json
import math
import pickle
import xml.etree.ElementTree as ET
from types import SimpleNamespace

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.oracle import Oracle, verdict
from tests.test_sim import run

import larktally as lt
from larktally.cli import main
from larktally.language.functions import FUNCTIONS
from larktally.language.names import names_of
from larktally.language.reading import Scope, compile_guard, evaluator, typecheck
from larktally.language.rows import Binding
from larktally.language.tree import Call, ChannelRef, Compare, Flag, Membership, Number, Operation, Text
from larktally.runs import rows, runner, stop_conditions
from larktally.traces.columns import Channel, Column
from larktally.traces.events import EventLog, data_among
from larktally.traces.header import Header

STATES = ("a", "a/x", "b")
DATA = (
    {},
    {"amount": 1},
    {"amount": 1.0, "on": "bank"},
    {"amount": 2, "on": "barge"},
    {"amount": True},
    {"amount": "1", "on": 3},
)
SETTINGS = {"grace": 3, "twice": 2}


@st.composite
def traces(draw):
    count = draw(st.integers(1, 14))
    column = lambda values: draw(st.lists(values, min_size=count, max_size=count))  # noqa: E731
    numbers = st.integers(-3, 3).map(float) | st.sampled_from([0.5, math.inf, -math.inf, math.nan])
    values = {
        "x": column(numbers),
        "n": column(st.integers(-3, 3)),
        "f": column(st.booleans()),
        "moth.2.s": column(st.integers(0, 2)),
        "moth.3.s": column(st.integers(0, 2)),
        "moth.3.y": column(numbers),
        "moth.2.y": column(numbers),
        "moth.2.present": column(st.booleans()),
        "play.ticking": column(st.booleans()),
        "play.listening": column(st.booleans()),
    }
    hop = column(st.sampled_from([0.0, 1.0, -0.6, 0.3]))
    events = [
        (k, name, source, data)
        for k in range(count)
        for name, source in draw(
            st.lists(st.sampled_from([("hop", "wick"), ("hop", "wick.gait"), ("hurt", "moth")]), max_size=2)
        )
        for data in [draw(st.sampled_from(DATA))]
    ]
    channels = [
        Channel("x", "number"),
        Channel("n", "count"),
        Channel("f", "flag"),
        Channel("moth.2.s", "label", STATES),
        Channel("moth.3.s", "label", STATES),
        Channel("moth.3.y", "number"),
        Channel("moth.2.y", "number"),
        Channel("moth.2.present", "flag"),
        Channel("play.ticking", "flag"),
        Channel("play.listening", "flag"),
    ]
    columns = {c.name: Column(c, np.array(values[c.name], dtype=c.dtype)) for c in channels}
    log = EventLog()
    for event in events:
        log.add(*event)
    header = Header(
        rate_text="60",
        channels=tuple(channels),
        inputs=("hop",),
        actions=("hop",),
        events=("hop", "hurt"),
        settings=SETTINGS,
    )
    trace = lt.Trace(header, columns, {"hop": np.array(hop)}, log)
    rows = [
        {**{n: v[k] for n, v in values.items()}, **{n: STATES[values[n][k]] for n in ("moth.2.s", "moth.3.s")}}
        for k in range(count)
    ]
    return trace, Oracle(rows, events, {"hop": hop}, 60.0, SETTINGS)


GRACE = Call("param", (Text("grace"),))
small = st.integers(0, 5).map(Number) | st.just(GRACE)
# From 2 to 30 frames, in other words.
sums = st.sampled_from(
    [
        Operation("-", (GRACE, Number(1))),
        GRACE,
        Operation("+", (Text("0.05s"), Number(1))),
        Operation("*", (Call("param", (Text("twice"),)), Text("2f"))),
        Operation("*", (Number(5), Text("0.1s"))),
    ]
)
span = st.integers(1, 5).map(Number) | st.integers(1, 5).map(lambda n: Text(f"{n}f")) | sums


def call(name, *args, **named):
    return st.builds(
        lambda given, words: FUNCTIONS[name].call(given, {k: v for k, v in words.items() if v is not None}),
        st.tuples(*args),
        st.fixed_dictionaries(named),
    )


def optional(strategy):
    return st.none() | strategy


IT_Y, IT_S = ChannelRef("{it}.y"), ChannelRef("{it}.s")
number_of_each = st.sampled_from([IT_Y, Operation("+", (IT_Y, Number(1))), Call("prev", (IT_Y,)), Call("abs", (IT_Y,))])
of_each = st.builds(
    lambda op, y, n: Compare((op,), (y, n)), st.sampled_from(["<", ">=", "!="]), number_of_each, st.just(Number(1))
) | st.sampled_from(
    [
        Compare(("==",), (IT_S, Text("b"))),
        Call("in_state", (IT_S, Text("a"))),
        Call("began", (Compare(("!=",), (IT_S, Text("b"))),)),
        Call("event", (Text("hop"),), (("on", Text("{it}")),)),
    ]
)
BY_DATA = {
    "amount": optional(st.sampled_from([Number(1), Number(2), Text("1"), Flag(True)])),
    "on": optional(st.sampled_from([Text("bank"), Text("barge"), Number(3)])),
}
numbers = st.deferred(
    lambda: (
        st.integers(0, 3).map(Number)
        | st.sampled_from([ChannelRef("x"), ChannelRef("n"), Call("frame"), Call("time")])
        | st.builds(lambda op, a, b: Operation(op, (a, b)), st.sampled_from("+-*/"), numbers, numbers)
        | numbers.map(lambda a: Operation("neg", (a,)))
        | call("abs", numbers)
        | call("min", numbers, numbers)
        | call("max", numbers, numbers)
        | call("turn", numbers, numbers, full=optional(st.sampled_from([Number(1), Number(360), Number(2.5)])))
        | call("delta", numbers)
        | call("per_second", numbers)
        | call("lasted", flags)
        | call("since", flags)
        | call("prev", numbers, small)
        | call("latest", numbers, when=flags)
        | call("how_many", st.just(Text("moth.*")), of_each)
        | call("least_of", st.sampled_from([Text("moth.*"), Text("moth.[12]")]), number_of_each)
        | call("greatest_of", st.just(Text("moth.*")), number_of_each)
        | call("count", flags, last=optional(span))
        | call("count", flags, since=flags)
        | call("total", st.just(ChannelRef("n")), last=optional(span))
        | call("total", st.just(ChannelRef("n")), since=flags)
        | call("highest", numbers, last=optional(span))
        | call("lowest", numbers, last=optional(span))
        | call("highest", numbers, since=flags)
        | call("lowest", numbers, since=flags)
        | call("mean", st.just(ChannelRef("n")), last=optional(span))
        | call("mean", st.just(ChannelRef("n")), since=flags)
        | call("value", st.just(Text("hop")))
        | call("events", st.just(Text("hop")), source=optional(st.just(Text("wick"))), **BY_DATA)
        | call("data", st.sampled_from([Text("hop"), Text("hurt")]), st.just(Text("amount")), **BY_DATA)
    )
)
flags = st.deferred(
    lambda: (
        st.sampled_from([ChannelRef("f"), Flag(True), Flag(False)])
        | st.builds(
            lambda ops, args: Compare(tuple(ops), tuple(args[: len(ops) + 1])),
            st.lists(st.sampled_from(["<", "<=", ">", ">=", "==", "!="]), min_size=1, max_size=2),
            st.tuples(numbers, numbers, numbers),
        )
        | st.builds(
            lambda op, rows, time: Compare((op,), (rows, time)),
            st.sampled_from(["<", "<=", ">", ">=", "==", "!="]),
            call("since", flags) | call("lasted", flags) | call("count", flags),
            st.sampled_from([Text("0.05s"), Text("2f"), Text("0.1s")]),
        )
        | st.builds(
            lambda op, s: Compare((op,), (ChannelRef("moth.2.s"), Text(s))),
            st.sampled_from(["==", "!="]),
            st.sampled_from(STATES),
        )
        | st.builds(
            lambda s: Membership(ChannelRef("moth.2.s"), tuple(map(Text, s))),
            st.lists(st.sampled_from(STATES), min_size=1, max_size=2),
        )
        | st.builds(
            lambda x, o: Membership(x, tuple(map(Number, o))),
            numbers,
            st.lists(st.integers(0, 3), min_size=1, max_size=2),
        )
        | st.builds(
            lambda op, args: Operation(op, tuple(args)),
            st.sampled_from(["and", "or"]),
            st.lists(flags, min_size=2, max_size=3),
        )
        | flags.map(lambda p: Operation("not", (p,)))
        | call("near", numbers, numbers, numbers)
        | call("implies", flags, flags)
        | call("all_of", st.just(Text("moth.*")), of_each)
        | call("any_of", st.just(Text("moth.*")), of_each)
        | call("began", flags)
        | call("ended", flags)
        | call("changed", numbers)
        | call("prev", flags)
        | call("event", st.sampled_from([Text("hop"), Text("hurt")]), source=optional(st.just(Text("wick"))), **BY_DATA)
        | st.just(Call("clock", (Text("play"),)))
        | st.builds(
            lambda op, name, on: Compare((op,), (Call("text", (name, Text("on"))), Text(on))),
            st.sampled_from(["==", "!="]),
            st.sampled_from([Text("hop"), Text("hurt")]),
            st.sampled_from(["bank", "barge", "", "nowhere"]),
        )
        | st.just(Call("changed", (Call("prev", (Call("text", (Text("hop"), Text("on"))),)),)))
        | st.builds(lambda name: Call(name, (Text("hop"),)), st.sampled_from(["held", "pressed", "released"]))
        | st.builds(lambda s: Call("in_state", (ChannelRef("moth.2.s"), Text(s))), st.sampled_from(STATES))
    )
)
WINDOW = {"since": optional(flags), "until": optional(flags)}
measure = st.one_of(
    *(
        call(name, numbers | st.sampled_from([Text("x"), Text("n")]), **WINDOW)
        for name in ("apex", "reach", "greatest", "smallest")
    ),
    call("area", st.just(ChannelRef("n")), **WINDOW),
    call("travelled", st.just(Text("n")), flags, **WINDOW),
    call("settling", numbers, st.integers(0, 2).map(Number), **WINDOW),
    call("value_when", numbers, flags, **WINDOW),
    *(
        call(name, flags, **WINDOW)
        for name in (
            [
                "first_row",
                "last_row",
                "time_to",
                "rows_with",
                "air_time",
                "longest",
                "shortest",
                "longest_gap",
                "shortest_gap",
            ]
        )
    ),
)
sums_of_measures = st.deferred(
    lambda: (
        measure
        | st.builds(lambda op, a, b: Operation(op, (a, b)), st.sampled_from("+-*/"), sums_of_measures, constant)
        | st.builds(lambda op, a, b: Operation(op, (a, b)), st.sampled_from("+-*/"), constant, sums_of_measures)
        | st.builds(lambda op, a, b: Operation(op, (a, b)), st.sampled_from("+-*/"), measure, measure)
        | measure.map(lambda a: Operation("neg", (a,)))
    )
)
constant = st.integers(0, 5).map(Number) | st.just(GRACE)
ordering = st.sampled_from(["<", "<=", ">", ">=", "==", "!="])
judged = st.builds(lambda op, m, c: Compare((op,), (m, c)), ordering, sums_of_measures, constant | measure) | st.builds(
    lambda one, other, low, m, high: Compare((one, other), (low, m, high)),
    ordering,
    ordering,
    constant,
    sums_of_measures,
    constant,
)
in_frames = st.builds(
    lambda op, name, p, time: Compare((op,), (Call(name, (p,)), time)),
    ordering,
    st.sampled_from(["first_row", "longest", "rows_with"]),
    flags,
    st.sampled_from([Text("0.05s"), Text("2f"), Operation("+", (Text("0.05s"), GRACE))]),
)
judged |= in_frames
clock = optional(st.just(Text("play")) | flags)
properties = (
    call("always", flags)
    | call("never", flags)
    | call("eventually", flags)
    | call("at", small, flags)
    | st.builds(
        lambda a, p, within, wait, unless, on: Call(
            "follows",
            (a, p),
            (
                ("within", Number(within + wait)),
                *((("after", Number(wait)),) if wait else ()),
                *((("unless", unless),) if unless else ()),
                *((("on", on),) if on else ()),
            ),
        ),
        flags,
        flags,
        st.integers(0, 4),
        st.integers(0, 3),
        optional(flags),
        clock,
    )
    | call("lasts", flags, flags, span, unless=optional(flags), on=clock)
    | call("paired", flags, flags, within=small, on=clock)
    | call("distinct", st.sampled_from([Text("hop"), Text("hurt")]), st.sampled_from([Text("amount"), Text("on")]))
    | call("distinct", st.just(Text("hop")), st.just(Text("on")), source=st.just(Text("wick.gait")))
    | call("until", flags, flags, flags)
    | call("precedes", flags, flags)
    | call("spaced", flags, at_least=small, on=clock)
    | st.builds(
        lambda p, low, more: Call("spaced", (p,), (("at_least", Number(low)), ("at_most", Number(low + more)))),
        flags,
        st.integers(0, 3),
        st.integers(0, 3),
    )
    | call("stays", flags, at_least=span, unless=optional(flags), on=clock)
    | call("stays", flags, at_most=span, unless=optional(flags), on=clock)
    | call("stays", flags, exactly=span, unless=optional(flags), on=clock)
    | judged
    | call("measured", sums_of_measures, constant, constant)
    | call("each", flags, judged, until=optional(flags))
    | call("exactly", flags, small)
    | call("at_least", flags, small)
    | call("at_most", flags, small)
    | st.lists(flags, min_size=2, max_size=3).map(lambda args: Call("in_order", tuple(args)))
)


def same(a, b):
    return a == b or (a != a and b != b) or (isinstance(a, float) and math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-9))


@pytest.mark.slow
@settings(max_examples=110, deadline=None)
@given(traces(), flags | numbers)
def test_every_signal_agrees_with_the_oracle_in_every_row(made, node):
    trace, oracle = made
    typecheck(node, names_of(trace))
    found = evaluator(trace).column(node).tolist()
    expected = [oracle.at(node, k) for k in range(trace.rows)]
    assert all(map(same, found, expected)), (lt.language.to_text(node), found, expected)


class RowOf:
    """One row of a trace, as guards see it: values, events and inputs."""

    def __init__(self, trace, oracle):
        self.trace, self.oracle = trace, oracle
        self.cells = {name: SimpleNamespace(value=None) for name in trace.channels}
        self.bindings = {name: Binding(cell, "value") for name, cell in self.cells.items()}

    def to(self, k):
        self.k = k
        for name, cell in self.cells.items():
            cell.value = self.trace.columns[name].at(k)
        hop = self.oracle.inputs["hop"]
        held = [abs(value) >= 0.5 for value in hop]
        inputs = SimpleNamespace(
            value_by={"hop": hop[k]},
            held_by={"hop": held[k]},
            pressed_by={"hop": k > 0 and held[k] and not held[k - 1]},
            released_by={"hop": k > 0 and held[k - 1] and not held[k]},
        )
        return SimpleNamespace(frame=k, time=k / 60, inputs=inputs)

    def count_emitted(self, name, source=None):
        return len(self.data_emitted(name, source, ()))

    def data_emitted(self, name, source, where):
        row = [lt.Event(event, by, **data) for r, event, by, data in self.oracle.events if r == self.k]
        return data_among(row, name, source, where)


@pytest.mark.slow
@settings(max_examples=250, deadline=None)
@given(traces(), st.lists(flags | numbers, min_size=4, max_size=8))
def test_what_a_guard_can_say_is_the_same_on_a_row_and_on_columns(made, nodes):
    trace, oracle = made
    row, read = RowOf(trace, oracle), evaluator(trace)
    for node in nodes:
        try:
            guard = compile_guard(node, Scope(read.names, row.bindings, row), "g", "")
        except lt.ModelError as error:
            assert "looks at other rows" in str(error)
            continue
        for k, expected in enumerate(read.column(node).tolist()):
            assert same(guard(row.to(k)), expected), (lt.language.to_text(node), k)


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(traces(), properties)
def test_every_property_agrees_with_the_oracle_in_verdict_breaches_open_and_margin(made, node):
    trace, oracle = made
    text = lt.language.to_text(node)
    assert lt.language.parse(text) == node
    (result,) = lt.check(trace, [lt.claim("c", text)])
    cases, breaches, opened, margin = oracle.judge(node)
    assert (result.cases, result.broken, result.open) == (cases, len(breaches), opened), text
    assert [(b.trigger, b.row) for b in result.breaches] == breaches[:100], text
    assert result.verdict == verdict(node, cases, breaches, opened), text
    assert same(result.margin, margin) if margin is not None else result.margin is None, text
    assert str(result)


@settings(max_examples=200, deadline=None)
@given(st.text(st.sampled_from("abwx.()'\"<>=+-*/% ,0159[]{}:@\n\\") | st.characters(), max_size=40))
def test_any_text_at_all_is_a_tree_or_an_error(text):
    try:
        assert lt.language.parse(lt.language.to_text(lt.language.parse(text))) == lt.language.parse(text)
    except lt.ClaimError:
        pass


def python_form(node):
    """The same tree built by the Python form."""
    match node:
        case Number(value) | Flag(value) | Text(value):
            return value
        case ChannelRef(name):
            return lt.ch(name)
        case Call(name, args, named) if name not in ("frame", "time"):
            return getattr(lt.language, name)(*map(python_form, args), **{k: python_form(v) for k, v in named})
        case _:
            return lt.language.Form(node)


@pytest.mark.slow
@given(properties)
def test_the_python_form_builds_the_same_tree(node):
    assert python_form(node).tree == node


def test_python_operators_build_what_text_says_and_refuse_what_they_cannot():
    x, f = lt.ch("x"), lt.ch("f")
    form = lt.language.always(((x + 1) / 2 <= -3) | ~(f & (x.one_of(1, 2))))
    assert form.tree == lt.language.parse("always((x + 1) / 2 <= -3 or not (f and x in (1, 2)))")
    for wrong in (lambda: f and f, lambda: 0 < x < 1, lambda: x in (1, 2), lambda: not f, lambda: 1 in x):
        with pytest.raises(lt.ClaimError, match="one_of"):
            wrong()


@pytest.mark.parametrize(
    ("that", "said"),
    [
        ("always(wick.burts < 3)", "no channel 'wick.burts' in this trace"),
        ("always(wick.y)", "takes a condition.*this is a number; compare it: wick.y > 0"),
        ("always(wick.gait == 'airbourne')", "never 'airbourne'; did you mean 'airborne'"),
        ("always(in_state(wick.gait, 'air'))", "no state 'air'"),
        ("always(wick.gait > 'standing')", "a label has no order"),
        ("always(wick.y == 'a')", "a number is compared with a label"),
        ("always(held('jump'))", "no action 'jump'.*declare it"),
        ("never(event('hopp'))", "no event 'hopp' was declared or seen; did you mean 'hop'"),
        ("always(param('rset') > 1)", "no param 'rset'; did you mean 'rest'"),
        ("follows(event('hop'), wick.grounded)", "follows needs within="),
        ("follows(event('hop'), wick.grounded, within='0.01s')", "not a whole number"),
        ("follows(event('hop'), wick.grounded, within=2, after=3)", "after=3 is more than within=2"),
        ("lasts(wick.grounded, wick.grounded, 0)", "at least 1"),
        ("at(10**18, wick.grounded)", "a duration is written"),
        ("exactly(wick.grounded, 1.5)", "a whole number of rows"),
        ("wick.y > 3", r"a signal, with a value in each row.*write always\("),
        ("alwys(wick.grounded)", "no function 'alwys'.*did you mean 'always'"),
        ("always(wick.y >= before(wick.y))", "no function 'before'.*prev.x. is what x was in the row before"),
        ("finally(wick.grounded)", "'finally' is of another language; eventually.p."),
        ("always(wick.grounded, 3)", "does not take 2 arguments"),
        ("always(wick.y = 3)", "'=' stands where '==' is meant"),
        ("always([x for x in y])", "no listcomp"),
        ("always((lambda: 1)())", "only the language's own functions"),
        ("always(wick.y.__class__())", "only the language's own functions"),
        ("always(wick.y if true else false)", "if … else"),
        ("always(prev(wick.y)[0] > 1)", "square brackets"),
        ("count(wick.grounded, last=3, since=wick.grounded) > 3", "last= or since="),
        ("'a' * 10 ** 9 == 'b'", "takes a number"),
        ("not " * 150 + "wick.grounded", "nested|deep"),
        ("(" * 3000, "nested|parenthes"),
        ("x" * 10_001, "10001 characters"),
        ("always(1e999 > 2)", "beyond float64"),
        ("measured(wick.y, 1, 2)", "takes a measure of the whole run: apex"),
        ("always(seen(wick.y) > 3)", "record the sim with seen=True"),
    ],
)
def test_what_does_not_fit_is_told_with_its_place_and_the_nearest_name(dusk_trace, that, said):
    with pytest.raises(lt.ClaimError, match=said):
        lt.check(dusk_trace, [lt.claim("burst rests", that)])


def test_the_caret_stands_under_the_place(dusk_trace):
    with pytest.raises(lt.ClaimError) as error:
        lt.check(dusk_trace, [lt.claim("c", "always(wick.gait == 'standing' and größe < 3)")])
    shown, caret = str(error.value).splitlines()[-2:]
    assert shown[caret.index("^") : caret.rindex("^") + 1] == "größe"


def test_a_margin_is_found_when_it_is_read_and_goes_to_another_process_as_a_number(dusk_trace):
    texts = ["always(wick.y <= 80)", "never(wick.y > 80)", "eventually(wick.y > 80)", "at(5, wick.y < 80)",
             "always(implies(event('hop'), wick.y < 40))", "follows(event('hop'), wick.y > 80, within=40)",
             "lasts(event('hop'), wick.y < 70, 20)"]  # fmt: skip
    tally, other = (lt.check(dusk_trace, [lt.claim(text, text) for text in texts]) for _ in range(2))
    for one, same in zip(tally, other, strict=True):
        judgement = one.judgement
        assert pickle.loads(pickle.dumps(judgement)) == judgement
        # Read once or twice, and after what it reads was let go.
        same.evaluator.let_go(all_but=())
        assert one.margin == one.margin == same.margin and isinstance(one.margin, float), one.name


def test_hostile_arithmetic_is_cheap(dusk_trace):
    tally = lt.check(
        dusk_trace, [lt.claim("c", "always(9**9**9 > 1)"), lt.claim("d", "never(prev(wick.y, 999999999999999) > 99)")]
    )
    assert tally.passed


def test_a_story_names_frame_value_reason_and_rows_around(dusk_trace):
    tally = lt.check(dusk_trace, [lt.claim("low", "always(wick.y <= 80)", why="the lamps hang at 80")])
    assert not tally.passed and tally["low"].margin == -5.0
    story = str(tally)
    for words in (
        "BROKEN  low",
        "because  the lamps hang at 80",
        "first in row 47 (0.783 s)",
        "wick.y = 81.25",
        ">   47",
        "also in rows 48, 49",
    ):
        assert words in story
    with pytest.raises(lt.LarkTallyError, match="no claim 'lo'"):
        tally["lo"]


def test_vacuous_and_unfinished_are_verdicts_that_fail_unless_allowed(dusk_trace):
    untested = "always(implies(held('left'), wick.y > 0))"
    unfinished = "follows(frame == 215, wick.y > 99, within=20)"
    tally = lt.check(dusk_trace, [lt.claim("v", untested), lt.claim("u", unfinished)])
    assert [result.verdict for result in tally] == ["untested", "unfinished"] and not tally.passed
    assert "held('left') never held" in str(tally) and "from row 215 (3.583 s) on; run 15 more frames" in str(tally)
    assert lt.check(
        dusk_trace, [lt.claim("v", untested, allow="untested"), lt.claim("u", unfinished, allow=["unfinished"])]
    ).passed


def test_measures_read_one_number_off_a_run(dusk_trace):
    expected = {
        "apex('wick.y')": 69.0,
        "air_time(wick.grounded)": 46,
        "time_to(event('landed'))": 76 / 60,
        "longest(in_state(wick.gait, 'airborne'))": 47,
        "shortest_gap(event('used'))": 50,
        "value_when(wick.x, event('hop'))": 84.0,
        "rows_with(wick.y > 80)": 12,
        "settling(wick.y, 1)": 76,
    }
    assert {that: pytest.approx(lt.measure(dusk_trace, that)) for that in expected} == expected
    assert math.isnan(lt.measure(dusk_trace, "first_row(wick.y < 0)"))
    assert lt.check(dusk_trace, [lt.claim("m", "measured(apex('wick.y'), 68, 70)")]).passed
    assert not lt.check(dusk_trace, [lt.claim("m", "measured(first_row(wick.y < 0), 0, 9)")]).passed


class Player:
    """A subject that plays a trace's rows and events back."""

    def __init__(self, trace):
        self.trace = trace
        self.actions, self.events = [lt.Action("hop", analog=True)], ("hop", "hurt")
        self.labels = {c.channel.name: c.channel.labels for c in trace.columns.values() if c.channel.kind == "label"}

    def said(self):
        return [lt.Event(e.name, e.source, **e.data) for e in self.trace.events.between(self.row, self.row)]

    def reset(self, setup):
        self.row = 0
        for name, value in SETTINGS.items():
            setup.param(name, value)
        return self.said()

    def step(self, now):
        self.row = now.frame
        return self.said()

    def observe(self):
        return {n: c.at(self.row) for n, c in self.trace.columns.items()}


@pytest.mark.slow
@settings(max_examples=90, deadline=None)
@given(traces(), st.lists(properties, min_size=1, max_size=2))
def test_a_run_stopped_at_a_breach_has_the_verdicts_of_the_whole_one(made, nodes):
    trace, _ = made
    if trace.rows < 2:
        return
    claims = [lt.claim(f"c{n}", lt.language.to_text(node)) for n, node in enumerate(nodes)]
    script = lt.InputScript.from_columns({n: np.concatenate([[0.0], v[1:]]) for n, v in trace.inputs.items()})
    scenario = lt.Scenario(Player(trace), frames=trace.rows - 1, inputs=script, claims=claims, allow_nan=True)
    whole = lt.check(lt.record(scenario), claims)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(stop_conditions, "FIRST_LOOK", 2)
        patch.setattr(rows, "CHUNK", 2)
        patch.setattr(runner, "GATHER", 2)
        stopped = lt.record(scenario, stop_at_breach=True)
    final = [r for r in whole if r.broken and not isinstance(r.claim.tree, Compare)]
    final = [r for r in final if r.claim.tree.name not in ("eventually", "at_least", "in_order", "measured")]
    final = [r for r in final if r.claim.tree.name != "exactly" or r.breaches[0].row < trace.rows - 1 or _too_many(r)]
    if any(_waits(r.claim.tree) for r in whole):
        # While a clock stands nothing is known for good, and of a pair only once its time is over: a run may stop later than
        # where it failed, and from there on every longer run has to be broken too.
        if stopped.header.end is not None:
            for rows_ in range(stopped.rows, trace.rows + 1):
                tally = lt.check(trace.window(0, rows_ - 1), claims)
                assert any(result.broken for result in tally), (rows_, str(tally))
        return
    if not final:
        assert stopped.rows == trace.rows and stopped.header.end is None
        return
    first = min(b.row + _short(r, b) for r in final for b in r.breaches)
    assert stopped.rows == first + 1 and stopped.header.end.startswith("breach of ")
    again = lt.check(stopped, claims)
    for result in final:
        here = [b for b in result.breaches if b.row + _short(result, b) <= first]
        assert list(again[result.name].breaches)[: len(here)] == here


def _waits(tree):
    return not isinstance(tree, Compare) and (tree.name in ("paired", "each") or tree.option("on") is not None)


def _short(result, breach):
    """A stretch that is too short is known to be in the row after it."""
    option = result.claim.tree.option("at_least") or result.claim.tree.option("exactly")
    if result.claim.tree.name != "stays" or option is None:
        return 0
    return breach.row - breach.trigger + 1 < int(str(option.value).rstrip("f"))


def _too_many(result):
    return len(lt.rows_where(result.evaluator.trace, lt.language.to_text(result.claim.tree.args[0]))) > int(
        result.evaluator.at(result.claim.tree.args[1], 0)
    )


def test_same_compares_a_trace_with_another(dusk_trace):
    from larktally.demo import quay

    faulty = lt.record(quay.faulty_run)
    say = lambda that: lt.check(dusk_trace, [lt.claim("c", that)], against=faulty)[0]  # noqa: E731
    y = np.abs(dusk_trace["wick.y"] - faulty["wick.y"])
    result = say("same('wick.y', tol=5.5)")
    assert result.cases == 221 and result.margin == 5.5 - y.max() and result.broken == (y > 5.5).sum()
    assert result.breaches[0] == lt.Breach(None, int((y > 5.5).argmax()))
    assert say("same(wick.x)").verdict == "kept" and say("same(wick.gait)").broken == 32
    assert say("same(wick.y * 2 > 50)").verdict == "broken"
    short = lt.check(dusk_trace.window(0, 100), [lt.claim("c", "same(wick.x)")], against=dusk_trace)[0]
    assert short.broken == 120 and short.breaches[0].row == 101
    with pytest.raises(lt.ClaimError, match="there is no other one"):
        lt.check(dusk_trace, [lt.claim("c", "same(wick.x)")])
    with pytest.raises(lt.ClaimError, match="takes a number|is a label"):
        say("same('wick.gait', tol=1)")


def test_the_same_claims_over_a_folder_of_traces_as_a_table_json_and_junit(tmp_path, dusk_trace):
    from larktally.demo import quay

    dusk_trace.save(tmp_path / "good.parquet")
    lt.record(quay.faulty_run).save(tmp_path / "bad.jsonl")
    claims = tmp_path / "c.toml"
    claims.write_text("[[claim]]\nname = 'one < two'\nthat = \"always(implies(event('hop'), prev(wick.grounded)))\"\n")
    done = CliRunner().invoke(main, ["check", str(tmp_path), str(claims), "--junit", str(tmp_path / "j.xml")])
    assert done.exit_code == 1 and "2 of 2   1 of 2  bad.jsonl: 52" in done.output
    suites = ET.parse(tmp_path / "j.xml").getroot()
    assert [(s.get("name"), s.get("tests"), s.get("failures")) for s in suites] == [(str(tmp_path), "1", "1")]
    failure = suites[0][0][0]
    assert failure.get("type") == "broken" and "bad.jsonl: 52" in failure.get("message") and ">   52" in failure.text
    plain = json.loads(CliRunner().invoke(main, ["check", str(tmp_path), str(claims), "--json"]).output)
    keys = "name that verdict passed cases broken breaches open margin"
    (bad,) = plain["runs"]["bad.jsonl"]
    assert list(bad) == keys.split() and bad["breaches"] == [{"trigger": 52, "row": 52}]


def test_a_broken_claim_says_in_a_line_what_was_found(dusk_trace):
    said = {
        "follows(event('hop'), event('landed'), within=20)": "for row 30 (0.500 s): it came 46 rows after, in row 76 (1.267 s)",
        "follows(event('hop'), event('landed'), within=60, after=50)": "first in row 76 (1.267 s), for row 30 (0.500 s): it came too early, 46 rows after",
        "follows(event('landed'), event('hop'), within=20)": "for row 76 (1.267 s): it never came",
        "lasts(event('hop'), wick.vy > 0, 30)": "first in row 53 (0.883 s), for row 30 (0.500 s): it held for 23 rows",
        "measured(apex('wick.y'), 80, 90)": "apex('wick.y') = 69 in row 52 (0.867 s), which is not in 80..90",
        "measured(area(wick.vx), 0, 1)": "area(wick.vx) = 446.666667, which is not in 0..1",
        "measured(air_time(wick.grounded), 0, 9)": "= 46 from row 30 (0.500 s) on, which is not in 0..9",
        "measured(shortest(wick.vx == 320), 11, 12)": "= 10 from row 100 (1.667 s) on",
        "measured(longest_gap(event('used')), 0, 9)": "= 50 from row 100 (1.667 s) on",
        "measured(shortest_gap(event('hop')), 0, 9)": "found nothing to measure, where 0..9 was claimed",
        "exactly(event('hop'), 2)": "event('hop') held in 1 row (30), where exactly 2 was claimed",
        "eventually(wick.y > 500)": "wick.y > 500 never held",
        "in_order(event('landed'), event('hop'))": "event('hop') never held after event('landed') in row 76",
    }
    for that, found in said.items():
        assert found in str(lt.check(dusk_trace, [lt.claim("c", that)])[0])
    late = str(lt.check(dusk_trace, [lt.claim("c", "follows(event('hop'), event('landed'), within=20)")])[0])
    rows = [line.split()[-3:] for line in late.splitlines()[7:]]
    assert [row[0] for row in rows] == ["30", "47", "48", "49", "50", "51", "52", "75", "76", "77"]
    assert rows[-2] == ["76", "false", "true"]


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(traces(), sums_of_measures, flags, optional(flags))
def test_every_measure_is_what_its_line_says_over_the_run_and_over_each_span(made, node, a, until):
    trace, oracle = made
    text = lt.language.to_text(node)
    assert same(lt.measure(trace, text), oracle.arithmetic(node, 0, trace.rows - 1)), text
    each = Call("each", (a, node), (("until", until),) if until else ())
    that, rows = lt.language.to_text(each), oracle.holds(a)
    expected = []
    for n, k in enumerate(rows):
        end = next((j for j in range(k + 1, trace.rows) if oracle.at(until, j)), None) if until else trace.rows - 1
        if not until and n + 1 < len(rows):
            end = rows[n + 1] - 1
        expected.append(math.nan if end is None else oracle.arithmetic(node, k, end))
    table = lt.measured_over({"a": trace, "b": trace}, [that, text])
    assert list(table["a"]) == [that, text] and len(table["b"][that]) == len(expected)
    assert all(map(same, table["a"][that], expected)), (that, table["a"][that], expected)


@settings(max_examples=150, deadline=None)
@given(st.text(max_size=200) | st.text("[]{}=\"'\n#claimnthat allow each define.0123", max_size=200))
def test_any_text_in_a_claims_file_is_claims_or_one_error_that_names_the_file(tmp_path_factory, text):
    path = tmp_path_factory.mktemp("claims") / "c.toml"
    path.write_text(text, encoding="utf-8", newline="")
    try:
        assert lt.load_claims(path)
    except lt.ClaimError as error:
        assert str(path) in str(error)


@pytest.mark.parametrize(
    "text",
    [
        "always(9**9**9**9 > 0)",
        "always('a' * 1000000000 == 'a')",
        "always(highest(n, last=1000000000000000000) > 0)",
        "prev(" * 90 + "f" + ")" * 90,
        "always(" + "not " * 400 + "f)",
        "always(" + "(" * 300 + "f" + ")" * 300 + ")",
        "always(f)" + " " * 20_000,
        "always(__import__('os').system('true'))",
        "always([x for x in (1, 2)])",
        "always((lambda: f)())",
        "always(f if f else f)",
        "always(n.real.__class__ == 1)",
        "always(f'{n}' == '')",
        "always(n := 3)",
        "always(*f)",
    ],
)
def test_a_hostile_text_is_refused_or_cheap(text):
    column = {
        "n": Column(Channel("n", "number"), np.zeros(1000)),
        "f": Column(Channel("f", "flag"), np.ones(1000, dtype=bool)),
    }
    header = Header(rate_text="60", channels=tuple(c.channel for c in column.values()))
    trace = lt.Trace(header, column, {}, EventLog())
    try:
        lt.check(trace, [lt.claim("c", text)])
    except lt.ClaimError as error:
        assert len(str(error)) < 5000


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[[claim]]\nnam = 'a'\nthat = 'always(true)'\n", "claim 1: no key 'nam'; did you mean 'name'"),
        ("[[claim]]\nname = 'a'\n", "claim 'a': that is missing"),
        ("[[claim]]\nname = 'a'\nthat = 3\n", "claim 'a': that is a string, not 3"),
        ("[[claim]]\nname = 'a'\nthat = 'always(true)'\ntags = 'x'\n", "tags is a list, not 'x'"),
        ("[[claim]]\nname = 'a'\nthat = 'always(true)'\nfor_each = 3\n", "for_each is a string or a list, not 3"),
        (
            "[[claim]]\nname = 'a'\nthat = 'always(true)'\nfor_each = 'moht.*'\n",
            "for_each = 'moht.*' matches nothing; did you mean",
        ),
        (
            "[[claim]]\nname = 'a'\nthat = 'always(true)'\nfor_each = ['moth.*', 3]\n",
            "a pattern of names, or a list of them, not 3",
        ),
        ("[[claim]]\nname = 'a'\nthat = 'always(true)'\n" * 2, "two claims are called 'a'"),
        ("[[claims]]\nname = 'a'\n", "no key 'claims' in a claims file; did you mean 'claim'"),
        ("[define]\nup = 'wick.y >'\n[[claim]]\nname = 'a'\nthat = 'always(up)'\n", "define 'up': "),
        ("define = 3\n[[claim]]\nname = 'a'\nthat = 'always(true)'\n", "[define] is a table"),
        ("[define]\nup = 'true'\n", "no [[claim]] in this file, so nothing would be checked"),
        ("claim = 'x'\n", "claim is written [[claim]]"),
        ("[[claim]\n", "not TOML"),
        ("\xff", "not TOML"),
    ],
)
def test_a_claims_file_that_does_not_fit_is_one_message_with_its_place(tmp_path, text, said):
    path = tmp_path / "c.toml"
    path.write_bytes(text.encode("latin-1"))
    with pytest.raises(lt.ClaimError) as told:
        lt.load_claims(path, ["moth.0.y", "moth.1.y"])
    assert str(told.value).startswith(str(path)) and said in str(told.value)


def test_a_claim_is_made_for_each_name_that_matches_a_pattern_or_one_of_a_list(tmp_path):
    path = tmp_path / "c.toml"
    channels = ["moth.0.y", "moth.0.x", "moth.1.y", "wick.y", "barge.x"]
    for pattern, expected in (
        ("'moth.*'", ["up [moth.0]", "up [moth.1]"]),
        ("['moth.*', 'wick']", ["up [moth.0]", "up [moth.1]", "up [wick]"]),
        ("['wick', 'w*']", ["up [wick]"]),
    ):
        path.write_text(f"[[claim]]\nname = 'up'\nthat = 'always({{it}}.y >= 0)'\nfor_each = {pattern}\n")
        assert [one.name for one in lt.load_claims(path, channels)] == expected
    path.write_text("[[claim]]\nname = '{it} is up'\nthat = 'always({it} >= 0)'\nfor_each = '*.*.y'\n")
    made = lt.load_claims(path, channels)
    assert [(one.name, one.text) for one in made] == [
        ("moth.0.y is up", "always(moth.0.y >= 0)"), ("moth.1.y is up", "always(moth.1.y >= 0)"),
    ]  # fmt: skip
    with pytest.raises(lt.ClaimError, match="no such file"):
        lt.load_claims(tmp_path / "d.toml")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("always(wick.x > 1 && wick.y > 1)", "'&&' is of another language; 'and' joins"),
        ("always(wick.x > 1 || wick.y > 1)", "'.|' is of another language; 'or' joins"),
        ("always(!wick.grounded)", "'!' is of another language; 'not' turns"),
        ("always(wick.x ^ 2 > 1)", "'^' is of another language; '!=' says .*'..' is a power"),
        ("always(wick.x = 3)", "'=' stands where '==' is meant"),
        ("always(x = 3)", "a comparison is written '==', as in x == …"),
        ("always(wick.x === 3)", "'===' is of another language"),
        ("always(apex(wick.y) > 3)", "is one number of the whole run"),
    ],
)
def test_an_operator_of_another_language_is_answered_with_the_form_here_in_claims_and_guards(dusk_trace, text, said):
    said = said.replace("^", "\\^").replace(".|", "..")
    with pytest.raises(lt.ClaimError, match=said):
        lt.check(dusk_trace, [lt.claim("c", text)])

    def build(sim):
        sim.body("wick", size=(4, 4), at=(20, 16))
        sim.machine("m", ("a",), "a").transition("a", to=lt.STAY, when=text.removeprefix("always(").removesuffix(")"))

    if "apex" not in text and " = " not in text:
        with pytest.raises(lt.LarkTallyError, match="of another language"):
            run(build, 2)


def test_what_stands_in_quotes_is_of_no_language(dusk_trace):
    assert lt.check(
        dusk_trace, [lt.claim("c", "never(wick.gait == 'standing' and ch('wick.gait') != 'standing')")]
    ).passed
    with pytest.raises(lt.ClaimError, match="no event 'a && b'"):
        lt.check(dusk_trace, [lt.claim("c", "never(event('a && b'))")])
