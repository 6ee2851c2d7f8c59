"""Baselines: a folder of JSON Lines traces beside the tests, which later runs are compared with."""

from __future__ import annotations

from pathlib import Path

import msgspec

from larktally.comparing.comparison import Comparison, compare
from larktally.comparing.divergence import Divergence
from larktally.comparing.tolerance import Tolerances
from larktally.errors import LarkTallyError
from larktally.names import did_you_mean
from larktally.traces.trace import Trace, load_trace
from larktally.whole_files import made_folder

__all__ = ["Baselines", "BaselineResult"]


# Of a file's name, which has 255 bytes, with a suffix still to come.
LONGEST_NAME = 200


class BaselineResult(msgspec.Struct, frozen=True):
    """A run against its baseline. `comparison` is None where there was no baseline; `accepted` says that the run is the
    baseline from now on."""

    path: Path
    comparison: Comparison | None
    accepted: bool

    @property
    def passed(self) -> bool:
        """Whether the run is what the baseline says, or was accepted just now."""
        return self.accepted or (self.comparison is not None and self.comparison.identical)

    @property
    def divergence(self) -> Divergence | None:
        """Where the run leaves its baseline; None where it does not, or there is none."""
        if self.comparison is not None:
            return self.comparison.divergence
        return None

    def __str__(self) -> str:
        if self.comparison is None:
            return f"{self.path}: " + (
                "a new baseline" if self.accepted else "no baseline yet; accept this run to make one"
            )
        heading = ""
        if self.accepted and not self.comparison.identical:
            heading = "accepted; what changed:\n"
        return f"{self.path}: {heading}{self.comparison}"


class Baselines:
    """The baselines of one folder, `NAME.jsonl` each: small, and a good diff under version control."""

    def __init__(self, folder: str | Path) -> None:
        self.folder = Path(folder)

    def path(self, name: str) -> Path:
        """Where a baseline stands; raises LarkTallyError for a name that is no file name."""
        # A name from a scenario becomes a path here, on every platform.
        if not name or any(letter in name for letter in "/\\:") or name.startswith("."):
            raise LarkTallyError(f"a baseline has a plain file name, not {name!r}; give the scenario a name")
        if len(name.encode("utf-8", "replace")) > LONGEST_NAME:
            raise LarkTallyError(
                f"a baseline's name has at most {LONGEST_NAME} letters, and {name[:40]!r}… has {len(name)}"
            )
        return self.folder / f"{name}.jsonl"

    def names(self) -> list[str]:
        """The names of all there are."""
        return sorted(path.stem for path in self.folder.glob("*.jsonl"))

    def check(self, trace: Trace, name: str = "", tolerance: Tolerances = None, accept: bool = False) -> BaselineResult:
        """Compares a run with its baseline, by the name of its scenario; `accept` makes it the baseline and shows what
        changed, in frames and values. A run that does not differ leaves the file as it is."""
        path = self.path(name or trace.header.scenario)
        comparison = None
        if path.exists():
            comparison = compare(load_trace(path), trace, tolerance)
        differs = comparison is None or not comparison.identical
        if accept and differs:
            # Only now: a check that accepts nothing leaves nothing behind.
            made_folder(self.folder)
            trace.save(path)
        return BaselineResult(path, comparison, accept)

    def load(self, name: str) -> Trace:
        """A baseline's trace; raises LarkTallyError with the nearest name where there is none."""
        if not self.path(name).exists():
            raise LarkTallyError(f"{self.folder}: no baseline {name!r}{did_you_mean(name, self.names())}")
        return load_trace(self.path(name))
