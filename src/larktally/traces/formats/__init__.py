"""The file formats of traces: a line each in `FORMATS`, and a module each that reads and writes."""

from __future__ import annotations

import importlib
from pathlib import Path
from typing import BinaryIO, NamedTuple, Protocol, cast

from larktally.timing import RateLike
from larktally.traces.contents import Savable, TraceContents

__all__ = ["FORMATS", "Format", "FormatModule", "by_suffix"]


class FormatModule(Protocol):
    """What the module of a format has. One that is only written says so in its line, and has no `read`."""

    def read(self, path: Path, rate: RateLike | None = None) -> TraceContents:
        """The file's content; `rate` is for a format that carries none. Raises TraceError naming file and place."""

    def write(self, source: Savable, file: BinaryIO) -> None:
        """Writes all of a trace to an open file."""


class Format(NamedTuple):
    """One format: the suffix of its files, its module in this folder, the bytes that its files begin with, and what
    stands in the first 200 of them where other files begin so too."""

    suffix: str
    module_name: str
    first_bytes: bytes = b""
    mark: bytes = b""
    reads: bool = True

    def module(self) -> FormatModule:
        """Its module, loaded when it is first needed: Arrow alone takes longer to load than most commands run."""
        return cast(FormatModule, importlib.import_module(f"{__name__}.{self.module_name}"))


FORMATS = (
    Format(".parquet", "parquet", b"PAR1"),
    Format(".jsonl", "jsonl", b"{", b'"larktally"'),
    Format(".csv", "csv_tables"),
    Format(".vcd", "vcd", reads=False),
)


def by_suffix(path: Path) -> Format | None:
    """The format that a path names, None where none has its suffix."""
    return next((one for one in FORMATS if one.suffix == path.suffix), None)
