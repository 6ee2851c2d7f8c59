"""Every block of Python in the documents runs, each document's blocks in a folder of their own."""

import doctest
import importlib
import pkgutil
import re
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import larktally as lt
from larktally.cli import main
from larktally.demo.evening import cold_and_moths, evening_won
from larktally.demo.quay import dusk_run
from larktally.language.functions import FUNCTIONS

ROOT = Path(__file__).parent.parent
DOCUMENTS = sorted([ROOT / "README.md", *(ROOT / "docs").glob("*.md")])


@pytest.mark.slow
@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_the_blocks_of_a_document_run(document, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    names = {"__name__": "document"}
    for block in re.findall(r"^```python\n(.*?)^```", document.read_text(encoding="utf-8"), re.M | re.S):
        exec(compile(block, str(document), "exec"), names)


def test_the_commands_that_the_documents_name_exist_with_their_options(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    text = "\n".join(document.read_text(encoding="utf-8") for document in DOCUMENTS)
    for line in set(re.findall(r'python -c "([^"]+)"', text)):
        assert len(subprocess.run([sys.executable, "-c", line], check=True, capture_output=True).stdout) > 200
    used = re.findall(r"(?:^ *|`|&& )larktally ([a-z-]+)\b([^`|\n]*)", text, re.M)
    used = [(name, rest) for name, rest in used if name != "trace"]  # the first bytes that a digest is over
    assert {name for name, _ in used} == set(main.list_commands(None))
    for name, rest in used:
        known = {option for parameter in main.get_command(None, name).params for option in parameter.opts}
        # What follows check-program is a command of its own, with options of its own.
        assert name == "check-program" or set(re.findall(r"--[a-z]+", rest)) <= known, (name, rest)


def test_the_architecture_names_every_module_and_no_other():
    text = (ROOT / "ARCHITECTURE.md").read_text(encoding="utf-8")
    source = ROOT / "src" / "larktally"
    modules = [path.relative_to(source) for path in source.rglob("*.py") if path.name != "__init__.py"]
    rooms = {path.parts[0] for path in modules if len(path.parts) > 1}
    for path in modules:
        below = "/".join(path.parts[1:]) or path.name
        assert path.name == "__main__.py" or f"`{below}`" in text, path
    named = re.findall(r"^\| `([a-z_/]+\.py)` \|", text, re.M)
    below = {"/".join(path.parts[1:]) or path.name for path in modules} | {"__init__.py"}
    assert set(named) <= below and rooms == set(re.findall(r"^### `([a-z_]+)/`", text, re.M))


def test_links_lead_somewhere():
    for document in [ROOT / "ARCHITECTURE.md", ROOT / "CONTRIBUTING.md", *DOCUMENTS]:
        for target in re.findall(r"\]\((?!https?:)([^)#]+)\)", document.read_text(encoding="utf-8")):
            assert (document.parent / target).exists(), f"{document.name}: {target}"


CLAIMS_PAGE = (ROOT / "docs" / "claims.md").read_text(encoding="utf-8")


@pytest.fixture(scope="module")
def evening():
    return lt.record(evening_won)


def against_a_wall(setup):
    sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((60, 0), (8, 60))]))
    sim.body("wick", size=(12, 20), at=(24, 16), velocity=(120, 0), shows=("touching",))
    return sim


def test_every_claim_in_the_language_s_document_is_kept_by_the_demo(dusk_trace, evening):
    rows = re.findall(r"^\| `([a-z_]+)[^`]*` \| .* \| (\*evening\*: )?`([^`]+)`", CLAIMS_PAGE, re.M)
    names = [name for name, _, _ in rows]
    assert names == list(dict.fromkeys(names)) and set(names) == set(FUNCTIONS)
    wall = lt.record(against_a_wall, frames=30)
    for name, on_evening, that in rows:
        trace = evening if on_evening else wall if name == "touching" else dusk_trace
        if name != "seen":
            tally = lt.check(trace, [lt.claim(name, that)], against=trace)
            assert tally.passed, str(tally)
    for signature in re.findall(r"^\| `([a-z_]+\([^`]*)` \| ", CLAIMS_PAGE, re.M):
        function = FUNCTIONS[signature.partition("(")[0]]
        assert set(re.findall(r"(\w+)=…", signature)) == {one.name for one in function.named} | (
            {"field"} if function.by_data else set()
        ), signature


