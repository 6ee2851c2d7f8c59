"""Keeping what was played: its inputs as a script, the run as a trace, and a start for a test of it."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from larktally.claims.checking import check
from larktally.claims.claim import claim
from larktally.errors import LarkTallyError
from larktally.explain.replaying import Replay, replay
from larktally.inputs.script import InputScript
from larktally.runs.scenario import Scenario
from larktally.textfmt import plural
from larktally.traces.trace import Trace
from larktally.views.channel_selection import states_worth_showing
from larktally.whole_files import plain_file_name

__all__ = ["KeptRun", "keep", "kept_claims"]

MOST_STATES = 4
# What states tell already, and what is a player's.
_TOLD_ELSEWHERE = ("changed", "mark", "end")


@dataclass(frozen=True, slots=True)
class KeptRun:
    """What was kept: the files, the line of a scenario that uses the script, claims that the run keeps, and its replay."""

    files: tuple[Path, ...]
    line: str
    claims: str
    replay: Replay

    def plain(self) -> dict[str, Any]:
        """As plain data, for the page."""
        return {
            "files": [str(path) for path in self.files],
            "line": self.line,
            "claims": self.claims,
            "same": self.replay.identical,
            "replay": str(self.replay),
        }


def keep(trace: Trace, scenario: Scenario, folder: Path, name: str, build: str = "") -> KeptRun:
    """Writes NAME.script.csv and NAME.parquet into a folder, under another name where those are taken, and runs the recording
    again to see that it comes out the same. Raises LarkTallyError for a name that no file can have."""
    if not name.strip():
        raise LarkTallyError("what is kept needs a name")
    trace = _of_build(trace, build)
    stem = _free_name(folder, plain_file_name(name.strip()))
    script, recording = folder / f"{stem}.script.csv", folder / f"{stem}.parquet"
    InputScript.from_columns(trace.inputs).to_csv(script)
    trace.save(recording)
    shown = os.path.relpath(script)
    line = f'inputs=lt.InputScript.from_csv("{Path(shown).as_posix()}"), frames={trace.frames}'
    return KeptRun((script, recording), line, "\n".join(kept_claims(trace)), replay(trace, scenario))


def kept_claims(trace: Trace) -> Iterator[str]:
    """Claims that a run keeps, as lines of Python: what it ended in, and how often each event fell. A start: which of them
    matter only a person knows."""
    for name, that in _likely_claims(trace):
        made = claim(name, that)
        # One that cannot be written for this trace, or is not kept, is no start for anything.
        try:
            if check(trace, [made]).passed:
                yield f"lt.claim({name!r}, {that!r}),"
        except LarkTallyError:
            continue


def _likely_claims(trace: Trace) -> Iterator[tuple[str, str]]:
    for name in states_worth_showing(trace)[:MOST_STATES]:
        ended = str(trace[name][trace.frames])
        yield f"{name} ends {ended}", f"at({trace.frames}, {name} == {ended!r})"
    # A row counts once, however often an event fell in it.
    rows = Counter(name for _, name in set(zip(trace.events.rows, trace.events.names, strict=True)))
    for event in dict.fromkeys(trace.events.names):
        if event not in _TOLD_ELSEWHERE:
            yield f"{event} in {plural(rows[event], 'row')}", f"exactly(event({event!r}), {rows[event]})"


def _of_build(trace: Trace, build: str) -> Trace:
    if not build:
        return trace
    header = msgspec.structs.replace(trace.header, made_with={**trace.header.made_with, "build": build})
    return trace.changed(header=header)


def _free_name(folder: Path, name: str) -> str:
    """The name, or the first of NAME-2, NAME-3, … under which nothing is kept yet: nothing recorded is lost."""
    number, free = 1, name
    while any((folder / f"{free}{suffix}").exists() for suffix in (".script.csv", ".parquet")):
        number += 1
        free = f"{name}-{number}"
    return free
