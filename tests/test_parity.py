"""Pairs of paths that must agree: into a file and in memory, live and recorded, a row alone and whole columns, the same
sim and one built anew, a builder and its part."""

import ast
import importlib
import inspect
import itertools
import math
import os
import pkgutil
import random
import signal
import subprocess
import sys
import textwrap
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import Lamp
from tests.test_sim import model

import larktally as lt
import larktally.parts
from larktally.demo import quay
from larktally.language.reading import Scope, compile_guard, evaluator, typecheck
from larktally.language.rows import Binding
from larktally.language.tree import Call, ChannelRef, Compare, Flag, Number, Operation, to_text
from larktally.parts.factory import PartFactory
from larktally.parts.part import Part
from larktally.traces.recording_stream import RecordingStream

TAPS = lt.InputScript().hold("hop", 3, 40)


# --- an object's own words mean nothing ------------------------------------------------------------------------------

NOT_OURS = (
    "step_many", "seen_row", "strayed", "row", "take", "rows", "reader", "columns", "info", "batch", "saves", "finish",
    "channels", "close", "names", "parts", "phase", "model_functions", "innermost", "subject", "plain", "report", "header",
)  # fmt: skip


def test_only_eight_names_of_a_users_own_class_mean_anything():
    def nothing_of_the_kind(self, *args, **options):
        raise AssertionError("this is the user's own method, and nobody else's")

    words = dict.fromkeys(NOT_OURS, nothing_of_the_kind)
    odd = type("Odd", (Lamp,), words)
    plain = lt.record(Lamp, TAPS, frames=30)
    trace = lt.record(odd, TAPS, frames=30)
    assert all(trace[name].tolist() == plain[name].tolist() for name in plain.channels)
    assert lt.Live(lt.Scenario(odd, frames=30, inputs=TAPS)).to(30).values == plain.row(30)
    assert lt.audit(lt.Scenario(odd, frames=9), fresh=False).passed
    as_values = type("Values", (Lamp,), dict.fromkeys(NOT_OURS, 3))
    assert lt.record(as_values, TAPS, frames=30)["y"].tolist() == plain["y"].tolist()


# --- into a file and in memory ---------------------------------------------------------------------------------------

UNTIL = {"until": "y >= 9.5"}
BREACH = {"claims": [lt.claim("low", "always(y <= 7)")], "stop_at_breach": True}


@pytest.mark.parametrize("options", [{}, UNTIL, {"until": "frame == 4096"}, BREACH, UNTIL | BREACH])
def test_a_run_into_a_file_is_the_run_in_memory(tmp_path, options):
    scenario = lt.Scenario(Lamp, frames=9000, inputs=TAPS, until=options.get("until"), claims=options.get("claims", ()))
    stop = options.get("stop_at_breach", False)
    memory = lt.record(scenario, stop_at_breach=stop)
    file = lt.record(scenario, stop_at_breach=stop, to=tmp_path / "run.parquet")
    assert (file.digest, file.rows, file.header.end) == (memory.digest, memory.rows, memory.header.end)
    assert lt.load_trace(tmp_path / "run.parquet").digest == memory.digest and len(os.listdir(tmp_path)) == 1


