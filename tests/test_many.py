"""Many runs, elsewhere: in processes, in executors and on a cluster the same bytes as here; and presses that are shifted."""

import json
import os
import pickle
import re
import shutil
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.runs.many import run_each
from larktally.runs.model_files import load_scenarios, module_of_file
from larktally.runs.travelling import packed, unpacked

MODEL = """
import larktally as lt
from numbers_of_leap import KEEP

CANAL = lt.Level([lt.geometry.box_at((0, 0), (400, 16))])


def hopper(setup):
    sim = lt.Sim(setup, level=CANAL, actions=("right", "hop"), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    ask = sim.press_buffer("wick.ask", "hop", keep=setup.duration("keep", KEEP))
    gait = sim.machine("gait", ("ground", "air"), "ground")
    speed = setup.param("speed", 300.0)

    @gait.transition("ground", to="air", when="wick.ask.waiting and wick.grounded")
    def up(now):
        ask.take()
        wick.launch(vy=speed)
        now.emit("hop")

    gait.transition("air", to="ground", when="wick.grounded")
    return sim


class Walker:
    actions = ("right",)

    def __init__(self, step=1.0):
        self.length = step

    def reset(self, setup):
        self.x = 0.0

    def step(self, now):
        self.x += self.length * now.held("right")

    def observe(self):
        return {"x": self.x}


leap = lt.Scenario(
    hopper,
    frames=150,
    inputs=lt.InputScript().press("hop", 10),
    claims=[lt.claim("two hops", "at_least(event('hop'), 2)")],
    measures={"top": "apex(wick.y)"},
)
walk = lt.Scenario(Walker(2.0), frames=20, inputs=lt.InputScript().hold("right", 3, 9))
"""


@pytest.fixture
def file(tmp_path):
    (tmp_path / "numbers_of_leap.py").write_text('KEEP = "6f"\n')
    path = tmp_path / "leap.py"
    path.write_text(MODEL)
    return path


@pytest.fixture
def leap(file):
    return load_scenarios(f"{file}:leap")[0]


def cli(*words):
    return CliRunner().invoke(main, [str(word) for word in words])


SHIFT = lt.Shift("hop", around="event('landed')", by=range(-12, 13))


# --- presses that are shifted ------------------------------------------------------------------------------------------------


def test_a_window_is_what_a_loop_by_hand_finds(leap):
    landed = lt.record(leap).events.named("landed")[0].row
    by_hand = []
    for by in range(-12, 13):
        changed = leap.changed(inputs=leap.inputs.press("hop", landed + by))
        if len(lt.record(changed).events.named("hop")) == 2:
            by_hand.append(by)
    window = lt.window_of(leap, SHIFT, "two hops")
    assert window == by_hand and window == range(-4, 13) and window.stretches == [(-4, 12)]
    assert window == lt.window_of(leap, SHIFT, "at_least(event('hop'), 2)") != range(-4, 12)
    assert str(window) == "from -4 to 12: 17 frames (0.283 s); tried as far as 12"
    narrow = lt.Shift("hop", around="event('landed')", by=[-6, -5, -3, 0, 1])
    assert (
        str(lt.window_of(leap, narrow, "two hops")) == "-3 and 0..1, not -2..-1: 3 frames (0.050 s); tried as far as 1"
    )
    assert str(lt.window_of(leap, narrow, "at_least(event('hop'), 3)")) == "never, of -6..1"


def test_a_press_is_shifted_beside_other_values_and_told_as_windows(leap, file):
    found = lt.vary(leap, {"keep": ["2f", "6f"]}, shift=SHIFT)
    assert len(found) == 50 and [str(window).partition(":")[0] for _, _, window in found.windows()] == [
        "from 0 to 12",
        "from -4 to 12",
    ]
    ran = cli("vary", file, "--shift", "hop @ event('landed') = -6..0", "--longer", "1,3")
    assert ran.exit_code == 2 and "holds several scenarios" in ran.stderr
    ran = cli("vary", f"{file}:leap", "--shift", "hop @ event('landed') = -6..0")
    assert ran.exit_code == 1 and "  two hops: kept from -4 to 0: 5 frames (0.083 s); tried as far as 0" in ran.output
    assert "    ..####|#\n" in ran.output


