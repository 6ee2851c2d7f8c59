"""A pytest plugin: a fixture that records, checks and compares with baselines; claims files collected as tests.

`lark_tally` is the fixture. `*.claims.toml` beside a trace of the same name is collected, a test for each claim.
`@pytest.mark.rates(30, 60, 120)` runs a test at each of these rates. On a failure the story stands in the report, and the
trace and its picture are kept in a folder, for a continuous-integration server.
"""

from __future__ import annotations

import hashlib
from collections.abc import Generator, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from larktally.auditing.found import Audit
    from larktally.claims.claim import Claim
    from larktally.claims.over_runs import Tallies
    from larktally.claims.verdicts import Tally
    from larktally.comparing.baselines import BaselineResult
    from larktally.comparing.tolerance import Tolerances
    from larktally.runs.scenario import Scenario
    from larktally.traces.trace import Trace

__all__ = ["TestRuns"]

_KEPT = pytest.StashKey[list[Any]]()
_HELPER = pytest.StashKey[Any]()
_DRAWN = pytest.StashKey[list[str]]()
# A picture takes longer than most tests: the first few show what is wrong, and a suite that is red all over need not be drawn.
MOST_DRAWN = 5


def pytest_addoption(parser: pytest.Parser) -> None:
    """--tally-accept, --tally-keep and --tally-pictures."""
    group = parser.getgroup("lark tally")
    group.addoption("--tally-accept", action="store_true", help="make these runs the baselines, and show what changed")
    group.addoption(
        "--tally-keep", default="tally-failures", metavar="DIR", help="where traces and pictures of failures go"
    )
    group.addoption(
        "--tally-pictures",
        action="store_true",
        help=f"draw every run that fails, and not the first {MOST_DRAWN} tests' alone",
    )


def pytest_configure(config: pytest.Config) -> None:
    """The marker's line in --markers."""
    config.addinivalue_line("markers", "rates(rate, …): run this test at each of these rates, in frames per second")


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """A test marked with rates is run once at each."""
    marker = metafunc.definition.get_closest_marker("rates")
    if marker is not None:
        metafunc.fixturenames.append("tally_rate")
        metafunc.parametrize("tally_rate", marker.args, ids=[f"{rate} frames/s" for rate in marker.args])


@pytest.fixture
def lark_tally(request: pytest.FixtureRequest) -> Iterator[TestRuns]:
    """Records scenarios, checks claims, compares with baselines; what fails is kept."""
    if hasattr(request.node, "callspec"):
        rate = request.node.callspec.params.get("tally_rate")
    else:
        rate = None
    helper = TestRuns(request.path.parent, bool(request.config.getoption("--tally-accept")), rate, request.node)
    request.node.stash[_KEPT] = helper.seen
    request.node.stash[_HELPER] = helper
    yield helper


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item, call: pytest.CallInfo[Any]) -> Generator[None, Any, Any]:
    """Keeps the traces of a test that failed, and says where."""
    report = yield
    traces = item.stash.get(_KEPT, [])
    # A test that failed before it recorded anything has nothing to keep.
    if report.when == "call" and report.failed and traces:
        folder = Path(item.config.getoption("--tally-keep")) / _folder_of(item.nodeid)
        report.sections.append(("kept by lark tally", "\n".join(_kept(traces, folder, _is_drawn(item)))))
    return report


def _is_drawn(item: pytest.Item) -> bool:
    """Whether the runs of a test that failed are drawn: those of the first few, and none that only lacks its baseline."""
    if item.stash[_HELPER].only_lacks_baseline:
        return False
    if item.config.getoption("--tally-pictures"):
        return True
    drawn = item.config.stash.setdefault(_DRAWN, [])
    drawn.append(item.nodeid)
    return len(drawn) <= MOST_DRAWN


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """*.claims.toml beside a trace of the same name."""
    if file_path.name.endswith(".claims.toml") and _trace_beside(file_path) is not None:
        return ClaimsFile.from_parent(parent, path=file_path)
    return None


