"""A CSV that another game wrote: read through a small mapping, claimed like any other run.

Its log has its own names, its height in centimetres, its states as numbers, and its time in milliseconds.
"""

import tempfile
from pathlib import Path

import larktally as lt

MAPPING = """
time = "ms"
time_unit = "ms"
rate = 60
events = "what"
rest = "drop"

[channels]
"wick.y" = { column = "height_cm", scale = 0.01 }
"wick.gait" = { column = "st", labels = { "0" = "standing", "1" = "airborne" } }

[inputs]
hop = "btn"
"""
CLAIMS = [
    lt.claim("a hop starts on the ground", "always(implies(event('Jump'), prev(wick.gait) == 'standing'))"),
    lt.claim("a hop reaches 60 to 70", "measured(apex('wick.y'), 60, 70)"),
]


def write_log(path: Path, missing: int | None = None) -> None:
    """What the other game's log looks like; a frame can be missing."""
    lines, y, vy = ["ms,height_cm,st,btn,what"], 0.0, 0.0
    for frame in range(120):
        hop, before = frame == 20, y
        vy = 345.0 if hop else vy - 15.0 if y > 0 or vy > 0 else 0.0
        y = max(y + vy / 60, 0.0)
        what = "Jump" if hop else "Land" if before > 0 == y else ""
        if frame != missing:
            lines.append(f"{frame * 1000 / 60:.2f},{100 * y:.3f},{int(y > 0)},{int(hop)},{what}")
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        log, mapping = Path(folder) / "log.csv", Path(folder) / "map.toml"
        mapping.write_text(MAPPING, encoding="utf-8")
        write_log(log, missing=33)
        try:
            lt.load_trace(log, mapping=mapping)
        except lt.TraceError as error:
            print(f"a frame is missing, and nothing is guessed:\n  {str(error).replace(folder, '…')}\n")
        write_log(log)
        trace = lt.load_trace(log, mapping=mapping)
        tally = lt.check(trace, CLAIMS)
        print(f"{trace}\n{tally}")
        assert tally.passed, tally
        print(f"\nthe same on the command line: larktally check {log.name} claims.toml --mapping {mapping.name}")
