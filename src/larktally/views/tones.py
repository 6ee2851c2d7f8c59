"""How the tones of a report look in a terminal, and whether there is one."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping

from larktally.report import Tone

__all__ = ["STYLES", "in_terminal"]

#: How each tone looks; yellow and cyan cannot be read on white, so that none of them is used.
STYLES: Mapping[Tone, str] = {
    "plain": "",
    "strong": "bold",
    "good": "green",
    "bad": "bold red",
    "odd": "bold magenta",
    "quiet": "dim",
}


def in_terminal() -> bool:
    """Whether output goes to a terminal, or is to be as wide as one."""
    # COLUMNS is how a script says that it wants the width of a terminal.
    return sys.stdout.isatty() or "COLUMNS" in os.environ
