"""What a program says of itself, and its rows: checked where they come in, in the words of the protocol's page."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any, Literal, cast, get_args

import msgspec

from larktally.errors import LarkTallyError
from larktally.event import Event
from larktally.inputs.actions import Action
from larktally.names import did_you_mean, stands_twice, unknown_name
from larktally.subjects.programs.rpc import PROTOCOL, ProtocolError
from larktally.subjects.protocol import Value
from larktally.timing import Rate, as_rate
from larktally.traces.columns import Channel, Kind, check_channel_name
from larktally.traces.events import check_event_name

__all__ = [
    "Handshake",
    "Param",
    "handshake_of",
    "columns_of",
    "events_of",
    "live_row_of",
    "notes_of",
    "row_of",
    "Shapes",
]

# What JSON has no number for; and minus zero, which JavaScript writes as 0.
_SPECIAL = {"nan": math.nan, "inf": math.inf, "-inf": -math.inf, "-0.0": -0.0}
# Letters of a note: a line under a breach.
MOST_NOTED = 500
# Two bytes hold the place of one.
MOST_PACKED_LABELS = 65_536


class Param(msgspec.Struct, frozen=True):
    """A number, flag or text that a program can be run with: its default, and for a number the least and the most."""

    name: str
    default: bool | int | float | str
    least: int | float | None = None
    most: int | float | None = None

    def check(self, value: object) -> None:
        """Raises LarkTallyError for a value of another kind than the default, or out of bounds."""
        number = isinstance(value, int | float) and not isinstance(value, bool)
        wanted = isinstance(self.default, int | float) and not isinstance(self.default, bool)
        if number != wanted or (not wanted and type(value) is not type(self.default)):
            raise LarkTallyError(f"param {self.name!r} is {value!r}, where the program has {self.default!r}")
        low, high = self.least, self.most
        if isinstance(value, int | float) and (
            (low is not None and value < low) or (high is not None and value > high)
        ):
            bounds = f"{'' if low is None else f'{low:g}'}..{'' if high is None else f'{high:g}'}"
            raise LarkTallyError(f"param {self.name!r} is {value!r}, and the program takes {bounds}")


class Handshake(msgspec.Struct, frozen=True):
    """A program's answer to hello."""

    name: str
    version: str
    channels: tuple[Channel, ...]
    actions: tuple[Action, ...]
    events: tuple[str, ...]
    rates: tuple[str, ...]
    saves: bool
    params: tuple[Param, ...] = ()
    #: Whether it says many frames as bytes (docs/programs.md, "Columns as bytes").
    packed: bool = False

    def check_params(self, params: Mapping[str, object]) -> None:
        """Raises LarkTallyError for a param that the program did not announce, or a value that does not fit it."""
        known = {param.name: param for param in self.params}
        for name, value in params.items():
            if name not in known:
                none = "" if known else "; it announces none: 'params' in its answer to hello"
                raise LarkTallyError(f"program {self.name!r}: {unknown_name('param', name, known)}{none}")
            known[name].check(value)

    def check_rate(self, rate: Rate) -> None:
        """Raises LarkTallyError for a rate that the program does not accept."""
        if self.rates and rate not in {as_rate(text) for text in self.rates}:
            raise LarkTallyError(f"program {self.name!r} runs at {', '.join(self.rates)} frames/s, not at {rate}")