class TestRuns:
    """What the fixture `lark_tally` gives a test. `rate` is that of the marker rates, None without it."""

    __test__ = False  # pytest would take the class for one of tests, by its name

    def __init__(self, folder: Path, accept: bool, rate: Any, node: Any) -> None:
        self.rate = rate
        self.seen: list[Trace] = []
        self.only_lacks_baseline = False
        self._made_by: dict[int, Scenario] = {}
        self._folder, self._accept, self._node = folder, accept, node

    def record(self, scenario: Scenario, claims: Iterable[Claim] | None = None) -> Trace:
        """Records a scenario and asserts its claims, or the ones given; at the marker's rate where there is one."""
        from larktally.errors import SubjectFailed
        from larktally.explain.wrong_kind import line_that_set
        from larktally.runs.failed_story import failed_story
        from larktally.runs.record import record

        wanted_run = scenario
        if self.rate is not None:
            wanted_run = scenario.changed(rate=self.rate)
        try:
            trace = record(wanted_run)
        except SubjectFailed as failure:
            # What was recorded before it is kept, as of a claim that is broken.
            if failure.trace is not None and failure.trace.rows:
                self._see(failure.trace)
            story = [str(failure), f"{scenario.title}: {failed_story(failure)}", line_that_set(wanted_run, failure)]
            pytest.fail("\n".join(filter(None, story)), pytrace=False)
        self._see(trace)
        self._made_by[id(trace)] = scenario
        wanted = list(scenario.claims if claims is None else claims)
        if wanted:
            self.check(trace, wanted)
        return trace

    def check(self, trace: Trace, claims: Iterable[Claim] | str | Path) -> Tally:
        """Asserts claims, or those of a file beside the test, on a trace; the tally."""
        from larktally.claims.checking import check
        from larktally.claims.files import load_claims
        from larktally.explain.causes import causes_of_breaches, lines_by_claim

        self._see(trace)
        if isinstance(claims, str | Path):
            claims = load_claims(self._folder / claims, trace.channels)
        tally = check(trace, claims)
        if not tally.passed:
            scenario = self._made_by.get(id(trace))
            if scenario is not None:
                causes = causes_of_breaches(trace, scenario, tally)
            else:
                causes = {}
            told = tally.report(lines_by_claim(causes)).text()
            pytest.fail(f"{_first_failed(tally)}\n{told}", pytrace=False)
        return tally

    def check_each(self, traces: Mapping[str, Trace], claims: Iterable[Claim] | str | Path) -> Tallies:
        """Asserts claims, or the rules of a file beside the test, over several traces: each claim once over all of them."""
        from larktally.search.check_each import check_each

        for trace in traces.values():
            self._see(trace)
        if isinstance(claims, str | Path):
            claims = self._folder / claims
        tallies = check_each(traces, claims)
        if not tallies.passed:
            failed = next((one for one in tallies.judged if not one.passed), None)
            first = f"{failed.verdict}: {failed.name}" if failed is not None else next(iter(tallies.errors.values()))
            pytest.fail(f"{first}\n{tallies}", pytrace=False)
        return tallies

    def audit(self, scenario: Scenario) -> Audit:
        """Asserts that the audit of a scenario is sure of no finding; what is intended stands in the scenario."""
        from larktally.auditing.audit import audit

        found = audit(scenario)
        if not found.passed:
            first = found.findings[0]
            pytest.fail(f"{first.check}: {first.about}\n{found}", pytrace=False)
        return found

    def baseline(self, trace: Trace, name: str = "", tolerance: Tolerances = None) -> BaselineResult:
        """Asserts that a run is what its baseline says, in the folder `baselines` beside the test; --tally-accept makes it
        the baseline and shows what changed."""
        from larktally.comparing.baselines import Baselines
        from larktally.explain.causes import causes_of_divergence

        self._see(trace)
        from larktally.whole_files import plain_file_name

        default = plain_file_name(self._node.name)
        result = Baselines(self._folder / "baselines").check(
            trace, name or trace.header.scenario or default, tolerance, self._accept
        )
        if not result.passed:
            self.only_lacks_baseline = result.comparison is None
            scenario = self._made_by.get(id(trace))
            why = None
            if scenario is not None:
                why = causes_of_divergence(trace, scenario, result.divergence)
            lines = [
                _in_one_line(result),
                str(result),
                *([why.told()] if why is not None else []),
                "--tally-accept makes this run the baseline",
            ]
            pytest.fail("\n".join(lines), pytrace=False)
        if self._accept:
            print(result)
        return result

    def _see(self, trace: Trace) -> None:
        """Notes a trace, to be kept where the test fails."""
        if not any(trace is one for one in self.seen):
            self.seen.append(trace)


def _first_failed(tally: Tally) -> str:
    """The first claim that did not pass, and its row, in one line: what pytest's summary shows, cut off where it is long."""
    first = tally.failed[0]
    where: str = first.verdict
    if first.breaches and first.breaches[0].row is not None:
        where = f"row {first.breaches[0].row}: {first.verdict}"
    others = len(tally.failed) - 1
    if others:
        return f"{where}: {first.name} (and {others} more)"
    return f"{where}: {first.name}"


