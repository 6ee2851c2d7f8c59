"""A mapping to start from: what a log looks like, and what each guess was made from. Nothing reads a log by a guess: whoever
asked has a file to look at, and to change."""

from __future__ import annotations

import csv
import itertools
import re
import tempfile
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from larktally.errors import LarkTallyError, TraceError
from larktally.textfmt import plural
from larktally.traces.formats.logs.happenings import value_of
from larktally.traces.formats.logs.log_tables import flat
from larktally.traces.formats.logs.reading import read_log
from larktally.traces.formats.logs.suggesting_lines import suggest_lines
from larktally.traces.formats.logs.suggestion import UNITS, Suggestion, toml_value

__all__ = ["suggested_mapping"]

# Enough to see what a log is like, and little enough to be read at once.
MOST_LINES, MOST_BYTES = 2000, 4_000_000
MOST_LABELS = 12
# Rates that games run at: by them the unit of a time is told.
LEAST_RATE, MOST_RATE = 10, 1000
# Of a step: what a clock that is read in each frame is off by.
SLACK = 0.25
_COUNTERS = ("frame", "frames", "f", "tick", "step", "n", "i")
_TIMES = ("time", "t", "ms", "us", "sec", "seconds", "timestamp", "elapsed")
_EVENT_KEYS = ("event", "name", "type", "kind", "ev", "msg", "what")
_COMMA_NUMBER, _NUMBER = re.compile(r"-?\d+,\d+"), re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")


def suggested_mapping(path: Path) -> str:
    """A mapping for a log, as TOML with a comment at each guess, and last whether the log reads through it.

    Raises TraceError for a file in which nothing counts frames or time.
    """
    with path.open("rb") as file:
        raw = file.read(MOST_BYTES)
    if raw.startswith(b"PAR1"):
        raise TraceError(
            f"{path}: a Parquet file says its own columns: larktally show lists them; frame = '…' is all it needs"
        )
    lines = raw.decode("utf-8-sig", "replace").splitlines()[:MOST_LINES]
    lines = [line for line in lines if line.strip()]
    if not lines:
        raise TraceError(f"{path}: empty: there is nothing to look at")
    found = Suggestion()
    if lines[0].lstrip().startswith("{"):
        _of_json(path, lines, found)
    elif delimiter := _delimiter(lines):
        _of_csv(path, lines, delimiter, found)
    else:
        suggest_lines(path, lines, found)
    head = f"# How {path.name} is read: a start, guessed from its first {plural(len(lines), 'line')}.\n"
    return head + found.text() + _tried(path, head + found.text())


def _tried(path: Path, text: str) -> str:
    """What comes of reading the log through it, as a comment."""
    with tempfile.TemporaryDirectory() as folder:
        mapping = Path(folder) / "map.toml"
        mapping.write_text(text, encoding="utf-8")
        try:
            found = read_log(path, mapping)
        except LarkTallyError as error:
            told = str(error).replace(f"{path} through {mapping}", path.name).replace(str(mapping), "this file")
            return f"\n# It does not read yet: {told}\n".replace(str(path), path.name)
    rate = f"{found.header.rate_text} frames/s" if found.header.rate_text else "no rate: say rate = …"
    names = ", ".join(channel.name for channel in found.header.channels[:8]) or "no channels"
    events = f"; {plural(len(found.events), 'event')}" if len(found.events) else ""
    return f"\n# Read through it: {plural(found.rows or 0, 'row')}, {rate}; {names}{events}\n"


def _delimiter(lines: Sequence[str]) -> str:
    """What stands between the cells, "" for text that has none: as many in the first line as in the next."""
    for delimiter in (";", "\t", "|", ","):
        counts = {len(row) for row in csv.reader(lines[:20], delimiter=delimiter)}
        if len(counts) == 1 and counts != {1}:
            # A line of text with a comma in each is no table: names are short.
            first = next(csv.reader(lines[:1], delimiter=delimiter))
            if all(re.fullmatch(r"[\w .:/\[\]()%-]{1,40}", name.strip()) for name in first):
                return delimiter
    return ""


