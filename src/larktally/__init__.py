"""Lark Tally: gameplay run headless at a fixed timestep, every frame kept, played again, and checked.

The names below are all that a user needs; each is loaded when it is first used.
"""

from __future__ import annotations

import importlib
import sys
from typing import TYPE_CHECKING, Any

from larktally.version import __version__

_HOMES = {
    "larktally.errors": "ClaimError InputError LarkError ModelError SubjectFailed TraceError",
    "larktally.timing": "Rate frames_in seconds_at",
    "larktally.inputs": "Action FrameInput InputScript",
    "larktally.subject": "Event Setup Subject",
    "larktally.summed": "Summed durations",
    "larktally.parts": "ANY BACK STAY Clip Machine Now Part Sim Under",
    "larktally.parts.space": "Body Box Hit Level apex box_at distance fan in_front launch_for many_rays nearest ray touching "
    "within_radius_ahead",
    "larktally.traces": "Trace load_trace",
    "larktally.claims": "Breach Claim Form Result Tally ch check check_each claim language load_claims measure measured_over "
    "parse rows_where to_text",
    "larktally.runs": "Audit Baselines Causes Comparison Live Replay Scenario Searched Smallest Together Tolerance Variant "
    "Varied Why Written audit causes compare find_breach record replay run_to side_by_side smallest vary who_wrote why",
    "larktally.programs": "Program Vetting vet",
    "larktally.views.picture": "draw_run save_picture",
    "larktally.charts": "Coverage Finding chart_to_dot chart_to_scxml chart_to_svg coverage findings priorities read_chart",
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names.split()}

__all__ = ["__version__", *sorted(_HOME_OF)]


def __getattr__(name: str) -> Any:
    if name == "parts":
        return importlib.import_module("larktally.parts")
    if name not in _HOME_OF:
        raise AttributeError(f"module 'larktally' has no attribute {name!r}")
    found = getattr(importlib.import_module(_HOME_OF[name]), name)
    globals()[name] = found
    return found


def _tell_notebook() -> None:
    """In a notebook, shows tallies, traces and comparisons as the terminal's tables; costs nothing anywhere else."""
    shell = getattr(sys.modules.get("IPython"), "get_ipython", lambda: None)()
    if shell is None or not hasattr(shell, "display_formatter"):
        return
    html = shell.display_formatter.formatters["text/html"]

    def shown(thing: Any) -> str:
        return str(importlib.import_module("larktally.views.notebook").as_html(thing))

    for module, name in (
        ("larktally.claims.verdicts", "Tally"),
        ("larktally.traces.trace", "Trace"),
        ("larktally.traces.stored", "StoredTrace"),
        ("larktally.charts.covering", "Coverage"),
        ("larktally.runs.comparing", "Comparison"),
        ("larktally.runs.replaying", "Replay"),
        ("larktally.runs.explaining.causes", "Causes"),
        ("larktally.runs.explaining.deciding", "Why"),
        ("larktally.runs.smallest", "Smallest"),
        ("larktally.runs.varying", "Varied"),
        ("larktally.runs.auditing", "Audit"),
    ):
        html.for_type_by_name(module, name, shown)


def __dir__() -> list[str]:
    return __all__


_tell_notebook()

if TYPE_CHECKING:
    from larktally import parts as parts
    from larktally.charts import Coverage as Coverage
    from larktally.charts import Finding as Finding
    from larktally.charts import chart_to_dot as chart_to_dot
    from larktally.charts import chart_to_scxml as chart_to_scxml
    from larktally.charts import chart_to_svg as chart_to_svg
    from larktally.charts import coverage as coverage
    from larktally.charts import findings as findings
    from larktally.charts import priorities as priorities
    from larktally.charts import read_chart as read_chart
    from larktally.claims import Breach as Breach
    from larktally.claims import Claim as Claim
    from larktally.claims import Form as Form
    from larktally.claims import Result as Result
    from larktally.claims import Tally as Tally
    from larktally.claims import ch as ch
    from larktally.claims import check as check
    from larktally.claims import check_each as check_each
    from larktally.claims import claim as claim
    from larktally.claims import language as language
    from larktally.claims import load_claims as load_claims
    from larktally.claims import measure as measure
    from larktally.claims import measured_over as measured_over
    from larktally.claims import parse as parse
    from larktally.claims import rows_where as rows_where
    from larktally.claims import to_text as to_text
    from larktally.errors import ClaimError as ClaimError
    from larktally.errors import InputError as InputError
    from larktally.errors import LarkError as LarkError
    from larktally.errors import ModelError as ModelError
    from larktally.errors import SubjectFailed as SubjectFailed
    from larktally.errors import TraceError as TraceError
    from larktally.inputs import Action as Action
    from larktally.inputs import FrameInput as FrameInput
    from larktally.inputs import InputScript as InputScript
    from larktally.parts import ANY as ANY
    from larktally.parts import BACK as BACK
    from larktally.parts import STAY as STAY
    from larktally.parts import Clip as Clip
    from larktally.parts import Machine as Machine
    from larktally.parts import Now as Now
    from larktally.parts import Part as Part
    from larktally.parts import Sim as Sim
    from larktally.parts import Under as Under
    from larktally.parts.space import Body as Body
    from larktally.parts.space import Box as Box
    from larktally.parts.space import Hit as Hit
    from larktally.parts.space import Level as Level
    from larktally.parts.space import apex as apex
    from larktally.parts.space import box_at as box_at
    from larktally.parts.space import distance as distance
    from larktally.parts.space import fan as fan
    from larktally.parts.space import in_front as in_front
    from larktally.parts.space import launch_for as launch_for
    from larktally.parts.space import many_rays as many_rays
    from larktally.parts.space import nearest as nearest
    from larktally.parts.space import ray as ray
    from larktally.parts.space import touching as touching
    from larktally.parts.space import within_radius_ahead as within_radius_ahead
    from larktally.programs import Program as Program
    from larktally.programs import Vetting as Vetting
    from larktally.programs import vet as vet
    from larktally.runs import Audit as Audit
    from larktally.runs import Baselines as Baselines
    from larktally.runs import Causes as Causes
    from larktally.runs import Comparison as Comparison
    from larktally.runs import Live as Live
    from larktally.runs import Replay as Replay
    from larktally.runs import Scenario as Scenario
    from larktally.runs import Searched as Searched
    from larktally.runs import Smallest as Smallest
    from larktally.runs import Together as Together
    from larktally.runs import Tolerance as Tolerance
    from larktally.runs import Variant as Variant
    from larktally.runs import Varied as Varied
    from larktally.runs import Why as Why
    from larktally.runs import Written as Written
    from larktally.runs import audit as audit
    from larktally.runs import causes as causes
    from larktally.runs import compare as compare
    from larktally.runs import find_breach as find_breach
    from larktally.runs import record as record
    from larktally.runs import replay as replay
    from larktally.runs import run_to as run_to
    from larktally.runs import side_by_side as side_by_side
    from larktally.runs import smallest as smallest
    from larktally.runs import vary as vary
    from larktally.runs import who_wrote as who_wrote
    from larktally.runs import why as why
    from larktally.subject import Event as Event
    from larktally.subject import Setup as Setup
    from larktally.subject import Subject as Subject
    from larktally.summed import Summed as Summed
    from larktally.summed import durations as durations
    from larktally.timing import Rate as Rate
    from larktally.timing import frames_in as frames_in
    from larktally.timing import seconds_at as seconds_at
    from larktally.traces import Trace as Trace
    from larktally.traces import load_trace as load_trace
    from larktally.views.picture import draw_run as draw_run
    from larktally.views.picture import save_picture as save_picture