@pytest.mark.slow
@pytest.mark.parametrize("stop", ["until='frame == 10**9'", "claims=[lt.claim('c', 'always(n >= 0)')]"])
def test_a_killed_run_that_may_stop_early_leaves_what_it_had(tmp_path, stop):
    code = f"""
        import os, signal, larktally as lt
        class Long:
            def reset(self, setup): self.n = 0
            def step(self, now):
                self.n = now.frame
                if self.n == 30_000: os.kill(os.getpid(), {int(signal.SIGKILL)})
            def observe(self): return {{"n": self.n}}
        lt.record(lt.Scenario(Long, frames=60_000, {stop}), to="long.parquet", stop_at_breach={"claims" in stop})
        """
    done = subprocess.run([sys.executable, "-c", textwrap.dedent(code)], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == -signal.SIGKILL, done.stderr
    left = RecordingStream(tmp_path / "long.parquet.partial").whole()
    assert left.rows > 20_000 and left.columns["n"].stored.tolist() == list(range(left.rows))


# --- live and recorded -----------------------------------------------------------------------------------------------


class Ends(Lamp):
    """Shows a text for a number in row 3 where it is told to, and ends its run in row 5."""

    wrong = False

    def step(self, now):
        self.row = now.frame
        said = super().step(now) or []
        return [*said, lt.Event("end", reason="done")] if now.frame == 5 else said

    def observe(self):
        row = super().observe()
        return row | {"y": "high"} if self.wrong and getattr(self, "row", 0) == 3 else row


def test_live_ends_where_the_recording_ends():
    scenario = lt.Scenario(Ends, frames=10, inputs=TAPS)
    trace, live = lt.record(scenario), lt.Live(scenario).to(5)
    assert (trace.frames, trace.header.end) == (5, "done") and live.values == trace.row(5)
    with pytest.raises(lt.LarkTallyError, match=r"this run ends with row 5 \(done\), so it has no row 10"):
        lt.Live(scenario).to(10)


def test_live_fails_in_the_row_in_which_the_recording_fails():
    scenario = lt.Scenario(type("Wrong", (Ends,), {"wrong": True}), frames=10)
    with pytest.raises(lt.SubjectFailed, match="row 3: channel 'y' is 'high'") as recorded:
        lt.record(scenario)
    live = lt.Live(scenario)
    with pytest.raises(lt.SubjectFailed) as alive:
        live.to(10)
    assert str(alive.value) == str(recorded.value) and alive.value.row == recorded.value.row == 3


# --- a row alone and whole columns -----------------------------------------------------------------------------------

NASTY = [0.0, -0.0, 1.0, -1.0, 0.5, 2.0, 3.0, -3.0, math.inf, -math.inf, math.nan, 1e308, 5e-324, 2.0**53, 1e16]
COUNTS = [0, 1, -1, 2, 7, -7, 2**53, 2**53 + 1, -(2**53) - 1, 2**62, 2**63 - 1, -(2**63)]


def _number(draw, depth):
    kind = draw.randrange(9 if depth else 3)
    if kind == 0:
        return Number(draw.choice([0, 1, 2, 3, 0.5, -1, 2**53 + 1, 1e308]))
    if kind <= 2:
        return ChannelRef(draw.choice("fgnm"))
    if kind <= 5:
        return Operation(
            draw.choice("+-*/%") if kind < 5 else "**", (_number(draw, depth - 1), _number(draw, depth - 1))
        )
    if kind == 6:
        return Operation("neg", (_number(draw, depth - 1),))
    name = draw.choice(["abs", "min", "max"])
    return Call(name, tuple(_number(draw, depth - 1) for _ in range(1 if name == "abs" else 2)))


def _flag(draw, depth):
    kind = draw.randrange(6 if depth else 2)
    if kind == 0:
        return draw.choice([ChannelRef("on"), Flag(True), Flag(False)])
    if kind <= 2:
        ops = tuple(draw.choice(["<", "<=", ">", ">=", "==", "!="]) for _ in range(draw.randint(1, 2)))
        return Compare(ops, tuple(_number(draw, depth) for _ in range(len(ops) + 1)))
    if kind == 3:
        return Operation("not", (_flag(draw, depth - 1),))
    if kind == 4:
        return Operation(draw.choice(["and", "or"]), (_flag(draw, depth - 1), _flag(draw, depth - 1)))
    return Call("implies", (_flag(draw, depth - 1), _flag(draw, depth - 1)))


class Cell:
    """Where a channel's value of the row stands."""

    value = None


class NoEvents:
    """A row in which nothing was emitted."""

    def count(self, name, source):
        return 0


@pytest.mark.slow
def test_a_guard_and_a_column_agree_bit_by_bit_in_random_expressions():
    draw = random.Random(20)
    rows = 48
    columns = {
        "f": np.array([draw.choice(NASTY) for _ in range(rows)]),
        "g": np.array([draw.choice(NASTY) for _ in range(rows)]),
        "n": np.array([draw.choice(COUNTS) for _ in range(rows)], dtype=np.int64),
        "m": np.array([draw.choice(COUNTS) for _ in range(rows)], dtype=np.int64),
        "on": np.array([draw.random() < 0.5 for _ in range(rows)]),
    }
    trace = lt.Trace.from_columns(columns, 60)
    read = evaluator(trace)
    cells = {name: Cell() for name in columns}
    scope = Scope(read.names, {name: Binding(cell, "value") for name, cell in cells.items()}, NoEvents())
    tried = 0
    for _ in range(1800):
        node = _flag(draw, 3) if draw.random() < 0.5 else _number(draw, 3)
        try:
            kind = typecheck(node, read.names)
        except lt.ClaimError:
            continue
        guard, column, tried = compile_guard(node, scope, "g", ""), read.column(node).tolist(), tried + 1
        for row in range(0, rows, 5):
            for name, cell in cells.items():
                cell.value = columns[name][row].item()
            # A channel alone keeps a count as it is, for messages; wherever it is computed with, it is a float64.
            found = float(guard(None)) if kind == "number" else guard(None)
            same = found == column[row] and math.copysign(1, found) == math.copysign(1, column[row])
            assert same or (found != found and column[row] != column[row]), (
                kind,
                to_text(node),
                row,
                found,
                column[row],
            )
    assert tried > 1400


# --- the same sim and one built anew; what is assigned and what is saved ----------------------------------------------


def crowded(setup):
    """A sim with a part of every kind."""
    sim = lt.Sim(
        setup, level=lt.Level.from_rows("........\n........\n########", cell=16), actions=("hop",), events=("hop",)
    )
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900, limit={"x": 60.0}, probe=2.0)
    moth = sim.body("moth", size=(4, 4), at=(60, 40), shows=("gravity", "touching", "apex"))
    gait = sim.machine("gait", ("low", "high"), "low")
    sim.platform("barge", size=(16, 4), path=[(64, 40), (90, 40)], speed=30)
    sim.zone("door", (20, 10), (60, 60), watch=[wick])
    sim.door("gate", at=(100, 16), size=(4, 20)).lead_to(100, 30, speed=20)
    head = sim.hurtbox("head", moth, size=(4, 2), offset=(0, 1), tags="head")
    sim.hitbox("reach", wick, size=(8, 8), offset=(0, 0), targets=[moth, head], again=2, rank=1, trade="clash")
    sim.air_uses("flaps", wick, 2)
    sim.crate("box", size=(8, 8), at=(110, 16), gravity=900, share=0.25)
    led = lt.Trace.from_columns({"wick.x": np.arange(9.0), "wick.y": np.arange(9.0)}, rate=60)
    sim.playback("ghost", led, sim.body("shade", size=(4, 4), at=(20, 60)), "wick").play()
    sim.fan("feet", wick, "-y", 3, 30, bodies=[moth])
    sim.enclosure("lantern", at=(80, 16), size=(30, 30), holds=[])
    rest, slow = sim.cooldown("rest", 9, charges=2), sim.clock("slow", "1/2")
    sim.countdown("wait", 12, show="up", running=True, clock="slow")
    oil = sim.meter("oil", 10, rate=-1, marks=[4])
    sim.stopwatch("lap", running=True)
    sim.stock("sparks", 3, 5)
    sim.interval("drip", 4)
    sim.delay("later", 5)
    sim.time_window("chance", 4)
    sim.chain("combo", 3, 5)
    sim.stat("damp", 120)
    sim.gate("once", 3)
    sim.grace("grace", 3)
    latch, lit = sim.latch("latch"), sim.value("lit", 0.5)
    sim.press_buffer("ask", "hop", 3)
    sim.recent("lately", "gait == 'high'", 4)
    sim.animation("look", {"idle": lt.Clip(6, loop=True), "swing": lt.Clip(3)}, "idle")
    pool = sim.pool("spark", lambda scope: scope.value("heat", 0.0), 2)
    gait.transition("low", to="high", when="pressed('hop')")(
        lambda now: (moth.launch(vy=30.0, gravity="later"), wick.launch(vy=200), rest.use(), now.emit("hop"))
    )
    gait.transition("high", to="low", when="wick.grounded and oil < 8")

    @sim.after("machines")
    def tune(now):
        if now.frame == 12:
            wick.limit, rest.most, oil.most, wick.bounce = {"x": 20.0}, 3, 7.0, 0.25
            sim.parts["barge"].speed, sim.parts["wait"].show = 55.0, "down"
            slow.run("2/3")
        if now.frame == 14:
            wick.push(vx=90.0)
            pool.spawn()
            lit.value += 0.1
        if now.frame == 15:
            latch.fire()

    return sim


