"""What made a row what it is: decisions, writes with their places and reasons, told where a run leaves what was expected."""

import json
import sys
from pathlib import Path

import pytest
from tests.test_cli import call
from tests.test_sim import QUAY, model

import larktally as lt
from larktally.code_places import is_own

MODEL = """
import larktally as lt

YARD = lt.Level([lt.geometry.box_at((0, 0), (200, 16)), lt.geometry.box_at((100, 16), (16, 64), layer="wall")])


def otter(setup):
    speed = setup.param("speed", 240)
    sim = lt.Sim(setup, level=YARD, actions=("dash",), events=("dash",))
    body = sim.body("otter", size=(10, 10), at=(80, 16), gravity=600, limit={"x": 500})
    swim = sim.machine("otter.swim", ("resting", "dashing"), "resting")

    @swim.transition("resting", to="dashing", when="pressed('dash')", name="dashes")
    def dash(now):
        body.vx = speed
        now.emit("dash")

    swim.transition("dashing", to="resting", after="6f", name="tires")(lambda now: body.halt())
    return sim


dash = lt.Scenario(otter, frames=30, inputs=lt.InputScript().press("dash", 5))
far = dash.changed(claims=[
    lt.claim("a dash goes on", "lasts(event('dash'), otter.vx == 240, 6)"),
    lt.claim("it stays low", "always(otter.y < 17)"),
])
"""


@pytest.fixture
def otter_file(tmp_path):
    path = tmp_path / "otter.py"
    path.write_text(MODEL)
    return path


def scenario(file, name="far"):
    space = {}
    exec(compile(file.read_text(), str(file), "exec"), space)
    return space[name].named(name)


def test_a_row_tells_its_decisions_and_who_set_what_in_order(otter_file):
    far = scenario(otter_file)
    trace = lt.record(far)
    row = lt.causes(trace, far, 5)
    assert (row.row, row.held, row.differing) == (5, ("dash",), ())
    assert [(why.machine, why.before, why.after, why.taken) for why in row.decisions] == [
        ("otter.swim", "resting", "dashing", ("dashes",))
    ]
    assert row.decisions[0].decisions[0].considered[0].place == "otter.py:13"
    writes = [(w.phase, w.part, w.channel, w.before, w.after) for w in row.written]
    assert writes == [
        ("machines", "otter.swim", "otter.vx", 0, 240),
        ("motion", "otter", "otter.x", 80, 84),
    ]
    assert [w.place for w in row.written if w.by_model] == ["otter.py:15"]
    assert [w.reason for w in row.written] == ["", "with vx = 240"]
    text = str(row)
    assert text.startswith("row 5 (0.083 s); held: dash\n  otter.swim: resting for 5 frames; then dashing by 'dashes'")
    assert "machines  otter.swim  otter.vx = 240 (was 0)  otter.py:15" in text
    assert text.endswith("events: dash from otter.swim, changed from otter.swim")


def test_a_body_says_why_its_motion_gave_a_value(otter_file):
    far = scenario(otter_file)
    trace = lt.record(far)
    at = {channel: lt.causes(trace, far, 7, f"otter.{channel}").written[-1].reason for channel in ("x", "vx")}
    assert trace["otter.x"][7] == 90  # 100 less its width
    assert at == {"x": "moved until it met 'wall'", "vx": "stopped by 'wall'"}
    still = lt.causes(trace, far, 7, "otter.y")
    assert (
        still.written == ()
        and still.stayed[0].startswith("otter.y stayed ")
        and "moved until it met 'solid'" in still.stayed[0]
    )
    assert "stopped by 'wall'" in str(lt.who_wrote(trace, far, 7, "otter.vx")[0])

    def build(sim):
        ball = sim.body("ball", size=(4, 4), at=(20, 60), gravity=900, limit={"x": 50}, bounce=0.5)
        sim.before("motion", lambda now: setattr(ball, "vx", 900))

    made = model(build, level=QUAY)
    trace = lt.record(made, frames=40)
    reasons = {w.channel: w.reason for w in lt.causes(trace, made, 3, "ball.*").written if not w.by_model}
    assert reasons == {
        "ball.x": "with vx = 50",
        "ball.y": f"with vy = {trace['ball.vy'][3]:g}",
        "ball.vx": "held to its limit of 50",
        "ball.vy": "gravity 900",
    }
    row = next(k for k in range(1, 41) if trace["ball.vy"][k] > 0)
    assert lt.causes(trace, made, row, "ball.vy").written[-1].reason == "thrown back by 'solid'"


