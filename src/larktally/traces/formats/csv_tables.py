"""Traces as CSV: `frame`, a column a channel, `input:NAME`, and `event:NAME` with how many fell in the row.

A CSV carries no rate, no header and no event data; floats stand in the shortest form that reads back to the same bits. Arrow
reads the cells; where its idea of a kind is wider than ours (0x1f, 12:00, +1), the texts themselves decide.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any, BinaryIO, Literal, NamedTuple

import msgspec
import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
from msgspec import structs

from larktally.errors import LarkTallyError, TraceError
from larktally.names import stands_twice
from larktally.timing import RateLike
from larktally.traces.columns import check_events
from larktally.traces.contents import Savable, TraceContents, contents_from_columns, event_names, small_pieces
from larktally.traces.events import EventLog
from larktally.traces.header import frames_of_rows

__all__ = ["write", "read", "read_table"]

# More than any frame says of one kind.
MOST_IN_A_CELL = 10_000
# 128 MB of numbers: a run of an hour is read at once, and one of a day in several goes.
READ_AT_ONCE = 1 << 24
_MARKS = (b'"', b"+", b"0x", b"0X")


def write(source: Savable, file: BinaryIO) -> None:
    """Writes a whole trace to an open file, piece by piece."""
    text = io.TextIOWrapper(file, encoding="utf-8", newline="", write_through=True)
    quoting: Literal[0, 1] = csv.QUOTE_MINIMAL
    for channel in source.header.channels:
        # Of these the writer thinks nothing, and a reader takes them for the end of a line.
        if any("\r" in label for label in channel.labels):
            quoting = csv.QUOTE_ALL
    writer = csv.writer(text, lineterminator="\n", quoting=quoting)
    names = []
    for channel in source.header.channels:
        names.append(channel.name)
    events = event_names(source)
    inputs = source.header.inputs
    writer.writerow(["frame", *names, *(f"input:{n}" for n in inputs), *(f"event:{n}" for n in events)])
    first = 0
    frames = frames_of_rows(source.header, source.rows)
    for piece in small_pieces(source):
        columns = [_texts(piece.columns[name].values) for name in names]
        for name in inputs:
            columns.append(_texts(piece.inputs[name]))
        counted = piece.events
        if source.header.every > 1:
            counted = _in_their_own_frame(piece.events, frames[first : first + piece.rows])
        for name in events:
            columns.append(_texts(counted.counts(name, None, piece.rows)))
        writer.writerows(zip(map(str, frames[first : first + piece.rows].tolist()), *columns, strict=True))
        first += piece.rows
    text.detach()


def _in_their_own_frame(events: EventLog, frames: npt.NDArray[np.int64]) -> EventLog:
    """Of a thinned recording the events that fell in the frames of its rows: a count cannot say that one is from another."""
    found = EventLog()
    for row, name, source, text in events.fields():
        # Those of frames left out carry the frame that they fell in.
        own = msgspec.json.decode(text).get("frame", frames[row]) if '"frame":' in text else frames[row]
        if own == frames[row]:
            found.append(row, name, source, text)
    return found


def read(path: Path, rate: RateLike | None = None) -> TraceContents:
    """Reads a CSV with a `frame` column that counts 0, 1, 2, …; raises TraceError with the line of what is broken.

    A column of whole numbers is a count, of numbers a number, of true and false a flag, of anything else a label.
    """
    table = read_table(path)
    if "frame" not in table:
        raise TraceError(
            f"{path}, line 1: no column 'frame' among {', '.join(map(repr, list(table)[:8]))}; a log from elsewhere is read "
            "with a mapping that says which column counts the frames or the time"
        )
    frames = table.pop("frame")
    # A thinned recording counts in steps of its own; with two rows there is no telling it from a frame that is missing.
    every = 1
    if len(frames) > 2 and frames.dtype.kind == "i":
        every = max(int(frames[1] - frames[0]), 1)
    expected = np.arange(len(frames)) * every
    last_frame = None
    # The last row is kept wherever the run ended.
    if every > 1 and frames[-2] < frames[-1] < expected[-1]:
        last_frame = expected[-1] = int(frames[-1])
    if len(frames) and (frames.dtype.kind != "i" or not np.array_equal(frames, expected)):
        wrong = 0
        if frames.dtype.kind in "if":
            wrong = int((frames != expected).argmax())
        raise TraceError(
            f"{path}, line {wrong + 2}: frame {frames[wrong]}, where {expected[wrong]} belongs; rows count from 0 on"
        )
    events = EventLog()
    counted = [name for name in table if name.startswith("event:")]
    for name in counted:
        counts = table[name]
        if counts.dtype.kind not in "ib" or bool((counts < 0).any()):
            raise TraceError(f"{path}: column {name!r} counts events, so it holds whole numbers from 0 on")
        # A cell of nine digits would be a gigabyte of events.
        if bool((counts > MOST_IN_A_CELL).any()):
            row = int((counts > MOST_IN_A_CELL).argmax())
            raise TraceError(
                f"{path}, line {row + 2}: {counts[row]} events in one row, column {name!r}; at most {MOST_IN_A_CELL} are read"
            )
    check_events(path, sum(float(table[name].sum(dtype=np.float64)) for name in counted))
    fell = {name: np.flatnonzero(table[name]) for name in counted}
    for row in np.unique(np.concatenate([*fell.values(), np.zeros(0, np.int64)])).tolist():
        for name in counted:
            for _ in range(int(table[name][row])):
                events.append(row, name[6:], "", "")
    for name in counted:
        del table[name]
    try:
        found = contents_from_columns(
            # Each goes as it is taken: a long run is not held twice.
            ((name, table.pop(name)) for name in list(table)),
            rate,
            events=events,
            subject=path.name,
            rows=len(frames),
        )
        header = structs.replace(found.header, every=every, last_frame=last_frame)
        return TraceContents(header, found.columns, found.inputs, found.events, found.rows)
    except LarkTallyError as error:
        raise TraceError(f"{path}: {error}") from None


def read_table(
    path: Path, delimiter: str = ",", as_text: Sequence[str] = (), decimal: str = "."
) -> dict[str, npt.NDArray[Any]]:
    """The columns of a CSV as arrays: int64, float64, bool, or strings; raises TraceError with the line.

    Columns named in `as_text` are not turned into numbers.
    """
    try:
        with path.open("rb") as file:
            first = file.readline(1_000_001)
        if len(first) > 1_000_000:
            raise TraceError(f"{path}, line 1: longer than 1000000 bytes, which is no row of column names")
        names = next(csv.reader([first.decode("utf-8-sig")], delimiter=delimiter), [])
        _check_names(path, names)
        hints, lines = _hints(path)
        at_once = max(READ_AT_ONCE // max(lines, 1), 1)
        found: dict[str, npt.NDArray[Any]] = {}
        for start in range(0, len(names), at_once):
            found |= _some_columns(
                path, _Cells(delimiter, decimal), names, names[start : start + at_once], as_text, hints
            )
        return found
    except (pa.ArrowException, UnicodeDecodeError, csv.Error, OSError, ValueError) as error:
        if isinstance(error, TraceError):
            raise
        raise TraceError(f"{path}: broken CSV: {(str(error).splitlines() or ['it is empty'])[0]}") from None


class _Cells(NamedTuple):
    """How cells are written."""

    delimiter: str
    decimal: str


def _some_columns(
    path: Path,
    cells: _Cells,
    names: Sequence[str],
    wanted: Sequence[str],
    as_text: Sequence[str],
    hints: frozenset[bytes],
) -> dict[str, npt.NDArray[Any]]:
    """Some of the columns as arrays."""
    table = _read(path, cells, names, wanted, as_text, hints)
    doubtful = [name for name in wanted if name not in as_text and _is_doubtful(table[name].type, hints)]
    texts = {}
    if doubtful:
        texts = _read(path, cells, names, doubtful, doubtful, hints)
    found = {}
    for name in wanted:
        column = table[name]
        if name in doubtful:
            column = _by_its_texts(column, texts[name])
        found[name] = _array(path, name, column)
    return found


def _read(
    path: Path,
    cells: _Cells,
    names: Sequence[str],
    wanted: Sequence[str],
    as_text: Sequence[str],
    hints: frozenset[bytes],
) -> Any:
    """Some of the columns, by Arrow; `names` are all there are."""
    read = pa_csv.ReadOptions(column_names=list(names), skip_rows=1, use_threads=False)
    # Only where there are quotes at all: looking for line breaks inside of them takes twice the time.
    parse = pa_csv.ParseOptions(delimiter=cells.delimiter, newlines_in_values=b'"' in hints)
    convert = pa_csv.ConvertOptions(
        decimal_point=cells.decimal,
        strings_can_be_null=False,
        null_values=[""],
        true_values=["true", "True", "TRUE"],
        false_values=["false", "False", "FALSE"],
        timestamp_parsers=[],
        column_types=dict.fromkeys(as_text, pa.string()),
        include_columns=list(wanted),
    )
    try:
        # Block by block the texts of all cells are never held at once. The first block decides the kinds.
        with pa_csv.open_csv(path, read_options=read, parse_options=parse, convert_options=convert) as reader:
            return pa.Table.from_batches(list(reader), schema=reader.schema)
    except pa.ArrowException:
        # Where a later block says otherwise, or is broken, all of it is looked at together.
        return pa_csv.read_csv(path, read_options=read, parse_options=parse, convert_options=convert)


def _hints(path: Path) -> tuple[frozenset[bytes], int]:
    """Which of the marks that Arrow reads otherwise than we do stand anywhere in a file, and how many lines it has."""
    found: set[bytes] = set()
    lines = 0
    with path.open("rb") as file:
        # Piece by piece; what stands across two pieces is found in the overlap.
        while piece := file.read(1 << 24):
            lines += piece.count(b"\n")
            for mark in _MARKS:
                if mark in piece:
                    found.add(mark)
            if len(piece) == 1 << 24:
                file.seek(-1, io.SEEK_CUR)
    return frozenset(found), lines


def _is_doubtful(kind: Any, hints: frozenset[bytes]) -> bool:
    """Whether a kind that Arrow found has to be looked at in the texts: times and dates are none here, and Arrow takes 0x1f for
    31, and +1 for 1.0."""
    if pa.types.is_temporal(kind):
        return True
    if pa.types.is_integer(kind):
        return bool(hints & {b"0x", b"0X"})
    return pa.types.is_floating(kind) and b"+" in hints


def _by_its_texts(column: Any, texts: Any) -> Any:
    """A column of the kind that its texts have."""
    if pa.types.is_temporal(column.type):
        return texts
    if pa.types.is_integer(column.type):
        if pc.any(pc.match_substring_regex(texts, "[xX]")).as_py():
            return texts
        return column
    trimmed = pc.utf8_trim_whitespace(texts)
    if pc.all(pc.match_substring_regex(trimmed, "^[+-]?[0-9]{1,18}$")).as_py():
        return pc.utf8_ltrim(trimmed, "+").cast(pa.int64())
    return column


# A table from a spreadsheet may name a column twice, or not at all.
def _check_names(path: Path, names: Sequence[str]) -> None:
    if not names:
        raise TraceError(f"{path}, line 1: empty; the first line names the columns")
    twice = stands_twice(names)
    if twice is not None:
        raise TraceError(f"{path}, line 1: two columns are called {twice!r}")


def _array(path: Path, name: str, chunked: Any) -> npt.NDArray[Any]:
    kind = chunked.type
    if pa.types.is_null(kind):
        return np.full(len(chunked), np.nan)
    if pa.types.is_integer(kind) and chunked.null_count:
        chunked = chunked.cast(pa.float64())
    if pa.types.is_floating(chunked.type):
        return np.array(chunked.to_numpy(), dtype=np.float64)
    if chunked.null_count:
        line = chunked.to_pylist().index(None) + 2
        raise TraceError(f"{path}, line {line}: column {name!r} is empty there")
    if pa.types.is_integer(kind) or pa.types.is_boolean(kind):
        return np.array(chunked.to_numpy())
    # One object for all cells that say the same.
    encoded = chunked.cast(pa.string()).dictionary_encode().combine_chunks()
    texts = np.array([*encoded.dictionary.to_pylist(), ""], dtype=object)[:-1]
    return np.asarray(texts[encoded.indices.to_numpy()])


def _texts(values: npt.NDArray[Any]) -> list[str]:
    if values.dtype == np.bool_:
        found: list[str] = []
        for value in values.tolist():
            found.append("true" if value else "false")
        return found
    if values.dtype == np.float64:
        return [repr(value) for value in values.tolist()]
    return [str(value) for value in values.tolist()]
