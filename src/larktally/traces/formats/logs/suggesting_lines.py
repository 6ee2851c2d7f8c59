"""A mapping for lines of text: a number at the start of a line counts, 'A -> B' is a state, 'name=1.5' a value, and a word alone
an event."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from larktally.errors import TraceError
from larktally.traces.formats.logs.suggestion import UNITS, Suggestion, toml_value

__all__ = ["suggest_lines"]

MOST_PATTERNS = 8
_ARROW = re.compile(r"(?<![\w.])([A-Za-z_]\w*)\s*(->|=>|→)\s*([A-Za-z_]\w*)")
_STAMP = re.compile(r"^\s*\[?\s*(\d+(?:\.\d+)?)\s*(s|ms|us)?\s*\]?")
_SAID = re.compile(r"([A-Za-z_][\w.]*)\s*[=:]\s*([+-]?\d+(?:\.\d+)?)")


def suggest_lines(path: Path, lines: Sequence[str], found: Suggestion) -> None:
    """Text: a number at the start of the line counts; 'A -> B' is a state, 'name=1.5' a value, and a word alone an event."""
    stamped = [match for line in lines if (match := _STAMP.match(line))]
    if len(stamped) < 2:
        raise TraceError(
            f"{path}: no line begins with a frame or a time; a pattern of your own says where it stands: kind = 'lines', "
            "pattern = '(?P<time>…) …'"
        )
    whole = all("." not in match[1] for match in stamped)
    found.key("kind", "lines", "text, of which patterns say what counts")
    found.key("rate", 60, "a guess: say what the game runs at")
    if whole and stamped[0][2] is None:
        found.key("frame", "at", "whole numbers at the start of the lines")
    else:
        unit = stamped[0][2] or "s"
        found.key("time_unit", unit, "as it stands behind the number" if stamped[0][2] else "numbers with a point")
        found.key("tolerance", "9ms", "times are written as they were: the nearest row is taken, so far away at most")
        found.key("time", "at", "numbers at the start of the lines")
    patterns: dict[str, str] = {}
    channels: dict[str, tuple[str, str]] = {}
    for line in lines:
        match = _STAMP.match(line)
        if match is not None and len(patterns) < MOST_PATTERNS:
            pattern, event = _pattern(match, line, channels)
            patterns.setdefault(pattern, event)
    told = []
    for pattern, event in patterns.items():
        if event:
            told.append(f"    {{ text = {toml_value(pattern)}, event = {toml_value(event)} }},")
        else:
            told.append(f"    {toml_value(pattern)},")
    found.keys.append("\n".join(["pattern = [", *told, "]"]))
    for name, (value, why) in channels.items():
        found.channel(name, value, why)


def _pattern(stamp: re.Match[str], line: str, channels: dict[str, tuple[str, str]]) -> tuple[str, str]:
    """What a line looks like, and the event that it stands for, where it says nothing but that."""
    start = re.escape(line[: stamp.start(1)]).replace(r"\ ", r"\s*") + r"(?P<at>[\d.]+)"
    rest = line[stamp.end(1) :]
    arrow = _ARROW.search(rest)
    if arrow is not None:
        return start + _arrow_pattern(arrow, rest[: arrow.start()], channels), ""
    said = dict(_SAID.findall(rest))
    words = [word for word in re.findall(r"[A-Za-z_]\w*", rest) if word not in UNITS]
    if not said:
        event = next(iter(words), "line")
        return start + rf".*?\b{event}\b", event
    parts = []
    for name, value in said.items():
        group = _group(name)
        parts.append(rf"\b{re.escape(name)}\s*[=:]\s*(?P<{group}>[-+.\d]+)")
        told = f'{{ column = "{group}", kind = "number", start = {float(value)} }}'
        channels.setdefault(name, (told, "the first value seen"))
    # A word before the values says what they are of.
    event = ""
    if words and words[0] not in said:
        event = words[0]
        parts.insert(0, rf"\b{event}\b")
    return start + ".*?" + ".*?".join(parts), event


def _arrow_pattern(arrow: re.Match[str], before: str, channels: dict[str, tuple[str, str]]) -> str:
    """A state that changes: called like the word before the arrow's two."""
    words = re.findall(r"[A-Za-z_][\w.]*", before)
    name, named = "state", ""
    if words:
        name = words[-1]
        named = rf".*\b{re.escape(name)}\b"
    group = _group(name)
    value = f'{{ column = "{group}_to", before = "{group}_from", kind = "label" }}'
    channels[name] = (value, f"lines such as {arrow[0]}")
    return rf"{named}.*?(?P<{group}_from>\w+)\s*{arrow[2]}\s*(?P<{group}_to>\w+)"


def _group(name: str) -> str:
    """A name for a group: letters, and not that of the time."""
    group = re.sub(r"\W", "_", name)
    return f"{group}_" if group == "at" else group
