"""What is written: whole or not at all, never mixed, never lost unsaid, and one message where it cannot be."""

import os
import random
import resource
import signal
import subprocess
import sys
import threading
import time

import pytest
from tests.test_cli import call

import larktally as lt
from larktally.traces.files import save_trace
from larktally.traces.recording_stream import RecordingStream
from larktally.traces.recording_writer import partial_path, partials_of
from larktally.whole_files import whole_file, write_whole

MODEL = """
import time
import larktally as lt

class Walk:
    actions = ("hop",)
    events = ("mark",)
    def reset(self, setup):
        self.n, self.first, self.pace = 0, setup.params.get("first", 0.5), setup.params.get("pace", 0)
    def step(self, now):
        self.n += 1
        if self.n % 64 == 0:
            time.sleep(self.pace)
        return [lt.Event("mark", "walk", n=self.n)] if self.n % 500 == 0 else None
    def observe(self):
        return {"n": self.n, "first": self.first, "half": self.n / 2}

walk = lt.Scenario(Walk, frames=30_000, inputs=lt.InputScript().tap("hop", 5, 50, 100))
claimed = lt.Scenario(Walk, frames=600, name="claimed", claims=[lt.claim("it goes up", "always(n >= 0)")])
paced = walk.changed(params={"pace": 0.005}).named("walk")
"""


@pytest.fixture
def model(tmp_path):
    path = tmp_path / "model.py"
    path.write_text(MODEL)
    return path


FORKS = """
import os, random, signal, sys, time
import larktally as lt, model

def forked(run, name, **params):
    # From a process that has everything loaded: a fresh one takes longer to start than the run.
    child = os.fork()
    if child:
        return child
    status = 0
    try:
        lt.record(run.changed(params={**run.params, **params}), to=name)
    except lt.WriteError as error:
        assert "it is being recorded by another run just now" in str(error)
        status = 7
    except BaseException:
        status = 1
    os._exit(status)

pauses = random.Random(int(sys.argv[2]))
lt.record(model.claimed, to="warm.parquet")
if sys.argv[1] == "kill":
    for n in range(30):
        child = forked(model.paced, f"run{n}.parquet")
        time.sleep(pauses.random() * 0.7)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
else:
    for n in range(8):
        children = []
        for first in (1.5, 2.5, 3.5):
            children.append(forked(model.walk, f"run{n}.parquet", first=first))
            time.sleep(pauses.random() * 0.2)
        print(*[os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children])
"""


def forks(model, what):
    seed = random.randrange(10**6)
    print(f"seed {seed}")
    words = [sys.executable, "-c", FORKS, what, str(seed)]
    return subprocess.run(words, cwd=model.parent, stdout=-1, text=True, check=True, timeout=120).stdout


def written(path, process, size=100_000):
    """Waits until so much of a recording is on the disk."""
    began = time.monotonic()
    while not (path.exists() and path.stat().st_size > size):
        assert process.poll() is None and time.monotonic() - began < 30
        time.sleep(0.01)


@pytest.mark.slow
def test_recordings_of_one_name_never_mix(model):
    statuses = [line.split() for line in forks(model, "share").splitlines()]
    assert {"7"} < {one for line in statuses for one in line} == {"0", "7"}
    for n in range(8):
        trace = lt.load_trace(model.parent / f"run{n}.parquet")
        assert trace.rows == 30_001 and len(set(trace["first"].tolist())) == 1
        assert trace.events[-1].data == {"n": 30_000}
    assert not list(model.parent.glob("*.partial"))


def test_a_second_recording_in_the_same_process_is_told_at_once(tmp_path):
    path, told = tmp_path / "run.parquet", []

    class Nested:
        def reset(self, setup):
            self.n = 0

        def step(self, now):
            self.n += 1
            if self.n == 20:
                thread = threading.Thread(target=again)
                thread.start()
                thread.join()

        def observe(self):
            return {"n": self.n}

    def again():
        try:
            lt.record(Nested(), frames=5, to=path)
        except lt.WriteError as error:
            told.append(str(error))

    trace = lt.record(Nested(), frames=3000, to=path)
    assert len(told) == 1 and told[0].startswith(f"{path}: it is being recorded by another run just now, into ")
    assert trace["n"].tolist() == list(range(3001)) and partials_of(path) == []


