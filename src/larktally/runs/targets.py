"""What a command line names: a file of models, and of its scenarios one."""

from __future__ import annotations

from pathlib import Path

__all__ = ["split_target"]


def split_target(target: str) -> tuple[Path, str]:
    """FILE.py[:NAME] as its two parts."""
    path, colon, name = target.rpartition(":")
    if colon and path.endswith(".py"):
        return (Path(path), name)
    return (Path(target), "")