PRESSES = lt.InputScript().press("hop", 4).press("hop", 22)


@pytest.mark.slow
def test_a_saved_state_restores_into_the_same_sim_and_into_one_built_anew():
    scenario = lt.Scenario(crowded, frames=60, inputs=PRESSES)
    assert {type(part) for part in lt.Live(scenario).sim.parts.values()} >= PARTS
    whole = lt.record(scenario)
    assert whole["lit"][20] == 0.6
    for row in (0, 12, 13, 30):
        live = lt.Live(scenario).to(row)
        saved = live.save()
        for again in (live.to(40), lt.Live(scenario)):
            again.load(saved, row)
            for at in range(row + 1, 60):
                again.step()
                assert repr(again.values) == repr(whole.row(at)), (row, at)
    assert lt.audit(scenario, rows=3, frames=25, fresh=False).passed


def test_the_audit_names_an_attribute_that_a_part_forgets():
    class Kettle(lt.Part):
        phase = "timers"
        channel_specs = (larktally.parts.part.ChannelSpec("heat", "heat", "number"),)
        state_fields = ("heat",)

        def __init__(self, sim, name):
            super().__init__(sim, name)
            self.heat, self.flame = 0.0, 1.0

        def step(self):
            self.heat += self.flame
            self.flame += 0.5

    def build(sim):
        sim.add(Kettle(sim, "kettle"))

    found = lt.audit(lt.Scenario(model(build), frames=20), rows=[4], frames=5, fresh=False)
    assert not found.passed and "flame of kettle 'kettle', which is not in its state_fields: 3.0 when saved" in str(
        found
    )


