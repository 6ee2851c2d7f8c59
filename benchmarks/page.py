"""The page in headless Chromium: from a save to the new run drawn, a drag over a long run, playing, and what a file weighs.

python benchmarks/page.py [--json]
"""

from __future__ import annotations

import argparse
import http.client
import json
import os
import re
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
from selenium.webdriver import Chrome, ChromeOptions, ChromeService

import larktally as lt
from larktally.demo import evening
from larktally.traces.columns import Column
from larktally.traces.events import EventLog
from larktally.views.page.run_view import RunView
from larktally.views.page.standing_file import save_page

# What is measured, its value, its goal in words, and whether it is met.
Figures = Iterator[tuple[str, float, str, Callable[[float], bool]]]

FLAGS = (
    "--headless=new --no-sandbox --disable-gpu --no-first-run --disable-background-networking --window-size=1280,800"
)
MODEL = """
import larktally as lt


class Counter:
    actions = (lt.Action("hop", keys=("Space",)),)

    def reset(self, setup):
        self.leap, self.x, self.hops = setup.number("leap", 1), 0.0, 0

    def step(self, now):
        self.x += float(self.leap)
        self.hops += now.pressed("hop")

    def observe(self):
        return {"x": self.x, "hops": self.hops}


count = lt.Scenario(Counter, frames=600, claims=[lt.claim("he goes", "always(x >= 0)")], measures={"way": "apex(x)"})
"""

# Both wait until what they saw has been drawn: two pictures later.
DRAWN = """
const [from, done] = arguments;
const look = () => {
  if (document.querySelector('[data-sentence]')?.innerText !== from)
    requestAnimationFrame(() => requestAnimationFrame(() => done(Date.now())));
  else setTimeout(look, 1);
};
look();
"""
OPENED = """
const done = arguments[0];
const look = () => {
  if (document.querySelector('[data-sentence]')?.innerText && document.querySelector('.line canvas'))
    requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now())));
  else setTimeout(look, 1);
};
look();
"""
DRAG = """
const [seconds, done] = arguments;
const timeline = document.querySelector('.timeline');
const box = timeline.getBoundingClientRect();
const send = (kind, x) =>
  timeline.dispatchEvent(new PointerEvent(kind, { clientX: x, clientY: box.top + 60, pointerId: 1, bubbles: true }));
timeline.setPointerCapture = () => {};
send('pointerdown', box.left + 200);
const start = performance.now();
const times = [];
let [moved, before] = [0, ''];
let n = 0;
const step = (time) => {
  times.push(time);
  const row = document.querySelector('[data-row]').dataset.row;
  moved += row !== before;
  before = row;
  if (time - start > seconds * 1000) {
    send('pointerup', box.left + 200);
    done({ frames: times.length - 1, took: (times.at(-1) - times[0]) / 1000, moved });
    return;
  }
  n += 1;
  send('pointermove', box.left + 190 + ((n * 7) % (box.width - 200)));
  requestAnimationFrame(step);
};
requestAnimationFrame(step);
"""
# From a key to the picture in which its effect is: each is pressed at another time between two frames.
KEYS = """
const [times, done] = arguments;
const hops = () => [...document.querySelectorAll('.values tr')]
  .find((one) => one.querySelector('th').innerText.trim() === 'hops').querySelector('td').innerText;
const took = [];
const key = (kind) => window.dispatchEvent(new KeyboardEvent(kind, { code: 'Space', key: ' ', bubbles: true, cancelable: true }));
const press = () => {
  if (took.length === times) return done(took);
  const before = hops();
  const start = performance.now();
  key('keydown');
  key('keyup');
  const look = () => {
    if (hops() === before) return requestAnimationFrame(look);
    took.push(performance.now() - start);
    setTimeout(press, 30 + Math.random() * 40);
  };
  requestAnimationFrame(look);
};
press();
"""


@contextmanager
def browser() -> Iterator[Chrome]:
    options = ChromeOptions()
    options.binary_location = shutil.which("chromium") or shutil.which("chromium-browser") or ""
    for flag in FLAGS.split():
        options.add_argument(flag)
    with Chrome(options=options, service=ChromeService(shutil.which("chromedriver"))) as chrome:
        chrome.set_script_timeout(60)
        yield chrome


