"""A game in another language as a subject: two small ones, in C and in JavaScript, each with a fault behind a switch.

They speak the protocol of docs/programs.md over their standard input and output. The claims stand in files beside them;
the one in C also runs side by side with a model of its rules, which shows in which frame it leaves them.
"""

import shutil
import subprocess
import tempfile
from pathlib import Path

import larktally as lt

HERE = Path(__file__).parent / "programs"
QUAY = lt.Level([lt.geometry.box_at((-1000, 0), (4000, 16))])


def rules(setup: lt.Setup) -> lt.Sim:
    """The rules that the game in C is meant to keep."""
    sim = lt.Sim(setup, level=QUAY, actions=("left", "right", "hop", "burst"), events=("hop",))
    wick = sim.body("wick", size=(12, 20), at=(24, 16), gravity=900)
    facing = sim.value("wick.facing", 1)
    bellows = sim.cooldown("wick.burst", 48)
    gait = sim.machine("wick.gait", ("standing", "airborne"), "standing")

    @gait.during("standing", "airborne")
    def steer(now: lt.StepContext) -> None:
        facing.value = int(now.axis("left", "right")) or facing.value
        if now.pressed("burst"):
            bellows.use()
        wick.vx = 320 * facing.value if bellows.left > 38 else 120 * now.axis("left", "right")

    @gait.transition("standing", to="airborne", when="pressed('hop')")
    def push_off(now: lt.StepContext) -> None:
        wick.launch(vy=360)
        now.emit("hop")

    gait.transition("airborne", to="standing", when="wick.grounded")
    return sim


evening = lt.Scenario(
    rules,
    frames=220,
    inputs=lt.InputScript()
    .hold("right", start=1, frames=190)
    .press("hop", start=30)
    .press("hop", start=52)
    .press("burst", start=100)
    .press("burst", start=130)
    .press("burst", start=150),
)


def tell(program: list[str], claims: str, scenario: lt.Scenario) -> lt.Tally:
    """Records a program and checks its claims."""
    trace = lt.record(scenario.changed(subject=lt.Program(program)))
    tally = lt.check(trace, lt.load_claims(HERE / claims, trace.channels))
    print(
        f"{trace.header.program['name']} {' '.join(program[1:])}: {trace.rows} rows, digest {trace.digest[:12]}\n{tally}\n"
    )
    return tally


def in_c(folder: Path) -> None:
    """The game in C: compiled, claimed, and set beside the model."""
    game = folder / "lantern"
    subprocess.run(["cc", "-O2", "-Wall", "-o", game, HERE / "lantern.c"], check=True)
    assert tell([str(game)], "lantern.claims.toml", evening).passed
    faulty = tell([str(game), "--faulty"], "lantern.claims.toml", evening)
    assert [result.name for result in faulty.failed] == ["a hop starts on the ground"]
    beside = lt.side_by_side(evening, lt.Program([str(game)]))
    print(f"beside its rules: {beside.divergence or 'the same in every row that both have'}")
    assert beside.divergence is None, beside
    beside = lt.side_by_side(evening, lt.Program([str(game), "--faulty"]))
    print(f"with its fault beside its rules: {beside.divergence}\n")
    assert beside.divergence.row == 52


def in_javascript() -> None:
    """The game for Node."""
    stay = lt.Scenario(rules, frames=400, inputs=lt.InputScript().hold("right", 1, 60))
    program = ["node", str(HERE / "moth.js")]
    assert tell(program, "moth.claims.toml", stay).passed
    faulty = tell([*program, "--faulty"], "moth.claims.toml", stay)
    assert [result.name for result in faulty.failed] == ["a moth rests half a second after a strike"]


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        if shutil.which("cc"):
            in_c(Path(temporary))
        else:
            print("there is no C compiler here (cc), so the game in C was not run")
    if shutil.which("node"):
        in_javascript()
    else:
        print("there is no Node here, so the game in JavaScript was not run")
