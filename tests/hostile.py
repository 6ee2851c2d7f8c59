"""Broken and hostile files, made from good ones: what `test_hostile` reads, in its own process and in fresh ones.

As a script: hostile.py FOLDER SEED COUNT FORMAT … reads COUNT mutations of each format's files and prints what was no message of the
library's own; it ends with status 1 where there was any, and whoever started it sees whether it ended at all.
"""

import io
import json
import os
import random
import sys
import traceback
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from rich.console import Console
from tests.mutations import mutated, restructured

import larktally as lt
from larktally.charts.scxml import chart_to_scxml
from larktally.demo import quay
from larktally.traces.recording_stream import RecordingStream
from larktally.traces.recording_writer import RecordingWriter
from larktally.views.frames import print_events, print_frames
from larktally.views.strips import print_level, print_strips


class Lamp:
    actions, events = ("hop",), ("lit",)

    def reset(self, setup):
        self.n = 0

    def step(self, now):
        self.n += 1
        return [lt.Event("lit", "lamp", at=[self.n, {"warm": 0.5}], why="dusk, \u00e9")] if self.n % 7 == 0 else None

    def observe(self):
        mood = "bright, \u2603" if self.n % 5 else "a line\nbreak"
        return {"n": self.n, "half": self.n / 3, "lit": self.n % 2 == 0, "mood": mood}


def make(folder):
    """Good files of every format, some of each."""
    lamp = lt.record(Lamp(), lt.InputScript().tap("hop", 2, 5, 4), frames=25)
    dusk = lt.record(quay.dusk_run.named("dusk").changed(frames=40, inputs=None))
    for trace, name in ((lamp, "lamp"), (dusk, "dusk")):
        for suffix in ("parquet", "jsonl", "csv"):
            trace.save(folder / f"{name}.{suffix}")
    # As other writers leave them, without digest and checksum: what is mutated in these is not told by a sum.
    lines = (folder / "lamp.jsonl").read_text().splitlines()[:-1]
    (folder / "plain.jsonl").write_text("\n".join([*lines, json.dumps({"rows": lamp.rows})]) + "\n")
    without_sums(lamp.save(folder / "plain.parquet"))
    writer = RecordingWriter(folder / "lamp.parquet", lamp.header, lamp.header.inputs)
    for first in (0, 9, 18):
        piece = lamp.window(first, min(first + 8, lamp.rows - 1))
        stored = [column.stored for column in piece.columns.values()]
        writer.add(lamp.header.channels, stored, piece.inputs, piece.events, piece.rows)
    writer.let_go()
    (folder / "claims.toml").write_text(
        '[define]\nup = "n > prev(n)"\n\n[[claim]]\nname = "it goes up"\nthat = "follows(began(lit), up, within=9)"\n'
        'allow = ["untested"]\ntags = ["a"]\n\n[[claim]]\nname = "each {it}"\nfor_each = "*"\nthat = "always(changed({it}) or true)"\n'
    )
    (folder / "script.csv").write_text("action,start,frames,value\nhop,1,3,1.0\nhop,9,2,0.5\n")
    (folder / "log.toml").write_text(
        'time = "t"\ntime_unit = "ms"\nrate = 60\nevents = "said"\n[channels]\n"lamp.y" = { column = "y", scale = 0.01 }\n'
        '"lamp.mood" = { column = "st", labels = { "0" = "dark", "1" = "bright" } }\n[inputs]\nhop = "btn"\n'
    )
    rows = [(round(k * 1000 / 60, 3), k * k, k % 2, k % 3 == 0, "lit" if k == 4 else "") for k in range(12)]
    (folder / "log.csv").write_text("t,y,st,btn,said\n" + "".join(",".join(map(_cell, row)) + "\n" for row in rows))
    named = [dict(zip(("t", "y", "st", "btn", "said"), row, strict=True)) for row in rows]
    (folder / "log.jsonl").write_text("".join(json.dumps(row) + "\n" for row in named))
    pq.write_table(pa.Table.from_pylist(named), folder / "log.parquet")
    (folder / "gait.scxml").write_text(chart_to_scxml(_gait()))


