"""What a search found, kept in a folder: an input script for each thing, and a file of scenarios that runs them."""

from __future__ import annotations

import keyword
import os
import re
from pathlib import Path

from larktally.errors import LarkTallyError
from larktally.search.explore import Explored, Reached
from larktally.whole_files import made_folder, write_whole

__all__ = ["keep_finds"]

_HEAD = '''"""Inputs that larktally explore found, and what each of them reaches."""

import sys
from pathlib import Path

import larktally as lt

HERE = Path(__file__).parent
sys.path.insert(0, str((HERE / {folder!r}).resolve()))

from {module} import {scenario} as explored  # noqa: E402 - the folder that it stands in is named above
'''
_HEAD_OF_PROGRAM = '''"""Inputs that larktally explore found, and what each of them reaches."""

from pathlib import Path

import larktally as lt

HERE = Path(__file__).parent
# In a list, so that it is not one of the scenarios of this file.
found_from = lt.load_scenarios(f"{{HERE / {file!r}}}:{scenario}")
'''


def keep_finds(found: Explored, folder: Path, model: Path, name: str) -> Path:
    """Writes a script for each thing found, and found.py beside them: a scenario for each, that claims what it reaches; one that
    broke a claim has the claim, and passes once it is mended.

    Returns that file; raises LarkTallyError where the scenario has no name in its file, and WriteError.
    """
    of = "explored"
    beside = os.path.relpath(model.resolve().parent, folder.resolve())
    if model.suffix == ".toml":
        of = "found_from[0]"
        lines = [_HEAD_OF_PROGRAM.format(file=f"{beside}/{model.name}", scenario=name)]
    elif not name.isidentifier() or keyword.iskeyword(name):
        raise LarkTallyError(f"{model} has no scenario of the name {name!r}; say {model}:VARIABLE")
    else:
        lines = [_HEAD.format(folder=beside, module=model.stem, scenario=name)]
    made_folder(folder)
    taken: dict[str, int] = {}
    for one in found.found:
        variable = _variable(one, taken)
        one.scenario.inputs.to_csv(folder / f"{variable}.script.csv")
        lines.append(f"# {one.what}, in row {one.row}\n{_scenario(one, variable, of)}")
    path = folder / "found.py"
    write_whole(path, "\n".join(lines))
    return path


def _variable(one: Reached, taken: dict[str, int]) -> str:
    """A name for it in Python, made of what it reaches."""
    words = re.sub(r"[^0-9a-z]+", "_", one.what.lower()).strip("_")
    name = f"find_{words}"[:60]
    taken[name] = taken.get(name, 0) + 1
    return name if taken[name] == 1 else f"{name}_{taken[name]}"


def _scenario(one: Reached, variable: str, of: str) -> str:
    claims = f"[one for one in {of}.claims if one.name == {one.claim!r}]"
    if one.failure or one.finding is not None:
        claims = f"{of}.claims"
    if one.target is not None or (one.finding is not None and one.scenario.claims):
        kept = one.scenario.claims[0]
        claims = f"[lt.claim({kept.name!r}, {kept.text!r})]"
    return (
        f"{variable} = {of}.changed(\n"
        f"    name={variable!r},\n"
        f'    inputs=lt.InputScript.from_csv(HERE / "{variable}.script.csv"),\n'
        f"    frames={int(one.scenario.frames)},\n"
        f"    until=None,\n"
        f"    measures=(),\n"
        f"    claims={claims},\n"
        ")\n"
    )
