"""Names of a package that are loaded when they are first used: written once, where a type checker and an editor read them."""

from __future__ import annotations

import ast
import functools
import importlib
import sys
from collections.abc import Callable
from typing import Any

__all__ = ["loaded_when_used"]


@functools.cache
def _names_and_homes(package: str) -> dict[str, str]:
    """The module that each public name of a package comes from, read off the imports in its own source."""
    # Through the loader, which has the source where the package is a folder and where it is a zip file.
    home: Any = importlib.import_module(package)
    tree = ast.parse(home.__loader__.get_data(home.__file__))
    found: dict[str, str] = {}
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith(package):
            found.update((name.name, node.module) for name in node.names if name.asname)
    return found


def loaded_when_used(package: str) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """`__getattr__` and `__dir__` for a package that imports its names under TYPE_CHECKING, each as itself."""

    def listed() -> list[str]:
        return sorted(_names_and_homes(package))

    def get(name: str) -> Any:
        # Worked out when it is asked for, which a star import does and nothing else.
        if name == "__all__":
            return listed()
        home = _names_and_homes(package).get(name)
        if home is None:
            # With what was asked of what, so that Python names the nearest.
            raise AttributeError(f"module {package!r} has no attribute {name!r}", name=name, obj=sys.modules[package])
        if home == package:
            found: Any = importlib.import_module(f"{package}.{name}")
        else:
            found = getattr(importlib.import_module(home), name)
        setattr(sys.modules[package], name, found)
        return found

    return get, listed