def test_every_answer_to_a_question_and_every_recipe_is_kept(dusk_trace, evening):
    table = CLAIMS_PAGE[: CLAIMS_PAGE.index("## Ten recipes")]
    asked, moths = [], lt.record(cold_and_moths)
    for line in re.findall(r"^\| [^|]+\? \| (.*) \|$", table, re.M):
        trace = evening if line.startswith("*evening*") else dusk_trace
        asked += [
            (trace, that, "") for that in re.findall(r"`([a-z0-9_ <]+\([^`]+)`", line) if not that.startswith("lt.")
        ]
    for words, block in re.findall(r"^```claims([^\n]*)\n(.*?)^```", CLAIMS_PAGE, re.M | re.S):
        about, _, allow = words.strip().partition(" ")
        trace = {"": dusk_trace, "evening": evening, "moths": moths}[about]
        asked += [(trace, that, allow) for that in block.splitlines()]
    assert len(asked) > 27
    for trace, that, allow in asked:
        tally = lt.check(trace, [lt.claim(that, that, allow=allow.split())])
        assert tally.passed, str(tally)


def test_the_files_in_the_claims_page_are_kept(dusk_trace, tmp_path):
    across, text = re.findall(r"^```toml\n(.*?)^```", CLAIMS_PAGE, re.M | re.S)
    (tmp_path / "walk.csv").write_text(re.search(r"^```csv\n(.*?)^```", CLAIMS_PAGE, re.M | re.S)[1], encoding="utf-8")
    table = "[[claim]]\nname = 'the walk'\ntable = 'walk.csv'\n"
    (tmp_path / "claims.toml").write_text(text + across + table, encoding="utf-8")
    claims = lt.load_claims(tmp_path / "claims.toml", dusk_trace.channels)
    assert len(claims) == 3 and lt.check(dusk_trace, claims).passed
    hop = dusk_run.changed(frames="2s", inputs=lt.InputScript().press("hop", "0.5s"), name="hop")
    runs = {str(rate): lt.record(hop.changed(rate=rate)) for rate in (30, 60, 120)}
    (tmp_path / "across.toml").write_text(across, encoding="utf-8")
    tallies = lt.check_each(runs, tmp_path / "across.toml")
    assert tallies.passed and tallies.across[0].groups == 1 and tallies.across[0].margin == 0.5


@pytest.mark.slow
def test_every_example_in_a_docstring_gives_what_it_says():
    names = [module.name for module in pkgutil.walk_packages(lt.__path__, "larktally.")]
    results = [doctest.testmod(importlib.import_module(name)) for name in names]
    assert sum(result.failed for result in results) == 0
    assert sum(result.attempted for result in results) >= 20


def test_the_files_in_the_formats_document_are_read(tmp_path):
    text = (ROOT / "docs" / "formats.md").read_text(encoding="utf-8")
    blocks = {kind: re.findall(rf"^```{kind}\n(.*?)^```", text, re.M | re.S) for kind in ("jsonl", "csv", "toml")}
    names = {
        "run.jsonl": blocks["jsonl"][0],
        "run.csv": blocks["csv"][0],
        "log.csv": blocks["csv"][1],
        "map.toml": blocks["toml"][0],
    }
    for name, content in {**names, "script.csv": blocks["csv"][2]}.items():
        (tmp_path / name).write_text(content, encoding="utf-8")
    told = [
        lt.load_trace(tmp_path / "run.jsonl"),
        lt.load_trace(tmp_path / "run.csv", rate=60),
        lt.load_trace(tmp_path / "log.csv", mapping=tmp_path / "map.toml"),
    ]
    assert all(trace["wick.y"].tolist()[:2] == [16.0, 21.75] and trace["wick.gait"][1] == "airborne" for trace in told)
    assert all([event.row for event in trace.events.named("hop")] == [1] for trace in told)
    assert lt.InputScript.from_csv(tmp_path / "script.csv").last_frame == 80
    events = re.search(r"^```json\n(.*?)^```", text, re.M | re.S)[1]
    lines = re.search(r"^```text\n(.*?)^```", text, re.M | re.S)[1]
    (tmp_path / "said.jsonl").write_text(events, encoding="utf-8")
    (tmp_path / "game.log").write_text(lines, encoding="utf-8")
    for name, mapping in (("said.jsonl", blocks["toml"][1]), ("game.log", blocks["toml"][2])):
        (tmp_path / "map.toml").write_text(mapping, encoding="utf-8")
        trace = lt.load_trace(tmp_path / name, mapping=tmp_path / "map.toml")
        assert trace.rows == 79
    assert (
        trace["wick.gait"].tolist() == ["standing"] * 31 + ["airborne"] * 47 + ["standing"]
        and trace.events[0].row == 78
    )


