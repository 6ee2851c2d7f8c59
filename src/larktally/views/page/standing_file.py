"""The page as one file that stands alone: data, script and style inside, nothing fetched and nothing else run."""

from __future__ import annotations

import base64
import re
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

from larktally.views.page.packing import SMALL
from larktally.views.page.run_view import RunView, packed_runs
from larktally.whole_files import write_whole

__all__ = ["page_html", "page_of", "save_page"]

_POLICY = re.compile(r'<meta http-equiv="Content-Security-Policy" content="([^"]*)">\n')
_RECORDING = '<script type="application/octet-stream" id="recording">'


def page_html() -> tuple[str, str]:
    """The page without a recording, as a server sends it, and the policy that a browser is to hold it to."""
    text = files("larktally.views.page").joinpath("page.html").read_text(encoding="utf-8")
    policy = _POLICY.search(text)
    assert policy is not None  # the page is built with one
    return text.replace(policy[0], "", 1), policy[1]


def page_of(views: Sequence[RunView]) -> str:
    """A page that holds one run, or two over each other: the first is looked at, the second is its ghost."""
    recording = base64.b64encode(packed_runs(views, SMALL)).decode()
    text = files("larktally.views.page").joinpath("page.html").read_text(encoding="utf-8")
    # Base64 has no letter that could end the element it stands in, whatever a label says.
    return text.replace(_RECORDING, _RECORDING + recording, 1)


def save_page(path: str | Path, views: Sequence[RunView]) -> Path:
    """Writes such a page; raises WriteError."""
    return write_whole(path, page_of(views))
