"""Watching without a page: verdicts and measures in the terminal at each save, before and after."""

from __future__ import annotations

import asyncio
import math
import time
from collections.abc import Callable, Mapping
from typing import Any

from larktally.textfmt import printable, shown_value
from larktally.watch.session import Session, Watched

__all__ = ["watch_in_terminal"]


def watch_in_terminal(watched: Watched, echo: Callable[[str], None]) -> None:
    """Runs what is watched at each save and prints what it came to, until it is interrupted."""
    told = _Told(echo)
    asyncio.run(_watch(watched, told.hear))


async def _watch(watched: Watched, hear: Callable[[Mapping[str, Any]], None]) -> None:
    session = Session(watched, hear)
    try:
        await session.watch()
    finally:
        session.end()


class _Told:
    """Says what each run came to; the measures of the one before are remembered."""

    def __init__(self, echo: Callable[[str], None]) -> None:
        self._echo = echo
        self._before: dict[str, float] = {}

    def hear(self, message: Mapping[str, Any]) -> None:
        """A run that came to its end, one that failed, or a picture that is fresh."""
        if message["is"] == "picture":
            self._echo(f"  drawn: {message['path']}")
            return
        self._echo(f"\n{time.strftime('%H:%M:%S')}  {message.get('scenario', '')}".rstrip())
        self._echo(printable(message["text"]))
        measures = message.get("measures", ())
        for one in measures:
            self._echo(f"  {printable(self._measure(one))}")
        if measures:
            self._before = {one["name"]: one["value"] for one in measures}

    def _measure(self, one: Mapping[str, Any]) -> str:
        value, before = one["value"], self._before.get(one["name"])
        shown = shown_value(value)
        # NaN is nothing measured, before as after.
        moved = before is not None and before != value and not (math.isnan(before) and math.isnan(value))
        if moved:
            shown = f"{shown_value(before)} → {shown}"
        return f"{one['name']} {shown} {one['unit']}".rstrip()
