"""What a result says: the same words as plain text, in a terminal, in a notebook and, as data, in JSON."""

import io
import json
import sys
from html import unescape

import msgspec
import pytest
from rich.console import Console

import larktally as lt
from larktally.cli.printing import show_report
from larktally.demo import quay
from larktally.names import did_you_mean, matching, one_or_many, unknown_name
from larktally.report import Heading, Line, Report, Table
from larktally.textfmt import aligned, plural, shortened, shown_value
from larktally.views.notebook import as_html
from larktally.views.terminal import print_report


@pytest.fixture(scope="module")
def results():
    """One result of each kind that tells what it holds."""
    good, bad = lt.record(quay.dusk_run.named("good")), lt.record(quay.faulty_run.named("bad"))
    tally = lt.check(bad, quay.CLAIMS)
    return {
        "tally": tally,
        "result": tally[0],
        "comparison": lt.compare(good, bad),
        "same": lt.compare(good, good),
        "replay": lt.replay(good, quay.faulty_run),
        "causes": lt.causes(bad, quay.faulty_run, 52),
        "coverage": lt.coverage(bad, scenario=quay.faulty_run),
        "audit": lt.audit(quay.dusk_run, rows=[50], frames=3, fresh=False),
        "varied": lt.vary(quay.dusk_run, {"rest": ["0.5s", "0.8s"]}, measures=["apex('wick.y')"]),
        "shrunk": lt.shrink(quay.faulty_run, most=40),
    }


NAMES = ["tally", "result", "comparison", "same", "replay", "causes", "coverage", "audit", "varied", "shrunk"]


def in_a_terminal(report):
    out = Console(file=io.StringIO(), width=300, no_color=True)
    print_report(out, report)
    return out.file.getvalue()


@pytest.mark.parametrize("name", NAMES)
def test_a_result_says_the_same_words_as_text_and_in_a_terminal(results, name):
    result = results[name]
    text, shown = str(result), in_a_terminal(result.report())
    assert text == result.report().text() and text.strip()
    assert shown.split() == text.split()
    assert [line.rstrip() for line in shown.splitlines()] == [line.rstrip() for line in text.splitlines()]


@pytest.mark.parametrize("name", NAMES)
def test_a_command_prints_a_report_as_text_where_it_is_piped_and_no_wider_than_a_terminal(
    results, name, monkeypatch, capsys
):
    report = results[name].report()
    monkeypatch.delenv("COLUMNS", raising=False)
    show_report(report)
    assert capsys.readouterr().out == f"{report.text()}\n"
    for columns in (300, 50):
        monkeypatch.setenv("COLUMNS", str(columns))
        show_report(report)
        shown = capsys.readouterr().out
        assert shown.split() == report.text().split() or columns == 50
        assert max(map(len, shown.splitlines())) <= columns


@pytest.mark.parametrize(
    ("title", "laid_out"), [("hop → land", False), ("跳" * 20, True), ("[red]bell\x07[/red]", False)]
)
def test_a_terminal_shows_tones_with_and_without_laying_out_and_nothing_that_it_would_obey(
    title, laid_out, monkeypatch, capsys
):
    from larktally.views import terminal

    drawn = []
    monkeypatch.setattr(terminal, "print_report", lambda out, report: drawn.append(report))
    monkeypatch.setenv("COLUMNS", "60")
    report = Report.of(
        [
            Heading("BROKEN", title, "bad"),
            Line("row 3", "because", "quiet", 1),
            Line("", "next", "good"),
            Line("as is"),
            Table(["row", "gait"], [["3", "airborne"], ["12", "standing"]], frozenset((1,)), {1: "bad"}, indent=1),
        ]
    )
    monkeypatch.setattr(sys.stdout, "isatty", lambda: True)
    show_report(report)
    shown = capsys.readouterr().out
    assert bool(drawn) is laid_out
    if not laid_out:
        told = title.replace("\x07", "\\x07")
        lines = [
            "",
            f"\x1b[31m\x1b[1mBROKEN\x1b[0m  \x1b[1m{told}\x1b[0m",
            "  because  \x1b[2mrow 3\x1b[0m",
            "next",
            "as is",
            "\x1b[2m  row  gait\x1b[0m",
            "    3  airborne",
            "\x1b[31m\x1b[1m   12  standing\x1b[0m",
        ]
        assert shown.split("\n") == [*lines, ""]
        monkeypatch.setenv("NO_COLOR", "1")
        show_report(report)
        assert capsys.readouterr().out == f"{report.text()}\n"