@contextmanager
def watching(file: Path) -> Iterator[tuple[str, float]]:
    """The command's address, and the seconds until it served."""
    start = time.perf_counter()
    command = [sys.executable, "-m", "larktally", "watch", str(file), "--no-browser"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    found = re.search(r"http://127\.0\.0\.1:(\d+)(/\S+)", process.stdout.readline())
    assert found is not None
    while True:
        try:
            connection = http.client.HTTPConnection("127.0.0.1", int(found[1]))
            connection.request("GET", found[2])
            assert connection.getresponse().status == 200
            break
        except ConnectionError:
            time.sleep(0.005)
    took = time.perf_counter() - start
    try:
        yield found[0], took
    finally:
        process.send_signal(signal.SIGINT)
        process.wait()


def from_a_save(chrome: Chrome, file: Path, address: str) -> float:
    """Median seconds from a save to the new run drawn."""
    chrome.get(address)
    chrome.execute_async_script(DRAWN, None)
    took = []
    for leap in (2, 3, 4, 5, 6, 7, 8):
        before = chrome.execute_script("return document.querySelector('[data-sentence]').innerText")
        time.sleep(0.5)
        start = time.time()
        file.write_text(MODEL.replace('"leap", 1', f'"leap", {leap}'))
        took.append(chrome.execute_async_script(DRAWN, before) / 1000 - start)
    return statistics.median(took)


def played(chrome: Chrome) -> tuple[float, list[float]]:
    """Frames per second of five seconds of playing, and what 200 keys took, in milliseconds."""
    chrome.execute_script(
        "[...document.querySelectorAll('button')].find((b) => b.innerText.includes('play it')).click()"
    )
    row = "return Number(document.querySelector('[data-playing] [data-row]')?.dataset.row ?? 0)"
    while chrome.execute_script(row) < 30:
        time.sleep(0.02)
    read = "const n = () => Number(document.querySelector('[data-playing] [data-row]').dataset.row);" + (
        "const done = arguments[0]; const [from, start] = [n(), performance.now()];"
        "setTimeout(() => done((n() - from) / ((performance.now() - start) / 1000)), 5000);"
    )
    pace = chrome.execute_async_script(read)
    return pace, chrome.execute_async_script(KEYS, 200)


def long_trace(rows: int, channels: int) -> lt.Trace:
    """A walk in each channel, in eighths as positions are, and a few states."""
    pick = np.random.default_rng(7)
    walks = np.cumsum(pick.integers(-8, 9, (rows, channels - 1)), axis=0) / 8
    gait = np.array(["standing", "airborne", "climbing"])[np.cumsum(pick.random(rows) < 0.01) % 3]

    class Walk:
        def reset(self, setup: lt.Setup) -> None:
            self.row = 0

        def step(self, now: lt.FrameInput) -> None:
            self.row += 1

        def observe(self) -> dict[str, Any]:
            values = {f"walk.{n}": float(one) for n, one in enumerate(walks[self.row])}
            return {**values, "gait": str(gait[self.row])}

    return lt.record(lt.Scenario(Walk, frames=rows - 1))


def long_page(chrome: Chrome, folder: Path) -> tuple[float, float]:
    """Seconds until a page of 100,000 rows of 40 channels is drawn, and frames per second of a drag over it."""
    path = save_page(folder / "long.html", [RunView(long_trace(100_000, 40))])
    opened = []
    for _ in range(3):
        chrome.get("about:blank")
        chrome.get(path.as_uri())
        opened.append(chrome.execute_async_script(OPENED) / 1000)
    drag = chrome.execute_async_script(DRAG, 4)
    assert drag["moved"] > 0.9 * drag["frames"], drag  # the cursor went along
    return statistics.median(opened), drag["frames"] / drag["took"]


def weights(folder: Path) -> tuple[float, float]:
    """Bytes of the page over bytes of the CSV: of the demo's evening repeated to some 100,000 rows, and as it is."""
    evening_won = lt.record(evening.evening_won)
    shares = []
    for times in (115, 1):
        trace = repeated(evening_won, times)
        page = save_page(folder / "evening.html", [RunView(trace)])
        table = folder / "evening.csv"
        pa_csv.write_csv(pa.table({name: column.values for name, column in trace.columns.items()}), table)
        shares.append(os.path.getsize(page) / os.path.getsize(table))
    return shares[0], shares[1]


def repeated(trace: lt.Trace, times: int) -> lt.Trace:
    """A trace several times after another, its events in their rows."""
    columns = {name: Column(one.channel, np.tile(one.stored, times)) for name, one in trace.columns.items()}
    inputs = {name: np.tile(values, times) for name, values in trace.inputs.items()}
    events = EventLog()
    for time_over in range(times):
        for row, name, source, text in trace.events.fields():
            events.append(row + time_over * trace.rows, name, source, text)
    return lt.Trace(trace.header, columns, inputs, events, trace.rows * times)


def figures() -> Figures:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        file = folder / "counting.py"
        file.write_text(MODEL)
        starts = []
        for _ in range(5):
            with watching(file) as (_, served):
                starts.append(served)
        yield "the command serves within, s", statistics.median(starts), "<= 1", lambda one: one <= 1
        with browser() as chrome:
            yield from in_the_browser(chrome, folder, file)
        many, one_evening = weights(folder)
        yield "page over CSV, 115 evenings", many, "<= 0.333", lambda one: one <= 1 / 3
        yield "page over CSV, one evening", one_evening, "<= 1", lambda one: one <= 1


def in_the_browser(chrome: Chrome, folder: Path, file: Path) -> Figures:
    with watching(file) as (address, _):
        took = from_a_save(chrome, file, address)
        yield "from a save to the run drawn, 600 frames, s", took, "<= 0.5", lambda one: one <= 0.5
        pace, keys = played(chrome)
        yield "playing at 60 frames/s, frames/s", pace, "59.5..60.5", lambda one: 59.5 <= one <= 60.5
        yield "from a key to the picture, median, ms", statistics.median(keys), "<= 25", lambda one: one <= 25
        yield "from a key to the picture, 95 %, ms", float(np.quantile(keys, 0.95)), "<= 40", lambda one: one <= 40
    opened, drag = long_page(chrome, folder)
    yield "100,000 rows x 40 channels open within, s", opened, "<= 2", lambda one: one <= 2
    yield "a drag over them, frames/s", drag, ">= 30", lambda one: one >= 30


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--json", action="store_true")
    asked = options.parse_args()
    met = True
    for name, value, goal, holds in figures():
        met = met and holds(value)
        if asked.json:
            print(json.dumps({"what": name, "value": round(value, 3), "goal": goal, "met": holds(value)}), flush=True)
        else:
            print(f"{name:45} {value:9.3f}  goal {goal:11} {'met' if holds(value) else 'NOT MET'}", flush=True)
    sys.exit(0 if met else 1)


if __name__ == "__main__":
    main()
