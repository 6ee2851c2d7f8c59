"""The bindings as `larktally new --for` writes them: built without a warning, good subjects, the same game in each language, and
each of ten planted faults found by the check of a program or by a claim."""

import shutil
import socket
import subprocess
from pathlib import Path

import pytest
from click.testing import CliRunner

import larktally as lt
from larktally.cli import main
from larktally.cli.languages import LANGUAGES
from larktally.watch.live_game import LiveGame, hello_of

STRICT = "-Wall -Wextra -Wpedantic -Wshadow -Wconversion -Werror -O1 -g -fsanitize=address,undefined"
BUILDS = {
    "c": ("cc", f"cc -std=c99 {STRICT} -o game game.c larktally.c -lm"),
    "c++": ("c++", f"c++ -std=c++17 {STRICT} -o game game.cpp"),
    "csharp": ("mcs", "mcs -warn:4 -warnaserror -out:game.exe Game.cs LarkTally.cs"),
    "javascript": ("node", ""),
    "lua": ("lua5.4", ""),
}
# What each language calls the same: a fault is one change of text, said once where all write it alike.
FAULTS = {
    "a hop in the air": {
        "c": ("wick.gait == STANDING && lt_pressed(", "lt_pressed("),
        "c++": ("wick.gait == standing && subject.pressed(", "subject.pressed("),
        "csharp": ("wick.Gait == Gait.standing && subject.Pressed(", "subject.Pressed("),
        "javascript": ('wick.gait === "standing" && subject.pressed(', "subject.pressed("),
        "lua": ('wick.gait == "standing" and subject:pressed(', "subject:pressed("),
    },
    "no rest after a spark": {"*": ("rest = 12", "rest = 2"), "csharp": ("Rest = 12", "Rest = 2")},
    "a spark that costs nothing": {
        "*": ("wick.oil -= 1", "wick.oil -= 0"),
        "csharp": ("wick.Oil -= 1", "wick.Oil -= 0"),
        "lua": ("wick.oil = wick.oil - 1", "wick.oil = wick.oil - 0"),
    },
    "a hop that stays up": {"*": ("wick.vy -= 900 / rate;", ""), "csharp": ("wick.Vy -= 900 / rate;", ""), "lua": ("wick.vy = wick.vy - 900 / rate", "")},
    "a reset that forgets": {
        "c": ("    wick = BEGINNING;\n    rate", "    rate"),
        "c++": ("        wick = Wick();\n", ""),
        "csharp": ("            wick = new Wick();\n            rate", "            rate"),
        "javascript": ("  begin();\n  rate", "  rate"),
        "lua": ("  begin()\n  rate", "  rate"),
    },
    "a rate that is not taken": {
        "c": ("    rate = start->rate;\n", "    (void)start;\n"),
        "c++": ("(const larktally::Start &start) {\n        wick = Wick();\n        rate = start.rate;", "(const larktally::Start &) {\n        wick = Wick();"),
        "csharp": ("            rate = start.Rate;\n", ""),
        "javascript": ("  rate = start.rate;\n", ""),
        "lua": ("  rate = start.rate\n", ""),
    },
    "state that is not saved": {
        "c": ('lt_number(subject, "wick.vy", &wick.vy);', 'lt_getter(subject, "wick.vy", "number", own_vy, NULL);'),
        "c++": ('.bind("wick.vy", &wick.vy)', '.bind("wick.vy", [&] { return wick.vy; })'),
        "csharp": ('.Bind("wick.vy", () => wick.Vy)', '.Bind("wick.vy", () => wick.Vy + 0)'),
        "javascript": ('.number("wick.vy", own, "vy")', '.number("wick.vy", () => wick.vy)'),
        "lua": (':number("wick.vy", own, "vy")', ':number("wick.vy", function() return wick.vy end)'),
    },
    "a param that does nothing": {"*": ("speed * ", "120 * "), "javascript": ("tuning.speed * ", "120 * "), "lua": ("tuning.speed * ", "120 * ")},
    "an action that does nothing": {
        "c": ('lt_pressed(subject, "spark")', "false"),
        "c++": ('subject.pressed("spark")', "false"),
        "csharp": ('subject.Pressed("spark")', "rate < 0"),
        "javascript": ('subject.pressed("spark")', "false"),
        "lua": ('subject:pressed("spark")', "false"),
    },
    "an event that was not announced": {
        "c": ('lt_event(subject, "landed");', ""),
        "c++": ('.event("landed")', ""),
        "csharp": ('.Event("landed")', ""),
        "javascript": ('.event("landed")', ""),
        "lua": (':event("landed")', ""),
    },
}  # fmt: skip
# What C needs beside, where a getter stands in place of a variable.
OWN_VY = "static double own_vy(void *own) {\n    (void)own;\n    return wick.vy;\n}\n\nint main"


def cli(*words):
    return CliRunner().invoke(main, [str(word) for word in words])


