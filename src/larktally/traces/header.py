"""The header of a trace: all that is needed to know what a run was, and to run it again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from larktally.errors import LarkTallyError, TraceError
from larktally.inputs.actions import Action
from larktally.names import stands_twice
from larktally.timing import Rate, as_rate
from larktally.traces.columns import Channel, check_channel_name
from larktally.traces.events import check_event_name
from larktally.traces.json_keys import check_keys
from larktally.traces.outline import Outline
from larktally.traces.scene import check_scene

__all__ = [
    "Header",
    "MeasureNote",
    "PhaseOrder",
    "FORMAT",
    "check_header",
    "frames_of_rows",
    "header_fields",
    "read_header",
    "header_json",
]

FORMAT = 1


class PhaseOrder(msgspec.Struct, frozen=True):
    """One phase of a sim's frame and what runs in it, in order."""

    phase: str
    parts: tuple[str, ...] = ()


class MeasureNote(msgspec.Struct, frozen=True):
    """A named measure as a trace keeps it: its text, its unit, and the least and the greatest that will do."""

    of: str
    unit: str = ""
    wanted: tuple[float, float] | None = None


class Header(msgspec.Struct, frozen=True, kw_only=True):
    """What a run was made from and what it holds.

    `rate_text` is the exact rate ("60", "60000/1001"; "" where a log carries none), `params` what the run was given,
    `measures` what numbers of it have names, `settings` what the model was told for each name it asked for (durations in
    frames), `order` a sim's phases and
    parts and `unstepped` the parts that no phase steps, `machines` the states of each machine and `outlines` their rules,
    `level` the digest of a sim's level and `scene` its boxes and bodies, for pictures; `program` the name, version and
    command of a program in another language; `filtered` whether only some channels were kept (`partial` in files), `end`
    the reason a run ended by itself, `every` and `last_frame` which frames a thinned
    recording kept, `stopped` the error that stopped it, `made_with` versions and a digest of the
    model's file. The digest leaves out `measures`, `outlines` and `made_with`.
    """

    larktally: int = FORMAT
    rate_text: str = msgspec.field(name="rate", default="")
    scenario: str = ""
    subject: str = ""
    seed: int = 0
    params: dict[str, Any] = {}
    measures: dict[str, MeasureNote] = {}
    settings: dict[str, Any] = {}
    channels: tuple[Channel, ...] = ()
    inputs: tuple[str, ...] = ()
    actions: tuple[str, ...] = ()
    analog: tuple[str, ...] = ()
    events: tuple[str, ...] = ()
    order: tuple[PhaseOrder, ...] = ()
    unstepped: tuple[str, ...] = ()
    machines: dict[str, tuple[str, ...]] = {}
    outlines: dict[str, Outline] = {}
    level: str = ""
    scene: dict[str, Any] = {}
    program: dict[str, Any] = {}
    allow_nan: bool = False
    every: int = 1
    last_frame: int | None = None
    # Called `partial` in files since the first version: files keep their words when the code changes its own.
    filtered: bool = msgspec.field(name="partial", default=False)
    end: str | None = None
    stopped: str | None = None
    made_with: dict[str, str] = {}

    @property
    def rate(self) -> Rate | None:
        """Frames per second, or None where it is not known."""
        if self.rate_text:
            return as_rate(self.rate_text)
        return None


def frames_of_rows(header: Header, rows: int) -> npt.NDArray[np.int64]:
    """The frame of each of its rows: int64, rising. Only of a thinned recording are they not the rows' own numbers."""
    frames = np.arange(rows, dtype=np.int64) * header.every
    last = header.last_frame
    if last is not None:
        # A header that is made up: what is interpolated goes over so many frames.
        if not (rows - 2) * header.every < last <= (rows - 1) * header.every:
            raise LarkTallyError(
                f"'last_frame' is {last}, which {rows} rows of every {header.every}th frame do not reach"
            )
        frames[-1] = last
    return frames


def header_fields(header: Header) -> dict[str, Any]:
    """The header as plain data, as files, digests and checksums have it.

    What came after the first version is left out where it says nothing, so that older files keep their checksums.
    """
    fields: dict[str, Any] = msgspec.to_builtins(header)
    if not fields["unstepped"]:
        del fields["unstepped"]
    if not fields["measures"]:
        del fields["measures"]
    if fields["last_frame"] is None:
        del fields["last_frame"]
    for channel in fields["channels"]:
        if channel["wraps"] is None:
            del channel["wraps"]
    return fields


def header_json(header: Header, **more: Any) -> bytes:
    """The header as one line of JSON, with `more` entries after its own."""
    return msgspec.json.encode({**header_fields(header), **more})


def read_header(text: bytes, place: str) -> tuple[Header, dict[str, Any]]:
    """The header of a file and the raw JSON it stood in; raises TraceError naming the place."""
    try:
        raw = msgspec.json.decode(text)
        check_keys(text, place)
        if not isinstance(raw, dict) or "larktally" not in raw:
            raise TraceError(f"{place}: not a Lark Tally trace (its first line or metadata is no trace header)")
        if raw["larktally"] != FORMAT:
            raise TraceError(f"{place}: trace format {raw['larktally']!r}; this version reads format {FORMAT}")
        header = msgspec.convert(raw, Header)
        # A text that is no rate has to be refused here, with the file's name, and not where it is first used.
        _ = header.rate
    except TraceError:
        raise
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise TraceError(f"{place}: the trace header is broken: {error}") from None
    try:
        check_header(header)
    except LarkTallyError as error:
        raise TraceError(f"{place}: the trace header is broken: {error}") from None
    return header, raw


def check_header(header: Header) -> None:
    """Raises LarkTallyError for what no recording writes: names that are none or stand twice, and numbers out of their range."""
    channels = []
    for channel in header.channels:
        channels.append(channel.name)
        check_channel_name(channel.name.removeprefix("seen:"))
        _check_once(channel.labels, f"channel {channel.name!r} has the label")
        if channel.labels and channel.kind != "label":
            raise LarkTallyError(f"channel {channel.name!r} has labels, and is a {channel.kind}")
        if channel.wraps is not None and not (channel.kind == "number" and channel.wraps > 0):
            raise LarkTallyError(
                f"channel {channel.name!r} wraps at {channel.wraps!r}: an angle is a number, its turn above 0"
            )
    _check_once(channels, "it names the channel")
    _check_once(header.inputs, "it names the input")
    for action in (*header.inputs, *header.actions):
        Action(action)
    for event in header.events:
        check_event_name(event)
    if header.every < 1:
        raise LarkTallyError(f"'every' is {header.every}, and every n-th row is kept, n at least 1")
    if header.last_frame is not None and (header.every == 1 or header.last_frame < 1):
        raise LarkTallyError(f"'last_frame' is {header.last_frame}, where every frame from 0 on is a row")
    if not 0 <= header.seed < 2**63:
        raise LarkTallyError(f"'seed' is {header.seed}, and a seed is from 0 to 2**63 - 1")
    check_scene(header.scene)


def _check_once(names: Sequence[str], what: str) -> None:
    twice = stands_twice(names)
    if twice is not None:
        raise LarkTallyError(f"{what} {twice!r} twice")
