"""Work that goes to another process: what a user's own file defines goes by file and name, with the modules of its folder.

Pickle sends functions and classes by the name of their module, which only helps where that module can be imported: not for a
file that was run by its path, nor on a machine that does not have it. So the sources go along, and are run there from the same
path where the same files stand under it, and from a folder of their own where they do not.
"""

from __future__ import annotations

import functools
import hashlib
import io
import os
import pickle
import sys
import sysconfig
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from types import CodeType, FunctionType
from typing import Any, NamedTuple, TypeAlias

from larktally.code_places import place_of_code
from larktally.errors import LarkTallyError
from larktally.runs.model_files import module_of_file, modules_below
from larktally.whole_files import plain_file_name

__all__ = ["Parcel", "Sources", "packed", "unpacked"]

# What stands in a model's folder is code and scripts; a folder of recordings does not travel.
MOST_BYTES = 20_000_000


#: Files by folder, each one's text by its path below it.
Sources: TypeAlias = dict[str, dict[str, bytes]]


class Parcel(NamedTuple):
    """Something packed, and the source files that it needs."""

    content: bytes
    sources: Sources


def packed(content: object, read: Sources | None = None) -> Parcel:
    """Packs something that holds users' functions, classes and objects of them. `read` keeps the sources that were read, for what
    is packed next.

    Raises LarkTallyError, which names the way, for what is defined inside of a function, or where no file is.
    """
    out = io.BytesIO()
    packing = _Packing(out)
    try:
        packing.dump(content)
    except (pickle.PicklingError, TypeError, AttributeError) as error:
        raise LarkTallyError(f"this cannot go to another process: {error}") from error
    known = {} if read is None else read
    for folder, files in packing.files.items():
        have = known.get(str(folder), {})
        if not all(path.relative_to(folder).as_posix() in have for path in files):
            known[str(folder)] = dict(_sources_of(folder, files))
    return Parcel(out.getvalue(), {str(folder): known[str(folder)] for folder in packing.files})


def unpacked(parcel: Parcel) -> Any:
    """What was packed, with its functions and classes from the sources that came along."""
    for folder, files in parcel.sources.items():
        _settled(folder, files)
    return pickle.loads(parcel.content)


class _Packing(pickle.Pickler):
    """Notes the files whose functions and classes go by name; `files` by the folder in which they stand."""

    def __init__(self, out: io.BytesIO) -> None:
        super().__init__(out)
        self.files: dict[Path, set[Path]] = {}

    def reducer_override(self, one: Any) -> Any:
        if not isinstance(one, FunctionType | type):
            return NotImplemented
        code = _code_of(one)
        file = code.co_filename if code is not None else getattr(sys.modules.get(one.__module__), "__file__", None)
        if file is None or _is_installed(file):
            return NotImplemented
        if "<" in one.__qualname__:
            where = ""
            if code is not None:
                where = f" ({place_of_code(code)})"
            raise LarkTallyError(_cannot_go(f"{one.__name__}{where}", "is made inside of a function"))
        path = Path(file).resolve()
        if not path.is_file():
            raise LarkTallyError(_cannot_go(one.__qualname__, "stands in no file"))
        self.files.setdefault(path.parent, set()).add(path)
        return _found, (str(path.parent), path.name, one.__qualname__)


def _code_of(one: FunctionType | type) -> CodeType | None:
    """The code of a function, or of some method of a class: it knows the file, where a module's name may stand for another."""
    if isinstance(one, FunctionType):
        return one.__code__
    for member in vars(one).values():
        # What a decorator made of it, or wrote for it, stands elsewhere or nowhere.
        own = isinstance(member, FunctionType) and member.__qualname__ == f"{one.__qualname__}.{member.__name__}"
        if own and not member.__code__.co_filename.startswith("<"):
            return member.__code__  # type: ignore[no-any-return]
    return None


def _cannot_go(name: str, why: str) -> str:
    return (
        f"{name} {why}, and cannot go to another process: put it at the top level of a file, or run it in this one, with "
        "workers=1 or executor=ThreadPoolExecutor()"
    )


@functools.cache
def _is_installed(file: str) -> bool:
    """Whether a file is found by its module's name in any process: the library's own, the standard library's, a package's."""
    path = os.path.realpath(file)
    own = str(Path(__file__).resolve().parent.parent)
    places = [
        own,
        *(os.path.realpath(sysconfig.get_path(name)) for name in ("stdlib", "platstdlib", "purelib", "platlib")),
    ]
    return any(path.startswith(place + os.sep) for place in places)


def _sources_of(folder: Path, files: set[Path]) -> Iterator[tuple[str, bytes]]:
    """The files themselves, and the modules that were imported from their folder."""
    found = set(files)
    for _, path in modules_below(folder):
        if path.suffix == ".py" and not _is_installed(str(path)):
            found.add(path)
    size = 0
    for path in sorted(found):
        content = path.read_bytes()
        size += len(content)
        if size > MOST_BYTES:
            raise LarkTallyError(f"{folder}: the modules beside this model are more than {MOST_BYTES} bytes")
        yield path.relative_to(folder).as_posix(), content


# Where the sources of a folder stand in this process.
_places: dict[str, Path] = {}
_kept: list[tempfile.TemporaryDirectory[str]] = []
_modules: dict[tuple[Path, str], object] = {}
_digests: dict[str, str] = {}


def _settled(folder: str, files: Mapping[str, bytes]) -> None:
    """Puts the sources of a folder where they can be run; those that are here already stay as they are."""
    digest = _digest(files)
    if _digests.get(folder) == digest:
        return
    place = Path(folder)
    if not all(_is_there(place / name, content) for name, content in files.items()):
        made = tempfile.TemporaryDirectory(prefix=f"larktally-{plain_file_name(place.name)}-")
        _kept.append(made)
        place = Path(made.name).resolve()
        for name, content in files.items():
            path = place / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content)
    _let_go_of(_places.get(folder), files)
    _places[folder], _digests[folder] = place, digest


def _let_go_of(before: Path | None, files: Mapping[str, bytes]) -> None:
    """A worker that lives on runs the new sources, and not modules of the old ones."""
    if before is None:
        return
    for name, path in modules_below(before):
        if not _is_installed(str(path)):
            del sys.modules[name]
    for key in list(_modules):
        if key[0] == before:
            del _modules[key]


def _digest(files: Mapping[str, bytes]) -> str:
    sha = hashlib.sha256()
    for name, content in sorted(files.items()):
        sha.update(f"{name}\0{len(content)}\0".encode())
        sha.update(content)
    return sha.hexdigest()


def _is_there(path: Path, content: bytes) -> bool:
    try:
        return path.read_bytes() == content
    except OSError:
        return False


def _found(folder: str, file: str, name: str) -> Any:
    """A function or class of a file that came along."""
    place = _places.get(folder, Path(folder))
    if (place, file) not in _modules:
        _modules[place, file] = module_of_file(place / file)
    found: Any = _modules[place, file]
    for part in name.split("."):
        found = getattr(found, part)
    return found