@pytest.mark.parametrize("name", NAMES)
def test_a_result_is_plain_data_that_json_holds_as_it_is(results, name):
    plain = results[name].plain()
    content = msgspec.json.encode(plain)
    assert json.loads(content) and msgspec.json.encode(json.loads(content)) == content


@pytest.mark.parametrize("name", NAMES)
def test_a_notebook_shows_a_result_s_own_words(results, name):
    html = unescape(as_html(results[name]))
    assert html.startswith("<pre") and str(results[name]).split()[1].strip(":'") in html


def test_blocks_are_set_in_one_column_of_labels_and_tables_line_up():
    report = Report.of(
        [
            Heading("BROKEN", "a hop", "bad"),
            Line("always(p)", "claimed", indent=1),
            Line("more of it", "", indent=1),
            Table(["row", "wick.y"], [["9", "16"], ["10", "7.25"]], frozenset(), {1: "bad"}, indent=1),
            Line("the end"),
        ]
    )
    assert report.text().splitlines() == [
        "",
        "BROKEN  a hop",
        "  claimed  always(p)",
        "           more of it",
        "  row  wick.y",
        "    9      16",
        "   10    7.25",
        "the end",
    ]
    assert [line.rstrip() for line in in_a_terminal(report).splitlines()] == report.text().splitlines()
    assert (report + Report.of_lines(["and", "so on"])).text().splitlines()[-2:] == ["and", "so on"]
    assert Report.of([]).text() == "" and in_a_terminal(Report.of([])) == ""


def test_markup_in_a_user_s_words_is_shown_and_not_obeyed():
    odd = "[bold]a[/bold] [red] \\[x]"
    report = Report.of([Heading("BROKEN", odd), Line(odd, "because"), Table([odd], [[odd]])])
    assert in_a_terminal(report).count(odd) == 4 == report.text().count(odd)


@pytest.mark.parametrize(
    ("value", "shown"),
    [
        (True, "true"), (False, "false"), (3, "3"), (-0.0, "0"), (1 / 3, "0.333333333"), (1e300, "1e+300"),
        (float("nan"), "nan"), ("airborne", "'airborne'"), ("", "''"),
    ],
)  # fmt: skip
def test_values_are_shown_as_the_claim_language_writes_them(value, shown):
    assert shown_value(value) == shown


def test_words_for_numbers_of_things_and_texts_cut_short():
    assert [plural(n, "row") for n in (0, 1, 2)] == ["0 rows", "1 row", "2 rows"]
    assert plural(2, "press", "presses") == "2 presses" and plural(1, "press", "presses") == "1 press"
    assert shortened("abc", 5) == "abc" and len(shortened("a" * 500)) < 200 and shortened("a" * 500).endswith("…")
    assert aligned([["a", "bb"], ["ccc", "d"]], left=True) == ["a    bb", "ccc  d"]
    assert aligned([["a", "bb"], ["ccc", "d"]]) == ["  a  bb", "ccc   d"] and aligned([]) == []


@pytest.mark.parametrize(
    ("wrong", "near"),
    [
        ("wick.grounde", "'wick.grounded'"), ("WICK.Y", "'wick.y'"), ("wick.burst.lef", "'wick.burst.left'"),
        ("grounded", "'wick.grounded'"), ("zzz", ""), ("", ""),
    ],
)  # fmt: skip
def test_the_nearest_name_is_told_and_none_where_none_is_near(wrong, near):
    said = did_you_mean(wrong, ["wick.y", "wick.grounded", "wick.burst.left"])
    assert near in said if near else said == ""
    assert f"no channel {wrong!r}" in unknown_name("channel", wrong, ["wick.y"])


def test_patterns_choose_in_the_order_of_the_names_and_one_that_matches_nothing_is_told():
    names = ["wick.x", "wick.y", "moth.0.y"]
    assert matching(names, ["*.y", "wick.x"], "only=") == names and matching(names, ["m*"], "only=") == ["moth.0.y"]
    assert one_or_many("a") == ("a",) and one_or_many(["a", "b"]) == ("a", "b") and one_or_many(()) == ()
    with pytest.raises(lt.LarkTallyError, match=r"only='wik.\*' matches no channel; did you mean"):
        matching(names, ["wick.*", "wik.*"], "only=")
