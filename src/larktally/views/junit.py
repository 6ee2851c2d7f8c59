"""Verdicts as JUnit XML, which continuous-integration servers show: a suite a trace, a case a claim."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from pathlib import Path

from larktally.claims.story import headline
from larktally.claims.verdicts import Tally
from larktally.traces.files import whole_file

__all__ = ["junit_xml", "write_junit"]

_NOT_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def junit_xml(tallies: Mapping[str, Tally]) -> bytes:
    """One document for the tallies of several traces, by name; a claim that is not kept is a failure with its story."""
    root = ET.Element("testsuites", name="larktally")
    for name, tally in tallies.items():
        failed = len(tally.failed)
        suite = ET.SubElement(
            root, "testsuite", name=_text(name), tests=str(len(tally)), failures=str(failed), errors="0"
        )
        for result in tally:
            case = ET.SubElement(suite, "testcase", name=_text(result.name), classname=_text(name))
            if not result.passed:
                failure = ET.SubElement(case, "failure", type=result.verdict, message=_text(headline(result)))
                # The whole story, as a server shows it when the case is opened.
                failure.text = _text(str(result).strip())
    ET.indent(root)
    body: str = ET.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{body}\n'.encode()


def write_junit(path: Path, tallies: Mapping[str, Tally]) -> None:
    """Writes the document, whole or not at all."""
    with whole_file(path) as file:
        file.write(junit_xml(tallies))


def _text(text: str) -> str:
    # Control characters have no place in XML 1.0, escaped or not, and names come from users.
    return _NOT_XML.sub("?", text)