class Shapes:
    """Reads answers whose columns and rows are of their kinds, in C: numbers as floats, -0 too, without a look at each value,
    which is half of what a wide run costs. What is of another shape is None, and read again by those who say what is wrong."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        self._names = [channel.name for channel in channels]
        self._steps = _decoder(channels, list[float], "columns", list)
        self._rows = _decoder(channels, float | str, "row", None)

    def step(self, line: bytes, number: int) -> Mapping[str, object] | None:
        """An answer to a step: its columns are a tuple, in the order of the channels. One that holds "nan" is read otherwise."""
        found = _decoded(self._steps, line, number)
        if found is None:
            return None
        values = msgspec.structs.astuple(found.columns)
        return {"columns": values, "events": found.events, "notes": found.notes}

    def row(self, line: bytes, number: int) -> Mapping[str, object] | None:
        """An answer to reset or load."""
        found = _decoded(self._rows, line, number)
        if found is None:
            return None
        row = dict(zip(self._names, msgspec.structs.astuple(found.row), strict=True))
        return {"row": row, "events": found.events, "notes": found.notes, "frame": found.frame}


def _decoder(channels: Sequence[Channel], number: Any, key: str, many: type | None) -> msgspec.json.Decoder[Any]:
    kinds: dict[str, Any] = {"number": number, "count": int, "flag": bool, "label": str}
    if many is not None:
        kinds = {"number": number, "count": list[int], "flag": list[bool], "label": list[str]}
    fields = [(f"c{n}", kinds[channel.kind]) for n, channel in enumerate(channels)]
    # Struct fields are names of Python's, and channels are dotted.
    names = {f"c{n}": channel.name for n, channel in enumerate(channels)}
    content = msgspec.defstruct("Content", fields, rename=names, forbid_unknown_fields=True)
    beside: list[Any] = [("events", list[Any], []), ("notes", list[Any], []), ("frame", Any, None)]
    result = msgspec.defstruct("Result", [(key, content), *beside])
    answer = msgspec.defstruct("Answer", [("jsonrpc", Literal["2.0"]), ("id", int), ("result", result)])
    return msgspec.json.Decoder(answer)


def _decoded(decoder: msgspec.json.Decoder[Any], line: bytes, number: int) -> Any:
    """The result in an answer to request `number`; None where it is of another shape."""
    try:
        found = decoder.decode(line)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return None
    if found.id != number:
        return None
    return found.result


def handshake_of(answer: Mapping[str, object]) -> Handshake:
    """The handshake in an answer to hello; raises ProtocolError naming the key that is not what it should be."""
    if answer.get("protocol") != PROTOCOL:
        raise ProtocolError(f"it speaks protocol {answer.get('protocol')!r}, and this version speaks {PROTOCOL}")
    channels = _listed(answer, "channels")
    if not channels:
        raise ProtocolError("hello: 'channels' lists none, so there would be nothing to record")
    found = tuple(_channel(one) for one in channels)
    # Two columns of one name would be one, and half of the values lost.
    twice = stands_twice(channel.name for channel in found)
    if twice is not None:
        raise ProtocolError(f"hello: two channels are called {twice!r}")
    for channel in found:
        twice = stands_twice(channel.labels)
        if twice is not None:
            raise ProtocolError(f"hello: channel {channel.name!r} has the label {twice!r} twice")
    try:
        actions = tuple(_action(one) for one in _listed(answer, "actions"))
        rates = tuple(str(as_rate(rate)) for rate in _texts_or_numbers(answer, "rates"))
    except LarkTallyError as error:
        raise ProtocolError(f"hello: {error}") from None
    events: list[str] = []
    for name in _listed(answer, "events"):
        if not isinstance(name, str):
            raise ProtocolError("hello: 'events' is a list of names")
        events.append(name)
    try:
        for name in events:
            check_event_name(name)
    except LarkTallyError as error:
        raise ProtocolError(f"hello: {error}") from None
    return Handshake(
        str(answer.get("name", "program")),
        str(answer.get("version", "")),
        found,
        actions,
        tuple(events),
        rates,
        answer.get("saves") is True,
        _params(answer),
        _packed(answer, found),
    )


def _packed(answer: Mapping[str, object], channels: Sequence[Channel]) -> bool:
    way = answer.get("columns", "json")
    if way not in ("json", "binary"):
        raise ProtocolError(f"hello: 'columns' is 'json' or 'binary', not {way!r}"[:200])
    for channel in channels:
        if way == "binary" and len(channel.labels) > MOST_PACKED_LABELS:
            raise ProtocolError(
                f"hello: channel {channel.name!r} has {len(channel.labels)} labels; as bytes it has at most {MOST_PACKED_LABELS}"
            )
    return way == "binary"


def _params(answer: Mapping[str, object]) -> tuple[Param, ...]:
    """The params that it announces; a program that announces none takes none."""
    if "params" not in answer:
        return ()
    found = []
    for entry in _listed(answer, "params"):
        try:
            found.append(msgspec.convert(entry, Param))
        except msgspec.ValidationError as error:
            raise ProtocolError(
                f"hello: a param is {{'name': …, 'default': …, 'least': …, 'most': …}}, not {entry!r}: {error}"[:300]
            ) from None
    return tuple(found)


def row_of(answer: Mapping[str, object], handshake: Handshake, method: str = "reset") -> tuple[Value, ...]:
    """A row as reset and load answer it: a value for each channel, in order."""
    row = answer.get("row")
    if not isinstance(row, dict):
        raise ProtocolError(f"{method}: 'row' is an object with a value for each channel")
    _check_names(f"{method}: 'row'", row, handshake)
    found = []
    for channel in handshake.channels:
        found.append(_read([row[channel.name]], channel)[0])
    return tuple(found)


def columns_of(answer: Mapping[str, object], handshake: Handshake, frames: int) -> list[Sequence[Value]]:
    """The columns of a step, in the order of the channels, each of so many values."""
    columns = answer.get("columns")
    # In order, and each of its kind: `Shapes` has read them.
    if isinstance(columns, tuple):
        _check_lengths(zip((channel.name for channel in handshake.channels), columns, strict=True), frames)
        return list(columns)
    if not isinstance(columns, dict):
        raise ProtocolError("step: 'columns' is an object with a list of values for each channel")
    _check_names("step: 'columns'", columns, handshake)
    _check_lengths(columns.items(), frames)
    listed: list[Sequence[Value]] = []
    for channel in handshake.channels:
        listed.append(_read(columns[channel.name], channel))
    return listed


def live_row_of(
    params: Mapping[str, object], handshake: Handshake, row: int
) -> tuple[tuple[Value, ...], list[float], list[Event]]:
    """A row of a game that runs by itself: its values, what each action is at, and its events, [name, source, data]."""
    values = row_of(params, handshake, f"row {row}")
    inputs = params.get("inputs", {})
    known = [action.name for action in handshake.actions]
    if not isinstance(inputs, dict):
        raise ProtocolError(f"row {row}: 'inputs' is an object with a number for each action that is held")
    for name, value in inputs.items():
        if name not in known:
            raise ProtocolError(f"row {row}: {unknown_name('action', name, known)} announced")
        if isinstance(value, bool) or not isinstance(value, int | float) or not -1 <= value <= 1:
            raise ProtocolError(f"row {row}: input {name!r} is {value!r}, and an input is in [-1, 1]")
    listed = []
    for entry in _listed(params, "events"):
        if not isinstance(entry, list):
            raise ProtocolError(
                f"row {row}: an event is ['name'], with a source and data where it has them, not {entry!r}"[:200]
            )
        listed.append([row, *entry])
    events = [event for _, event in events_of({"events": listed}, handshake.events, row, row)]
    return values, [float(inputs.get(name, 0.0)) for name in known], events


def _check_lengths(columns: Iterable[tuple[str, object]], frames: int) -> None:
    for name, values in columns:
        if isinstance(values, list) and len(values) == frames:
            continue
        found = repr(values)[:40]
        if isinstance(values, list):
            found = str(len(values))
        raise ProtocolError(f"step: column {name!r} has a value for each of the {frames} frames, not {found}")


def events_of(answer: Mapping[str, object], known: Collection[str], first: int, last: int) -> list[tuple[int, Event]]:
    """The events of a reset or step with their frames: [frame, name, source, data], the last two may be left out; `known`
    are those that hello announced."""
    found = []
    before = first
    for entry in _listed(answer, "events"):
        # What is no event fails the check below, with the message of one that is wrong inside.
        event: list[object] = [None, None, "", {}]
        if isinstance(entry, list) and 2 <= len(entry) <= 4:
            event[: len(entry)] = entry
        frame, name, source, data = event
        if (
            type(frame) is not int
            or not isinstance(name, str)
            or not isinstance(source, str)
            or not isinstance(data, dict)
        ):
            raise ProtocolError(
                f"an event is [frame, 'name'], with a source and data where it has them, not {entry!r}"[:200]
            )
        if not before <= frame <= last:
            raise ProtocolError(f"event {name!r} stands in frame {frame}, which is not in order within {first}..{last}")
        if name not in known and name != "end":
            raise ProtocolError(f"{unknown_name('event', name, known)} announced by hello (in frame {frame})")
        # Events out of order would be read as of another frame where a batch ends.
        before = frame
        found.append((frame, Event(name, source, **data)))
    return found


def notes_of(answer: Mapping[str, object], handshake: Handshake, first: int, last: int) -> list[tuple[int, str, str]]:
    """The notes of a reset or step: [frame, channel, text], in any order."""
    known = [channel.name for channel in handshake.channels]
    found = []
    for entry in _listed(answer, "notes"):
        fits = isinstance(entry, list) and [type(one) for one in entry] == [int, str, str]
        if not fits:
            raise ProtocolError(f"a note is [frame, 'channel', 'text'], not {entry!r}"[:200])
        frame, channel, text = cast("list[Any]", entry)
        if not first <= frame <= last:
            raise ProtocolError(f"a note stands in frame {frame}, which is not within {first}..{last}")
        if channel not in known:
            raise ProtocolError(
                f"a note in frame {frame}: {unknown_name('channel', channel, known)} announced by hello"
            )
        found.append((frame, channel, text[:MOST_NOTED]))
    return found


def _read(values: list[Value], channel: Channel) -> Sequence[Value]:
    """A column's values: numbers may be whole in JSON, and "nan", "inf" and "-inf" stand for what it has no number for."""
    if channel.kind == "count" and float in set(map(type, values)):
        # -0 of a count is 0, however it was written.
        return [0 if type(value) is float and value == 0 else value for value in values]
    if channel.kind != "number":
        return values
    # Few batches hold a text for a number; one pass in C tells.
    if str in set(map(type, values)):
        found = []
        for value in values:
            found.append(_SPECIAL.get(value, value) if isinstance(value, str) else value)
        return found
    return values