def test_only_chosen_channels_are_told_and_what_cannot_be_asked_is_refused(otter_file):
    far = scenario(otter_file)
    trace = lt.record(far)
    assert lt.causes(trace, far, 5, "otter.swim").written == ()
    assert lt.causes(trace, far, 5, ["otter.v?"]).decisions == ()
    for asked, said in ((0, "row 0 is the state after reset"), (31, "rows 0..30")):
        with pytest.raises(lt.LarkTallyError, match=said):
            lt.causes(trace, far, asked)
    with pytest.raises(lt.LarkTallyError, match="matches no channel; did you mean 'otter.vx'"):
        lt.causes(trace, far, 5, "otter.vxx")
    slower = far.changed(params={"speed": 120})
    assert lt.causes(lt.record(slower), far, 5).differing == ()  # the params come from the recording
    file = otter_file.with_name("other.py")
    file.write_text(MODEL.replace("240)", "60)"))
    other = lt.causes(trace, scenario(file), 5)
    assert other.differing == ("otter.x", "otter.vx") and "another run than the recording" in str(other)


FENCE = """
import random
from dataclasses import dataclass

import larktally as lt


@dataclass(slots=True)
class Crow:
    x: float
    hp: int = 3
    rest: float = 0.0


class Fence:
    actions, events = ("peck", "pause"), ("pecked",)

    def reset(self, setup):
        self.dt, self.rng = 1 / float(setup.rate), random.Random(setup.seed)
        self.crows, self.tally = [Crow(10.0), Crow(40.0)], {"pecks": 0}
        self.paused = False

    def step(self, now):
        if now.held("pause"):
            self.paused = not self.paused
        said = []
        for crow in self.crows:
            crow.x += self.rng.choice((-1, 1))
            crow.rest = max(0.0, crow.rest - self.dt)
        if now.pressed("peck"):
            said = self.peck(self.crows[0])
        return said

    def peck(self, crow):
        crow.hp -= 1; crow.rest = 0.1
        self.tally["pecks"] += 1
        return [lt.Event("pecked", "crow")]

    def observe(self):
        return {"hp": self.crows[0].hp, "paused": self.paused, "pecks": self.tally["pecks"]}


play = lt.Scenario(Fence, frames=30, inputs=lt.InputScript().press("peck", 5).hold("pause", 9, 2), claims=[
    lt.claim("a press pauses once", "spaced(changed(paused), at_least=2)"),
    lt.claim("no pecks", "never(event('pecked'))"),
])
"""


def test_an_object_of_ones_own_tells_each_attribute_and_the_line_that_set_it(tmp_path):
    file = tmp_path / "fence.py"
    file.write_text(FENCE)
    play = scenario(file, "play")
    trace = lt.record(play)
    row = lt.causes(trace, play, 5)
    told = [(w.part, w.channel, w.before, w.after) for w in row.written if "rng" not in w.channel]
    assert [one[1] for one in told[:2]] == ["self.crows[0].x", "self.crows[1].x"]
    assert told[2:] == [
        ("peck", "self.crows[0].hp", 3, 2),
        ("peck", "self.crows[0].rest", 0.0, 0.1),
        ("peck", "self.tally['pecks']", 0, 1),
    ]
    assert {w.place for w in row.written[-3:]} == {"fence.py:35", "fence.py:36"} and row.decisions == ()
    assert sum("rng (its state)" in w.channel for w in row.written) == 2  # one draw for each crow
    assert [w.channel for w in lt.causes(trace, play, 5, "pecks").written] == ["self.tally['pecks']"]
    assert lt.causes(trace, play, 10).differing == () and sys.gettrace() is None
    output = call("run", file, "--to", tmp_path).output
    assert "step   step  self.paused = false (was true)  fence.py:25" in output
    assert "step   peck  self.crows[0].rest = 0.1 (was 0)" in output


def test_a_step_of_very_many_lines_is_followed_for_a_while_and_the_rest_told_as_one(monkeypatch):
    class Slow:
        def reset(self, setup):
            self.n, self.last = 0, 0

        def step(self, now):
            for _ in range(100):
                self.n += 1
            self.last = 99

        def observe(self):
            return {"n": self.n}

    monkeypatch.setattr("larktally.explain.lines.MOST_LOOKS", 60)
    found = lt.causes(lt.record(Slow, frames=2), Slow, 1).written
    assert found[0].after == 1 and found[-1].place == "lines after those that were followed"
    assert [w.after for w in found if w.channel == "self.last"] == [99]
    assert len(str(lt.causes(lt.record(Slow, frames=2), Slow, 1))) < 2000


