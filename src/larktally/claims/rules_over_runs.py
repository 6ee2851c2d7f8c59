"""The rules of a file over the runs that they are judged on: gathered run by run, and told once all of them were."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from larktally.claims.checking import check
from larktally.claims.named import MeasureReading, by_run_table, read_measures
from larktally.claims.verdicts import Tally
from larktally.report import Line, Report
from larktally.traces.trace import Trace

if TYPE_CHECKING:
    from larktally.claims.across import Across
    from larktally.claims.files import Rules
    from larktally.claims.over_runs import Tallies

__all__ = ["RulesOverRuns"]


class RulesOverRuns:
    """What the rules of one file come to, run by run; `over_all` judges them over all of the runs."""

    def __init__(self) -> None:
        self.tallies: dict[str, Tally] = {}
        self.readings: dict[str, Sequence[MeasureReading]] = {}
        self._traces: dict[str, Trace] = {}
        self._errors: dict[str, str] = {}
        self._across: tuple[Across, ...] = ()

    def add(self, name: str, trace: Trace, rules: Rules, against: Trace | None = None) -> None:
        """Judges the rules on one run; raises ClaimError for one that does not fit it."""
        self.readings[name] = read_measures(trace, rules.measures)
        self.tallies[name] = check(trace, rules.claims, against=against)
        self._across = rules.across
        if rules.across:
            # Only for what is asked across runs has a run to be kept once it was judged.
            self._traces[name] = trace

    def failed(self, name: str, why: str) -> None:
        """Notes a run that could not be judged."""
        self._errors[name] = why

    def over_all(self) -> Tallies:
        """What each claim comes to over all runs; raises LarkTallyError where there were none."""
        # Most runs are judged by their own claims alone.
        from larktally.claims.across import judge_across
        from larktally.claims.over_runs import Tallies

        across = [judge_across(rule, self._traces) for rule in self._across if self._traces]
        return Tallies(self.tallies, self._errors, across)

    def measures_report(self) -> Report:
        """The named measures of each run, as a table; nothing where there are none."""
        if not any(self.readings.values()):
            return Report.of(())
        return Report.of((Line(""), by_run_table(self.readings)))

    def measures_plain(self) -> dict[str, list[dict[str, object]]]:
        """The same as plain data, for JSON."""
        return {name: [one.plain() for one in found] for name, found in self.readings.items() if found}
