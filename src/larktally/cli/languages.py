"""Languages that `larktally new --for` writes a project in: the binding, a small game, and how it is built and started."""

from __future__ import annotations

import importlib.resources
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from larktally.whole_files import write_whole

__all__ = ["LANGUAGES", "Language", "write_program"]


@dataclass(frozen=True, slots=True)
class Language:
    """One language: `folder` is where its files stand in the package, `binding` the files to take over, `build` what makes the
    game out of its sources, "" where nothing has to be made."""

    name: str
    folder: str
    binding: tuple[str, ...]
    game: str
    command: tuple[str, ...]
    build: str = ""


LANGUAGES = {
    "c": Language(
        "C",
        "c",
        ("larktally.h", "larktally.c"),
        "game.c",
        ("./game",),
        "cc -std=c99 -O2 -Wall -Wextra -o game game.c larktally.c -lm",
    ),
    "c++": Language(
        "C++", "cpp", ("larktally.hpp",), "game.cpp", ("./game",), "c++ -std=c++17 -O2 -Wall -Wextra -o game game.cpp"
    ),
    "javascript": Language("JavaScript", "javascript", ("larktally.js",), "game.js", ("node", "game.js")),
    "csharp": Language(
        "C#", "csharp", ("LarkTally.cs",), "Game.cs", ("mono", "game.exe"), "mcs -out:game.exe Game.cs LarkTally.cs"
    ),
    "lua": Language("Lua", "lua", ("larktally.lua",), "game.lua", ("lua5.4", "game.lua")),
}


def write_program(language: Language, folder: Path) -> Iterator[Path]:
    """Writes a project in that language; each file's path once it stands. Raises WriteError."""
    bindings = importlib.resources.files("larktally").joinpath("bindings")
    for name in (*language.binding, language.game):
        source = bindings.joinpath(language.folder).joinpath(name)
        yield write_whole(folder / name, source.read_text(encoding="utf-8"))
    shared = bindings.joinpath("project")
    yield write_whole(folder / "game.claims.toml", shared.joinpath("game.claims.toml").read_text(encoding="utf-8"))
    build, first = "", ""
    if language.build:
        build, first = f"    {language.build}", f"{language.build} && "
    filled = {
        "language": language.name,
        "game": language.game,
        "binding": ", ".join(f"`{name}`" for name in language.binding),
        "build": build,
        "ci": first,
    }
    for name, command in (
        ("game.toml", json.dumps(list(language.command))),
        ("README.md", " ".join(language.command)),
    ):
        text = shared.joinpath(f"{name}.txt").read_text(encoding="utf-8")
        yield write_whole(folder / name, text.format(command=command, **filled))