def test_what_the_machines_saw_does_not_hide_the_phases(otter_file):
    seen = scenario(otter_file).changed(seen=True, claims=())
    written = lt.causes(lt.record(seen), seen, 5).written
    assert [(w.phase, w.part) for w in written] == [("machines", "otter.swim"), ("motion", "otter")]


def test_a_broken_claim_a_replay_and_a_baseline_tell_why(otter_file, tmp_path):
    result = call("run", f"{otter_file}:far", "--to", tmp_path / "t", "--baseline", tmp_path / "b", "--accept")
    assert result.exit_code == 1
    assert "         motion  otter  otter.vx = 0 (was 240)  stopped by 'wall'" in result.output
    plain = json.loads(call("run", f"{otter_file}:far", "--to", tmp_path / "t", "--json").output)
    assert plain[0]["causes"]["a dash goes on"]["written"][-1]["reason"] == "stopped by 'wall'"
    trace = tmp_path / "t" / "far.parquet"
    otter_file.write_text(MODEL.replace('"pressed', '"frame > 9 and pressed'))
    replayed = call("replay", trace, f"{otter_file}:far")
    assert replayed.exit_code == 1 and "what made it so now:" in replayed.output
    assert "frame > 9 and pressed('dash')  false" in replayed.output and "frame = 5" in replayed.output
    held = call("run", f"{otter_file}:far", "--to", tmp_path / "t", "--baseline", tmp_path / "b")
    assert "first divergence in row 5" in held.output and "what made it so now:" in held.output


def test_a_subject_that_does_not_run_again_does_not_hide_the_broken_claim(tmp_path):
    file = tmp_path / "once.py"
    file.write_text(
        "import larktally as lt\nRUNS = []\n\n\nclass Once:\n    def reset(self, setup):\n        self.n = 0\n"
        "        RUNS.append(1)\n\n    def step(self, now):\n        self.n += 1\n        if len(RUNS) > 1:\n"
        "            raise OSError('gone')\n\n    def observe(self):\n        return {'n': self.n}\n\n\n"
        "once = lt.Scenario(Once, frames=9, claims=[lt.claim('few', 'always(n < 4)')])\n"
    )
    done = call("run", file, "--to", tmp_path)
    assert done.exit_code == 1 and "first in row 4" in done.output
    assert "why      not found out: run again, it went otherwise: row 1: step failed: OSError: gone" in done.output


def test_why_on_the_command_line_takes_a_row_or_a_time(otter_file, tmp_path):
    call("run", f"{otter_file}:dash", "--to", tmp_path)
    trace = tmp_path / "dash.parquet"
    by_row = call("why", trace, otter_file, "6")
    assert by_row.exit_code == 0 and by_row.output == call("why", trace, otter_file, "0.1s").output
    few = json.loads(call("why", trace, otter_file, "7", "--only", "otter.x, otter.vx", "--json").output)
    assert [one["channel"] for one in few["written"]] == ["otter.x", "otter.vx"] and few["machines"] == []
    assert call("why", trace, otter_file, "soon").exit_code == call("why", trace, otter_file, "31").exit_code == 2


@pytest.mark.slow
def test_audit_on_the_command_line_names_what_the_last_run_left_behind(otter_file):
    sound = call("audit", f"{otter_file}:dash", "--every", "10", "--frames", "5")
    assert (
        sound.exit_code == 0
        and "rewind: 3 restores, into the same subject and into one built anew, under the same and under other inputs, gave the same rows"
        in sound.output
    )
    counted = MODEL.replace('setup.param("speed", 240)', "100 + len(RUNS); RUNS.append(0)")
    otter_file.write_text(counted.replace("YARD =", "RUNS = []\nYARD ="))
    found = call("audit", f"{otter_file}:dash", "--json")
    assert found.exit_code == 1
    (plain,) = json.loads(found.output)
    assert plain["passed"] is False and plain["rerun"]["repeated"]["row"] == 5
    assert plain["rerun"]["fresh"] == {"ran": True, "same": True, "note": ""}


def test_a_model_that_cannot_be_built_names_its_line(otter_file):
    otter_file.write_text(MODEL.replace('("resting", to', '(("resting", "resting"), to'))
    found = call("run", f"{otter_file}:dash", "--to", otter_file.parent)
    assert found.exit_code == 2 and "transition names the state 'resting' twice" in found.output
    assert "otter.py, line 13, in otter: @swim.transition" in found.output


