"""Record, thin and play back: every n-th row is kept, and values between them are read as a player would draw them.

How thin may it be? The recording says how far it thinning_error, so that the rate is chosen and not guessed.
"""

import tempfile
from pathlib import Path

import larktally as lt
from larktally.demo.evening import evening_won

ALLOWED = 10.0  # units that the drawn path may be off

if __name__ == "__main__":
    trace = lt.record(evening_won)
    chosen = 1
    for every in (2, 3, 4, 6, 10, 20):
        thin = trace.thinned(every)
        off = max(thin.thinning_error(trace)[name] for name in ("wick.x", "wick.y"))
        print(f"every {every:>2}th row: {thin.rows:>4} rows, at most {off:6.2f} units off")
        if off <= ALLOWED:
            chosen = every
    thin = trace.thinned(chosen)
    print(f"\nchosen: every {chosen}th row")
    for frame in (118, 119.5, 121):
        print(f"  frame {frame:g}: drawn at y = {thin.at('wick.y', frame):.2f}, {thin.at('wick.gait', frame)}")
    try:
        lt.check(thin, evening_won.claims)
    except lt.LarkTallyError as error:
        print(f"\nand claims are not checked on it: {error}")
    with tempfile.TemporaryDirectory() as folder:
        full, small = trace.save(Path(folder) / "full.parquet"), thin.save(Path(folder) / "thin.parquet")
        print(f"\n{full.stat().st_size} bytes, thinned {small.stat().st_size}")
    assert chosen == 6 and thin.at("wick.y", 120) == trace["wick.y"][120]
