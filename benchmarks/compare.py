"""Lark Tally against plain Python, as ratios: both sides in this one process, run in turn, medians of several rounds.

python benchmarks/compare.py [--json] [--only WORDS] [--rounds N]
"""

from __future__ import annotations

import argparse
import gc
import json
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass

import claims
import files
import growth
import machines
import platformer
import programs
import rays
import recording
import space
import timers


@dataclass(frozen=True)
class Row:
    """One comparison: what is done, the goal for the ratio, our way and the control."""

    name: str
    goal: float
    ours: Callable[[], object]
    control: Callable[[], object]


def timed(work: Callable[[], object]) -> float:
    gc.collect()
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def compare(row: Row, rounds: int) -> dict[str, object]:
    """Medians of both sides, taken in turn, and the median of the rounds' ratios."""
    row.ours(), row.control()
    pairs = [(timed(row.ours), timed(row.control)) for _ in range(rounds)]
    ratio = statistics.median(ours / control for ours, control in pairs)
    return {
        "work": row.name,
        "ours_ms": round(1000 * statistics.median(ours for ours, _ in pairs), 2),
        "control_ms": round(1000 * statistics.median(control for _, control in pairs), 2),
        "ratio": round(ratio, 2),
        "goal": row.goal,
        "met": ratio <= row.goal,
    }


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--json", action="store_true")
    options.add_argument("--only", default="", help="rows whose name holds these words")
    options.add_argument("--rounds", type=int, default=15)
    chosen = options.parse_args()
    results = []
    for module in (recording, platformer, machines, timers, rays, space, growth, claims, files, programs):
        for row in module.rows():
            made = Row(*row)
            if chosen.only in made.name:
                results.append(compare(made, chosen.rounds))
    if chosen.json:
        print(json.dumps(results, indent=2))
        return
    print(f"{'work':<64}{'ours ms':>10}{'control':>10}{'ratio':>8}{'goal':>7}")
    for result in results:
        mark = "" if result["met"] else "  above the goal"
        print(
            f"{result['work']:<64}{result['ours_ms']:>10}{result['control_ms']:>10}{result['ratio']:>8}{result['goal']:>7}{mark}"
        )


if __name__ == "__main__":
    main()