def _of_csv(path: Path, lines: Sequence[str], delimiter: str, found: Suggestion) -> None:
    if delimiter != ",":
        found.key("delimiter", delimiter, "as many in each line")
    names, *rows = csv.reader(lines, delimiter=delimiter)
    cells: dict[str, list[str]] = {name: [] for name in names}
    commas = []
    for row in rows:
        # The last line of what was read may be half of one.
        if len(row) != len(names):
            continue
        for name, text in zip(names, row, strict=True):
            cells[name].append(text.strip())
            if _COMMA_NUMBER.fullmatch(text.strip()):
                commas.append(text.strip())
    decimal = "," if commas else "."
    if commas and delimiter != ",":
        found.key("decimal", ",", f"numbers such as {commas[0]}")
    columns = {}
    for name, column in cells.items():
        columns[name] = [value_of(text, decimal) for text in column]
    if path.suffix != ".csv":
        found.key("format", "csv", "the suffix does not say it")
    _count(path, columns, found)
    _describe(columns, found)


def _of_json(path: Path, lines: Sequence[str], found: Suggestion) -> None:
    rows: list[dict[str, Any]] = []
    for line in lines:
        try:
            row = msgspec.json.decode(line.encode(), type=dict[str, Any])
        except (msgspec.MsgspecError, ValueError, RecursionError):
            # The last line of what was read may be half of one.
            continue
        rows.append(dict(flat(row, "", f"{path}")))
    if not rows:
        raise TraceError(f"{path}: its lines begin like JSON, and none of them is")
    if path.suffix != ".jsonl":
        found.key("format", "jsonl", "an object a line")
    names: dict[str, None] = {}
    for row in rows:
        names |= dict.fromkeys(row)
    columns = {}
    for name in names:
        columns[name] = [row.get(name) for row in rows]
    if all(row.keys() == rows[0].keys() for row in rows) and not _repeats(columns) and _is_even(columns):
        _count(path, columns, found)
        _describe(columns, found)
        return
    found.key("kind", "events", "a line an event: not the same keys in each, several in one frame, or at no even pace")
    _count(path, columns, found, every_line=False)
    used = {found.keys[-1].split('"')[1]}
    for name in sorted(names, key=lambda one: one.lower() not in _EVENT_KEYS):
        texts = [value for value in columns[name] if value is not None]
        if all(isinstance(value, str | list) for value in texts) and name.rpartition(".")[2].lower() in _EVENT_KEYS:
            found.key("events", name, f"a text in {len(texts)} of {len(rows)} lines, such as {toml_value(texts[0])}")
            used.add(name)
            break
    data = [name for name in names if name not in used and _is_plain(columns[name])]
    if data:
        found.key("data", data, "what an event carries; what is a value that lasts is a channel instead: see below")
    for name in data:
        first = next(value for value in columns[name] if value is not None)
        found.channels.append(f"# {toml_value(name)} = {{ column = {toml_value(name)}, start = {toml_value(first)} }}")


def _is_plain(values: Iterable[Any]) -> bool:
    return all(value is None or isinstance(value, bool | int | float | str) for value in values)


def _repeats(columns: Mapping[str, Sequence[Any]]) -> bool:
    """Whether what looks like the counter stands still now and then: several lines of one frame."""
    for name, values in columns.items():
        if name.lower() in (*_COUNTERS, *_TIMES) and _rises(values, still=True):
            return not _rises(values)
    return False


