"""What can go wrong, as types.

Every error that a user can cause is a LarkTallyError; the command line turns each into one message and an exit status.
"""

from __future__ import annotations

from typing import Any

__all__ = [
    "LarkTallyError",
    "ModelError",
    "InputError",
    "ClaimError",
    "TraceError",
    "WriteError",
    "SubjectFailed",
    "LarkTallyWarning",
]


# The start says what and where, the end what is allowed; what is between is seldom read where there is so much of it.
LONGEST_START, LONGEST_END = 1500, 450


class LarkTallyError(ValueError):
    """Something a user can mend: bad usage, a bad file, a model that contradicts itself. Its message has some 2,000 letters at
    most."""

    def __init__(self, message: str = "") -> None:
        if len(message) > LONGEST_START + LONGEST_END:
            left_out = len(message) - LONGEST_START - LONGEST_END
            message = f"{message[:LONGEST_START]} … {left_out} more … {message[-LONGEST_END:]}"
        super().__init__(message)


class ModelError(LarkTallyError):
    """A model that cannot be built, or a rule that does what rules may not."""


class InputError(LarkTallyError):
    """A script, an action or a key that does not fit the subject."""


class ClaimError(LarkTallyError):
    """A claim that does not parse, or names what the trace does not hold."""


class TraceError(LarkTallyError):
    """A trace or a trace file that is broken, cut short, or of another kind."""


class WriteError(LarkTallyError):
    """A file or folder that cannot be written: a full disk, no such folder, no permission, or another recording's."""


class LarkTallyWarning(UserWarning):
    """Something that a user should know of and that stops nothing."""


class SubjectFailed(LarkTallyError):
    """A subject that raised or observed what cannot be recorded.

    `row` is the row that could not be made; `trace` holds every row before it (None where not even reset worked);
    `__cause__` is the subject's own error, where it raised one.
    """

    def __init__(self, message: str, row: int, trace: Any = None) -> None:
        super().__init__(message)
        self.row = row
        self.trace = trace
