"""Scenarios of a program from a TOML file: the command, and a table for each run. A game needs no Python file then."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from larktally.claims.files import Rules, load_intended, load_rules
from larktally.errors import LarkTallyError
from larktally.inputs.script import InputScript, Span
from larktally.names import check_table, one_or_many
from larktally.runs.scenario import Scenario
from larktally.subjects.programs.program import Program

__all__ = ["holds_scenarios", "scenarios_of_file"]

_TEXTS = (str, list)
_TIME = (int, str)
#: What stands for all scenarios at the top of the file, and in each one's own table.
_SCENARIO_KEYS: dict[str, Any] = {
    "frames": _TIME,
    "inputs": str,
    "presses": list,
    "rate": _TIME,
    "rates": list,
    "seed": int,
    "params": dict,
    "claims": _TEXTS,
    "intended": _TEXTS,
    "until": str,
    "allow_nan": bool,
}
_PROGRAM_KEYS: dict[str, Any] = {
    "command": list,
    "folder": str,
    "env": dict,
    "over": str,
    "batch": int,
    "columns": str,
    "start_within": _TIME,
    "step_within": _TIME,
    "end_within": _TIME,
}
_PRESS_KEYS: dict[str, Any] = {
    "action": str,
    "start": _TIME,
    "frames": _TIME,
    "value": (int, float),
    "to": (int, float),
    "on": str,
    "plus": _TIME,
}
_WORDS: dict[Any, str] = {
    str: "a text",
    int: "a whole number",
    bool: "true or false",
    list: "a list",
    dict: "a table",
    _TEXTS: "a text or a list of texts",
    _TIME: "a number of frames or a time such as '2s'",
    (int, float): "a number",
}
MOST_BYTES = 10_000_000


def holds_scenarios(path: Path) -> bool:
    """Whether a TOML file is one of scenarios, and not of claims, a mapping, or somebody else's."""
    return any(line.strip() == "[program]" for line in path.read_text(encoding="utf-8", errors="replace").splitlines())


def scenarios_of_file(path: Path) -> dict[str, Scenario]:
    """The scenarios of a TOML file by name, in its order; paths in it are looked for from its own folder.

    All of them run in one program, which is started when it is first needed. Raises LarkTallyError naming the file, the table
    and the key of what does not fit.
    """
    content = _read(path)
    shared = {key: value for key, value in content.items() if key not in ("program", "scenario")}
    check_table(f"{path}", shared, _SCENARIO_KEYS, _WORDS, beside=("program", "scenario"))
    if not isinstance(content.get("program"), dict):
        raise LarkTallyError(f"{path}: no table [program]; it says how the game is started: command = ['./game']")
    program = _program(path, content["program"])
    tables = content.get("scenario")
    if not isinstance(tables, dict) or not tables:
        raise LarkTallyError(f"{path}: no scenario; write one as [scenario.NAME] with frames = …")
    claims = _ClaimsFiles(path.parent, program)
    found: dict[str, Scenario] = {}
    for name, table in tables.items():
        where = f"{path}: scenario {name!r}"
        if not isinstance(table, dict):
            raise LarkTallyError(f"{where}: it is a table, [scenario.{name}], not {table!r}")
        check_table(where, table, _SCENARIO_KEYS, _WORDS)
        if "rate" in table and "rates" in table:
            raise LarkTallyError(f"{where}: it says rate and rates; say one of them")
        whole = {**shared, **table}
        if "rate" in table:
            whole.pop("rates", None)
        for one in _scenarios(where, name, whole, program, claims, path.parent):
            if one.name in found:
                raise LarkTallyError(f"{where}: there is another scenario called {one.name!r}")
            found[one.name] = one
    return found


def _read(path: Path) -> dict[str, Any]:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise LarkTallyError(f"{path}: a file of scenarios has at most {MOST_BYTES} bytes")
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except (ValueError, RecursionError, OSError) as error:
        if isinstance(error, LarkTallyError):
            raise
        raise LarkTallyError(f"{path}: cannot be read as scenarios: {error}") from None


