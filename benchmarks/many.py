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
from larktally.demo.evening import SCENARIOS
from larktally.search.branch_rows import Branch, lead


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


def through_a_cluster(runs: int, rounds: int) -> None:
    """As many runs through a scheduler and two workers on the loopback address as in one process, in turn; the same bytes."""
    try:
        from distributed import Client, LocalCluster
    except ImportError:
        print("no Dask here: python -m pip install 'lark-tally[cluster]'")
        return
    with (
        LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,
        Client(cluster, set_as_default=False) as client,
    ):
        pairs = []
        for n in range(rounds + 1):
            alone, told = varied(hidden_doors.walk, runs, 1)
            start = time.perf_counter()
            found = lt.vary(hidden_doors.walk, seeds=range(runs), executor=client.get_executor())
            shared = time.perf_counter() - start
            assert str(found) == told
            # The first makes the workers load what they need.
            if n:
                pairs.append((alone, shared))
    ratio = statistics.median(alone / shared for alone, shared in pairs)
    print(f"  through Dask with two workers {ratio:.2f} times as fast as one process; goal 1.6")


def from_saved_states() -> None:
    """New rows a second where a search goes on from saved states, against running the rows before them again; goal 3."""
    scenario = SCENARIOS["evening_won"].changed(until=None, claims=(), measures=(), windows=())
    script = lt.InputScript.from_columns(lt.record(scenario).inputs)
    scenario = scenario.changed(inputs=script)
    starts = range(20, 601, 20)
    taken = {}
    for kind in ("prefixes", "saved states"):
        saved: dict[int, object] = {}
        if kind == "saved states":
            for row in starts:
                saved[row] = lead("first", scenario, Branch(None, script, row, row)).saved
        rows, token = [], kind
        begin = time.perf_counter()
        for row in starts:
            for press in range(4):
                inputs = script.keep(1, row) | lt.InputScript().press("hop", row + 2 + press)
                led = lead(token, scenario, Branch(saved.get(row), inputs, row, row + 40))
                # As text: a slot that is free holds NaN, which equals nothing.
                events = [one for one in led.events if one[0] > row]
                rows.append(repr(([column[-40:] for column in led.columns], events)))
        taken[kind] = time.perf_counter() - begin, rows
    assert taken["prefixes"][1] == taken["saved states"][1]
    ratio = taken["prefixes"][0] / taken["saved states"][0]
    print(
        f"branches of 40 frames, up to 600 into an evening: from saved states {ratio:.1f} times the rows a second; goal 3"
    )


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
    through_a_cluster(asked.runs, asked.rounds)
    from_saved_states()
    opened()


if __name__ == "__main__":
    main()
