"""Why a body's own step gave a value of it: what it met, what pulled it, what held it back. Asked after the step."""

from __future__ import annotations

from larktally.parts.space.body import Body

__all__ = ["reason_of"]


def reason_of(body: Body, attribute: str) -> str:
    """A few words on why a body has this position, velocity or ground after its step; "" where there is nothing to say."""
    if attribute in body.axes:
        met = _met(body, attribute)
        return f"moved until it met {met!r}" if met else f"with v{attribute} = {getattr(body, f'v{attribute}'):g}"
    axis = attribute.removeprefix("v")
    if axis in body.axes:
        return _of_speed(body, axis)
    if attribute == "grounded":
        ground = _met(body, body.axes[body.up])
        standing = f"stands on {ground!r}" if ground else "rests on what is below it"
        return standing if body.grounded else "met no ground"
    return ""


def _of_speed(body: Body, axis: str) -> str:
    met = _met(body, axis)
    if met:
        return f"{'thrown back' if body.bounce else 'stopped'} by {met!r}"
    if body.limit.get(axis) == abs(getattr(body, f"v{axis}")):
        return f"held to its limit of {body.limit[axis]:g}"
    return f"gravity {body.gravity:g}" if axis == body.axes[body.up] and body.gravity else ""


def _met(body: Body, axis: str) -> str:
    """What it met along an axis in its last step."""
    return next((c.box.called for c in body.contacts if body.axes[c.axis] == axis), "")