@pytest.mark.parametrize(
    ("shift", "told"),
    [
        (lt.Shift("hopp", around="event('landed')", by=[0]), "no action 'hopp'.*did you mean 'hop'"),
        (lt.Shift("hop", around="event('hop') and wick.y > 900", by=[0]), "holds in no row .* nothing to shift around"),
        (lt.Shift("hop", around="wick.y > 30", by=[0]), "holds in .* rows .* say which with nth=1"),
        (lt.Shift("hop", around="event('landed')", by=[0], nth=2), "holds in 1 row .* no nth=2"),
        (lt.Shift("hop", around="event('landed')", by=[-60]), "is frame -12, and this run has frames 1..150"),
        (lt.Shift("hop", around="event('lande')", by=[0]), "lande"),
    ],
)
def test_what_there_is_nothing_to_shift_around_is_told(leap, shift, told):
    with pytest.raises(lt.LarkTallyError, match=told):
        lt.vary(leap, shift=shift)


@pytest.mark.parametrize("wrong", [{"by": []}, {"by": [1.5]}, {"by": [1], "nth": 0}, {"by": [1], "frames": 0}])
def test_a_shift_says_what_does_not_fit(wrong):
    with pytest.raises(lt.LarkTallyError, match="a shift of 'hop'"):
        lt.Shift("hop", around="event('landed')", **wrong)


def asks_for_held(setup):
    sim = lt.Sim(setup)
    sim.value("n", setup.param("held", 1) + setup.param("jitter", 1))
    return sim


def test_presses_are_held_longer_and_jittered_and_it_is_told_which_claims_hang_on_it(leap):
    two = leap.changed(inputs=leap.inputs.press("hop", 46))
    held = lt.vary(two, held=[1, 2, 5])
    assert [[span.frames for span in run.scenario.inputs.spans] for run in held] == [[1, 1], [2, 2], [5, 5]]
    # A model's own params may have those names.
    named = lt.vary(lt.Scenario(asks_for_held, frames=1), {"held": [2, 3], "jitter": [0]})
    assert [run.scenario.params for run in named] == [{"held": 2, "jitter": 0}, {"held": 3, "jitter": 0}]
    assert "hangs on" not in str(named)
    found = lt.vary(two, jitter=4)
    assert len(found) == 20 and found[0].scenario.inputs == two.inputs
    kept = sum(run.kept for run in found)
    assert 0 < kept < 20 and f"two hops hangs on the frames of the presses: kept in {kept} of 20 draws" in str(found)
    assert [run.scenario.inputs for run in found] == [run.scenario.inputs for run in lt.vary(two, jitter=4)]


# --- elsewhere -----------------------------------------------------------------------------------------------------------------


def test_what_travels_is_run_from_its_sources_where_nothing_else_is(file, tmp_path):
    parcel = packed(load_scenarios(str(file)))
    assert {name for names in parcel.sources.values() for name in names} == {"leap.py", "numbers_of_leap.py"}
    (tmp_path / "parcel").write_bytes(pickle.dumps(parcel))
    here = [lt.record(one).digest for one in load_scenarios(str(file))]
    # As on a machine without these files, and once more with other files under their names.
    for content in (None, "raise SystemExit(3)"):
        for name in ("leap.py", "numbers_of_leap.py"):
            (file.parent / name).unlink(missing_ok=True)
            if content:
                (file.parent / name).write_text(content)
        code = (
            "import pickle, sys, larktally as lt; from larktally.runs.travelling import unpacked\n"
            "print([lt.record(one).digest for one in unpacked(pickle.load(open(sys.argv[1], 'rb')))])"
        )
        ran = subprocess.run([sys.executable, "-c", code, tmp_path / "parcel"], capture_output=True, text=True)
        assert ran.stdout.strip() == repr(here), ran.stderr