for _module in pkgutil.walk_packages(larktally.parts.__path__, "larktally.parts."):
    importlib.import_module(_module.name)


def below(kind):
    """All classes made from one."""
    return {kind, *itertools.chain.from_iterable(map(below, kind.__subclasses__()))}


# What others are made from, and what a crate pushes with, which no sim knows of: its place is the crate's.
ABSTRACT = {
    "_Shell",
    "AttachedBox",
    "SteeredBox",
    "RidingBox",
    "WalkingBox",
    "SolidBox",
    "MovingBox",
    "Part",
    "CountedTimer",
    "MachineDefinition",
    "PositionedBox",
}
PARTS = {kind for kind in below(Part) if kind.__module__.startswith("larktally.") and kind.__name__ not in ABSTRACT}


@pytest.mark.parametrize("kind", sorted(PARTS, key=lambda kind: kind.__name__), ids=lambda kind: kind.__name__)
def test_what_a_part_assigns_after_its_start_is_saved_or_worked_out_anew(kind):
    built = {"__init__", "begin", "after_begin"}
    assigned = set()
    for one in kind.__mro__[:-1]:
        tree = ast.parse(textwrap.dedent(inspect.getsource(one))) if one is not Part else ast.parse("")
        for method in ast.walk(tree):
            if isinstance(method, ast.FunctionDef) and method.name not in built:
                for node in ast.walk(method):
                    stored = isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store)
                    if stored and isinstance(node.value, ast.Name) and node.value.id == "self":
                        assigned.add(node.attr)
    part = next(part for part in lt.Live(lt.Scenario(crowded, frames=1)).sim.parts.values() if type(part) is kind)
    assert assigned <= {*part.saved_fields(), *part.derived_fields, *BUILT_ONCE.get(kind.__name__, ())}