def _gait():
    return lt.record(quay.dusk_run.changed(frames=2, inputs=None)).header.outlines["wick.gait"]


def _cell(value):
    return str(value).lower() if isinstance(value, bool) else str(value)


def read_trace(path):
    used(lt.load_trace(path, rate=60 if path.suffix == ".csv" else None))


def read_log(path):
    """A log or its mapping: whichever of the two was mutated."""
    kind = path.name.split("-")[0]
    folder = path.parent
    log, mapping = (folder / "log.csv", path) if kind == "log.toml" else (path, folder / "log.toml")
    used(lt.load_trace(log, mapping=mapping))


def read_claims(path):
    trace = lt.load_trace(path.parent / "lamp.jsonl")
    str(lt.check(trace, lt.load_claims(path, trace.channels)))


def used(trace):
    """What was read is a trace like any other: it is shown, checked, saved in every format, and read back."""
    out = Console(file=io.StringIO(), width=120)
    repr(trace), trace.digest
    if not trace.rows:
        return
    trace = trace.window(0, min(trace.rows, 100) - 1)
    rows = range(min(trace.rows, 6))
    print_frames(out, trace, rows, trace.channels)
    print_events(out, trace, rows)
    print_strips(out, trace, range(trace.rows))
    print_level(out, trace, 0)
    assert "\x1b[2J" not in out.file.getvalue()
    lt.check(trace, [lt.claim("it is there", "always(frame >= 0)")])
    # Saving takes longer than all the rest: one in three.
    SEEN.append(trace.rows)
    if len(SEEN) % 3:
        return
    for suffix in ("jsonl", "csv", "parquet"):
        again = trace.save(WORK / f"again.{suffix}")
        back = lt.load_trace(again, rate=None if suffix != "csv" else trace.rate)
        assert back.rows == trace.rows, suffix
        assert suffix == "csv" or back.digest == trace.digest, suffix
    trace.save(WORK / "again.vcd")


#: The reader of each format, and the files that are mutated for it.
FORMATS = {
    "parquet": (read_trace, ("lamp.parquet", "dusk.parquet", "plain.parquet")),
    "jsonl": (read_trace, ("lamp.jsonl", "dusk.jsonl", "plain.jsonl", "plain.jsonl")),
    "csv": (read_trace, ("lamp.csv", "dusk.csv")),
    "partial": (lambda path: used(RecordingStream(path).whole()), ("lamp.parquet.partial",)),
    "log": (read_log, ("log.csv", "log.jsonl", "log.toml", "log.parquet")),
    "claims": (read_claims, ("claims.toml",)),
    "script": (lambda path: lt.InputScript.from_csv(path), ("script.csv",)),
    "scxml": (lambda path: lt.charts.read_chart(path), ("gait.scxml",)),
}
WORK = Path(".")
SEEN = []


def restructured_lines(good, pick):
    """JSON Lines with one line said otherwise, and with the sum of it right."""
    lines = good.decode().splitlines()
    at = 0 if pick.random() < 0.4 else pick.randrange(len(lines))
    try:
        lines[at] = json.dumps(restructured(json.loads(lines[at]), pick))
    except ValueError:
        return good
    return ("\n".join(lines) + "\n").encode()


def restructured_table(good, pick):
    """A Parquet file whose header says something else, or whose columns hold something else, and that is whole all the same."""
    table = pq.read_table(io.BytesIO(good))
    header = json.loads(table.schema.metadata[b"larktally"])
    columns, names = list(table.columns), list(table.column_names)
    at = pick.randrange(len(names))
    rows = table.num_rows
    other = (
        pa.array(["x"] * rows), pa.array([None] * rows), pa.array([1.5] * rows), pa.array([2**62] * rows), pa.array([[]] * rows),
        pa.array([["x"]] * rows), pa.array([{"name": "", "source": "", "data": ""}] * rows), pa.array([True] * rows),
        pa.array([[{"name": "lit", "source": "a", "data": d}] for d in ('{"b": 1e2, "a":1}', "[", "[1]", '{"a":1e999}') * rows][:rows]),
        pa.array([[{"source": "a", "data": ""}]] * rows), pa.array([b"\xff"] * rows), pa.array([float("nan")] * rows),
    )  # fmt: skip
    way = pick.randrange(4)
    if way == 0:
        columns[at] = pick.choice(other)
    elif way == 1:
        columns[at], names[at] = columns[at - 1], names[at - 1]
    else:
        header = restructured(header, pick)
    bare = {key: value for key, value in header.items() if key not in ("digest", "check")} if header else header
    out = io.BytesIO()
    made = pa.table(columns, names=names)
    pq.write_table(made.replace_schema_metadata({"larktally": json.dumps(bare)}), out)
    return out.getvalue()