def _in_one_line(result: BaselineResult) -> str:
    """What pytest's summary shows of a baseline that a run is not."""
    if result.divergence is None:
        return f"{result.path.name}: not as the baseline"
    return str(result.divergence).splitlines()[0]


class ClaimsFile(pytest.File):
    """A claims file beside its trace."""

    def collect(self) -> Iterator[pytest.Item]:
        """A test for each claim; a file that is broken is one failing test that says so."""
        from larktally.claims.files import load_claims
        from larktally.errors import LarkTallyError
        from larktally.traces.trace import load_trace

        beside = _trace_beside(self.path)
        try:
            if beside is not None:
                trace = load_trace(beside)
            else:
                trace = None
            claims = load_claims(self.path, trace.channels if trace is not None else ())
        except LarkTallyError as error:
            yield ClaimItem.from_parent(self, name="the files", claim=None, trace=None, broken=str(error))
            return
        for claim in claims:
            yield ClaimItem.from_parent(self, name=claim.name, claim=claim, trace=trace, broken="")


class ClaimItem(pytest.Item):
    """One claim over the trace beside its file."""

    def __init__(self, *, claim: Any, trace: Any, broken: str, **options: Any) -> None:
        super().__init__(**options)
        self._claim, self._trace, self._broken = claim, trace, broken

    def runtest(self) -> None:
        """Fails with the claim's story where it is not kept."""
        from larktally.claims.checking import check
        from larktally.errors import LarkTallyError

        if self._broken:
            raise NotKept(self._broken)
        try:
            tally = check(self._trace, [self._claim])
        except LarkTallyError as error:
            raise NotKept(str(error)) from None
        if not tally.passed:
            raise NotKept(str(tally[0]))

    def repr_failure(self, excinfo: Any, style: Any = None) -> Any:
        """The story alone."""
        if isinstance(excinfo.value, NotKept):
            return str(excinfo.value)
        return super().repr_failure(excinfo, style)

    def reportinfo(self) -> tuple[Path, int | None, str]:
        """Where it stands."""
        return self.path, None, f"claim: {self.name}"


class NotKept(Exception):
    """A claim that is not kept."""


def _trace_beside(path: Path) -> Path | None:
    from larktally.traces.formats import FORMATS

    stem = path.name.removesuffix(".claims.toml")
    beside = (path.with_name(stem + one.suffix) for one in FORMATS if one.reads)
    return next((found for found in beside if found.exists()), None)


def _folder_of(nodeid: str) -> Path:
    """A test's own folder, by where it stands: tests/test_walk.py/TestHops/test_high."""
    from larktally.whole_files import plain_file_name

    folder = Path()
    for step in nodeid.replace("/", "::").split("::"):
        plain = plain_file_name(step)
        # Two ids that differ only in what no file name has, such as [a b] and [a_b], are told apart by a few digits.
        if plain != step:
            plain += "-" + hashlib.sha256(step.encode("utf-8", "replace")).hexdigest()[:6]
        folder /= plain
    return folder


def _kept(traces: Sequence[Trace], folder: Path, drawn: bool) -> list[str]:
    """Writes traces, and their pictures, into a folder of their own; a line for each file, and for what could not be written.

    A report must never end a session: whatever goes wrong here is a line too.
    """
    from larktally.errors import LarkTallyError
    from larktally.whole_files import made_folder, plain_file_name

    lines: list[str] = []
    names: set[str] = set()
    try:
        made_folder(folder)
    except LarkTallyError as error:
        return [str(error)]
    for trace in traces:
        title = plain_file_name(trace.header.scenario or trace.header.subject or "trace")
        name, number = title, 1
        # One test may record several runs of one name.
        while name in names:
            number += 1
            name = f"{title}-{number}"
        names.add(name)
        files = [(_write_trace, folder / f"{name}.parquet")]
        if drawn:
            files.append((_write_picture, folder / f"{name}.png"))
        else:
            lines.append(f"not drawn: larktally plot {folder / name}.parquet, or --tally-pictures")
        for write, path in files:
            try:
                write(trace, path)
                lines.append(str(path))
            except Exception as error:
                lines.append(f"{path}: not kept: {error}")
    return lines


def _write_trace(trace: Trace, path: Path) -> None:
    trace.save(path)


def _write_picture(trace: Trace, path: Path) -> None:
    from larktally.views.picture import draw_run, save_picture

    save_picture(draw_run(trace), path)