def _is_even(columns: Mapping[str, Sequence[Any]]) -> bool:
    """Whether some column goes up by nearly the same from line to line, but for lines that are missing."""
    for values in columns.values():
        if not _rises(values):
            continue
        steps = sorted(other - one for one, other in itertools.pairwise(values))
        middle = steps[len(steps) // 2]
        even = sum(abs(step / middle - round(step / middle)) <= SLACK for step in steps)
        # At a pace of seconds they are events, however even.
        pace = any(LEAST_RATE <= of / middle <= MOST_RATE for of in UNITS.values()) or middle in range(1, 100)
        if pace and even >= 0.9 * len(steps):
            return True
    return False


def _rises(values: Sequence[Any], still: bool = False) -> bool:
    numbers = [value for value in values if isinstance(value, int | float) and not isinstance(value, bool)]
    if len(numbers) < max(len(values), 2):
        return False
    return all(one < other or (still and one == other) for one, other in itertools.pairwise(numbers))


def _count(path: Path, columns: Mapping[str, Sequence[Any]], found: Suggestion, every_line: bool = True) -> None:
    """Which column counts, and what: told by its steps, and by its name where several could."""
    for name in sorted(columns, key=lambda one: one.lower() not in _COUNTERS):
        values = columns[name]
        if name.lower() not in _TIMES and _counts_frames(name, values, found, every_line):
            return
    for name in sorted(columns, key=lambda one: one.lower() not in _TIMES):
        if _rises(columns[name], still=not every_line):
            _time(name, columns[name], found, every_line)
            return
    raise TraceError(
        f"{path}: no column goes up from line to line, so nothing counts frames or time; there are: {', '.join(columns)}"
    )


def _counts_frames(name: str, values: Sequence[Any], found: Suggestion, every_line: bool) -> bool:
    whole = [value for value in values if type(value) is int]
    if len(whole) < len(values) or len(whole) < 2:
        return False
    steps = Counter(other - one for one, other in itertools.pairwise(whole))
    step, often = steps.most_common(1)[0]
    if not every_line:
        if name.lower() in _COUNTERS and _rises(values, still=True):
            found.key("rate", 60, "a guess: say what the game runs at")
            found.key("frame", name, "whole numbers that never go back")
            return True
        return False
    # Other columns may count too; a frame counter does it in nearly every line.
    if step < 1 or often < 0.8 * (len(whole) - 1) or (name.lower() not in _COUNTERS and often < len(whole) - 1):
        return False
    found.key("rate", 60, "a guess: a counter of frames says none")
    back = [at for at, (one, other) in enumerate(itertools.pairwise(whole)) if other < one]
    if step > 1:
        found.key("every", step, f"it goes up by {step} a line")
    if back:
        found.key("frame_wraps", whole[back[0]] + step, f"it starts again after {whole[back[0]]}")
    elif any(other > step for other in steps):
        found.key("gaps", "hold", "lines are missing; 'refuse' tells where")
    found.key("frame", name, f"whole numbers that go up by {step}")
    return True


def _time(name: str, values: Sequence[float], found: Suggestion, every_line: bool) -> None:
    steps = sorted(other - one for one, other in itertools.pairwise(values) if other > one)
    middle = steps[len(steps) // 2]
    unit = next((unit for unit, of in UNITS.items() if LEAST_RATE <= of / middle <= MOST_RATE), "s")
    if not every_line:
        # The time between two events says nothing of its unit; whole numbers of seconds would be few.
        unit = "ms" if all(float(value).is_integer() for value in values) else "s"
        found.key("rate", 60, "a guess: say what the game runs at")
        found.key("tolerance", "9ms", "times are written as they were: the nearest row is taken, so far away at most")
    elif steps[-1] > 1.5 * middle:
        found.key("gaps", "hold", "lines are missing; 'refuse' tells where")
    if unit != "s":
        found.key(
            "time_unit",
            unit,
            f"steps of {middle:g}, which is {UNITS[unit] / middle:.4g} a second" if every_line else "whole numbers",
        )
    found.key("time", name, "it goes up from line to line")


def _describe(columns: Mapping[str, Sequence[Any]], found: Suggestion) -> None:
    """What the columns beside the counter are."""
    counting = re.findall(r'(?:frame|time) = "(.*?)"', "\n".join(found.keys))[-1:]
    for name, values in columns.items():
        if name in counting:
            continue
        kinds = set(map(type, values))
        different = list(dict.fromkeys(values))
        if str in kinds and values.count("") > len(values) / 2:
            found.key(
                "events", name, f"empty in most lines, and else such as {toml_value(next(v for v in values if v))}"
            )
        elif kinds == {int} and set(different) == {0, 1}:
            found.channel(
                name, f'{{ column = {toml_value(name)}, kind = "flag" }}', "0 and 1; a button belongs under [inputs]"
            )
        elif kinds == {int} and 2 < len(different) <= MOST_LABELS and _is_state(name):
            listed = ", ".join(f'"{value}" = "{name}{value}"' for value in sorted(different))
            found.channel(
                name, f"{{ column = {toml_value(name)}, labels = {{ {listed} }} }}", "few values: give them their names"
            )
        elif kinds <= {str} and len(different) <= MOST_LABELS:
            found.channel(
                name,
                f"{{ column = {toml_value(name)}, labels = {toml_value(different)} }}",
                "texts, all that were seen",
            )


def _is_state(name: str) -> bool:
    return bool(re.search(r"st|state|mode|anim|phase", name.lower()))
