"""Colours of pictures, on light and on dark paper, distinguishable with any colour vision."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["DARK", "LIGHT", "STATE_COLOURS", "Palette", "on_colour"]

# Okabe and Ito, "Color universal design" (2008).
# Told apart with any colour vision (Okabe and Ito 2008), and then the grey that all the rest have to share.
STATE_COLOURS = ("#0072B2", "#E69F00", "#009E73", "#CC79A7", "#56B4E9", "#D55E00", "#F0E442", "#999999")
_DARK_ONES = ("#0072B2", "#009E73", "#D55E00")


@dataclass(frozen=True, slots=True)
class Palette:
    """What a picture is drawn with: paper, ink for words, quiet for what stands back, ground and its edge for solids."""

    paper: str
    ink: str
    quiet: str
    ground: str
    edge: str
    rule: str
    zone: str
    line: str
    breach: str


LIGHT = Palette("#ffffff", "#222222", "#707070", "#d8d4cc", "#b5afa3", "#cccccc", "#0072B2", "#0072B2", "#B00020")
DARK = Palette("#16181d", "#eeeeee", "#a0a4ad", "#3a3d45", "#555a66", "#484c55", "#56B4E9", "#56B4E9", "#FF6B6B")


def on_colour(colour: str) -> str:
    """Words that can be read on a state's colour."""
    if colour in _DARK_ONES:
        return "#ffffff"
    return "#222222"