def test_a_file_beside_the_library_whose_folder_begins_with_its_name_is_a_user_s():
    package = Path(lt.__file__).parent
    assert is_own(str(package / "timing.py")) and is_own("<guard wick.grounded>")
    theirs = (package / "demo" / "quay.py", package.with_name("larktally_game") / "model.py", "<stdin>")
    assert not any(is_own(str(file)) for file in theirs)


SEEN_BY_ALL = {"n": 0}


def hiding(where):
    """A model that keeps something beside its parts, which no row shows within some frames, or only under other inputs."""

    def model(setup):
        sim = lt.Sim(setup, actions=("hop",))
        height, marks, table = sim.value("wick.y", 0.0), [], {}
        gait = sim.machine("gait", ("on",), "on")

        def note(now):
            if where == "list":
                marks.append(now.frame)
            if where == "dict":
                table[now.frame] = height.value
            if where == "global":
                SEEN_BY_ALL["n"] += 1
            if where == "part":
                gait.extra = now.frame  # a name that it has not: told at the run's end
            if where == "asked":
                marks[:] = [now.frame]
                if now.pressed("hop"):
                    height.value = float(marks[0] + len(table))
                    table[now.frame] = 1

        sim.before("machines", note)
        return sim

    return model


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("list", "the length of marks in note (test_causes.py:"),
        ("dict", "the length of table in note (test_causes.py:"),
        ("global", "the global SEEN_BY_ALL['n'] in note (test_causes.py:"),
    ],
)
def test_the_audit_names_what_no_row_shows_and_no_load_puts_back(where, said):
    found = lt.audit(lt.Scenario(hiding(where), frames=30), rows=[3, 12], frames=8, fresh=False)
    assert not found.passed and not found.rerun.failed and len(found.rerun.forgotten) == 1
    assert found.rerun.forgotten[0].startswith(said) and "after load" in found.rerun.forgotten[0]
    assert "what the subject holds, and load did not put back, although no row showed it:" in str(found)
    assert found.plain()["rerun"]["forgotten"] == list(found.rerun.forgotten)


def test_the_audit_finds_under_other_inputs_what_the_script_never_asks_for():
    found = lt.audit(lt.Scenario(hiding("asked"), frames=60), rows=[3, 20], frames=30, fresh=False)
    assert found.rerun.failed and any("table" in suspect for one in found.rerun.failed for suspect in one.suspects)


def test_the_audit_blames_nothing_within_the_library_for_a_program():
    import sys
    from pathlib import Path

    planted = str(Path(__file__).parent / "planted_program.py")
    wrong = lt.Scenario(lt.Program([sys.executable, planted, "save forgets oil"]), frames=40,
                        inputs=lt.InputScript().press("burst", 3).press("burst", 30))  # fmt: skip
    found = lt.audit(wrong, rows=[2], frames=12, fresh=False)
    assert found.rerun.failed and found.rerun.failed[0].suspects == () and found.rerun.failed[0].channels[0][0] == "oil"
    well = lt.audit(wrong.changed(subject=lt.Program([sys.executable, planted])), rows=[2, 9], frames=12, fresh=False)
    assert well.passed and well.rerun.forgotten == ()


def staying(setup):
    """A model in which nothing is set for long: a lamp lit once, a rope without gravity, a swing, a grace, a paused clock."""
    sim = lt.Sim(setup, level=QUAY, actions=("hop",))
    play, menu = sim.clock("play"), sim.clock("menu")
    wick = sim.body("wick", size=(8, 8), at=(20, 40), clock="menu")
    lamp = sim.value("lamp.lit", False)
    swing = sim.animation(
        "pose", {"idle": lt.Clip(1), "swing": lt.Clip(30, spans={"blade": (2, 25)})}, "idle", clock="menu"
    )
    blade = sim.hitbox("blade", wick, size=(8, 8), offset=(8, 0), targets=[], clock="menu")
    swing.opens(blade, "blade")
    grace = sim.grace("grace", 40, clock="menu")
    bell = sim.countdown("bell", 90, running=True)
    mood = sim.machine("mood", ("calm", "hurt"), "calm", clock="menu")
    mood.transition("calm", to="hurt", when="pressed('hop') and lamp.lit", name="burns")

    @sim.before("machines")
    def set_things(now):
        if now.frame == 5:
            lamp.value = True
            swing.play("swing")
            grace.hurt()
        if now.frame == 8:
            play.pause()
        if now.frame == 30:
            mood.go("hurt")
        assert menu and bell

    return sim


