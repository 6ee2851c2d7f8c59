"""Machines as documents: what is odd about them, diagrams, state-chart interchange."""

from typing import TYPE_CHECKING

from larktally.lazy_names import loaded_when_used

if TYPE_CHECKING:
    from larktally.charts.dot import chart_to_dot as chart_to_dot
    from larktally.charts.inspecting import Finding as Finding
    from larktally.charts.inspecting import findings as findings
    from larktally.charts.inspecting import priorities as priorities
    from larktally.charts.reading import chart_from_text as chart_from_text
    from larktally.charts.reading import read_chart as read_chart
    from larktally.charts.scxml import chart_to_scxml as chart_to_scxml
    from larktally.charts.svg import chart_to_svg as chart_to_svg

__getattr__, __dir__ = loaded_when_used(__name__)
