"""Findings that were accepted: kept by their identities beside the baselines, so that only new ones are shown from then on."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path

from larktally.auditing.finding import Finding
from larktally.errors import LarkTallyError
from larktally.whole_files import made_folder, write_whole

__all__ = ["Accepted"]

FILE = "findings.json"
MOST_BYTES = 10_000_000


class Accepted:
    """The findings that were accepted, of each scenario, in a folder of baselines."""

    def __init__(self, folder: str | Path) -> None:
        self.path = Path(folder) / FILE

    def of(self, scenario: str) -> frozenset[str]:
        """The identities accepted of a scenario; raises LarkTallyError where the file is broken."""
        return frozenset(self._read().get(scenario, ()))

    def accept(self, scenario: str, findings: Iterable[Finding]) -> None:
        """Accepts these findings of a scenario, in place of those accepted before."""
        known = self._read()
        known[scenario] = sorted({one.identity for one in findings})
        made_folder(self.path.parent)
        write_whole(self.path, (json.dumps(known, indent=2, sort_keys=True) + "\n").encode())

    def _read(self) -> dict[str, list[str]]:
        if not self.path.exists():
            return {}
        try:
            if self.path.stat().st_size > MOST_BYTES:
                raise LarkTallyError(f"{self.path}: accepted findings are at most {MOST_BYTES} bytes")
            found = json.loads(self.path.read_text(encoding="utf-8"))
        except (OSError, ValueError, RecursionError) as error:
            raise LarkTallyError(f"{self.path}: no accepted findings can be read there: {error}") from None
        lists = isinstance(found, dict) and all(isinstance(one, list) for one in found.values())
        if not lists or not all(isinstance(text, str) for one in found.values() for text in one):
            raise LarkTallyError(f"{self.path}: accepted findings are lists of texts, by the name of a scenario")
        return {str(name): list(listed) for name, listed in found.items()}