#: Assigned outside a start, and no state: while the model is built, by who watches it, saved under another name, or of a
#: body with a third axis.
BUILT_ONCE = {
    "Slot": ("things", "parts"),
    "Machine": ("now", "guard_now", "_plain", "_observer", "_listener", "_read_in"),
    "Enclosure": ("holds",),
    "Body": ("z", "vz"),
    "Crate": ("z", "vz"),
}

RULE_MAY_SET = [
    ("wick", "limit", {"x": 1.0}), ("wick", "gravity", 1.0), ("wick", "bounce", 0.5), ("wick", "air_steering", 0.5),
    ("barge", "speed", 7.0), ("rest", "most", 5), ("oil", "most", 3.0), ("oil", "rate", 2.0), ("wait", "show", "down"),
    ("lit", "value", 3.0), ("latch", "armed", False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "attribute", "value"), RULE_MAY_SET)
def test_what_a_rule_sets_on_a_part_is_undone_by_load(name, attribute, value):
    live = lt.Live(lt.Scenario(crowded, frames=9)).to(3)
    part, saved = live.sim.parts[name], live.save()
    before = getattr(part, attribute)
    setattr(part, attribute, value)
    live.load(saved, 3)
    assert getattr(part, attribute) == before


# --- a builder and its part ------------------------------------------------------------------------------------------

MADE_OTHERWISE = {"machine_from", "pool", "zone"}


@pytest.mark.parametrize("name", [n for n, f in vars(PartFactory).items() if n[0] != "_" and inspect.isfunction(f)])
def test_a_builder_takes_what_its_part_takes(name):
    builder = inspect.signature(getattr(PartFactory, name))
    by_name = {kind.__name__: kind for kind in PARTS}
    assert all(p.kind is not p.VAR_KEYWORD for p in builder.parameters.values()) or name in ("before", "after")
    if str(builder.return_annotation) not in by_name or name in MADE_OTHERWISE:
        return
    part = inspect.signature(by_name[str(builder.return_annotation)].__init__)
    taken = [(p.name, p.default, p.kind) for p in builder.parameters.values() if p.name not in ("self", "clock")]
    assert taken == [(p.name, p.default, p.kind) for p in part.parameters.values() if p.name not in ("self", "sim")]


def test_a_strict_type_checker_refuses_a_misspelt_option():
    with pytest.raises(TypeError, match="gravty"):
        lt.Sim(lt.Setup(), actions=()).body("wick", size=(1, 1), at=(0, 0), gravty=3)


# --- what is done to others ------------------------------------------------------------------------------------------