def test_the_scenarios_and_the_game_of_the_programs_page_are_what_they_say(tmp_path):
    text = (ROOT / "docs" / "programs.md").read_text(encoding="utf-8")
    toml = re.search(r"^```toml\n(.*?)^```", text, re.M | re.S)[1]
    (tmp_path / "game.toml").write_text(toml, encoding="utf-8")
    (tmp_path / "game.claims.toml").write_text("[[claim]]\nname = 'x'\nthat = 'always(wick.x > 0)'\n", encoding="utf-8")
    (tmp_path / "dusk.csv").write_text("action,start,frames,value\nhop,9,1,1\n", encoding="utf-8")
    names = [one.title for one in lt.load_scenarios(tmp_path / "game.toml")]
    assert names == ["dusk", "two rates at 30", "two rates at 60"]
    if shutil.which("c++") is None:
        pytest.skip("there is no C++ compiler here")
    game = re.search(r"^```cpp\n(.*?)^```", text, re.M | re.S)[1]
    wick = "struct Wick { double x = 24, y = 16, vx = 0, vy = 0; int gait = 0, oil = 7; bool grounded = true;\n"
    wick += "  void step(double s) { x += vx * s; y += (vy -= 900 * s) * s; if ((grounded = y <= 16)) y = 16, vy = 0; } };\n"
    whole = f'#include "larktally.hpp"\n{wick}int main() {{ Wick wick; double speed = 120, rate = 60;\n{game}}}\n'
    (tmp_path / "game.cpp").write_text(whole, encoding="utf-8")
    bindings = Path(lt.__file__).parent / "bindings" / "cpp"
    subprocess.run(["c++", "-std=c++17", f"-I{bindings}", "-o", tmp_path / "game", tmp_path / "game.cpp"], check=True)
    trace = lt.record(lt.Program([str(tmp_path / "game")]), lt.InputScript().press("hop", 5), frames=60)
    assert [event.row for event in trace.events.named("hop")] == [5] and trace["wick.y"].max() > 60


def test_every_line_of_the_trade_s_words_runs_in_a_sim():
    lines = re.findall(r"^\| [^|]+ \| [^|]+ \| `(.+)` \|$", (ROOT / "docs" / "words.md").read_text(), re.M)
    assert len(lines) > 40

    def model(line):
        def build(setup):
            sim = lt.Sim(setup, level=lt.Level([lt.geometry.box_at((0, 0), (300, 16))]), actions=("hop", "swing"))
            wick = sim.body("wick", size=(12, 20), at=(40, 16), gravity=900)
            moth = sim.body("moth", size=(10, 10), at=(60, 22))
            gait = sim.machine("gait", ("low", "high"), "low")
            for first in line.split("; "):
                assert (
                    eval(first, {"lt": lt, "np": np, "sim": sim, "wick": wick, "moth": moth, "gait": gait})
                    is not NotImplemented
                )
            return sim

        return build

    for line in lines:
        assert lt.record(model(line), lt.InputScript().press("hop", 3), frames=6).rows == 7, line


def test_how_a_rule_reads_each_part_is_what_the_parts_declare():
    from tests.test_parity import crowded

    text = (ROOT / "docs" / "parts.md").read_text(encoding="utf-8")
    told = set()
    for part, channel, attribute in re.findall(r"^\| ([a-z ]+) \| `(\w+(?:\.\w+)?)` \| `\w+\.(\w+)` \|$", text, re.M):
        told.add((part.replace(" ", "").replace("usesintheair", "airuses"), channel.partition(".")[2], attribute))
    declared = set()
    for part in crowded(lt.Setup()).parts.values():
        for spec in part.channels():
            # Of a slot of a pool rules see what was spawned; what another object holds has a line of its own.
            if spec.holder is None and spec.suffix != spec.attribute and type(part).__name__ != "Slot":
                declared.add((type(part).__name__.lower(), spec.suffix, spec.attribute))
    assert told == declared
