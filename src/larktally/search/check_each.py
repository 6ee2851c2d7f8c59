"""The same claims over several traces, whoever judges them: a tally for each, and what each claim comes to over all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from larktally.claims.across import Across, judge_across
from larktally.claims.checking import check
from larktally.claims.claim import Claim
from larktally.claims.files import load_rules
from larktally.claims.over_runs import Tallies
from larktally.claims.verdicts import Result, Tally
from larktally.errors import ClaimError
from larktally.language.judgement import Judgement
from larktally.language.reading import evaluator
from larktally.runs.many import Workers, run_each
from larktally.traces.trace import Trace

if TYPE_CHECKING:
    from concurrent.futures import Executor

__all__ = ["check_each"]


def check_each(
    traces: Mapping[str, Trace],
    claims: Iterable[Claim] | str | Path,
    *,
    across: Iterable[Across] = (),
    workers: Workers = 1,
    executor: Executor | None = None,
    on_progress: Callable[[int, int], Any] | None = None,
) -> Tallies:
    """The same claims over several traces, or the rules of a TOML file: a tally for each, by the trace's name, and what each
    claim comes to over all of them.

    `workers` processes share the traces ("all": one a core), or an `executor` with the standard library's interface has them,
    which is worth the sending where they are long. A trace on which a claim cannot be judged is an error of the whole, listed by
    name. Raises LarkTallyError for no traces at all, and where none of them can be judged.
    """
    if isinstance(claims, str | Path):
        rules_of = {name: load_rules(claims, trace.channels) for name, trace in traces.items()}
        across = next((rules.across for rules in rules_of.values()), ())
        claims_of = {name: rules.claims for name, rules in rules_of.items()}
    else:
        claims_of = dict.fromkeys(traces, tuple(claims))
    asked = [(trace, claims_of[name]) for name, trace in traces.items()]
    judged = run_each(_judged, asked, workers=workers, executor=executor, on_progress=on_progress)
    found: dict[str, Tally] = {}
    errors: dict[str, str] = {}
    for (name, trace), came in zip(traces.items(), judged, strict=True):
        if isinstance(came, ClaimError):
            errors[name] = str(came)
            if len(errors) == len(traces):
                # What fits no run at all is a slip in the claim, and not in the runs.
                raise came
            continue
        read = evaluator(trace)
        results = []
        for claim, judgement in zip(claims_of[name], came, strict=True):
            results.append(Result(claim, judgement, read))
        found[name] = Tally(results)
    return Tallies(found, errors, [judge_across(rule, traces) for rule in across])


def _judged(asked: tuple[Trace, tuple[Claim, ...]]) -> list[Judgement] | ClaimError:
    """What each claim comes to over a trace, without the rows that would tell its story; or why one of them cannot be judged."""
    trace, claims = asked
    try:
        return [one.judgement for one in check(trace, claims)]
    except ClaimError as error:
        return error
