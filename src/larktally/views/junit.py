"""Verdicts as JUnit XML, which continuous-integration servers show: a suite a run or trace, a case a claim.

A run whose subject failed is an error, a baseline that it leaves a failure, and one without claims is said to be skipped: a
server shows green only what was looked at and held.
"""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from larktally.claims.over_runs import Tallies
from larktally.claims.story import headline
from larktally.views.suite import Suite
from larktally.whole_files import write_whole

if TYPE_CHECKING:
    from larktally.auditing.finding import Finding
    from larktally.auditing.found import Audit

__all__ = ["junit_xml", "write_junit", "write_junit_of_audits", "write_junit_over_runs"]

# All but the characters of XML 1.0, section 2.2; listed the other way round they take twenty times as long to compile.
_NOT_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


def junit_xml(suites: Iterable[Suite], tallies: Tallies | None = None, before: Iterable[bytes] = ()) -> bytes:
    """One document for the tallies of several runs or traces; a claim that is not kept is a failure with its story. `before` are
    documents whose suites stand first: those of runs that other processes made."""
    root = ET.Element("testsuites", name="larktally")
    for document in before:
        root.extend(ET.fromstring(document))
    for suite in suites:
        _add(root, suite)
    if tallies is not None:
        _add_over_runs(root, "over all runs", tallies, 0.0)
    return _document(root)


def write_junit(
    path: Path, suites: Iterable[Suite], tallies: Tallies | None = None, before: Iterable[bytes] = ()
) -> None:
    """Writes the document, whole or not at all; with what rules come to over all of the runs as a suite of its own."""
    write_whole(path, junit_xml(suites, tallies, before))


def write_junit_over_runs(path: Path, name: str, tallies: Tallies, seconds: float = 0.0) -> None:
    """One suite for all runs: a case for each claim, which fails where it does over all of them, and one for each run that could
    not be judged."""
    root = ET.Element("testsuites", name="larktally")
    _add_over_runs(root, name, tallies, seconds)
    write_whole(path, _document(root))


def write_junit_of_audits(path: Path, audits: Mapping[str, Audit], failing: Collection[str]) -> None:
    """A suite for each audit and a case for each check: it fails where one of its findings is as certain as those of `failing`
    ("sure", "likely"), tells the others, and is skipped where it could not look."""
    root = ET.Element("testsuites", name="larktally")
    for name, found in audits.items():
        _add_audit(root, name, found, failing)
    write_whole(path, _document(root))


def _document(root: ET.Element) -> bytes:
    ET.indent(root)
    body: str = ET.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{body}\n'.encode()


def _add_audit(root: ET.Element, name: str, found: Audit, failing: Collection[str]) -> None:
    by_check: dict[str, list[Finding]] = {check: [] for check in found.ran}
    for one in found.every:
        by_check.setdefault(one.check, []).append(one)
    failed = {check for check, those in by_check.items() if any(one.certainty in failing for one in those)}
    count, left_out = len(by_check) + len(found.skipped), len(found.skipped)
    element = _suite(root, name, count, failures=len(failed), skipped=left_out)
    for check, those in by_check.items():
        case = ET.SubElement(element, "testcase", name=_text(check), classname=_text(name), time="0.000")
        told = "\n".join(_of_finding(one) for one in those)
        if check in failed:
            _told(case, "failure", those[0].certainty, told)
        elif told:
            ET.SubElement(case, "system-out").text = _text(told)
    for check, why in found.skipped:
        case = ET.SubElement(element, "testcase", name=_text(check), classname=_text(name), time="0.000")
        ET.SubElement(case, "skipped", message=_text(why))


def _of_finding(one: Finding) -> str:
    told = f"{one.certainty}: {one}"
    if one.place:
        told += f"; at {one.place}"
    if one.claim:
        told += f"; pin it: {one.claim}"
    return told


def _add_over_runs(root: ET.Element, name: str, tallies: Tallies, seconds: float) -> None:
    failed = [one for one in tallies.judged if not one.passed]
    count = len(tallies.judged) + len(tallies.errors)
    element = _suite(root, name, count, failures=len(failed), errors=len(tallies.errors), seconds=seconds)

    def case(title: str) -> ET.Element:
        return ET.SubElement(element, "testcase", name=_text(title), classname=_text(name), time="0.000")

    for one in tallies.judged:
        judged = case(one.name)
        if not one.passed:
            _told(judged, "failure", one.verdict, one.story())
    for run, error in tallies.errors.items():
        _told(case(run), "error", "failed", error)


def _add(root: ET.Element, suite: Suite) -> None:
    results = list(suite.tally or ())
    extra = bool(suite.error) + bool(suite.left_baseline)
    skipped = not results and not extra
    count = len(results) + extra + skipped
    # A run takes the time, and its claims next to none: each case is given its share of it.
    share = f"{suite.seconds / count:.3f}"
    failed = sum(not result.passed for result in results) + bool(suite.left_baseline)
    errors = int(bool(suite.error))
    element = _suite(root, suite.name, count, failed, errors, int(skipped), suite.seconds)

    def case(name: str) -> ET.Element:
        return ET.SubElement(element, "testcase", name=_text(name), classname=_text(suite.name), time=share)

    for result in results:
        judged = case(result.name)
        if not result.passed:
            failure = ET.SubElement(judged, "failure", type=result.verdict, message=_text(headline(result)))
            # The whole story, as a server shows it when the case is opened.
            failure.text = _text(str(result).strip())
    if suite.error:
        _told(case("the run"), "error", "failed", suite.error)
    if suite.left_baseline:
        _told(case("the baseline"), "failure", "divergence", suite.left_baseline)
    if skipped:
        ET.SubElement(case("the run"), "skipped", message="no claims, so nothing was checked")
    if suite.odd:
        ET.SubElement(element, "system-out").text = _text("\n".join(f"odd, {_of_finding(one)}" for one in suite.odd))


def _suite(
    root: ET.Element, name: str, tests: int, failures: int, errors: int = 0, skipped: int = 0, seconds: float = 0.0
) -> ET.Element:
    return ET.SubElement(
        root,
        "testsuite",
        name=_text(name),
        tests=str(tests),
        failures=str(failures),
        errors=str(errors),
        skipped=str(skipped),
        time=f"{seconds:.3f}",
    )


def _told(case: ET.Element, tag: str, kind: str, story: str) -> None:
    told = ET.SubElement(case, tag, type=kind, message=_text(story.splitlines()[0]))
    told.text = _text(story)


def _text(text: str) -> str:
    # Control characters have no place in XML 1.0, escaped or not, and names come from users.
    return _NOT_XML.sub("?", text)