def why_of(that, **options):
    from larktally.explain.causes import causes_of_breaches, lines_by_claim

    one = lt.Scenario(staying, frames=40, **options)
    trace = lt.record(one)
    tally = lt.check(trace, [lt.claim("c", that)])
    return "\n".join(lines_by_claim(causes_of_breaches(trace, one, tally))["c"])


def test_why_of_what_simply_stayed_says_what_holds_it_and_who_set_it_last():
    told = {
        "at(20, not lamp.lit)": "lamp.lit stayed true; set last in row 5 in machines by before machines: set_things, test_causes.py:",
        "at(20, wick.vy < 0)": "wick.vy stayed 0: gravity of 'wick' is 0; it is so since row 0",
        "at(20, not blade.open)": "blade.open stayed true: held open by the span 'blade' of 'pose', frames 2 to 25 of 'swing'; "
        "set last in row 7",
        "at(20, not grace.active)": "grace.active stayed true: 'grace' is locked for 25 more frames; set last in row 5",
        "at(20, bell.left < 50)": "bell.left stayed 82: its clock 'play' stands at rate 0; set last in row 8",
        "at(35, mood == 'calm')": "mood stayed 'hurt'; set last in row 30 by mood: go, hurt by set_things (test_causes.py:",
    }
    for that, said in told.items():
        assert said in why_of(that), that


def test_an_awaited_answer_is_explained_in_the_row_in_which_its_rule_lost():
    script = lt.InputScript().press("hop", 3)
    told = why_of("follows(pressed('hop'), mood == 'hurt', within=5)", inputs=script)
    assert told.startswith("what was awaited was decided in row 3:\nmood: calm for 3 frames; then nothing was taken")
    assert "burns  hurt  pressed('hop') and lamp.lit  false" in told and "lamp.lit = false" in told


def test_events_that_an_object_keeps_are_not_told_as_its_state():
    class Can:
        def reset(self, setup):
            self.oil, self.said, self.drops = 9, [], []

        def step(self, now):
            self.oil -= 1
            self.said = [lt.Event("drop", n=self.oil)]
            self.drops.append(self.oil)
            return self.said

        def observe(self):
            return {"oil": self.oil}

    one = lt.Scenario(Can, frames=5)
    found = lt.causes(lt.record(one), one, 3)
    assert [write.channel for write in found.written] == ["self.oil", "self.drops[2]"]


@pytest.mark.parametrize("kind", ["body", "crate"])
@pytest.mark.parametrize("lift", [False, True])
def test_every_write_of_a_place_is_told_once_whoever_it_was(kind, lift):
    def build(sim):
        if lift:
            sim.platform("lift", size=(40, 8), path=[(70, 8), (70, 60)], speed=0)
        moved = getattr(sim, kind)("otter", size=(8, 8), at=(80, 16), gravity=600)

        def rule(now):
            # In one row to another place, and in the next to the one where it is.
            if now.frame in (2, 3):
                moved.x = 81.0

        sim.before("motion", rule)

    told = lt.Scenario(model(build, level=QUAY), frames=4)
    writes = lt.who_wrote(lt.record(told), told, 4, "otter.x", most=20)[::-1]
    assert [(w.row, w.part, w.before, w.after, bool(w.place)) for w in writes] == [
        (1, "otter", 80, 80, False),
        (2, "before motion: rule", 80, 81, True),
        (2, "otter", 81, 81, False),
        (3, "before motion: rule", 81, 81, True),
        (3, "otter", 81, 81, False),
        (4, "otter", 81, 81, False),
    ]
    assert len({w.channel for w in writes}) == 1


def test_what_moves_by_itself_is_told_once_and_where_nothing_else_is_how_to_ask_for_it():
    def build(sim):
        sim.platform("lift", size=(24, 8), path=[(40, 20), (40, 80)], speed=60)

    told = lt.Scenario(model(build, level=QUAY), frames=4)
    trace = lt.record(told)
    assert "no rule decided or set anything; what else moved is told" in str(lt.causes(trace, told, 2))
    asked = str(lt.causes(trace, told, 2, only="lift.*"))
    assert asked.count("lift.y = 22 (was 21)") == 1 and "lift.x stayed 40" in asked and "no rule" not in asked
