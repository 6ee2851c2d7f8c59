"""Claims over several runs: each judged once over all of them, with where it was tested, where it was kept, and where not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

import msgspec

from larktally.claims.across import AcrossResult
from larktally.claims.notes import notes_on
from larktally.claims.story import VERDICT_TONES
from larktally.claims.verdicts import Result, Tally
from larktally.errors import LarkTallyError
from larktally.language.judgement import Verdict
from larktally.report import Block, Heading, Line, Report, Table, Tone
from larktally.textfmt import plural

__all__ = ["ClaimOverRuns", "Tallies"]

MOST_RUNS_NAMED, MOST_ROWS_NAMED = 3, 4


class ClaimOverRuns(msgspec.Struct, frozen=True):
    """One claim over several runs: its result in each, by the run's name."""

    name: str
    results: Mapping[str, Result]

    @property
    def family(self) -> str:
        """What claims made `for_each` of many have in common; "" for others."""
        return next(iter(self.results.values())).claim.family

    @property
    def tested_in(self) -> tuple[str, ...]:
        """The runs in which a case was decided."""
        return self._runs(lambda result: result.cases > result.open)

    @property
    def kept_in(self) -> tuple[str, ...]:
        """The runs in which it is kept."""
        return self._runs(lambda result: result.verdict == "kept")

    @property
    def broken_in(self) -> tuple[str, ...]:
        """The runs in which it is broken."""
        return self._runs(lambda result: result.verdict == "broken")

    @property
    def unfinished_in(self) -> tuple[str, ...]:
        """The runs that ended too early for it, and for which that is not allowed."""
        return self._runs(lambda result: result.verdict == "unfinished" and not result.passed)

    @property
    def verdict(self) -> Verdict:
        """Broken where it is in any run; else unfinished where it is in any; else kept where it is in one at least; untested
        where no run tested it."""
        if self.broken_in:
            return "broken"
        if self.unfinished_in:
            return "unfinished"
        if self.kept_in or self.tested_in:
            return "kept"
        return "untested"

    @property
    def passed(self) -> bool:
        """Whether it is kept, or allowed aloud to be untested."""
        allowed = all(result.passed for result in self.results.values())
        return self.verdict == "kept" or (self.verdict == "untested" and allowed)

    @property
    def margin(self) -> tuple[float, str] | None:
        """The least margin, and the run that has it; None where no run has one."""
        found = [(result.margin, name) for name, result in self.results.items() if result.margin is not None]
        return min(found, default=None)

    def story(self) -> str:
        """What became of it, with the story of the first run that shows why."""
        told = [f"{self.verdict} over {plural(len(self.results), 'run')}; {_where(self)}".rstrip("; ")]
        return Report.of([Line(told[0]), *_stories(self, everything=False)]).text()

    def plain(self) -> dict[str, object]:
        """The claim over all runs as plain data, for JSON."""
        margin = self.margin
        return {
            "name": self.name,
            "verdict": self.verdict,
            "passed": self.passed,
            "runs": len(self.results),
            "tested_in": list(self.tested_in),
            "kept_in": list(self.kept_in),
            "broken_in": {name: _rows_of(self.results[name]) for name in self.broken_in},
            "unfinished_in": list(self.unfinished_in),
            "margin": margin and margin[0],
            "margin_in": margin and margin[1],
        }

    def _runs(self, chosen: Callable[[Result], bool]) -> tuple[str, ...]:
        return tuple(name for name, result in self.results.items() if chosen(result))


class Tallies(Mapping[str, Tally]):
    """The tallies of the same claims over several runs, by the run's name; and what each claim comes to over all of them.

    `errors` are runs that could not be judged, with the reason; then the whole does not pass.
    """

    def __init__(
        self,
        tallies: Mapping[str, Tally],
        errors: Mapping[str, str] | None = None,
        across: Iterable[AcrossResult] = (),
    ) -> None:
        self._tallies = dict(tallies)
        self.errors = dict(errors or {})
        self.across = tuple(across)
        if not self._tallies and not self.errors:
            raise LarkTallyError("no runs at all: nothing was checked")

    @property
    def claims(self) -> tuple[ClaimOverRuns, ...]:
        """Each claim over all runs, in the order in which they were first met."""
        by_claim: dict[str, dict[str, Result]] = {}
        for name, tally in self._tallies.items():
            for result in tally:
                by_claim.setdefault(result.name, {})[name] = result
        return tuple(ClaimOverRuns(name, results) for name, results in by_claim.items())

    @property
    def judged(self) -> tuple[ClaimOverRuns | AcrossResult, ...]:
        """The claims, and the rules across runs after them."""
        return (*self.claims, *self.across)

    @property
    def passed(self) -> bool:
        """Whether every claim passes over all runs, and every run could be judged."""
        passed = [one.passed for one in self.judged]
        if not passed:
            raise LarkTallyError("tallies of no claims: nothing was checked")
        return not self.errors and all(passed)

    def plain(self) -> dict[str, object]:
        """All of it as plain data, for JSON."""
        return {
            "passed": self.passed,
            "claims": [one.plain() for one in self.claims],
            "across": [one.plain() for one in self.across],
            "runs": {name: tally.plain() for name, tally in self._tallies.items()},
            "errors": self.errors,
        }

    def report(self, everything: bool = False) -> Report:
        """A table by claim, then the story of each that is broken, from the first run that breaks it; with `everything` a line
        for each run, and every story."""
        claims = self.claims
        blocks: list[Block] = [_by_claim(claims, self.across, len(self._tallies) + len(self.errors))]
        if everything:
            blocks += [Line(""), _by_run(self._tallies)]
        for one in claims:
            blocks += _stories(one, everything)
        for result in self.across:
            if not result.passed:
                blocks += _story_across(result)
        for name, error in self.errors.items():
            blocks += [Line(""), Line(f"{name}: {error}", tone="bad")]
        results = [result for one in claims for result in one.results.values()]
        blocks += [Line(note, tone="odd") for note in notes_on(results)]
        blocks += [Line(""), self._sum()]
        return Report.of(blocks)

    def _sum(self) -> Line:
        listed = [one.passed for one in self.judged]
        passed = sum(listed)
        runs = plural(len(self._tallies), "run")
        told = f"{passed} of {plural(len(listed), 'claim')} passed over {runs}"
        if self.errors:
            told += f"; {plural(len(self.errors), 'run')} could not be judged"
        good = passed == len(listed) and not self.errors
        tone: Tone = "bad"
        if good:
            tone = "good"
        return Line(told, tone=tone)

    def __getitem__(self, name: str) -> Tally:
        return self._tallies[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._tallies)

    def __len__(self) -> int:
        return len(self._tallies)

    def __str__(self) -> str:
        return self.report().text()