def _check_names(place: str, given: Mapping[str, object], handshake: Handshake) -> None:
    known = set()
    for channel in handshake.channels:
        known.add(channel.name)
    for name in known:
        if name not in given:
            raise ProtocolError(f"{place} has no channel {name!r}, which hello announced")
    for name in given:
        if name not in known:
            raise ProtocolError(f"{place}: {unknown_name('channel', name, sorted(known))} announced by hello")


def _channel(entry: object) -> Channel:
    if not isinstance(entry, dict) or entry.get("kind") not in get_args(Kind):
        raise ProtocolError(
            f"hello: a channel is {{'name': …, 'kind': 'number', 'count', 'flag' or 'label'}}, not {entry!r}"[:200]
        )
    labels = entry.get("labels", [])
    if not isinstance(labels, list) or not all(isinstance(label, str) for label in labels):
        raise ProtocolError(f"hello: the labels of channel {entry.get('name')!r} are a list of strings")
    # A label has to be closed before the first row: claims are checked against its words.
    if entry["kind"] == "label" and not labels:
        raise ProtocolError(
            f"hello: channel {entry.get('name')!r} is a label and announces no labels: list all that it can be"
        )
    wraps = entry.get("wraps")
    is_turn = isinstance(wraps, int | float) and not isinstance(wraps, bool) and 0 < wraps < math.inf
    if wraps is not None and not (is_turn and entry["kind"] == "number"):
        raise ProtocolError(
            f"hello: channel {entry.get('name')!r} wraps at {wraps!r}; an angle is a number, and wraps is a whole turn"
        )
    try:
        return Channel(check_channel_name(entry.get("name")), entry["kind"], tuple(labels), wraps)
    except LarkTallyError as error:
        raise ProtocolError(f"hello: {error}") from None


def _action(entry: object) -> Action:
    if isinstance(entry, dict):
        return Action(entry.get("name", ""), analog=entry.get("analog") is True)
    if not isinstance(entry, str):
        raise LarkTallyError(f"an action has a name, not {entry!r}"[:200])
    return Action(entry)


def _listed(answer: Mapping[str, object], key: str) -> list[object]:
    found = answer.get(key, [])
    if not isinstance(found, list):
        near = did_you_mean(key, answer)
        raise ProtocolError(f"{key!r} is a list, not {found!r}{near}"[:200])
    return found


def _texts_or_numbers(answer: Mapping[str, object], key: str) -> list[str | int | float]:
    found: list[str | int | float] = []
    for one in _listed(answer, key):
        if not isinstance(one, str | int | float):
            raise ProtocolError(f"hello: {key!r} is a list of numbers or texts, not of {one!r}"[:200])
        found.append(one)
    return found