@pytest.mark.slow
def test_what_a_killed_recording_left_is_set_aside_told_of_and_recovered(model):
    target = model.parent / "traces" / "walk.parquet"
    for left in ([], [target.with_name("walk.parquet.1.partial")]):
        process = subprocess.Popen([sys.executable, "-m", "larktally", "run", f"{model}:paced", "--to", target.parent])
        while partials_of(target)[1:] != left:
            time.sleep(0.01)
        written(partial_path(target), process)
        process.send_signal(signal.SIGKILL)
        process.wait()
    assert [one.name for one in partials_of(target)] == ["walk.parquet.partial", "walk.parquet.1.partial"]
    result = call("run", f"{model}:walk", "--to", target.parent)
    assert result.exit_code == 0
    assert "walk.parquet.partial was left by a recording that was cut off; it is called " in result.stderr
    left = [target.with_name(f"walk.parquet.{n}.partial") for n in (1, 2)]
    assert partials_of(target) == left and lt.load_trace(target).rows == 30_001
    several = call("convert", "--recover", target, target.with_name("old.parquet"))
    assert several.exit_code == 2 and "several recordings of that name were cut off" in several.stderr
    left[1].unlink()
    result = call("convert", "--recover", target, target.with_name("old.parquet"))
    assert result.exit_code == 0 and "rows recovered from" in result.stdout
    old = lt.load_trace(target.with_name("old.parquet"))
    assert old["n"].tolist() == list(range(old.rows)) and old.rows >= 2048
    left[0].unlink()
    assert "no recording of that name was cut off" in call("convert", "--recover", target, "x.parquet").stderr
    assert "the run before: walk.before.parquet" in call("run", f"{model}:walk", "--to", target.parent).stdout


@pytest.mark.slow
def test_thirty_recordings_killed_at_any_moment_lose_nothing_that_was_written(model):
    forks(model, "kill")
    for n in range(30):
        path = model.parent / f"run{n}.parquet"
        if path.exists():
            assert lt.load_trace(path).rows == 30_001
        elif partial_path(path).exists() and partial_path(path).stat().st_size > 2000:
            trace = RecordingStream(partial_path(path)).whole()
            assert trace["n"].tolist() == list(range(trace.rows))
            assert [event.data["n"] for event in trace.events] == list(range(500, trace.rows, 500))


@pytest.mark.slow
def test_an_interrupted_recording_says_what_is_kept_and_exits_with_130(model):
    process = subprocess.Popen(
        [sys.executable, "-m", "larktally", "run", f"{model}:paced"],
        cwd=model.parent,
        stderr=-1,
        text=True,
        # A runner in the background may ignore it, and its children would, too.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    partial = model.parent / "traces" / "walk.parquet.partial"
    written(partial, process)
    process.send_signal(signal.SIGINT)
    told = process.communicate()[1]
    assert process.returncode == 130
    rows = RecordingStream(partial).rows
    name = "traces/walk.parquet.partial"
    assert told.splitlines() == [
        "larktally: interrupted",
        f"{rows} rows are kept in {name}: larktally convert --recover {name} FILE",
    ]


def limited(most):
    return lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))


@pytest.mark.slow
def test_a_full_disk_is_one_message_in_every_command_that_writes(model, tmp_path):
    call("run", f"{model}:claimed", "--to", tmp_path / "t")
    claimed = tmp_path / "t" / "claimed.parquet"
    (tmp_path / "rules.py").write_text("from larktally.demo.quay import *\n")
    (tmp_path / "full").mkdir()
    # A limit on the size of a file gives the same error, in the same places, as a disk that is full. With the bytes allowed,
    # and what is left behind.
    cases = [
        (0, ["run", f"{model}:walk", "--to", "full"], "full/walk.parquet", []),
        (300_000, ["run", f"{model}:walk", "--to", "full"], "full/walk.parquet", ["walk.parquet.partial"]),
        (20, ["run", f"{model}:claimed", "--to", "full", "--junit", "full/j.xml"], "full/claimed.parquet", []),
        (100, ["convert", claimed, "full/x.jsonl"], "full/x.jsonl", []),
        (100, ["convert", claimed, "full/x.csv"], "full/x.csv", []),
        (100, ["convert", claimed, "full/x.vcd"], "full/x.vcd", []),
        (100, ["convert", claimed, "full/x.parquet"], "full/x.parquet", []),
        (10, ["convert", claimed, "full/x.csv", "--inputs"], "full/x.csv", []),
        (100, ["convert", claimed, "full/x.parquet", "--every", "7"], "full/x.parquet", []),
        (100, ["plot", claimed, "--out", "full/x.png"], "full/x.png", []),
        (100, ["plot", claimed, "--out", "full/x.svg"], "full/x.svg", []),
        (100, ["chart", "rules.py:dusk_run", "--out", "full/x.dot"], "full/x.dot", []),
        (100, ["demo", "full"], "full/quay.py", []),
        (100, ["new", "full"], "full/model.py", ["baselines"]),
    ]
    for most, words, target, left in cases:
        if words[0] == "new":
            assert os.listdir(tmp_path / "full") == []
        done = subprocess.run(
            [sys.executable, "-B", "-m", "larktally", *map(str, words)],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            preexec_fn=limited(most),
        )
        line = next(one for one in done.stderr.splitlines() if one.startswith("larktally"))
        assert done.returncode == 2 and f"{target}: cannot be written: File too large" in line, (words, done.stderr)
        assert ("rows are kept in full/walk.parquet.partial" in line) == (left == ["walk.parquet.partial"])
        assert "Traceback" not in done.stderr and os.listdir(tmp_path / "full") == left, words
        for name in left:
            if name.endswith(".partial"):
                (tmp_path / "full" / name).unlink()
    assert list((tmp_path / "full").iterdir()) != []