@pytest.mark.slow
def test_the_callers_own_things_stay_as_they_were():
    values = np.arange(4.0)
    trace = lt.Trace.from_columns({"x": values, "input:hop": np.zeros(4)}, 60)
    values[0] = 9.0
    assert values.flags.writeable and not trace["x"].flags.writeable
    code = """
        import matplotlib, larktally as lt
        from larktally.demo import quay
        matplotlib.rcParams["backend"] = "svg"
        lt.draw_run(lt.record(quay.dusk_run))
        assert matplotlib.get_backend().lower() == "svg", matplotlib.get_backend()
        """
    done = subprocess.run([sys.executable, "-c", textwrap.dedent(code)], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_a_debugger_that_follows_lines_is_left_alone():
    scenario = lt.Scenario(Lamp, frames=9, inputs=TAPS)
    trace, seen = lt.record(scenario), []

    def debugger(frame, event, arg):
        seen.append(frame.f_code.co_name)

    before = sys.gettrace()
    sys.settrace(debugger)
    try:
        with pytest.raises(lt.LarkTallyError, match="not followed while a debugger"):
            lt.causes(trace, scenario, 4)
        assert sys.gettrace() is debugger
    finally:
        sys.settrace(before)


def test_names_with_digits_and_of_any_alphabet_are_written_in_claims():
    names = ["moth.0.y", "moth.12.y", "moth.ᚢ", "мотылёк.высота", "灯.0", "a.1b.2"]
    trace = lt.Trace.from_columns({name: np.arange(3.0) + n for n, name in enumerate(names)}, 60)
    for n, name in enumerate(names):
        tally = lt.check(trace, [lt.claim("c", f"always({name} >= {n}) "), lt.claim("d", f"always({name} < {n + 1})")])
        assert tally["c"].passed and [b.row for b in tally["d"].breaches] == [1, 2], name


# --- rules that say what they may not --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        (lambda now: now.emit("hrut"), "row 3.*no event 'hrut'.*did you mean 'hurt'"),
        (lambda now: now.emit("Hurt"), "did you mean 'hurt'"),
    ],
)
def test_an_event_that_nobody_declared_is_an_error(rule, said):
    def build(sim):
        sim.after("machines", lambda now: rule(now) if now.frame == 3 else None)

    with pytest.raises(lt.SubjectFailed, match=said) as failed:
        lt.record(model(build, events=("hurt",)), frames=9)
    assert failed.value.row == 3 and failed.value.trace.rows == 3


LEVER = {"count": 0}


def _counts(now):
    LEVER["count"] += 1


@pytest.mark.parametrize(
    ("guard", "said"),
    [
        (lambda now, lit: None, "returned None; a guard returns true or false: is a 'return' missing"),
        (lambda now, lit: setattr(lit, "value", lit.value + 1) or True, "changes 'lit'; guards only look"),
        (lambda now, lit: now.emit("hop") or True, "emits 'hop'; guards only look"),
        (lambda now, lit: _counts(now), "returned None"),
    ],
)
def test_a_guard_only_looks_and_it_answers(guard, said):
    def build(sim):
        lit = sim.value("lit", 1)
        sim.machine("gait", ("low", "high"), "low").transition("low", to="high", when=lambda now: guard(now, lit))

    with pytest.raises(lt.SubjectFailed, match=said) as failed:
        lt.record(model(build), frames=9)
    assert "row 1" in str(failed.value) and "gait" in str(failed.value)


# --- traces of an earlier version ------------------------------------------------------------------------------------


EARLIER = {
    "dusk.jsonl": "1d4e0e5ec034f3a2f3c8dae658257f634075a20e9d6d9a448c079817e676fd85",
    "dusk.parquet": "1d4e0e5ec034f3a2f3c8dae658257f634075a20e9d6d9a448c079817e676fd85",
    "dusk_part.parquet": "9c241a616349abdad26b05dac0c2c3508f2cf0852a4928cc7814c37e72e62f9b",
}


@pytest.mark.parametrize("name", EARLIER)
def test_a_trace_written_by_an_earlier_version_loads_with_its_digest_and_replays(name):
    trace = lt.load_trace(Path(__file__).parent / "earlier" / name)
    assert trace.rows == 61 and trace.digest == EARLIER[name]
    assert trace.header.filtered == ("part" in name) and [e.row for e in trace.events.named("hop")] == [20]
    assert lt.replay(trace, quay.dusk_run).identical
    # A state that was saved by an earlier version is passed over, or refused in words; what it holds is run up to.
    assert lt.run_to(trace, quay.dusk_run, 12).values["wick.y"] == trace["wick.y"][12]


def test_a_name_that_the_library_does_not_have_is_told_with_what_was_asked_so_that_python_names_the_nearest():
    with pytest.raises(AttributeError, match="'larktally' has no attribute 'recrd'") as told:
        lt.recrd  # noqa: B018
    assert (told.value.name, told.value.obj) == ("recrd", lt) and "record" in dir(lt)
