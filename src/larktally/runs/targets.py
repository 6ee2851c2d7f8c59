"""What a command line names: a file of models, and of its scenarios one."""

from __future__ import annotations

from pathlib import Path

__all__ = ["split_target"]


def split_target(target: str) -> tuple[Path, str]:
    """FILE[:NAME] as its two parts; FILE is Python, or TOML with the scenarios of a program."""
    path, colon, name = target.rpartition(":")
    if colon and path.endswith((".py", ".toml")):
        return (Path(path), name)
    return (Path(target), "")
