"""Many runs: 1,000 of 600 frames on two processes against one, and how many runs open hidden doors.

python benchmarks/many.py [--runs N] [--rounds N]
"""

from __future__ import annotations

import argparse
import os
import statistics
import time

import hidden_doors

import larktally as lt


def varied(scenario: lt.Scenario, runs: int, workers: int) -> tuple[float, str]:
    """Seconds that so many runs take, and what they came to."""
    start = time.perf_counter()
    found = lt.vary(scenario, seeds=range(runs), workers=workers)
    return time.perf_counter() - start, str(found)


def shared(runs: int, rounds: int) -> None:
    """As many runs on two processes as on one, in turn; the same bytes."""
    pairs = []
    for _ in range(rounds):
        alone, told = varied(hidden_doors.walk, runs, 1)
        both, same = varied(hidden_doors.walk, runs, 2)
        assert told == same and "failed" not in told
        pairs.append((alone, both))
    ratio = statistics.median(alone / both for alone, both in pairs)
    load = os.getloadavg()[0]
    seconds = statistics.median(alone for alone, _ in pairs)
    print(f"{runs} runs of 600 frames: one process {seconds:.2f} s, two {ratio:.2f} times as fast")
    print(f"  goal 1.6 where the parent shares the cores; load {load:.1f} on {os.cpu_count()} cores")


def opened() -> None:
    """How many runs it takes to reach every rule behind its door, over three seeds; goal 2,000, where random scripts do not."""
    for scenario in hidden_doors.doors.values():
        counts = []
        for seed in range(3):
            found = lt.explore(scenario, runs=2000, seed=seed)
            counts.append("not" if found.missed else str(found.runs))
        random = random_reach(scenario)
        print(
            f"{scenario.title:8} every rule reached after {', '.join(counts)} runs; 2,000 random scripts reach {random}"
        )


def random_reach(scenario: lt.Scenario) -> str:
    """How many of the rules 2,000 random scripts reach."""
    first = lt.record(scenario)
    rules = {(name, rule.name) for name, outline in first.header.outlines.items() for rule in outline.rules}
    chances = dict.fromkeys(first.header.actions, 2 / 60)
    reached: set[tuple[str, str]] = set()
    for seed in range(2000):
        script = lt.InputScript.at_random(chances, int(scenario.frames), seed, 60)
        for event in lt.record(scenario.changed(inputs=script)).events.named("changed"):
            reached.add((event.source, event.data["by"]))
    return f"{len(reached & rules)} of {len(rules)}"


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--runs", type=int, default=1000)
    options.add_argument("--rounds", type=int, default=5)
    asked = options.parse_args()
    shared(asked.runs, asked.rounds)
    opened()


if __name__ == "__main__":
    main()