def test_a_worker_that_lives_on_runs_the_new_sources(file):
    before = unpacked(packed(load_scenarios(f"{file}:leap")[0]))
    (file.parent / "numbers_of_leap.py").write_text('KEEP = "2f"\n')
    sys.modules.pop("numbers_of_leap", None)
    after = unpacked(packed(load_scenarios(f"{file}:leap")[0]))
    windows = [lt.window_of(one, SHIFT, "two hops").taken[0] for one in (before, after)]
    assert windows == [-4, 0]


def closure(setup):
    def step(now):
        return None

    return step


def test_what_cannot_travel_is_named_with_the_way_and_threads_take_it(leap):
    def inside(setup):
        return lt.Sim(setup)

    here = lt.Scenario(inside, frames=5)
    with pytest.raises(
        lt.LarkTallyError, match=r"inside \(test_many.py:\d+\) is made inside of a function.*top level of a file"
    ):
        lt.vary(here, seeds=[1, 2], workers=2)
    with ThreadPoolExecutor(2) as threads:
        assert len(lt.vary(here, seeds=range(5), executor=threads)) == 5


@pytest.mark.slow
def test_in_processes_and_threads_the_same_bytes_come_in_the_same_order(leap, file):
    def told(**where):
        shown = []
        found = lt.vary(
            leap, {"speed": [280, 300, 340]}, rates=[30, 60], measures=["apex(wick.y)"], shift=SHIFT,
            on_progress=lambda done, of: shown.append(done), **where,
        )  # fmt: skip
        assert shown == list(range(1, 151))
        return str(found), found.plain()

    here = told()
    assert told(workers=2) == here
    with ThreadPoolExecutor(3) as threads:
        assert told(executor=threads) == here
    alone = cli("vary", f"{file}:leap", "--shift", "hop @ event('landed') = -6..6", "--json")
    assert (
        cli("vary", f"{file}:leap", "--shift", "hop @ event('landed') = -6..6", "--json", "--workers", "2").output
        == alone.output
    )
    # A script that asks at its top level is not run again by its own workers.
    script = file.parent / "asks.py"
    script.write_text(
        "import larktally as lt\nfrom leap import leap\nprint(len(lt.vary(leap, seeds=range(9), workers=2)))\n"
    )
    ran = subprocess.run([sys.executable, script], capture_output=True, text=True, timeout=60)
    assert ran.stdout.split() == ["9"], ran.stderr


def dies_once(marker: str, n: int) -> int:
    path = Path(marker)
    if n == 3 and not path.exists():
        path.write_text("died")
        os.kill(os.getpid(), signal.SIGKILL)
    return n * n


def dies(n: int) -> int:
    if n == 3:
        os.kill(os.getpid(), signal.SIGKILL)
    return n * n


def sleeps(n: int) -> int:
    time.sleep(60)
    return n


@pytest.mark.slow
def test_a_worker_that_dies_costs_its_chunk_once_more_and_one_that_dies_again_is_named(tmp_path):
    found = run_each(partial(dies_once, str(tmp_path / "marker")), range(40), workers=2)
    assert list(found) == [n * n for n in range(40)]
    done = []
    with pytest.raises(lt.LarkTallyError, match="ran item 4 of 40 ended twice before it had a result"):
        done.extend(run_each(dies, range(40), workers=2))


@pytest.mark.parametrize("wrong", ["two", "0", "-1"])
def test_a_number_of_workers_that_is_none_is_told(file, wrong):
    ran = cli("vary", f"{file}:leap", "--seed", "1", "--workers", wrong)
    assert ran.exit_code == 2 and "--workers takes a number of processes" in ran.stderr


def marked(mark):
    found = []
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            if mark.encode() in Path(f"/proc/{pid}/environ").read_bytes():
                found.append(pid)
        except OSError:
            continue
    return found


