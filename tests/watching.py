"""A command that watches, for tests: started, spoken to as its page speaks, and seen to leave nothing behind."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
import uuid
import zlib
from pathlib import Path

from websockets.sync.client import connect

ENDED_WITHIN = 10


# A walker in two modules, with a number to turn, a claim that breaks and one that holds, and a second scenario.
GAME = """
import larktally as lt
from steps import SPEED


class Walker:
    actions = (lt.Action("right", keys=("ArrowRight",)), lt.Action("hop", keys=("Space",)))
    events = ("hop",)

    def reset(self, setup):
        self.leap = setup.number("leap", 6, least=1, greatest=20)
        self.x, self.y, self.vy = 0.0, 0.0, 0.0

    def step(self, now):
        self.x += SPEED * now.held("right")
        hops = now.pressed("hop")
        if hops:
            self.vy = float(self.leap)
        self.y = max(self.y + self.vy, 0.0)
        self.vy -= 1.0
        return [lt.Event("hop", "walker")] if hops else None

    def observe(self):
        return {"x": self.x, "y": self.y, "where": "ground" if self.y == 0 else "air"}

    def save(self):
        return repr((self.x, self.y, self.vy)).encode()

    def load(self, saved):
        self.x, self.y, self.vy = eval(saved)


walk = lt.Scenario(
    Walker,
    frames=60,
    inputs=lt.InputScript().hold("right", 1, 40).press("hop", 5).press("hop", 9),
    claims=[
        lt.claim("a hop starts on the ground", "always(implies(event('hop'), prev(where) == 'ground'))"),
        lt.claim("he gets somewhere", "eventually(x > 50)"),
    ],
    measures={"height": "apex(y)"},
)
stand = lt.Scenario(Walker, frames=10, claims=[lt.claim("he stays", "always(x == 0)")])
"""


class Watching:
    """`larktally watch` on a file; `address` is what it printed."""

    def __init__(self, target: Path | str, *options: str, folder: Path | None = None) -> None:
        self.word = f"LARKTALLY_TEST_{uuid.uuid4().hex}"
        self.process = subprocess.Popen(
            [sys.executable, "-m", "larktally", "watch", str(target), "--no-browser", *options],
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            cwd=folder,
            env={**os.environ, self.word: "1"},
        )
        first = self.process.stdout.readline()
        found = re.search(r"http://\S+", first)
        assert found, first + self.process.stdout.read()
        self.address = found[0]
        self.port = int(re.search(r":(\d+)/", self.address)[1])
        self.token = self.address.partition("token=")[2]

    def __enter__(self) -> Watching:
        return self

    def __exit__(self, *_: object) -> None:
        self.end(signal.SIGINT)
        assert not self.left_behind()

    def end(self, with_signal: int) -> None:
        if self.process.poll() is None:
            self.process.send_signal(with_signal)
            self.process.wait(ENDED_WITHIN)
        self.process.stdout.close()

    def left_behind(self) -> list[int]:
        """The processes that it started and that are still there, some seconds after its end."""
        until = time.monotonic() + ENDED_WITHIN
        while True:
            found = [pid for pid in _processes() if self.word.encode() in _environment(pid)]
            if not found or time.monotonic() > until:
                return found
            time.sleep(0.05)

    def page(self, **changed: str) -> Page:
        return Page(self, **changed)


class Page:
    """What a page hears and says."""

    def __init__(
        self, watching: Watching, token: str | None = None, origin: str | None = None, host: str = "127.0.0.1"
    ) -> None:
        token = watching.token if token is None else token
        origin = f"http://127.0.0.1:{watching.port}" if origin is None else origin
        # The server may not have begun to listen when it has said where it will.
        until = time.monotonic() + ENDED_WITHIN
        while True:
            try:
                address = f"ws://{host}:{watching.port}/live?token={token}"
                self.opened = connect(address, origin=origin, max_size=None, open_timeout=5)
                self.socket = self.opened.__enter__()
                return
            except (ConnectionError, TimeoutError):
                if time.monotonic() > until:
                    raise
                time.sleep(0.05)

    def __enter__(self) -> Page:
        return self

    def __exit__(self, *_: object) -> None:
        self.opened.__exit__(None, None, None)

    def say(self, **message: object) -> None:
        self.socket.send(json.dumps(message))

    def hear(self, *wanted: str, within: float = 20) -> dict:
        """The next message of a kind; others are passed over."""
        until = time.monotonic() + within
        while True:
            message = self.socket.recv(max(until - time.monotonic(), 0.001))
            message = unpacked(message) if isinstance(message, bytes) else json.loads(message)
            if message["is"] in wanted:
                return message


def unpacked(packed: bytes) -> dict:
    """What stands before the columns of packed runs, and the bytes of the columns."""
    whole = zlib.decompress(packed)
    length = int.from_bytes(whole[:4], "little")
    return {**json.loads(whole[4 : 4 + length]), "bytes": whole[4 + length :]}


def column_of(run: dict, name: str, columns: bytes) -> list[float]:
    """A column as the page reads it: the plain reading of how it was packed."""
    import struct

    (column,) = [one for one in [*run["columns"], *run["inputs"]] if one["name"] == name]
    rows = column["rows"]
    if column["code"] == "same":
        return [column["value"]] * rows
    width = column.get("width", 8)
    words = []
    for row in range(rows):
        planes = bytes(columns[column["from"] + plane * rows + row] for plane in range(width))
        words.append(int.from_bytes(planes, "little"))
    total, values = 0, []
    for word in words:
        if column["code"] == "bits":
            total = (total + word) % 2**64
            values.append(struct.unpack("<d", total.to_bytes(8, "little"))[0])
        else:
            total += -(word + 1) // 2 if word % 2 else word // 2
            values.append(total)
    return values


def _processes() -> list[int]:
    return [int(one) for one in os.listdir("/proc") if one.isdigit() and int(one) != os.getpid()]


def _environment(pid: int) -> bytes:
    try:
        if Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] == "Z":
            return b""
        return Path(f"/proc/{pid}/environ").read_bytes()
    except OSError:
        return b""