@pytest.mark.slow
@pytest.mark.parametrize("words", [["show"], ["show", "--json"], ["--help"], ["show", "--help"], ["--version"]])
def test_a_full_standard_output_is_one_message(lamp_trace, tmp_path, words):
    path = lamp_trace.save(tmp_path / "lamp.parquet")
    if words[0] == "show" and "--help" not in words:
        words = [*words, str(path)]
    with open("/dev/full", "w") as full:
        done = subprocess.run([sys.executable, "-m", "larktally", *words], stdout=full, stderr=-1, text=True)
    assert done.stderr == "larktally: standard output: cannot be written: No space left on device\n"
    assert done.returncode == 2


@pytest.mark.parametrize(
    ("target", "said"),
    [
        ("no/run.parquet", "there is no folder '{}/no'"),
        ("taken.parquet", "it is a folder"),
        ("file/run.parquet", "there is no folder '{}/file'"),
        ("n" * 300 + ".parquet", "File name too long"),
        ("pipe.parquet", "it is no ordinary file"),
    ],
)
def test_a_target_that_no_file_can_take_is_told_before_the_run(tmp_path, target, said):
    (tmp_path / "taken.parquet").mkdir()
    (tmp_path / "file").write_text("")
    os.mkfifo(tmp_path / "pipe.parquet")
    path, stepped = f"{tmp_path}/{target}", []

    class Counts:
        def reset(self, setup): ...
        def step(self, now):
            stepped.append(now.frame)

        def observe(self):
            return {"n": 0}

    with pytest.raises(lt.WriteError) as told:
        lt.record(Counts(), frames=5, to=path)
    assert str(told.value) == f"{path}: cannot be written: {said.format(tmp_path)}" and stepped == []
    with pytest.raises(lt.WriteError, match="cannot be written"):
        write_whole(path, "")
    assert sorted(os.listdir(tmp_path)) == ["file", "pipe.parquet", "taken.parquet"]


def test_files_follow_the_umask_and_links_stay_links(tmp_path, lamp_trace):
    (tmp_path / "real").mkdir()
    link = tmp_path / "run.parquet"
    link.symlink_to(tmp_path / "real" / "run.parquet")
    before = os.umask(0o027)
    try:
        lamp_trace.save(link)
        lt.record(lt.Scenario.from_trace(lamp_trace, _Lamp), to=tmp_path / "again.jsonl")
    finally:
        os.umask(before)
    assert link.is_symlink() and lt.load_trace(tmp_path / "real" / "run.parquet").digest == lamp_trace.digest
    for name in ("real/run.parquet", "again.jsonl"):
        assert (tmp_path / name).stat().st_mode & 0o777 == 0o640


class _Lamp:
    actions = ("hop",)

    def reset(self, setup): ...
    def step(self, now): ...
    def observe(self):
        return {"y": 0.0}


def test_a_write_that_fails_in_the_middle_leaves_the_file_that_was_there(tmp_path):
    path = tmp_path / "notes.txt"
    write_whole(path, "as it was")
    for error in (OSError(28, "No space left on device"), RuntimeError("a fault"), KeyboardInterrupt()):
        with pytest.raises((lt.WriteError, RuntimeError, KeyboardInterrupt)) as told, whole_file(path) as file:
            file.write(b"half of")
            raise error
        assert path.read_text() == "as it was" and os.listdir(tmp_path) == ["notes.txt"]
        assert not isinstance(error, OSError) or str(told.value).endswith("cannot be written: No space left on device")


def test_progress_counts_the_rows_that_are_written(tmp_path, lamp_trace):
    for suffix in ("parquet", "jsonl", "csv", "vcd"):
        told = []
        path = save_trace(lamp_trace, tmp_path / f"run.{suffix}", lambda *rows, told=told: told.append(rows))
        assert told[-1] == (lamp_trace.rows, lamp_trace.rows)
        assert path.read_bytes() == lamp_trace.save(tmp_path / f"again.{suffix}").read_bytes()
