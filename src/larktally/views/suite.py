"""What a run came to, as a server that shows verdicts has it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from larktally.claims.verdicts import Tally

if TYPE_CHECKING:
    from larktally.auditing.finding import Finding

__all__ = ["Suite"]


class Suite(msgspec.Struct, frozen=True):
    """One run or trace: its tally, None where there is none; how long it took; what went wrong with the run itself, or
    how it left its baseline ("" for neither); and what is odd in it, which is told and fails nothing."""

    name: str
    tally: Tally | None
    seconds: float = 0.0
    error: str = ""
    left_baseline: str = ""
    odd: Sequence[Finding] = ()