@pytest.mark.slow
def test_ctrl_c_ends_every_process(tmp_path):
    script = tmp_path / "many.py"
    script.write_text(
        "import os\nfrom larktally.runs.many import run_each\nfrom sleeper import sleeps\nprint('up', flush=True)\n"
        "list(run_each(sleeps, range(4), workers=2))\n"
    )
    (tmp_path / "sleeper.py").write_text("import time\ndef sleeps(n):\n    print(n, flush=True)\n    time.sleep(60)\n")
    mark = f"LARKTALLY_MANY_{os.getpid()}"
    process = subprocess.Popen(
        [sys.executable, script],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, mark: "1"},
    )
    assert process.stdout.readline() == "up\n" and process.stdout.readline().strip() in "0123"
    process.send_signal(signal.SIGINT)
    assert process.wait(20) != 0
    until = time.monotonic() + 10
    while marked(mark) and time.monotonic() < until:
        time.sleep(0.05)
    assert not marked(mark)
    process.stdout.close(), process.stderr.close()


@pytest.fixture(scope="module")
def cluster():
    pytest.importorskip("distributed", reason="needs Dask: python -m pip install '.[cluster]'")
    from distributed import LocalCluster

    with LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, host="127.0.0.1", silence_logs=50
    ) as running:
        yield running


@pytest.mark.slow
def test_on_a_cluster_the_same_bytes_come_in_the_same_order_and_one_that_is_not_there_is_told(cluster, file, leap):
    words = ("vary", f"{file}:leap", "--shift", "hop @ event('landed') = -6..6", "--param", "speed=280,300")
    assert cli(*words, "--cluster", cluster.scheduler_address).output == cli(*words).output
    missing = cli(*words, "--cluster", "tcp://127.0.0.1:1")
    assert missing.exit_code == 2 and "no Dask scheduler answers at tcp://127.0.0.1:1" in missing.stderr


@pytest.mark.slow
def test_a_worker_of_a_cluster_that_is_killed_costs_its_chunk_once_more(cluster, tmp_path):
    from distributed import Client

    with Client(cluster, set_as_default=False) as client:
        found = run_each(
            partial(dies_once, str(tmp_path / "marker")), range(20), executor=client.get_executor(retries=1)
        )
        assert list(found) == [n * n for n in range(20)]


# --- a build farm ------------------------------------------------------------------------------------------------------------------


FARM = """
import larktally as lt


class Steady:
    runs = 0

    def reset(self, setup):
        type(self).runs += 1
        self.x = 0.0

    def step(self, now):
        self.x += 1.0

    def observe(self):
        return {"x": self.x}


class Unsteady(Steady):
    def step(self, now):
        self.x += self.runs


class Failing(Steady):
    def step(self, now):
        self.x += 1 / (5 - now.frame)


rises = lt.claim("it rises", "always(x >= 0)")
rope_a = lt.Scenario(Steady, frames=20, claims=[rises])
rope_b = lt.Scenario(Steady, frames=20, claims=[lt.claim("it stays low", "always(x < 10)")])
bell = lt.Scenario(Unsteady, frames=20, claims=[rises])
lamp = lt.Scenario(Failing, frames=20, claims=[rises])
plain = lt.Scenario(Steady, frames=20)
"""


@pytest.fixture
def farm(tmp_path):
    (tmp_path / "farm" / "deep").mkdir(parents=True)
    (tmp_path / "farm" / "a.py").write_text(FARM)
    (tmp_path / "farm" / "deep" / "b.py").write_text(
        "import larktally as lt\n\n\n"
        + FARM.partition("rises =")[0].partition("\n\n")[2]
        + "late = lt.Scenario(Steady, frames=3)\n"
    )
    # Neither is run: one holds no scenario, one would never end.
    (tmp_path / "farm" / "test_a.py").write_text("from a import rope_a  # a larktally Scenario\n")
    (tmp_path / "farm" / ".hidden").mkdir()
    (tmp_path / "farm" / ".hidden" / "c.py").write_text("larktally = Scenario = 1 / 0\n")
    return tmp_path / "farm"