def _program(path: Path, table: Mapping[str, Any]) -> Program:
    where = f"{path}: [program]"
    check_table(where, table, _PROGRAM_KEYS, _WORDS)
    options = dict(table)
    command = options.pop("command", None)
    if command is not None and not all(isinstance(word, str) for word in command):
        raise LarkTallyError(f"{where}: command is a list of texts, ['./game', '--headless'], not {command!r}")
    for name, value in options.get("env", {}).items():
        if not isinstance(value, str):
            raise LarkTallyError(f"{where}: env: {name} is a text, not {value!r}")
    # A path of its own, so that it starts the same from wherever the command is given.
    options["folder"] = path.parent.resolve() / options.get("folder", "")
    if not options["folder"].is_dir():
        raise LarkTallyError(f"{where}: folder: there is no folder {options['folder']}")
    try:
        return Program(command, **options)
    except LarkTallyError as error:
        raise LarkTallyError(f"{where}: {error}") from None


class _ClaimsFiles:
    """Claims files, each read once; the program is asked for its channels only where a claim is made for each of some."""

    def __init__(self, folder: Path, program: Program) -> None:
        self._folder, self._program = folder, program
        self._read: dict[str, tuple[Rules, tuple[str, ...]]] = {}

    def of(self, name: str) -> tuple[Rules, tuple[str, ...]]:
        """What a file claims, and what it says is intended."""
        if name not in self._read:
            path = self._folder / name
            rules = load_rules(path, None)
            if rules.needs_channels:
                rules = load_rules(path, [channel.name for channel in self._program.channels])
            if rules.across:
                # Judged by nobody, they would be kept whatever happens.
                raise LarkTallyError(
                    f"{path}: [[across]] goes over several runs, and a scenario is one: keep it in a file of its own, and judge "
                    "all runs by that with larktally run … --claims FILE"
                )
            self._read[name] = rules, load_intended(path)
        return self._read[name]


def _scenarios(
    where: str, name: str, table: Mapping[str, Any], program: Program, claims: _ClaimsFiles, folder: Path
) -> Iterator[Scenario]:
    """A table's scenario, or one for each of its rates."""
    if "frames" not in table:
        raise LarkTallyError(f"{where}: frames is missing: how long it runs, 600 or '10s'")
    options: dict[str, Any] = {key: table[key] for key in ("seed", "params", "until", "allow_nan") if key in table}
    judged: dict[str, Any] = {"claims": [], "measures": [], "windows": []}
    intended = list(one_or_many(table.get("intended", ())))
    for file in one_or_many(table.get("claims", ())):
        rules, meant = claims.of(file)
        for key, gathered in judged.items():
            gathered += getattr(rules, key)
        intended += meant
    rates = table.get("rates", [table.get("rate", 60)])
    try:
        inputs = _inputs(where, table, folder)
        for rate in rates:
            title = f"{name} at {rate}" if "rates" in table else name
            yield Scenario(
                program,
                frames=table["frames"],
                inputs=inputs,
                rate=rate,
                intended=intended,
                name=title,
                **judged,
                **options,
            )
    except LarkTallyError as error:
        if str(error).startswith(where):
            raise
        raise LarkTallyError(f"{where}: {error}") from None


def _inputs(where: str, table: Mapping[str, Any], folder: Path) -> InputScript:
    """The script of a table: a file's, and over it the presses that stand in the table."""
    script = InputScript()
    if "inputs" in table:
        script = InputScript.from_csv(folder / table["inputs"])
    spans = []
    for number, press in enumerate(table.get("presses", ()), 1):
        place = f"{where}: press {number}"
        if not isinstance(press, dict):
            raise LarkTallyError(f"{place}: it is a table, {{ action = 'hop', start = 30 }}, not {press!r}")
        check_table(place, press, _PRESS_KEYS, _WORDS, needed=("action",))
        if ("start" in press) == ("on" in press):
            raise LarkTallyError(
                f"{place}: say start = FRAME, or on = 'CONDITION' with plus = FRAMES; just one of them"
            )
        if "plus" in press and "on" not in press:
            raise LarkTallyError(f"{place}: plus goes with on; say start = FRAME alone")
        start: Any = press.get("start", press.get("plus", 1))
        to = float(press["to"]) if "to" in press else None
        value = float(press.get("value", 1.0))
        length: Any = press.get("frames", 1)
        spans.append(Span(press["action"], start, length, value, to, press.get("on")))
    return script | InputScript(spans)