def project(folder, language, change=None):
    """A project of that language, built with every warning an error; `change` is made in its game first."""
    tool, build = BUILDS[language]
    if shutil.which(tool) is None:
        pytest.skip(f"there is no {tool} here")
    made = cli("new", folder, "--for", language)
    assert made.exit_code == 0, made.output
    game = folder / LANGUAGES[language].game
    if change is not None:
        text = game.read_text()
        assert change[0] in text, change
        text = text.replace(*change)
        if "own_vy" in text:
            text = text.replace("int main", OWN_VY, 1)
        game.write_text(text)
    if build:
        words = build.split()
        # A fault needs no sanitizer to be found, and builds ten times as fast without one.
        if change is not None:
            words = [word for word in words if "sanitize" not in word and word != "-Werror"]
        built = subprocess.run(words, cwd=folder, capture_output=True, text=True)
        assert built.returncode == 0, built.stdout + built.stderr
    return folder


@pytest.mark.slow
@pytest.mark.parametrize("language", LANGUAGES)
def test_a_written_project_builds_passes_its_check_and_keeps_its_claims(tmp_path, language, monkeypatch):
    folder = project(tmp_path / "game", language)
    command = list(LANGUAGES[language].command)
    for over in ("stdio", "listen"):
        found = lt.check_program(command, folder=folder, over=over)
        unheld = [line for line in found.lines if line.verdict != "holds"]
        assert [line.what for line in unheld] == ["another seed gives other rows"], str(found)
    monkeypatch.chdir(folder)
    ran = cli("run", "game.toml")
    assert ran.exit_code == 0 and ran.output.count("4 of 4 claims passed") == 2, ran.output
    readme = (folder / "README.md").read_text()
    assert LANGUAGES[language].build in readme and f"larktally check-program {' '.join(command)}" in readme
    # As bytes and as text, ahead or not, over a pipe and a socket: the same rows.
    digests = set()
    for options in ({}, {"columns": "json"}, {"over": "listen"}, {"batch": 7}):
        subject = lt.Program(command, folder=folder, **options)
        one = lt.load_scenarios("game.toml:dusk")[0].changed(subject=subject, claims=(), measures=())
        trace = lt.record(one)
        subject.stop()
        digests.add(tuple(trace[name].tobytes() for name in trace.channels if name != "wick.gait"))
        assert [event.name for event in trace.events] == ["hop", "spark", "landed", "spark"]
    assert len(digests) == 1
    told = cli("why", "traces/dusk.parquet", "game.toml", "60").output
    assert "can.oil: noted: a spark was thrown" in told and "can.oil: 7 → 6" in told


@pytest.mark.slow
def test_the_game_is_the_same_bit_by_bit_in_every_language(tmp_path):
    traces = {}
    for language in LANGUAGES:
        if shutil.which(BUILDS[language][0]) is None:
            continue
        folder = project(tmp_path / LANGUAGES[language].folder, language, ("lantern", "lantern"))
        for one in lt.load_scenarios(folder / "game.toml"):
            traces[language, one.name] = lt.record(one)
            one.subject.stop()
    for (_, name), trace in traces.items():
        same = traces[next(key for key in traces if key[1] == name)]
        assert lt.compare(same, trace).divergence is None


@pytest.mark.slow
@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.parametrize("language", LANGUAGES)
def test_each_planted_fault_is_found(tmp_path, language, fault):
    change = FAULTS[fault].get(language) or FAULTS[fault]["*"]
    folder = project(tmp_path / "game", language, change)
    found = lt.check_program(list(LANGUAGES[language].command), folder=folder)
    if not found.passed:
        return
    tallies = []
    for one in lt.load_scenarios(folder / "game.toml"):
        tallies.append(lt.check(lt.record(one), one.claims))
        one.subject.stop()
    assert not all(tally.passed for tally in tallies), str(found)


