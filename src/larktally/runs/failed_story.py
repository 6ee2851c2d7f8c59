"""What is told of a run whose subject failed: the row, its own words, its own lines, and what was kept."""

from __future__ import annotations

from larktally.code_places import lines_of_users
from larktally.errors import SubjectFailed
from larktally.textfmt import plural

__all__ = ["failed_story"]


def failed_story(failure: SubjectFailed) -> str:
    """The message of a failed subject, where in the user's own code it was raised, and how many rows there are."""
    lines = [f"the subject failed: {failure}", *lines_of_users(failure.__cause__)]
    if failure.trace is not None:
        count = failure.trace.rows
        lines.append(f"  {plural(count, 'row')} {'was' if count == 1 else 'were'} recorded before it")
    return "\n".join(lines)