def _by_claim(claims: Sequence[ClaimOverRuns], across: Sequence[AcrossResult], runs: int) -> Table:
    """A line for each claim: verdict, in how many runs it was tested and kept, where it was not, and its least margin."""
    lines, tones = [], {}
    for n, family in enumerate(_families(claims)):
        one = family[0]
        margin, least = "", min((each.margin for each in family if each.margin is not None), default=None)
        if least is not None:
            margin = f"{least[0]:g} in {least[1]}"
        allowed = ""
        if one.passed and one.verdict != "kept":
            allowed = " (allowed)"
        tested, kept = (f"{len(found)} of {len(one.results)}" for found in (one.tested_in, one.kept_in))
        name = f"{one.family} ({len(family)} of them)"
        if len(family) == 1:
            name = one.name
        lines.append([one.verdict + allowed, name, tested, kept, _where(one), margin])
        tones[n] = VERDICT_TONES[one.verdict]
    for n, result in enumerate(across, len(lines)):
        margin = f"{result.margin:g}"
        if result.margin is None:
            margin = ""
        lines.append(
            [result.verdict, result.name, f"{result.groups} groups", "", "; ".join(result.broken)[:60], margin]
        )
        tones[n] = VERDICT_TONES[result.verdict]
    return Table(
        ["verdict", "claim", "tested in", "kept in", "not kept in", "least margin"],
        lines,
        frozenset({0, 1, 4, 5}),
        tones,
    )


def _families(claims: Sequence[ClaimOverRuns]) -> list[list[ClaimOverRuns]]:
    """The claims, those of one `for_each` that are kept in as many runs together: one that is not stands alone."""
    found: dict[object, list[ClaimOverRuns]] = {}
    for one in claims:
        together = one.family and one.verdict == "kept"
        key: object = one.name
        if together:
            key = (one.family, one.tested_in, one.kept_in)
        found.setdefault(key, []).append(one)
    return list(found.values())


def _where(one: ClaimOverRuns) -> str:
    """The runs in which it is not kept, the first with their rows."""
    runs = one.broken_in or one.unfinished_in
    told = []
    for name in runs[:MOST_RUNS_NAMED]:
        rows = _rows_of(one.results[name])
        listed = ", ".join(map(str, rows[:MOST_ROWS_NAMED]))
        more = ""
        if one.results[name].broken > MOST_ROWS_NAMED:
            more = ", …"
        told.append(f"{name}: {listed}{more}" if rows else name)
    left = len(runs) - len(told)
    return "; ".join([*told, *([f"and {left} more"] if left else [])])


def _rows_of(result: Result) -> list[int]:
    return [breach.row for breach in result.breaches if breach.row is not None]


def _by_run(tallies: Mapping[str, Tally]) -> Table:
    lines = []
    for name, tally in tallies.items():
        failed = ", ".join(f"{result.name} ({result.verdict})" for result in tally.failed)
        lines.append([name, f"{len(tally) - len(tally.failed)} of {len(tally)}", failed])
    return Table(["run", "passed", "not passed"], lines, frozenset({0, 1, 2}))


def _stories(one: ClaimOverRuns, everything: bool) -> list[Block]:
    """The story of a claim that does not pass: from the first run that shows why, or from each."""
    if one.passed:
        return []
    runs = one.broken_in or one.unfinished_in or tuple(one.results)[:1]
    blocks: list[Block] = []
    for name in runs if everything else runs[:1]:
        story = one.results[name].report().blocks
        blocks += [*story[:1], Line(f"in {name}", "run", indent=1), *story[1:]]
    if len(runs) > 1 and not everything:
        others = ", ".join(runs[1 : MOST_RUNS_NAMED + 1])
        left = len(runs) - 1 - MOST_RUNS_NAMED
        blocks.append(Line(f"also in {others}" + (f" and {plural(left, 'run')} more" if left > 0 else ""), indent=1))
    return blocks


def _story_across(result: AcrossResult) -> list[Block]:
    blocks: list[Block] = [
        Heading(result.verdict.upper(), result.name, VERDICT_TONES[result.verdict]),
        Line(result.rule.text, "claimed", indent=1),
    ]
    if result.rule.why:
        blocks.append(Line(result.rule.why, "because", indent=1))
    found = list(result.broken) or [
        f"no two runs differ in {result.rule.over} alone; a rule that nothing tests cannot fail"
    ]
    for n, line in enumerate(found):
        blocks.append(Line(line, "" if n else "found", indent=1))
    return blocks