def test_a_folder_is_run_with_one_line_over_all_and_the_traces_of_what_failed(farm, tmp_path):
    ran = cli("run", farm, "--quiet", "--keep", "failed", "--to", tmp_path / "t", "--junit", tmp_path / "j.xml")
    assert ran.exit_code == 3
    assert re.fullmatch(
        r"6 scenarios: 2 kept, 1 broken \(rope_b\), 1 failed \(lamp\), 2 with no claims; \d+\.\d s",
        ran.stdout.splitlines()[-1],
    )
    assert {path.name for path in (tmp_path / "t").iterdir()} == {"rope_b.parquet", "lamp.stopped.parquet"}
    assert cli("run", farm, "--keep", "none", "--to", tmp_path / "n").exit_code == 3 and not list(
        (tmp_path / "n").iterdir()
    )


def test_a_second_run_that_is_another_is_unsteady_and_no_ordinary_red(farm, tmp_path):
    ran = cli("run", farm, "--match", "bell", "--twice", "--to", tmp_path / "t")
    assert ran.exit_code == 1 and "unsteady: the same run again is another: " in ran.output and "row 1" in ran.output
    ran = cli("run", farm, "--match", "rope_*", "--twice", "--quiet", "--to", tmp_path / "t")
    assert "2 scenarios: 1 kept, 1 broken (rope_b)" in ran.output and "unsteady" not in ran.output


def test_shards_share_out_every_scenario_once(farm, tmp_path):
    names = []
    for n in (1, 2, 3, 4):
        ran = cli("run", farm, "--shard", f"{n}/4", "--json", "--to", tmp_path / "t")
        names += [one["scenario"] for one in json.loads(ran.stdout)]
    assert sorted(names) == ["bell", "lamp", "late", "plain", "rope_a", "rope_b"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--shard", "5/4"), "--shard takes N/OF"),
        (("--shard", "0/4"), "--shard takes N/OF"),
        (("--match", "nothing"), "no scenario is called so; there are: bell, "),
        (("--keep", "none", "--plot"), "leaves no trace"),
    ],
)
def test_what_a_farm_cannot_do_is_told(farm, words, told):
    ran = cli("run", farm, *words)
    assert ran.exit_code == 2 and told.replace("bell, ", "") in ran.stderr


@pytest.mark.slow
def test_scenarios_are_shared_among_processes_and_told_as_if_one_after_the_other(farm, tmp_path):
    def told(*more):
        folder = tmp_path / "same"
        shutil.rmtree(folder, ignore_errors=True)
        ran = cli("run", farm, "--to", folder, "--junit", tmp_path / "j.xml", *more)
        suites = re.sub(r'time="[^"]*"', "", (tmp_path / "j.xml").read_text())
        return ran.stdout, ran.stderr, ran.exit_code, suites, sorted(path.name for path in folder.iterdir())

    assert told("--workers", "2") == told()


@pytest.mark.slow
def test_scenarios_or_the_checks_of_one_are_audited_elsewhere_and_told_as_if_here(file):
    leap = f"{file}:leap"
    for target in (file, leap):
        here, there = (cli("audit", target, "--json", "--workers", count) for count in (1, 2))
        assert (there.stdout, there.stderr, there.exit_code) == (here.stdout, here.stderr, here.exit_code)
    assert {"unlike itself", "other rates"} <= set(json.loads(cli("audit", leap, "--json").stdout)[0]["ran"])
    made = load_scenarios(leap)[0]
    seen = []
    shared = lt.audit(made, fresh=False, workers=2, on_progress=lambda done, of: seen.append((done, of)))
    assert shared.plain() == lt.audit(made, fresh=False).plain() and seen[-1] == (7, 7)
    ran = cli("audit", leap, "--workers", "none")
    assert ran.exit_code == 2 and "--workers takes a number" in ran.stderr


# --- explore -----------------------------------------------------------------------------------------------------------------------


