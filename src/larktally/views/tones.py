"""How the tones of a report look in a terminal."""

from __future__ import annotations

from collections.abc import Mapping

from larktally.report import Tone

__all__ = ["STYLES"]

#: How each tone looks; yellow and cyan cannot be read on white, so that none of them is used.
STYLES: Mapping[Tone, str] = {
    "plain": "",
    "strong": "bold",
    "good": "green",
    "bad": "bold red",
    "odd": "bold magenta",
    "quiet": "dim",
}