RINGS = {
    "c": (
        "cc -std=c99 -Wall -Wextra -Wpedantic -Werror -fsanitize=address,undefined -o ring ring.c larktally.c -lm",
        "ring.c",
        """#include "larktally.h"
#include <stdlib.h>
int main(int count, char **words) {
    static const char *const moods[] = {"calm", "cross", NULL};
    double x = 0;
    int mood = 0;
    lt_subject *game = lt_new("ring", "1");
    lt_number(game, "x", &x);
    lt_label(game, "mood", &mood, moods);
    lt_action(game, "hop", false);
    lt_event(game, "bell");
    if (count > 1 && !lt_show_to(game, atoi(words[1]), 60)) {
        lt_free(game);
        return 2;
    }
    if (count < 2) lt_keep_last(game, 1.0, 60);
    for (int k = 0; k < 200; k++) {
        double held = k % 7 == 0;
        x += 0.1;
        mood = k % 2;
        if (k % 50 == 0) lt_emit(game, "bell", "tower", "{\\"of\\":\\"}\\"}");
        lt_played(game, &held);
    }
    bool written = count > 1 || lt_report(game, "report.jsonl");
    lt_free(game);
    return written ? 0 : 1;
}
""",
    ),
    "c++": (
        "c++ -std=c++17 -Wall -Wextra -Wpedantic -Werror -fsanitize=address,undefined -o ring ring.cpp",
        "ring.cpp",
        """#include "larktally.hpp"
int main(int count, char **words) {
    double x = 0;
    int mood = 0;
    larktally::Subject game("ring", "1");
    game.bind("x", &x).bind("mood", &mood, {"calm", "cross"}).action("hop").event("bell");
    if (count > 1 && !game.show_to(std::atoi(words[1]), 60)) return 2;
    if (count < 2) game.keep_last(1.0, 60);
    for (int k = 0; k < 200; k++) {
        x += 0.1;
        mood = k % 2;
        if (k % 50 == 0) game.emit("bell", "tower", {{"of", "}"}});
        game.played({k % 7 == 0 ? 1.0 : 0.0});
    }
    return count > 1 || game.write_report("report.jsonl") ? 0 : 1;
}
""",
    ),
    "csharp": (
        "mcs -out:ring ring.cs LarkTally.cs",
        "ring.cs",
        """static class Ring
{
    static int Main(string[] words)
    {
        double x = 0;
        int mood = 0;
        var game = new LarkTally.Subject("ring", "1");
        game.Bind("x", () => x).Bind("mood", () => mood, "calm", "cross").Action("hop").Event("bell");
        if (words.Length > 0 && !game.ShowTo(int.Parse(words[0]), 60)) return 2;
        if (words.Length == 0) game.KeepLast(1.0, 60);
        for (int k = 0; k < 200; k++)
        {
            x += 0.1;
            mood = k % 2;
            if (k % 50 == 0) game.Emit("bell", "tower", "of", "}");
            game.PlayedFrame(k % 7 == 0 ? 1.0 : 0.0);
        }
        if (words.Length == 0) game.WriteReport("report.jsonl");
        return 0;
    }
}
""",
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize("language", RINGS)
def test_the_last_seconds_of_a_game_that_is_played_are_a_report(tmp_path, language):
    build, name, text = RINGS[language]
    if shutil.which(build.split()[0]) is None:
        pytest.skip(f"there is no {build.split()[0]} here")
    cli("new", tmp_path / "game", "--for", language)
    (tmp_path / "game" / name).write_text(text)
    built = subprocess.run(build.split(), cwd=tmp_path / "game", capture_output=True, text=True)
    assert built.returncode == 0, built.stderr
    run = ["mono", "ring"] if language == "csharp" else ["./ring"]
    subprocess.run(run, cwd=tmp_path / "game", check=True)
    trace = lt.load_trace(tmp_path / "game" / "report.jsonl")
    x, expected = 0.0, []
    for _ in range(200):
        x += 0.1
        expected.append(x)
    assert trace["x"].tolist() == expected[-61:] and trace.rate == 60
    assert trace["mood"].tolist() == [("calm", "cross")[k % 2] for k in range(139, 200)]
    assert [(e.row, e.name, e.source, e.data) for e in trace.events] == [(11, "bell", "tower", {"of": "}"})]
    assert trace.inputs["hop"].tolist() == [0.0, *(float(k % 7 == 0) for k in range(140, 200))]
    assert "the frames before 200" in trace.header.subject
    # The same rows, said as they come to whoever listens; and where nobody does, the game goes on.
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = str(listening.getsockname()[1])
        playing = subprocess.Popen([*run, port], cwd=tmp_path / "game")
        said = listening.accept()[0].makefile("rb")
        live = LiveGame(hello_of(said.readline()), tmp_path / "live.parquet")
        for line in said:
            live.take(line)
        assert playing.wait(10) == 0
    whole = lt.load_trace(live.finish())
    assert whole["x"].tolist() == expected and whole.rate == 60 and whole.header.subject == "ring"
    assert [event.row for event in whole.events] == [0, 50, 100, 150] and whole.inputs["hop"][7] == 1
    assert subprocess.run([*run, port], cwd=tmp_path / "game").returncode == 2


def test_a_project_is_not_written_over_another_and_a_language_is_known(tmp_path):
    assert cli("new", tmp_path / "game", "--for", "lua").exit_code == 0
    assert "something in it already" in cli("new", tmp_path / "game", "--for", "lua").stderr
    wrong = cli("new", tmp_path / "other", "--for", "cobol")
    assert wrong.exit_code == 2 and all(name in wrong.stderr for name in LANGUAGES)
    assert not (tmp_path / "other").exists()


def test_every_file_of_a_binding_goes_with_the_package():
    folder = Path(lt.__file__).parent / "bindings"
    for language in LANGUAGES.values():
        for name in (*language.binding, language.game):
            assert (folder / language.folder / name).is_file()
