"""A mapping that is being suggested: its lines, each with what it was guessed from."""

from __future__ import annotations

from dataclasses import dataclass, field

import msgspec

__all__ = ["UNITS", "Suggestion", "toml_value"]

#: How many of a unit are a second.
UNITS = {"s": 1.0, "ms": 1e3, "us": 1e6, "ns": 1e9}


@dataclass(slots=True)
class Suggestion:
    """Lines of a mapping, in its order: keys first, then tables."""

    keys: list[str] = field(default_factory=list)
    channels: list[str] = field(default_factory=list)

    def key(self, name: str, value: object, why: str) -> None:
        self.keys.append(f"{name} = {toml_value(value)}  # {why}")

    def channel(self, name: str, value: str, why: str) -> None:
        self.channels.append(f"{toml_value(name)} = {value}  # {why}")

    def text(self) -> str:
        lines = list(self.keys)
        if self.channels:
            lines += ["", "[channels]", *self.channels]
        return "\n".join(lines) + "\n"


def toml_value(value: object) -> str:
    """A value as TOML has it; text whose backslashes count stands in single quotes."""
    if isinstance(value, str) and "\\" in value and "'" not in value:
        return f"'{value}'"
    return msgspec.json.encode(value).decode()
