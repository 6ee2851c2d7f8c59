"""The page as a person meets it, in headless Chromium, and what it computes, by the JavaScript runner."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from selenium.common.exceptions import ElementClickInterceptedException, StaleElementReferenceException
from selenium.webdriver import Chrome, ChromeOptions, ChromeService
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from tests.watching import GAME, Watching

import larktally as lt
from larktally.demo import quay
from larktally.traces.marks import marks_of
from larktally.views.page.packing import Packing
from larktally.views.page.run_view import RunView
from larktally.views.page.standing_file import save_page

WEB = Path(__file__).parent.parent / "web"
CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
DRIVER, NODE = shutil.which("chromedriver"), shutil.which("node")
MISSING = {"Chromium": CHROMIUM, "its chromedriver": DRIVER, "Linux": os.path.exists("/proc/self")}

pytestmark = pytest.mark.slow
in_chromium = pytest.mark.skipif(
    not all(MISSING.values()),
    reason=f"needs {', '.join(name for name, path in MISSING.items() if not path)}: apt-get install chromium chromium-driver",
)
by_node = pytest.mark.skipif(not NODE, reason="needs Node 20 or later: apt-get install nodejs")

FLAGS = """--headless=new --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update
--disable-sync --disable-dev-shm-usage --window-size=1280,800"""
WITHIN = 15


class Seen:
    """A page in a browser: what is read on it, and what is done to it."""

    def __init__(self, chrome: Chrome, address: str) -> None:
        self.chrome = chrome
        chrome.get("about:blank")
        chrome.get_log("browser")
        chrome.get(address)

    def wait(self, holds: Callable[[], Any], what: str = "") -> Any:
        until = time.monotonic() + WITHIN
        while True:
            found = holds()
            if found:
                return found
            assert time.monotonic() < until, f"{what or 'never so'}; the page has: {self.text()}"
            time.sleep(0.02)

    def text(self, where: str = "body") -> str:
        # At one moment: what is found one by one may be gone before it is read.
        read = "return [...document.querySelectorAll(arguments[0])].map((one) => one.innerText).join('\\n')"
        return self.chrome.execute_script(read, where)

    def reads(self, text: str, where: str = "body") -> None:
        self.wait(lambda: text in self.text(where), f"no {text!r} in {where}")

    def row(self) -> int:
        return int(self.chrome.execute_script("return document.querySelector('[data-row]').dataset.row"))

    def button(self, text: str) -> Any:
        path = f"//button[contains(normalize-space(.), {text!r})]"
        return self.wait(lambda: self.chrome.find_elements(By.XPATH, path), f"no button {text!r}")[0]

    def click(self, text: str) -> None:
        self.wait(lambda: self._clicked(text), f"{text!r} cannot be clicked")

    def _clicked(self, text: str) -> bool:
        """Whether it took the click: while the page is laid out anew another thing may lie there for a moment."""
        try:
            self.button(text).click()
        except (ElementClickInterceptedException, StaleElementReferenceException):
            return False
        return True

    def press(self, *keys: str) -> None:
        ActionChains(self.chrome).send_keys(*keys).perform()

    def field(self, label: str) -> Any:
        return self.chrome.find_element(By.CSS_SELECTOR, f'[aria-label="{label}"]')

    def value(self, name: str) -> str:
        read = """return [...document.querySelectorAll('.values tr')]
            .find((one) => one.querySelector('th').innerText.trim() === arguments[0])?.querySelector('td').innerText"""
        return self.chrome.execute_script(read, name)

    def complaints(self) -> list[str]:
        return [one["message"] for one in self.chrome.get_log("browser") if one["level"] == "SEVERE"]


@pytest.fixture(scope="module")
def chrome(tmp_path_factory):
    options = ChromeOptions()
    options.binary_location = CHROMIUM
    for flag in FLAGS.split():
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    with Chrome(options=options, service=ChromeService(DRIVER)) as driver:
        yield driver


@pytest.fixture
def game(tmp_path):
    (tmp_path / "steps.py").write_text("SPEED = 2.0\n")
    path = tmp_path / "game.py"
    path.write_text(GAME)
    return path


@in_chromium
def test_a_breach_is_a_click_away_from_its_story_and_the_line_of_code(chrome, tmp_path):
    file = tmp_path / "quay.py"
    file.write_text(Path(quay.__file__).read_text())
    with Watching(f"{file}:faulty_run") as watching:
        page = Seen(chrome, watching.address)
        page.reads("1 broken, 3 kept", "[data-sentence]")
        # The first screen stands at the breach; the story opens on a click, and asks why.
        assert page.row() == 52
        page.press(Keys.HOME)
        page.wait(lambda: page.row() == 0)
        page.click("a hop starts on the ground")
        page.wait(lambda: page.row() == 52)
        page.reads("prev(wick.grounded) = false", ".claim pre")
        page.reads("quay.py:", ".places")
        page.reads("hop again", "[data-why]")
        page.wait(lambda: chrome.execute_script("return location.hash") == "#row=52")
        # A link to a row opens at it.
        again = Seen(chrome, f"{watching.address}#row=40")
        again.reads("1 broken", "[data-sentence]")
        assert again.row() == 40 and not again.complaints()


@in_chromium
def test_rows_are_scrubbed_by_keys_and_by_a_drag_and_the_values_are_the_traces(chrome, tmp_path, dusk_trace):
    path = save_page(tmp_path / "dusk.html", [RunView(dusk_trace)])
    page = Seen(chrome, path.as_uri())
    page.wait(lambda: page.text("[data-sentence]"))
    page.press(Keys.HOME)
    for keys, row in [
        ([Keys.ARROW_RIGHT] * 3, 3),
        ([Keys.ARROW_LEFT], 2),
        ([Keys.END], dusk_trace.rows - 1),
        ([Keys.ARROW_RIGHT], dusk_trace.rows - 1),
    ]:
        page.press(*keys)
        page.wait(lambda row=row: page.row() == row)
    timeline = chrome.find_element(By.CSS_SELECTOR, ".timeline canvas")
    drag = ActionChains(chrome).move_to_element_with_offset(timeline, 0, 30).click_and_hold().perform()
    rows = set()
    for _ in range(12):
        drag = ActionChains(chrome, duration=20).move_by_offset(20, 0).perform()
        rows.add(page.row())
        assert page.value("wick.x") == shown(dusk_trace["wick.x"][page.row()])
        assert page.value("wick.gait") == dusk_trace["wick.gait"][page.row()]
    ActionChains(chrome).release().perform()
    assert drag is None and len(rows) == 12 and sorted(rows) == sorted(rows, key=int)
    before = page.row()
    page.press("+", "+", "+")
    page.reads("show all", ".whole-run")
    page.press("0")
    page.wait(lambda: not page.text(".whole-run"))
    assert page.row() == before and not page.complaints()


def shown(value: float) -> str:
    """A number as the page shows it: six places that count."""
    return f"{value:.6g}"


@in_chromium
def test_a_number_is_turned_by_field_and_slider_and_taken_back(chrome, game):
    with Watching(f"{game}:walk") as watching:
        page = Seen(chrome, watching.address)
        page.reads("1 broken, 1 kept", "[data-sentence]")
        page.press(Keys.HOME, Keys.ARROW_RIGHT)
        page.field("leap").send_keys(Keys.CONTROL, "a")
        page.field("leap").send_keys("4", Keys.ENTER)
        page.reads("height 39 → 20", "[data-sentence]")
        assert page.row() == 1
        assert 'setup.number("leap", 4, least=1, greatest=20)' in page.button("copy").get_attribute("title")
        page.field("leap, slider").send_keys(Keys.ARROW_RIGHT)
        page.reads("height 20 → 20.9", "[data-sentence]")
        page.click("undo")
        page.reads("height 20.9 → 20", "[data-sentence]")
        page.click("all as they were")
        page.reads("height 20 → 39", "[data-sentence]")
        page.field("leap").send_keys(Keys.CONTROL, "a")
        page.field("leap").send_keys("99", Keys.ENTER)
        page.reads("above its greatest, 20", "[role=alert]")
        page.reads("39", ".stage, aside")


@in_chromium
def test_a_save_leaves_everything_where_it_was_and_an_error_leaves_the_last_run(chrome, game):
    with Watching(game) as watching:
        page = Seen(chrome, watching.address)
        page.reads("1 broken, 1 kept", "[data-sentence]")
        page.press(Keys.HOME, *[Keys.ARROW_RIGHT] * 7)
        page.press("+", "+")
        zoomed = page.text(".whole-run")
        game.write_text(GAME.replace('"leap", 6', '"leap", 5'))
        page.reads("height 39 → 29", "[data-sentence]")
        assert page.row() == 7 and page.text(".whole-run") == zoomed
        page.press("d")
        page.wait(lambda: page.row() == 5)
        # The file breaks, and is mended.
        game.write_text("def f(:\n")
        page.reads("game.py, line 1", "[role=alert]")
        page.reads("the last run that came to its end", "[role=alert]")
        assert page.row() == 5 and page.value("y") == "5"
        game.write_text(GAME)
        page.reads("height 29 → 39", "[data-sentence]")
        assert not chrome.find_elements(By.CSS_SELECTOR, "[role=alert]")
        # The verdicts of the other scenario stand in the list; it is chosen, and nothing else chooses.
        page.reads("✓ stand", "select")
        chrome.find_element(By.CSS_SELECTOR, "select[aria-label=scenario]").send_keys("✓")
        page.reads("1 kept", "[data-sentence]")
        game.write_text(GAME + "\n")
        time.sleep(0.5)
        page.reads("1 kept", "[data-sentence]")


@in_chromium
def test_a_loop_is_stopped_on_the_page_and_a_page_that_is_opened_again_sees_the_same(chrome, game):
    with Watching(f"{game}:walk") as watching:
        page = Seen(chrome, watching.address)
        page.reads("1 broken", "[data-sentence]")
        game.write_text(GAME.replace("hops = now.pressed", "\n        while True: pass\n        hops = now.pressed"))
        page.click("stop it")
        page.reads("stopped from the page", "[role=alert]")
        again = Seen(chrome, watching.address)
        again.reads("stopped from the page", "[role=alert]")
        again.reads("1 broken", "[data-sentence]")


@in_chromium
def test_it_is_played_with_keys_judged_and_kept(chrome, game):
    with Watching(f"{game}:walk") as watching:
        page = Seen(chrome, watching.address)
        page.click("play it yourself")
        page.reads("you play", "[data-playing]")
        page.click("frame by frame")
        # In this mode each key makes one frame, and none is the page's own: b and d are nothing here.
        start = page.row()
        page.press("b", "d", Keys.END)
        for key in (Keys.ARROW_RIGHT, Keys.SPACE, Keys.ARROW_RIGHT):
            before = page.row()
            page.press(key)
            page.wait(lambda before=before: page.row() == before + 1)
        page.wait(lambda: page.value("x") == "4" or page.value("x") == "6")
        page.press(Keys.F8)
        page.field("note").send_keys("</script><b>odd</b>", Keys.ENTER)
        page.wait(lambda: not chrome.find_elements(By.CSS_SELECTOR, '[aria-label="note"]'))
        rows = page.row() + 1
        page.click("judge it")
        page.reads("of", ".transport")
        assert page.row() < rows
        page.field("name").clear()
        page.field("name").send_keys("second hop")
        page.click("keep")
        page.reads("it replays identical", ".kept-run")
        page.reads(f"frames={rows - 1}", ".kept-run pre")
        (recording,) = game.parent.glob("*.parquet")
        trace = lt.load_trace(recording)
        assert trace.rows == rows > start and trace.inputs["hop"].sum() == 1
        assert [mark.note for mark in marks_of(trace)] == ["</script><b>odd</b>"]
        # The script that was played runs at a save, until it is put aside.
        game.write_text(GAME.replace('"leap", 6', '"leap", 3'))
        page.reads("height", "[data-sentence]")
        page.click("back to its own script")
        page.wait(lambda: "back to its own" not in page.text(".transport"))
        # Esc leaves, and keeps nothing.
        page.click("play it yourself")
        page.reads("you play", "[data-playing]")
        page.wait(lambda: page.row() > 2, "real time does not run on")
        # A save meanwhile is run, and does not throw the player out.
        with watching.page() as other:
            other.hear("run")
            game.write_text(GAME.replace('"leap", 6', '"leap", 4'))
            other.hear("running")
            other.hear("run")
            game.write_text("not a model")
            other.hear("failed")
        row = page.row()
        page.wait(lambda: page.row() > row, "the game goes on")
        page.press(Keys.ESCAPE)
        page.wait(lambda: not chrome.find_elements(By.CSS_SELECTOR, "[data-playing]"))
        assert not page.complaints()


@in_chromium
def test_a_key_that_is_bound_anew_and_a_pad_are_what_is_held(chrome, game):
    with Watching(f"{game}:walk") as watching:
        page = Seen(chrome, watching.address)
        page.click("play it yourself")
        page.click("frame by frame")
        page.click("hop")
        page.press(Keys.ESCAPE)
        page.reads("hop Space", "[data-playing]")
        page.click("hop")
        page.press("q")
        page.reads("hop Q", "[data-playing]")
        page.press("q")
        page.wait(lambda: page.value("y") == "6")
        chrome.execute_script("""
            const button = (pressed) => ({ pressed, value: pressed ? 1 : 0 });
            const buttons = Array.from({ length: 17 }, (_, n) => button(n === 15));
            navigator.getGamepads = () => [{ mapping: 'standard', connected: true, buttons, axes: [0, 0, 0, 0] }];
        """)
        before = float(page.value("x"))
        page.click("one frame")
        page.wait(lambda: float(page.value("x")) == before + 2)
        page.press(Keys.ESCAPE)


@in_chromium
def test_two_runs_stand_in_one_file_that_fetches_nothing_and_runs_no_text(chrome, tmp_path, dusk_trace):
    class Odd:
        def reset(self, setup):
            pass

        def step(self, now):
            return [lt.Event("said", "odd", text="</script><img src=x onerror=document.title='run'>")]

        def observe(self):
            return {"mood": "</script><script>document.title='run'</script>"}

    hostile = save_page(tmp_path / "odd.html", [RunView(lt.record(lt.Scenario(Odd, frames=3, name="</title><b>")))])
    page = Seen(chrome, hostile.as_uri())
    page.reads("</script><script>", ".values")
    assert not chrome.find_elements(By.CSS_SELECTOR, "img") and chrome.title == "</title><b>: Lark Tally"

    faulty = lt.record(quay.faulty_run)
    tally = lt.check(faulty, quay.CLAIMS)
    both = save_page(tmp_path / "two.html", [RunView(faulty, tally, name="now"), RunView(dusk_trace, name="before")])
    page = Seen(chrome, both.as_uri())
    page.reads("1 broken, 3 kept", "[data-sentence]")
    page.press(Keys.HOME, "d")
    first = lt.compare(faulty, dusk_trace).divergence.row
    page.wait(lambda: page.row() == first)
    channel = "wick.vy"
    page.reads(f"was {shown(dusk_trace[channel][first])}", ".values")
    fetched = chrome.execute_script("return performance.getEntriesByType('resource').length")
    assert fetched == 0 and not page.complaints()
    # A policy that allows nothing but what was built with it.
    assert (
        "default-src 'none'" in both.read_text()
        and "unsafe-" not in re.search('content="(default[^"]*)', both.read_text())[1]
    )


@by_node
def test_what_the_page_computes():
    ran = subprocess.run(
        [NODE, "--test", *sorted(str(one) for one in (WEB / "test").glob("*.mjs"))], capture_output=True, text=True
    )
    assert ran.returncode == 0 and "# pass 0" not in ran.stdout, ran.stdout + ran.stderr


READ_COLUMNS = """
import { readFileSync } from 'node:fs';
const { unpack, valuesOf } = await import(process.argv[1]);
const { described, columns } = await unpack(readFileSync(process.argv[2]));
const hex = described.columns.map((one) => Buffer.from(valuesOf(one, columns).buffer).toString('hex'));
console.log(JSON.stringify(hex));
"""


@by_node
def test_the_page_reads_columns_bit_by_bit(tmp_path, dusk_trace):
    some = np.random.default_rng(3)
    wild = some.integers(0, 2**63, 400, dtype=np.uint64).view(np.float64)
    columns = [
        *([one.stored for one in dusk_trace.columns.values()]),
        np.array([0.0, -0.0, 0.0]),
        np.array([np.nan, np.inf, -np.inf, 5e-324, -1.5]),
        np.array([2.0**53, -(2.0**53), 2.0**53 + 2, 1.0]),
        np.array([2**40, -(2**40), 0, 127, 128, -129, 65536]),
        np.array([True, False, True]),
        np.where(np.isnan(wild), 1.0, wild),
        np.zeros(0),
        np.array([7.0]),
    ]
    packing = Packing()
    described = [packing.column(one) for one in columns]
    packed = tmp_path / "packed"
    packed.write_bytes(packing.packed({"columns": described}))
    script = tmp_path / "read.mjs"
    script.write_text(READ_COLUMNS.replace("process.argv[1]", "process.argv[2]").replace("argv[2]));", "argv[3]));"))
    ran = subprocess.run([NODE, script, WEB / "src" / "unpack.js", packed], capture_output=True, text=True, check=True)
    assert json.loads(ran.stdout) == [np.asarray(one, dtype=np.float64).tobytes().hex() for one in columns]
