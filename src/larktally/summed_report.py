"""Durations as people read them: a line for each time and rate, a column for each way to sum it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from larktally.report import Block, Line, Report, Table, Tone
from larktally.summed import DurationRow

__all__ = ["DurationsReport"]


@dataclass(frozen=True, slots=True)
class DurationsReport:
    """In which frame some times end; `sums` are the frames of all of them one after the other, by rate."""

    rows: Sequence[DurationRow]
    sums: Mapping[str, int]

    def plain(self) -> list[dict[str, Any]]:
        """The rows as plain data, for JSON."""
        found: list[dict[str, Any]] = []
        for row in self.rows:
            found.append(
                {
                    "duration": row.duration,
                    "rate": row.rate,
                    "exact": str(row.exact),
                    "frames": row.exact_frames,
                    "over_in": row.over_in,
                    "summed": row.styles,
                    "clocks": {
                        style: {str(n): times for n, times in found.items()} for style, found in row.clocks.items()
                    },
                }
            )
        return found

    def report(self) -> Report:
        """The table; frames in which a sum ends too late or too early carry by how much."""
        styles = list(self.rows[0].styles)
        tones: dict[int, Tone] = {}
        for n, row in enumerate(self.rows):
            if row.apart:
                tones[n] = "odd"
        names = [style.replace("float", "f") for style in styles]
        head = ["time", "rate", "exact", "ends in", *names, "now > next"]
        table = Table(head, self._lines(styles), frozenset({0}), tones)
        apart = sum(bool(row.apart) for row in self.rows)
        parted = f"{apart} of {len(self.rows)} lines part from the exact frame in some style"
        blocks: list[Block] = [table, Line(""), Line(f"{parted}; +1 is one frame late, -1 one early.")]
        mixed = sum(len(frames) > 1 for row in self.rows for frames in row.clocks.values())
        if mixed:
            blocks.append(
                Line(
                    "now > next, on one float that runs on: where two numbers stand, by how long the run has been going."
                )
            )
        if self.sums:
            joined = ", ".join(f"{frames} at {rate}" for rate, frames in self.sums.items())
            blocks.append(Line(f"One after the other, each rounded up, they end in frame {joined}."))
        return Report.of(blocks)

    def _lines(self, styles: Sequence[str]) -> list[list[str]]:
        lines, before = [], ""
        for row in self.rows:
            time = row.duration
            if row.duration == before:
                time = ""
            before = row.duration
            if row.exact_frames is None:
                exact = f"{float(row.exact):.4g}"
            else:
                exact = str(row.exact_frames)
            fired = [_frame(row, style) for style in styles]
            lines.append([time, row.rate, exact, str(row.over_in), *fired, _on_clock(row)])
        return lines


def _on_clock(row: DurationRow) -> str:
    """The frames after which a time ends on a running clock, of either width: 54, or 54/55."""
    found = {frames for ends in row.clocks.values() for frames in ends}
    return "/".join(map(str, sorted(found)))


def _frame(row: DurationRow, style: str) -> str:
    off = row.apart.get(style)
    if off:
        return f"{row.styles[style]} ({off:+d})"
    return str(row.styles[style])