# The models of the benchmark, and beside them a rule that nothing reaches, and an object that has no machine.
DOORS = (
    (Path(__file__).parent.parent / "benchmarks" / "hidden_doors.py").read_text()
    + """

def never(setup):
    sim = narrow(setup)
    sim.parts["lever"].transition("down", to="up", when="wick.x > 5000 and wick.grounded", name="never")
    return sim


class Lamp:
    # Saves nothing, and has no machine.

    actions = ("tap", "off")

    def reset(self, setup):
        self.n, self.mode = 0, "dark"

    def step(self, now):
        self.n = 0 if now.pressed("off") else self.n + now.pressed("tap")
        self.mode = "bright" if self.n == 5 else self.mode

    def observe(self):
        return {"n": self.n, "mode": self.mode}


three_doors = doors["three"]
narrow_and_never = lt.Scenario(never, frames=60)
lamp = lt.Scenario(Lamp, frames=30, claims=[lt.claim("it stays dark", "always(mode == 'dark')")])
"""
)


@pytest.fixture
def doors(tmp_path):
    path = tmp_path / "doors.py"
    path.write_text(DOORS)
    return path


def rules_of(scenario):
    return {
        (name, rule.name) for name, outline in lt.record(scenario).header.outlines.items() for rule in outline.rules
    }


@pytest.mark.parametrize("name", ["three", "counter", "chain", "paused"])
def test_hidden_doors_are_opened_by_few_presses_and_each_run_does_what_it_says(doors, name):
    scenario = module_of_file(doors).doors[name]
    found = lt.explore(scenario, runs=2000)
    reached = {(one.target.about, one.target.name) for one in found.found if one.target.is_rule}
    known = {(one.about, one.name) for one in found.known if one.is_rule}
    assert reached | known == rules_of(scenario) and not found.missed
    for one in found.found:
        assert lt.check(lt.record(one.scenario), one.scenario.claims).passed, one.what
        assert lt.rows_where(lt.record(one.scenario), one.target.condition)[0] == one.row


@pytest.mark.slow
def test_a_narrow_number_is_come_to_and_what_stays_out_of_reach_is_told_with_the_part_that_never_held(doors):
    scenario = module_of_file(doors).narrow_and_never
    found = lt.explore(scenario, runs=1500)
    assert "pulled" in {one.target.name for one in found.found if one.target is not None}
    ((target, near),) = found.missed
    assert target.name == "never" and near.missing == ("wick.x > 5000",)
    assert f"out of reach: rule 'never' of lever; nearest in row {near.row}: wick.x > 5000" in str(found)


def test_an_object_that_saves_nothing_is_explored_from_prefixes_and_its_claim_broken(doors):
    lamp = load_scenarios(f"{doors}:lamp")[0]
    found = lt.explore(lamp, runs=200)
    (broken,) = found.broken
    assert broken.claim == "it stays dark" and len(broken.scenario.inputs.spans) == 5 and not found.passed
    assert str(found) == str(lt.explore(lamp, runs=200)) != str(lt.explore(lamp, runs=3))


@pytest.mark.slow
def test_the_same_is_found_whoever_does_the_runs_and_kept_as_a_suite(doors, tmp_path):
    three = load_scenarios(f"{doors}:three_doors")[0]
    here = lt.explore(three, runs=200, seed=3)
    assert str(lt.explore(three, runs=200, seed=3, workers=2)) == str(here)
    ran = cli("explore", f"{doors}:three_doors", "--runs", "200", "--seed", "3", "--out", tmp_path / "finds")
    assert ran.exit_code == 0 and str(here).splitlines()[1] in ran.output
    again = cli("run", tmp_path / "finds", "--quiet", "--to", tmp_path / "t")
    assert again.exit_code == 0 and f"{len(here.found)} scenarios: {len(here.found)} kept" in again.output
    ran = cli("explore", f"{doors}:lamp", "--runs", "200", "--out", tmp_path / "broken", "--json")
    assert ran.exit_code == 1 and json.loads(ran.stdout)["found"][0]["what"] == "breaks 'it stays dark'"
    again = cli("run", tmp_path / "broken", "--match", "find_breaks*", "--quiet", "--to", tmp_path / "t")
    assert again.exit_code == 1 and "1 broken" in again.output


