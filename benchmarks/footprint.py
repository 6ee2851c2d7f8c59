"""What starting and recording take: `larktally --help` against a bare Click program, `larktally run` on a small file against
Click with what holds the columns, and memory against the finished columns.

python benchmarks/footprint.py
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

BARE = """
import click

@click.group()
def main():
    "A bare program."

@main.command()
def one():
    "One."

main(["--help"])
"""
OURS = "from larktally.cli import main; main(['--help'])"
LIBRARIES = "import click, numpy, pyarrow"
RUN = "from larktally.cli import main; main(['run', 'small.py'])"
SMALL = """
import larktally as lt

def quay(setup):
    sim = lt.Sim(setup, actions=("hop",))
    rest = sim.cooldown("rest", 20)
    sim.after("machines", lambda now: rest.use() if now.pressed("hop") else None)
    return sim

scenario = lt.Scenario(quay, frames=60, claims=[lt.claim("rests", "always(rest.left <= 20)")])
"""
RECORD = """
import resource, sys
import larktally as lt
sys.path.insert(0, sys.argv[1])
import recording
peak = lambda: resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
scenario = recording.walker(40)
lt.record(scenario.changed(frames=12_000))
before = peak()
trace = lt.record(scenario.changed(frames=1_500_000))
print(peak() - before, sum(c.stored.nbytes for c in trace.columns.values()) + sum(v.nbytes for v in trace.inputs.values()))
"""


def started(code: str, folder: str | None = None) -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True, stdout=subprocess.DEVNULL, cwd=folder)
    return time.perf_counter() - began


def of_a_run() -> float:
    """The ratio of a whole `run` to the libraries alone."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "small.py").write_text(SMALL)
        started(RUN, folder), started(LIBRARIES, folder)
        return statistics.median(started(RUN, folder) / started(LIBRARIES, folder) for _ in range(15))


def main() -> None:
    pairs = [(started(OURS), started(BARE)) for _ in range(15)]
    ratio = statistics.median(ours / bare for ours, bare in pairs)
    print(f"larktally --help / a bare Click program: {ratio:.2f} (goal 2)")
    print(f"larktally run on a small file / Click, NumPy and pyarrow imported: {of_a_run():.2f} (goal 1.3)")
    folder = __file__.rsplit("/", 1)[0]
    done = subprocess.run([sys.executable, "-c", RECORD, folder], check=True, capture_output=True, text=True)
    more, columns = map(int, done.stdout.split())
    print(f"memory while recording / the finished columns: {more / columns:.2f} of {columns >> 20} MiB (goal 2)")


if __name__ == "__main__":
    main()
