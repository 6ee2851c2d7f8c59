"""What a program says of itself, and its rows: checked where they come in, in the words of the protocol's page."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, get_args

import msgspec

from larktally.errors import LarkError, did_you_mean, unknown_name
from larktally.inputs import Action
from larktally.programs.speaking import PROTOCOL, Misspoke
from larktally.subject import Event
from larktally.timing import Rate, as_rate
from larktally.traces import Channel
from larktally.traces.columns import Kind, check_channel_name

__all__ = ["Abilities", "abilities_of", "columns_of", "events_of", "row_of"]

_SPECIAL = {"nan": math.nan, "inf": math.inf, "-inf": -math.inf}


class Abilities(msgspec.Struct, frozen=True):
    """A program's answer to hello."""

    name: str
    version: str
    channels: tuple[Channel, ...]
    actions: tuple[Action, ...]
    events: tuple[str, ...]
    rates: tuple[str, ...]
    saves: bool

    def check_rate(self, rate: Rate) -> None:
        """Raises LarkError for a rate that the program does not accept."""
        if self.rates and rate not in {as_rate(text) for text in self.rates}:
            raise LarkError(f"program {self.name!r} runs at {', '.join(self.rates)} frames/s, not at {rate}")


def abilities_of(answer: Mapping[str, Any]) -> Abilities:
    """The abilities in an answer to hello; raises Misspoke naming the key that is not what it should be."""
    if answer.get("protocol") != PROTOCOL:
        raise Misspoke(f"it speaks protocol {answer.get('protocol')!r}, and this version speaks {PROTOCOL}")
    channels = _listed(answer, "channels")
    if not channels:
        raise Misspoke("hello: 'channels' lists none, so there would be nothing to record")
    found = tuple(_channel(one) for one in channels)
    names = [channel.name for channel in found]
    if len(set(names)) != len(names):
        raise Misspoke(f"hello: two channels are called {next(n for n in names if names.count(n) > 1)!r}")
    try:
        actions = tuple(_action(one) for one in _listed(answer, "actions"))
        rates = tuple(str(as_rate(rate)) for rate in _listed(answer, "rates"))
    except LarkError as error:
        raise Misspoke(f"hello: {error}") from None
    events = tuple(_listed(answer, "events"))
    if not all(isinstance(name, str) for name in events):
        raise Misspoke("hello: 'events' is a list of names")
    return Abilities(
        str(answer.get("name", "program")),
        str(answer.get("version", "")),
        found,
        actions,
        events,
        rates,
        answer.get("saves") is True,
    )


def row_of(answer: Mapping[str, Any], abilities: Abilities) -> tuple[Any, ...]:
    """Row 0 as reset answers it: a value for each channel, in order."""
    row = answer.get("row")
    if not isinstance(row, dict):
        raise Misspoke("reset: 'row' is an object with a value for each channel")
    _check_names("reset: 'row'", row, abilities)
    return tuple(_read([row[channel.name]], channel)[0] for channel in abilities.channels)


def columns_of(answer: Mapping[str, Any], abilities: Abilities, frames: int) -> list[Sequence[Any]]:
    """The columns of a step, in the order of the channels, each of so many values."""
    columns = answer.get("columns")
    if not isinstance(columns, dict):
        raise Misspoke("step: 'columns' is an object with a list of values for each channel")
    _check_names("step: 'columns'", columns, abilities)
    for name, values in columns.items():
        if not isinstance(values, list) or len(values) != frames:
            found = len(values) if isinstance(values, list) else repr(values)[:40]
            raise Misspoke(f"step: column {name!r} has a value for each of the {frames} frames, not {found}")
    return [_read(columns[channel.name], channel) for channel in abilities.channels]


def events_of(answer: Mapping[str, Any], first: int, last: int) -> list[tuple[int, Event]]:
    """The events of a reset or step with their frames: [frame, name, source, data], the last two may be left out."""
    found = []
    before = first
    for said in _listed(answer, "events"):
        event = list(said) if isinstance(said, list) else []
        frame, name, source, data = (
            [*event, *[0, "", "", {}][len(event) :]] if 2 <= len(event) <= 4 else (None, None, "", {})
        )
        if (
            type(frame) is not int
            or not isinstance(name, str)
            or not isinstance(source, str)
            or not isinstance(data, dict)
        ):
            raise Misspoke(f"an event is [frame, 'name'], with a source and data where it has them, not {said!r}"[:200])
        if not before <= frame <= last:
            raise Misspoke(f"event {name!r} stands in frame {frame}, which is not in order within {first}..{last}")
        before = frame
        found.append((frame, Event(name, source, **data)))
    return found


def _read(values: list[Any], channel: Channel) -> Sequence[Any]:
    """A column's values: numbers may be whole in JSON, and "nan", "inf" and "-inf" stand for what it has no number for."""
    if channel.kind != "number":
        return values
    if str in set(map(type, values)):
        return [_SPECIAL.get(value, value) if isinstance(value, str) else value for value in values]
    return values


def _check_names(place: str, given: Mapping[str, Any], abilities: Abilities) -> None:
    known = {channel.name for channel in abilities.channels}
    for name in known:
        if name not in given:
            raise Misspoke(f"{place} has no channel {name!r}, which hello announced")
    for name in given:
        if name not in known:
            raise Misspoke(f"{place}: {unknown_name('channel', name, sorted(known))} announced by hello")


def _channel(said: Any) -> Channel:
    if not isinstance(said, dict) or said.get("kind") not in get_args(Kind):
        raise Misspoke(
            f"hello: a channel is {{'name': …, 'kind': 'number', 'count', 'flag' or 'label'}}, not {said!r}"[:200]
        )
    labels = said.get("labels", [])
    if not isinstance(labels, list) or not all(isinstance(label, str) for label in labels):
        raise Misspoke(f"hello: the labels of channel {said.get('name')!r} are a list of strings")
    if said["kind"] == "label" and not labels:
        raise Misspoke(
            f"hello: channel {said.get('name')!r} is a label and announces no labels: list all that it can be"
        )
    try:
        return Channel(check_channel_name(said.get("name")), said["kind"], tuple(labels))
    except LarkError as error:
        raise Misspoke(f"hello: {error}") from None


def _action(said: Any) -> Action:
    if isinstance(said, dict):
        return Action(said.get("name", ""), analog=said.get("analog") is True)
    return Action(said)


def _listed(answer: Mapping[str, Any], key: str) -> list[Any]:
    found = answer.get(key, [])
    if not isinstance(found, list):
        near = did_you_mean(key, answer)
        raise Misspoke(f"{key!r} is a list, not {found!r}{near}"[:200])
    return found
