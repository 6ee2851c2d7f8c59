"""What a header may say of a sim's scene, for pictures: its boxes, bodies, platforms, enclosures and zones.

The scene stands in files as plain data; whoever draws it relies on the shapes that are checked here.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from larktally.errors import TraceError

__all__ = ["check_scene"]

_Corners = tuple[list[float], list[float]]


class _Body(msgspec.Struct):
    size: list[float]
    before: list[float]


class _Fan(msgspec.Struct):
    body: str
    side: str
    rays: int
    length: float
    inset: float


class _Scene(msgspec.Struct, kw_only=True):
    axes: str | list[str] = "xy"
    up: str | None = None
    boxes: list[tuple[list[float], list[float], str, bool, str]] = []
    bodies: dict[str, _Body] = {}
    platforms: dict[str, list[float]] = {}
    enclosures: list[str] = []
    doors: list[str] = []
    attached: dict[str, bool] = {}
    fans: dict[str, _Fan] = {}
    rounds: dict[str, list[tuple[list[float], float]]] = {}
    zones: dict[str, list[_Corners]] = {}


def check_scene(scene: Mapping[str, Any]) -> None:
    """Raises TraceError for a scene of another shape, naming the key."""
    try:
        found = msgspec.convert(scene, _Scene)
    except msgspec.ValidationError as error:
        raise TraceError(f"its scene is of another shape: {error}") from None
    places: list[list[float]] = []
    for low, high, *_ in found.boxes:
        places += [low, high]
    for body in found.bodies.values():
        places += [body.size, body.before]
    places += found.platforms.values()
    for discs in found.rounds.values():
        places += [centre for centre, _ in discs]
    for boxes in found.zones.values():
        for low, high in boxes:
            places += [low, high]
    for place in places:
        if len(place) not in (2, 3):
            raise TraceError(
                f"its scene has a place or size of {len(place)} numbers, and levels have two or three axes"
            )
