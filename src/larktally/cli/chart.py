"""larktally chart FILE[:NAME] [TRACE …]: a machine's rules, diagram and coverage; of a trace's labels the changes seen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from larktally.cli.outcome import echo, print_json, report_errors, show
from larktally.errors import LarkTallyError
from larktally.names import unknown_name
from larktally.parts.sim import Sim
from larktally.runs.live import Live
from larktally.runs.model_files import load_scenarios
from larktally.runs.record import record
from larktally.runs.scenario import Scenario
from larktally.traces.files import is_trace
from larktally.traces.trace import Trace, load_trace
from larktally.whole_files import write_whole

_SUFFIXES = (".svg", ".dot", ".scxml")


@click.command()
@click.argument("target", metavar="FILE[:NAME] | TRACE")
@click.argument("traces", metavar="[TRACE …]", nargs=-1, type=click.Path(path_type=Path))
@click.option("--machine", default="", help="Which machine, where there are several.")
@click.option("--out", type=click.Path(path_type=Path), help="Write the diagram: .svg, .dot, or .scxml.")
@click.option(
    "--layout",
    type=click.Choice(["auto", "own", "graphviz"]),
    default="auto",
    show_default=True,
    help="Who lays an .svg out; auto is Graphviz where it is installed.",
)
@click.option("--json", "as_json", is_flag=True, help="Print rules, findings and coverage as JSON.")
@report_errors
def command(target: str, traces: tuple[Path, ...], machine: str, out: Path | None, layout: str, as_json: bool) -> None:
    """Show a machine: its rules in the order in which they are tried, what is odd about them, and a diagram with --out.

    With traces, what they visited: states filled and counts on the arrows; the runs are made again to find rules
    that were ready and out-ranked. Of a trace alone, or of what has no machine (an object of your own, a program, a log), the
    changes that its label channels were seen to make.
    """

    from larktally.charts.machine_chart import MachineChart
    from larktally.explain.coverage import coverage

    path = Path(target)
    if path.suffix != ".py" and path.is_file() and is_trace(path):
        _observed([load_trace(one) for one in (path, *traces)], machine, out, layout, as_json)
        return
    scenario = _one(target)
    outlines = _outlines(scenario)
    if not outlines:
        # Without a trace the scenario is run: nothing is known of what is no sim until it has been.
        runs = [load_trace(one) for one in traces] or [record(scenario)]
        _observed(runs, machine, out, layout, as_json)
        return
    if machine and machine not in outlines:
        raise LarkTallyError(unknown_name("machine", machine, outlines, f"scenario {scenario.title!r}"))
    if machine:
        chosen = [machine]
    else:
        chosen = list(outlines)
    covered = {}
    for name in chosen:
        covered[name] = coverage(map(load_trace, traces), name, scenario) if traces else None
    if out is not None:
        if len(chosen) > 1:
            raise LarkTallyError(f"--out draws one machine; say which with --machine: {', '.join(chosen)}")
        _write(out, outlines[chosen[0]], covered[chosen[0]], layout)
    charts = []
    for name, cover in covered.items():
        charts.append(MachineChart(outlines[name], cover))
    if as_json:
        print_json([chart.plain() for chart in charts])
        return
    for number, chart in enumerate(charts):
        if number:
            echo()
        show(chart, as_json=False)
    if out is not None:
        echo(f"drawn in {out}")


def _one(target: str) -> Scenario:
    found = load_scenarios(target)
    if len(found) > 1:
        names = ", ".join(f"{target}:{scenario.title}" for scenario in found)
        models = set()
        for scenario in found:
            models.add(id(scenario.subject))
        if len(models) > 1:
            raise LarkTallyError(f"{target} holds scenarios of several models; say which: {names}")
    return found[0]


def _outlines(scenario: Scenario) -> dict[str, Any]:
    subject = Live(scenario.changed(inputs=None)).subject
    if isinstance(subject, Sim):
        return subject.outlines()
    return {}


def _observed(runs: list[Trace], machine: str, out: Path | None, layout: str, as_json: bool) -> None:
    """The machines of some traces as far as they were visited, or the changes that their label channels were seen to make."""
    from larktally.explain.coverage import coverage, outline_of
    from larktally.explain.observed_labels import observed_outline

    first = runs[0]
    known = list(first.header.outlines)
    known += [name for name in first.channels if name not in known and first.columns[name].channel.kind == "label"]
    if machine and machine not in known:
        raise LarkTallyError(unknown_name("machine or label", machine, known, "this trace"))
    chosen = [machine] if machine else known
    if not chosen:
        raise LarkTallyError("there is no machine and no label channel here, whose changes could be drawn")
    covers = {name: coverage(runs, name) for name in chosen}
    if out is not None:
        if len(chosen) > 1:
            raise LarkTallyError(f"--out draws one of them; say which with --machine: {', '.join(chosen)}")
        name = chosen[0]
        outline = outline_of(first, name) if name in first.header.outlines else observed_outline(runs, name)
        _write(out, outline, covers[name], layout)
    if as_json:
        print_json([cover.plain() for cover in covers.values()])
        return
    for number, cover in enumerate(covers.values()):
        if number:
            echo()
        show(cover, as_json=False)
    if out is not None:
        echo(f"drawn in {out}")


def _write(path: Path, outline: Any, cover: Any, layout: str) -> None:
    from larktally.charts.dot import chart_to_dot
    from larktally.charts.scxml import chart_to_scxml
    from larktally.charts.svg import chart_to_svg

    if path.suffix == ".svg":
        text = chart_to_svg(outline, cover, layout)
    elif path.suffix == ".dot":
        text = chart_to_dot(outline, cover)
    elif path.suffix == ".scxml":
        text = chart_to_scxml(outline)
    else:
        raise LarkTallyError(
            f"{path}: a machine is written as {', '.join(_SUFFIXES)}, not {path.suffix or 'without a suffix'!r}"
        )
    write_whole(path, text)
