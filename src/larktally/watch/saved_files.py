"""Waiting for a save: of the file that is watched, or of any that it read from its own folder."""

from __future__ import annotations

import asyncio
import os
from collections.abc import AsyncIterator, Iterable

from watchfiles import Change, awatch

__all__ = ["SavedFiles"]

# In milliseconds: an editor writes a file in several goes, and a person waits for the run.
QUIET, LONGEST = 20, 200


class SavedFiles:
    """Tells when one of some files was saved; which ones may change at any time."""

    def __init__(self, files: Iterable[str]) -> None:
        self._files = {os.path.realpath(file) for file in files}
        self._changed = asyncio.Event()

    def watch(self, files: Iterable[str]) -> None:
        """Watches these from now on; folders that are watched already are not let go of in between."""
        found = {os.path.realpath(file) for file in files}
        new_folders = {os.path.dirname(file) for file in found} - {os.path.dirname(file) for file in self._files}
        self._files |= found
        if new_folders:
            self._changed.set()

    async def saves(self) -> AsyncIterator[set[str]]:
        """The files that were saved, each time that some were."""
        while True:
            self._changed.clear()
            folders = sorted({os.path.dirname(file) for file in self._files})
            # Folders, and not files: many editors write a new file and give it the old one's name.
            async for changes in awatch(
                *folders,
                recursive=False,
                debounce=LONGEST,
                step=QUIET,
                stop_event=self._changed,
                ignore_permission_denied=True,
            ):
                saved = {os.path.realpath(path) for change, path in changes if change is not Change.deleted}
                if saved & self._files:
                    yield saved & self._files
