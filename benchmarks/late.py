"""Late inputs: what guessing and going back costs over the steps, the load and the save that it cannot do without.

python benchmarks/late.py
"""

from __future__ import annotations

import statistics
import time

import larktally as lt
from larktally.demo import quay
from larktally.runs.rollback import LateRun
from larktally.runs.runner import Runner

LATE, FRAMES = 6, 600


def alone(scenario: lt.Scenario, plain: lt.Trace) -> float:
    """Seconds of the same steps, one load and one save a frame, with the same inputs, and nothing else."""
    held = plain.inputs["left"].tolist()
    run = Runner(scenario.changed(inputs=lt.InputScript()))
    start = time.perf_counter()
    saved = run.snapshot()
    for row in range(1, FRAMES + 1):
        run.restore(saved)
        run.feed.change("left", row, held[row])
        run.to(row)
        saved = run.snapshot()
        # The last that is known is what is guessed.
        run.to(min(row + LATE, FRAMES))
    return time.perf_counter() - start


def main() -> None:
    inputs = lt.InputScript().tap("left", 1, 2, FRAMES // 2)
    scenario = quay.dusk_run.changed(frames=FRAMES, claims=(), inputs=inputs, until=None)
    plain = lt.record(scenario)
    ratios = []
    for _ in range(9):
        start = time.perf_counter()
        truth = list(zip(*(values.tolist() for values in plain.inputs.values()), strict=True))
        run = LateRun(scenario, tuple(plain.inputs), truth, plain.frames, late=LATE).led()
        taken = time.perf_counter() - start
        # Known by its last place: what is confirmed is the plain run.
        assert run.confirmed[-1].values[0] == plain[plain.channels[0]][-1]
        assert len(run.corrections) >= FRAMES - 1 and run.frames_again <= LATE * (FRAMES + LATE)
        ratios.append(taken / alone(scenario, plain))
    print(
        f"every guess wrong, {LATE} frames late: {statistics.median(ratios):.2f} of its steps, load and save alone; goal 1.2"
    )


if __name__ == "__main__":
    main()
