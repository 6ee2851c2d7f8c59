"""Answers that stop: a press that was answered, and is not any more."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from larktally.auditing.finding import Finding, rows_text, why_command
from larktally.auditing.seen import Seen, stays_of

__all__ = ["look"]

NAME = "no answer any more"
WITHIN = 2
LEAST_UNANSWERED = 3
# A rest, a reload and a stun are over by then.
LEAST_TIME = 150


def look(seen: Seen) -> Iterator[Finding]:
    """An event or a change of a label that followed the first presses of an action, and none of the last ones, over two and a
    half seconds and more, with what stands still since.

    Not: presses in a state that locks them, which the run is in to its end; a stock that fills again; presses after an `end`.
    """
    answers = dict(seen.events)
    for name, column in seen.of_kind("label"):
        starts, _ = stays_of(column.stored)
        answers["change of", name] = starts[1:].tolist()
    for action, presses in seen.pressed.items():
        if len(presses) < 2 + LEAST_UNANSWERED:
            continue
        for (name, source), rows in answers.items():
            listed = np.array(rows)
            answered = np.array([((listed >= p) & (listed <= p + WITHIN)).any() for p in presses])
            if not answered[:2].all() or answered[-LEAST_UNANSWERED:].any():
                continue
            last = int(np.flatnonzero(answered)[-1])
            lost = presses[last + 1 :]
            # Answered each time up to there, and an answer of the presses: hardly any falls by itself.
            own = np.isin(listed, np.concatenate([presses + n for n in range(WITHIN + 1)])).mean()
            if answered[: last + 1].mean() < 0.8 or own < 0.8 or lost[-1] - presses[last] < LEAST_TIME:
                continue
            still = _stands_since(seen, int(presses[last]))
            if _is_locked(seen, presses[: last + 1], lost) or not still:
                continue
            about = f"{action} → {name} {source}".rstrip()
            told = (
                f"{last + 1} presses were answered up to row {presses[last]}, and none of {len(lost)} after it "
                f"({rows_text(lost.tolist(), len(lost))}); {still} since"
            )
            said = f"event({name!r}, source={source!r})" if name != "change of" else f"changed({source})"
            claim = f"follows(pressed({action!r}), {said}, within={WITHIN})"
            rows_ = tuple(int(row) for row in lost[:3])
            yield Finding(NAME, about, told, "likely", rows_, len(lost), "", claim, why_command(lost[0]), 3)
            break


def _stands_since(seen: Seen, row: int) -> str:
    """The channel that moved before a row, and stands still from soon after it to the end."""
    for name, column in seen.of_kind("count", "flag", "number"):
        stored = column.stored
        moved = np.flatnonzero(stored[1:] != stored[:-1]) + 1
        if len(moved) >= 3 and row - 60 <= moved[-1] <= row + 100 and moved[-1] < seen.rows - LEAST_TIME // 2:
            return f"{name} stands at {column.at(int(moved[-1]))} from row {moved[-1]} on"
    return ""


def _is_locked(seen: Seen, answered: np.ndarray, lost: np.ndarray) -> bool:
    """Whether some label has a value at the lost presses that it never had at one that was answered."""
    for _, column in seen.of_kind("label"):
        before = set(column.stored[np.maximum(answered - 1, 0)].tolist())
        after = set(column.stored[np.maximum(lost - 1, 0)].tolist())
        if not before & after:
            return True
    return False
