"""Machines as documents: what is odd about them, diagrams, state-chart interchange."""

from larktally.charts.dot import chart_to_dot
from larktally.charts.inspecting import Finding, findings, priorities
from larktally.charts.reading import chart_from_text, read_chart
from larktally.charts.scxml import chart_to_scxml
from larktally.charts.svg import chart_to_svg

__all__ = [
    "Finding",
    "chart_from_text",
    "chart_to_dot",
    "chart_to_scxml",
    "chart_to_svg",
    "findings",
    "priorities",
    "read_chart",
]
