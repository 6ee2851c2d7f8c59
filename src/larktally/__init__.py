"""Lark Tally: gameplay run headless at a fixed timestep, every frame kept, played again, and checked.

The names below are all that most users need; each is loaded when it is first used. What is rarer stands in rooms of its
own: `lt.language`, `lt.charts`, `lt.geometry`, `lt.explain`.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from larktally.lazy_names import loaded_when_used
from larktally.version import __version__ as __version__

# Each public name is written once, here: a type checker and an editor read this block as it stands, and `__getattr__`
# reads the same lines to know where a name lives. Importing them outright would load NumPy before `--help` can answer.
if TYPE_CHECKING:
    from larktally import charts as charts
    from larktally import explain as explain
    from larktally import geometry as geometry
    from larktally import language as language
    from larktally.auditing.audit import audit as audit
    from larktally.auditing.found import Audit as Audit
    from larktally.claims.checking import check as check
    from larktally.claims.checking import rows_where as rows_where
    from larktally.claims.claim import Claim as Claim
    from larktally.claims.claim import claim as claim
    from larktally.claims.claim import expect as expect
    from larktally.claims.files import load_claims as load_claims
    from larktally.claims.named import NamedMeasure as NamedMeasure
    from larktally.claims.named_windows import NamedWindow as NamedWindow
    from larktally.claims.verdicts import Result as Result
    from larktally.claims.verdicts import Tally as Tally
    from larktally.comparing.baselines import Baselines as Baselines
    from larktally.comparing.comparison import Comparison as Comparison
    from larktally.comparing.comparison import compare as compare
    from larktally.comparing.tolerance import Tolerance as Tolerance
    from larktally.errors import ClaimError as ClaimError
    from larktally.errors import InputError as InputError
    from larktally.errors import LarkTallyError as LarkTallyError
    from larktally.errors import LarkTallyWarning as LarkTallyWarning
    from larktally.errors import ModelError as ModelError
    from larktally.errors import SubjectFailed as SubjectFailed
    from larktally.errors import TraceError as TraceError
    from larktally.errors import WriteError as WriteError
    from larktally.event import Event as Event
    from larktally.explain.causes import causes as causes
    from larktally.explain.coverage import coverage as coverage
    from larktally.explain.decisions import why as why
    from larktally.explain.noting_writers import who_wrote as who_wrote
    from larktally.explain.replaying import Replay as Replay
    from larktally.explain.replaying import replay as replay
    from larktally.inputs.actions import Action as Action
    from larktally.inputs.script import InputScript as InputScript
    from larktally.inputs.shift import Shift as Shift
    from larktally.inputs.view import FrameInput as FrameInput
    from larktally.language.forms import ch as ch
    from larktally.language.judgement import Breach as Breach
    from larktally.language.measures import measure as measure
    from larktally.language.measures import measured_over as measured_over
    from larktally.parts.context import StepContext as StepContext
    from larktally.parts.factory import SimScope as SimScope
    from larktally.parts.machine import Machine as Machine
    from larktally.parts.part import Part as Part
    from larktally.parts.sim import Sim as Sim
    from larktally.parts.space.body import Body as Body
    from larktally.parts.space.box import Box as Box
    from larktally.parts.space.level import Level as Level
    from larktally.parts.timers.animation import Clip as Clip
    from larktally.runs.displayed import as_displayed as as_displayed
    from larktally.runs.late_inputs import rollback as rollback
    from larktally.runs.live import Live as Live
    from larktally.runs.live import run_to as run_to
    from larktally.runs.model_files import load_scenarios as load_scenarios
    from larktally.runs.record import record as record
    from larktally.runs.scenario import Scenario as Scenario
    from larktally.runs.side_by_side import side_by_side as side_by_side
    from larktally.search.breaches import find_breach as find_breach
    from larktally.search.check_each import check_each as check_each
    from larktally.search.explore import Explored as Explored
    from larktally.search.explore import explore as explore
    from larktally.search.named_numbers import numbers as numbers
    from larktally.search.peers import rollback_of_peers as rollback_of_peers
    from larktally.search.shifting import Window as Window
    from larktally.search.shifting import window_of as window_of
    from larktally.search.shrink import shrink as shrink
    from larktally.search.tune import tune as tune
    from larktally.search.two_builds import compare_folders as compare_folders
    from larktally.search.vary import vary as vary
    from larktally.setup import Setup as Setup
    from larktally.subjects.composite import CompositeSubject as CompositeSubject
    from larktally.subjects.programs.check import check_program as check_program
    from larktally.subjects.programs.program import Program as Program
    from larktally.subjects.protocol import Subject as Subject
    from larktally.summed import SummedTimer as SummedTimer
    from larktally.summed import durations as durations
    from larktally.timing import Rate as Rate
    from larktally.timing import frames_in as frames_in
    from larktally.traces.outline import ANY as ANY
    from larktally.traces.outline import BACK as BACK
    from larktally.traces.outline import STAY as STAY
    from larktally.traces.trace import Trace as Trace
    from larktally.traces.trace import load_trace as load_trace
    from larktally.views.late_picture import draw_late as draw_late
    from larktally.views.picture import draw_run as draw_run
    from larktally.views.picture import save_picture as save_picture


def load_ipython_extension(shell: Any) -> None:
    """`%load_ext larktally` in a notebook: results and traces are shown there as the terminal shows them."""
    importlib.import_module("larktally.views.notebook").load_ipython_extension(shell)


__getattr__, __dir__ = loaded_when_used(__name__)
