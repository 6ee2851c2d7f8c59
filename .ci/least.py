"""Prints the least version of everything that pyproject.toml asks for, as pip takes it: what is declared is what is tested."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PROJECT = tomllib.loads((Path(__file__).resolve().parent.parent / "pyproject.toml").read_text(encoding="utf-8"))[
    "project"
]

for wanted in [*PROJECT["dependencies"], *PROJECT["optional-dependencies"]["test"]]:
    name, least = re.fullmatch(r"([\w-]+)>=([\d.]+)", wanted).groups()  # type: ignore[union-attr]
    print(f"{name}=={least}")
