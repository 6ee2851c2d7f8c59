"""Files that take their name when all of them is written, or not at all, and the one message for what cannot be written."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from larktally.errors import WriteError

__all__ = ["cannot_write", "check_target", "made_folder", "plain_file_name", "whole_file", "write_whole"]

# Of a file's own name, so that the temporary one beside it is no longer than a file's name may be (255 bytes).
_LONGEST_START = 40


@contextlib.contextmanager
def whole_file(path: str | Path) -> Iterator[BinaryIO]:
    """A file to write that takes the name `path` when all of it is written, and leaves nothing behind otherwise.

    Its permissions are what the umask says. Raises WriteError, with the path and the reason, where it cannot be written:
    a full disk, a folder that is missing or read-only, a limit on the size of files.
    """
    check_target(path)
    # A link stays one: what it points to is what is written.
    target = Path(os.path.realpath(path))
    temporary = target.with_name(f".{target.name[:_LONGEST_START]}.{os.urandom(4).hex()}")
    try:
        with temporary.open("xb") as file:
            yield file
        os.replace(temporary, target)
    except BaseException as error:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        if isinstance(error, OSError):
            raise cannot_write(path, error) from None
        raise


def write_whole(path: str | Path, content: bytes | str) -> Path:
    """Writes bytes, or a text as UTF-8, whole or not at all; raises WriteError."""
    if isinstance(content, str):
        content = content.encode()
    with whole_file(path) as file:
        file.write(content)
    return Path(path)


def check_target(path: str | Path) -> None:
    """Raises WriteError for a path that no file can take, before any work is done for it."""
    path = Path(path)
    if "\0" in str(path):
        raise WriteError(f"{str(path)!r}: cannot be written: a name has no NUL in it")
    try:
        if path.is_dir():
            raise WriteError(f"{path}: cannot be written: it is a folder")
        if path.exists() and not path.is_file():
            raise WriteError(f"{path}: cannot be written: it is no ordinary file")
        if not path.parent.is_dir():
            raise WriteError(f"{path}: cannot be written: there is no folder {str(path.parent)!r}")
    except OSError as error:
        raise cannot_write(path, error) from None


def made_folder(folder: str | Path) -> Path:
    """A folder, made with those above it where it is not there; raises WriteError where it cannot be."""
    folder = Path(folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except FileExistsError:
        raise WriteError(f"{folder}: cannot be made: there is a file of that name") from None
    except (OSError, ValueError) as error:
        raise cannot_write(folder, error, "made") from None
    return folder


def cannot_write(path: str | Path, error: Exception, done: str = "written", kept: str = "") -> WriteError:
    """The error for a file or folder that could not be `done`: its path, the reason, and what is kept all the same."""
    reason = str(error)
    if isinstance(error, OSError) and error.errno:
        reason = os.strerror(error.errno)
    return WriteError(f"{path}: cannot be {done}: {reason}{kept}")


def plain_file_name(title: str) -> str:
    """A file name that says a title: letters, digits, - _ and . stay; a long one is cut and told from its like by a few digits.

    >>> plain_file_name("two hops / dusk"), len(plain_file_name("n" * 300))
    ('two_hops___dusk', 89)
    """
    name = "".join(letter if letter.isalnum() or letter in "-_." else "_" for letter in title).lstrip(".") or "trace"
    # 255 bytes are what file systems take; suffixes are still to come, and a letter may have four bytes.
    if len(name.encode("utf-8", "replace")) > 160 or len(name) > 80:
        cut = name[:80].encode("utf-8", "replace")[:150].decode("utf-8", "ignore")
        return f"{cut}-{hashlib.sha256(title.encode('utf-8', 'replace')).hexdigest()[:8]}"
    return name
