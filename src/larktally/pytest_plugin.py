"""A pytest plugin: a fixture that records, checks and compares with baselines; claims files collected as tests.

`lark` is the fixture. `*.claims.toml` beside a trace of the same name is collected, a test for each claim.
`@pytest.mark.rates(30, 60, 120)` runs a test at each of these rates. On a failure the story stands in the report, and the
trace and its picture are kept in a folder, for a continuous-integration server.
"""

from __future__ import annotations

import re
from collections.abc import Generator, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from larktally.claims import Claim, Tally
    from larktally.runs import BaselineResult, Scenario
    from larktally.runs.tolerance import Tolerances
    from larktally.traces import Trace

__all__ = ["Lark"]

_SUFFIXES = (".parquet", ".jsonl", ".csv")
_KEPT = pytest.StashKey[list[Any]]()


def pytest_addoption(parser: pytest.Parser) -> None:
    """--lark-accept and --lark-keep."""
    group = parser.getgroup("lark tally")
    group.addoption("--lark-accept", action="store_true", help="make these runs the baselines, and show what changed")
    group.addoption(
        "--lark-keep", default="lark-failures", metavar="DIR", help="where traces and pictures of failures go"
    )


def pytest_configure(config: pytest.Config) -> None:
    """The marker's line in --markers."""
    config.addinivalue_line("markers", "rates(rate, …): run this test at each of these rates, in frames per second")


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """A test marked with rates is run once at each."""
    marker = metafunc.definition.get_closest_marker("rates")
    if marker is not None:
        metafunc.fixturenames.append("lark_rate")
        metafunc.parametrize("lark_rate", marker.args, ids=[f"{rate} frames/s" for rate in marker.args])


@pytest.fixture
def lark(request: pytest.FixtureRequest) -> Iterator[Lark]:
    """Records scenarios, checks claims, compares with baselines; what fails is kept."""
    rate = request.node.callspec.params.get("lark_rate") if hasattr(request.node, "callspec") else None
    helper = Lark(request.path.parent, bool(request.config.getoption("--lark-accept")), rate, request.node)
    request.node.stash[_KEPT] = helper.seen
    yield helper


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item, call: pytest.CallInfo[Any]) -> Generator[None, Any, Any]:
    """Keeps the traces of a test that failed, and says where."""
    report = yield
    traces = item.stash.get(_KEPT, [])
    if report.when == "call" and report.failed and traces:
        folder = Path(item.config.getoption("--lark-keep")) / re.sub(r"[^\w.-]+", "_", item.name)
        kept = [path for trace in traces for path in _kept(trace, folder)]
        report.sections.append(("kept by lark tally", "\n".join(map(str, kept))))
    return report


def pytest_collect_file(file_path: Path, parent: pytest.Collector) -> pytest.Collector | None:
    """*.claims.toml beside a trace of the same name."""
    if file_path.name.endswith(".claims.toml") and _trace_beside(file_path) is not None:
        return ClaimsFile.from_parent(parent, path=file_path)
    return None


class Lark:
    """What the fixture `lark` gives a test. `rate` is that of the marker rates, None without it."""

    def __init__(self, folder: Path, accept: bool, rate: Any, node: Any) -> None:
        self.rate = rate
        self.seen: list[Trace] = []
        self._made_by: dict[int, Scenario] = {}
        self._folder, self._accept, self._node = folder, accept, node

    def record(self, scenario: Scenario, claims: Iterable[Claim] | None = None) -> Trace:
        """Records a scenario and asserts its claims, or the ones given; at the marker's rate where there is one."""
        from larktally.runs import record

        trace = record(scenario if self.rate is None else scenario.changed(rate=self.rate))
        self._see(trace)
        self._made_by[id(trace)] = scenario
        wanted = list(scenario.claims if claims is None else claims)
        if wanted:
            self.check(trace, wanted)
        return trace

    def check(self, trace: Trace, claims: Iterable[Claim] | str | Path) -> Tally:
        """Asserts claims, or those of a file beside the test, on a trace; the tally."""
        from larktally.claims import check, load_claims
        from larktally.claims.story import tally_text
        from larktally.runs.explaining.causes import causes_of_breaches, lines_by_claim

        self._see(trace)
        if isinstance(claims, str | Path):
            claims = load_claims(self._folder / claims, trace.channels)
        tally = check(trace, claims)
        if not tally.passed:
            scenario = self._made_by.get(id(trace))
            causes = causes_of_breaches(trace, scenario, tally) if scenario is not None else {}
            pytest.fail(tally_text(tally, lines_by_claim(causes)), pytrace=False)
        return tally

    def baseline(self, trace: Trace, name: str = "", tolerance: Tolerances = None) -> BaselineResult:
        """Asserts that a run is what its baseline says, in the folder `baselines` beside the test; --lark-accept makes it
        the baseline and shows what changed."""
        from larktally.runs import Baselines
        from larktally.runs.explaining.causes import causes_of_divergence

        self._see(trace)
        default = re.sub(r"[^\w.-]+", "_", self._node.name)
        result = Baselines(self._folder / "baselines").check(
            trace, name or trace.header.scenario or default, tolerance, self._accept
        )
        if not result.passed:
            scenario = self._made_by.get(id(trace))
            why = causes_of_divergence(trace, scenario, result.divergence) if scenario is not None else None
            said = [
                str(result),
                *([why.told()] if why is not None else []),
                "--lark-accept makes this run the baseline",
            ]
            pytest.fail("\n".join(said), pytrace=False)
        if self._accept:
            print(result)
        return result

    def _see(self, trace: Trace) -> None:
        """Notes a trace, to be kept where the test fails."""
        if not any(trace is one for one in self.seen):
            self.seen.append(trace)


class ClaimsFile(pytest.File):
    """A claims file beside its trace."""

    def collect(self) -> Iterator[pytest.Item]:
        """A test for each claim; a file that is broken is one failing test that says so."""
        from larktally.claims import load_claims
        from larktally.errors import LarkError
        from larktally.traces import load_trace

        beside = _trace_beside(self.path)
        try:
            trace = load_trace(beside) if beside is not None else None
            claims = load_claims(self.path, trace.channels if trace is not None else ())
        except LarkError as error:
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
        from larktally.claims import check
        from larktally.errors import LarkError

        if self._broken:
            raise NotKept(self._broken)
        try:
            tally = check(self._trace, [self._claim])
        except LarkError as error:
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
    stem = path.name.removesuffix(".claims.toml")
    return next((found for suffix in _SUFFIXES if (found := path.with_name(stem + suffix)).exists()), None)


def _kept(trace: Trace, folder: Path) -> list[Path]:
    """The trace and its picture, in a folder."""
    from larktally.errors import LarkError

    folder.mkdir(parents=True, exist_ok=True)
    name = re.sub(r"[^\w.-]+", "_", trace.header.scenario or trace.header.subject or "trace")
    kept = [trace.save(folder / f"{name}.parquet")]
    try:
        from larktally.views.picture import draw_run, save_picture

        kept.append(save_picture(draw_run(trace), folder / f"{name}.png"))
    except LarkError:
        pass
    return kept
