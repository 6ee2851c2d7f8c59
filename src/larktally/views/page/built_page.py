"""The page as it was built from its source, without a recording."""

from __future__ import annotations

import re
from importlib.resources import files

__all__ = ["page_html", "page_text"]

_POLICY = re.compile(r'<meta http-equiv="Content-Security-Policy" content="([^"]*)">\n')


def page_text() -> str:
    """The page as it stands in a file of its own, with the policy that it is held to."""
    return files("larktally.views.page").joinpath("page.html").read_text(encoding="utf-8")


def page_html() -> tuple[str, str]:
    """The page without a recording, as a server sends it, and the policy that a browser is to hold it to."""
    text = page_text()
    policy = _POLICY.search(text)
    assert policy is not None  # the page is built with one
    return text.replace(policy[0], "", 1), policy[1]