def without_sums(path):
    """A Parquet trace as another writer leaves it: no digest, no checksum."""
    table = pq.read_table(path)
    header = json.loads(table.schema.metadata[b"larktally"])
    bare = {key: value for key, value in header.items() if key not in ("digest", "check")}
    pq.write_table(table.replace_schema_metadata({"larktally": json.dumps(bare)}), path)


def mutation(file, good, pick):
    """A mutation of a file: of its bytes, or, where they are JSON or a table, of what they say."""
    if pick.random() < 0.5:
        if file.endswith(".jsonl"):
            return restructured_lines(good, pick)
        if file in ("plain.parquet", "lamp.parquet"):
            return restructured_table(good, pick)
    return mutated(good, pick)


def attempt(read, path):
    """ "" where it is read, what it is refused with, or, after "WRONG: ", what went wrong."""
    try:
        with np.errstate(all="ignore"):
            read(path)
    except lt.LarkTallyError as error:
        if not 10 < len(str(error)) <= 2000:
            return f"WRONG: a message of {len(str(error))} letters"
        return str(error)
    except Exception:
        return f"WRONG: {traceback.format_exc(limit=-4)}"
    return ""


def command_line(folder, seed, count):
    """As many mutated files on the command line, each in a process of its own; what went wrong, in words."""
    from larktally.cli import convert, main, show

    assert show and convert
    # What reading loads is loaded once, and not in every child.
    for name in ("lamp.parquet", "lamp.csv", "lamp.jsonl"):
        lt.load_trace(folder / name)
    suffixes = ("parquet", "jsonl", "csv", "partial")
    for n in range(count):
        kind = suffixes[n % len(suffixes)]
        file = FORMATS[kind][1][n // 4 % len(FORMATS[kind][1])]
        path = folder / f"{seed}-{n}-{file}"
        path.write_bytes(mutation(file, (folder / file).read_bytes(), random.Random(f"{seed} {n}")))
        words = (
            ["convert", "--recover", str(path), str(WORK / f"{n}.jsonl")]
            if kind == "partial"
            else ["show", str(path), *([] if n % 5 == 0 else ["--json"])]
        )
        # Forked, since a fresh interpreter takes longer to load the library than all the rest.
        child = os.fork()
        if not child:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
            main(words)
            os._exit(1)
        status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        if status not in (0, 2):
            print(f"{path}: exit status {status}")
            return 1
        path.unlink()
    return 0


def main(folder, seed, count, *names):
    global WORK
    WORK = folder / f"work-{seed}"
    WORK.mkdir()
    if names == ("--commands",):
        return command_line(folder, seed, count)
    wrong = 0
    for name in names:
        read, files = FORMATS[name]
        taken = 0
        for n in range(count):
            file = files[n % len(files)]
            pick = random.Random(f"{seed} {name} {n}")
            path = WORK.parent / f"{file}-{seed}-{n}{Path(file).suffix}"
            path.write_bytes(mutation(file, (folder / file).read_bytes(), pick))
            told = attempt(read, path)
            taken += not told
            if told.startswith("WRONG"):
                wrong += 1
                print(f"{name}, mutation {n} of seed {seed}, in {path}:\n{told}")
            else:
                path.unlink()
            if wrong > 5:
                break
        # A mutation that is always refused would try nothing of what comes after reading.
        print(f"{name}: {taken} of {count} mutations were read, the others refused")
    return wrong > 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]), *sys.argv[4:]))
