"""Which files a model is made of: those that were read from its own folder while it ran, modules and what they opened alike."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

from larktally.runs.model_files import modules_below

__all__ = ["FilesRead"]


class FilesRead:
    """Notes the files that this process opens from a file's folder on; `found` lists them, that file first."""

    def __init__(self, file: Path) -> None:
        self._file = file.resolve()
        self._folder = f"{self._file.parent}{os.sep}"
        self._opened: dict[str, None] = {}
        # Scripts and claims are opened by the model's own code, of which nothing else is told. A hook cannot be taken off again:
        # the process is there for this run alone.
        sys.addaudithook(self._hear)

    def found(self) -> list[str]:
        """The file itself, the modules beside it, and what they opened to read."""
        modules = [str(path) for _, path in modules_below(self._file.parent)]
        return list(dict.fromkeys([str(self._file), *modules, *self._opened]))

    def _hear(self, event: str, arguments: tuple[Any, ...]) -> None:
        if event == "subprocess.Popen":
            self._hear_command(arguments[1], arguments[2])
        if event != "open":
            return
        path, mode = arguments[0], arguments[1]
        # What Python compiled is written by itself, and says nothing new.
        if not isinstance(path, str) or path.endswith((".pyc", ".pyo")):
            return
        if (mode is None or "r" in str(mode)) and self._inside(path):
            self._opened[os.path.realpath(path)] = None

    def _hear_command(self, words: object, folder: object) -> None:
        """A program is made of its own file, or of the one that its interpreter is given: what is built anew is run anew."""
        if not isinstance(words, list):
            return
        for word in words:
            path = os.path.join(str(folder or "."), str(word))
            if self._inside(path) and os.path.isfile(path):
                self._opened[os.path.realpath(path)] = None

    def _inside(self, path: str) -> bool:
        return os.path.abspath(path).startswith(self._folder)