class Breaks:
    """Fails where it is held in its thirtieth frame."""

    actions = ("a",)

    def reset(self, setup):
        self.n = 0

    def step(self, now):
        self.n += 1
        if self.n == 30 and now.held("a"):
            raise ValueError("odd")

    def observe(self):
        return {"n": self.n, "x": float("nan") if self.n > 20 else 0.0, "mode": "early" if self.n < 25 else "late"}


def test_an_action_that_stops_a_clock_is_left_alone_unless_it_is_named():
    def menu(setup):
        sim = lt.Sim(setup, actions=("pause", "strike"))
        play, _ = sim.clock("play"), sim.clock("front")
        shown = sim.machine("menu", ("no", "yes"), "no", clock="front")
        shown.transition("no", to="yes", when="pressed('pause')", name="opens")
        shown.transition("yes", to="no", when="pressed('pause')", name="closes")
        shown.enter("yes")(lambda now: play.pause())
        shown.leave("yes")(lambda now: play.run(1))
        return sim

    run = lt.Scenario(menu, frames=60)
    found = lt.explore(run, runs=32)
    assert found.left_alone == ("pause",) and "not pressed, since it stops a clock: pause" in str(found)
    assert not lt.explore(run, runs=200, actions=["pause", "strike"]).missed


def test_what_is_odd_under_other_inputs_is_a_find_and_made_small(tmp_path):
    def ledge(setup):
        sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((0, 0), (200, 16))]), actions=("left", "right"))
        body = sim.body("wick", size=(12, 20), at=(90, 16))
        sim.before("motion")(lambda now: body.steer(vx=240 * now.axis("left", "right")))
        return sim

    walk = lt.Scenario(ledge, frames=120, inputs=lt.InputScript().hold("right", 1, 10), name="walk")
    found = lt.explore(walk, runs=60, frames=120)
    (odd,) = (one for one in found.found if one.finding is not None)
    assert odd.finding.check == "trouble" and odd.finding.about == "wick" and not found.passed
    assert len(odd.scenario.inputs.spans) == 1 and "odd: trouble: wick: leaves the level" in str(found)
    trace = lt.record(odd.scenario)
    assert not (0 <= trace["wick.x"][odd.row] <= 188) and all(
        0 <= trace["wick.x"][row] <= 188 for row in range(odd.row)
    )
    # What is meant so is no find.
    assert lt.explore(walk.changed(intended=[odd.finding.identity]), runs=60, frames=120).passed


def test_a_subject_that_fails_under_some_inputs_is_a_find_and_nan_and_labels_are_no_trouble():
    scenario = lt.Scenario(Breaks, frames=20, allow_nan=True)
    found = lt.explore(scenario, runs=60, frames=50)
    (failed,) = [one for one in found.found if one.failure]
    assert failed.what == "the subject fails: ValueError: odd" and failed.row == 30 and not found.passed
    with pytest.raises(lt.SubjectFailed, match="row 30"):
        lt.record(failed.scenario)
    assert "mode == 'late'" in {one.what for one in found.found}
    assert "no machines are known here" in str(found)


@pytest.mark.parametrize(
    ("given", "told"),
    [({"actions": ["hitt"]}, "no action 'hitt'.*did you mean 'hit'"), ({"workers": 0}, "workers is a number")],
)
def test_what_cannot_be_explored_is_told(doors, given, told):
    with pytest.raises(lt.LarkTallyError, match=told):
        lt.explore(module_of_file(doors).doors["counter"], runs=5, **given)
    with pytest.raises(lt.LarkTallyError, match="needs on/off actions"):
        lt.explore(lt.Scenario(lambda setup: lt.Sim(setup), frames=5))
