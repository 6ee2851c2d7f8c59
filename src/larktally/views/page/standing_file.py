"""The page as one file that stands alone: data, script and style inside, nothing fetched and nothing else run."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from pathlib import Path

from larktally.views.page.built_page import page_text
from larktally.views.page.packing import SMALL
from larktally.views.page.run_view import RunView, packed_runs
from larktally.whole_files import write_whole

__all__ = ["page_of", "save_page"]

_RECORDING = '<script type="application/octet-stream" id="recording">'


def page_of(views: Sequence[RunView]) -> str:
    """A page that holds one run, or two over each other: the first is looked at, the second is its ghost."""
    recording = base64.b64encode(packed_runs(views, SMALL)).decode()
    # Base64 has no letter that could end the element it stands in, whatever a label says.
    return page_text().replace(_RECORDING, _RECORDING + recording, 1)


def save_page(path: str | Path, views: Sequence[RunView]) -> Path:
    """Writes such a page; raises WriteError."""
    return write_whole(path, page_of(views))
