"""Why a body's own step gave a value of it: what it met, what pulled it, what held it back. Asked after the step."""

from __future__ import annotations

from larktally.parts.space.body import Body

__all__ = ["reason_of"]


def reason_of(body: Body, attribute: str) -> str:
    """A few words on why a body has this position, velocity or ground after its step; "" where there is nothing to say."""
    if attribute in body.axes:
        met = _met(body, attribute)
        if met:
            return f"moved until it met {met!r}"
        return f"with v{attribute} = {getattr(body, f'v{attribute}'):g}"
    axis = attribute.removeprefix("v")
    if axis in body.axes:
        return _of_speed(body, axis)
    if attribute == "grounded":
        if not body.level.has_up:
            return "this level has no up, so that nothing is ground"
        ground = _met(body, body.axes[body.up])
        standing = "rests on what is below it"
        if ground:
            standing = f"stands on {ground!r}"
        if body.grounded:
            return standing
        return "met no ground"
    return ""


def _of_speed(body: Body, axis: str) -> str:
    met = _met(body, axis)
    if met:
        return f"{'thrown back' if body.bounce else 'stopped'} by {met!r}"
    # A speed that is exactly its limit was held to it: anything else would be a coincidence of 53 bits.
    if body.limit.get(axis) == abs(getattr(body, f"v{axis}")):
        return f"held to its limit of {body.limit[axis]:g}"
    if body.gravity and axis == body.axes[body.up]:
        return f"gravity {body.gravity:g}"
    return ""


def _met(body: Body, axis: str) -> str:
    """What it met along an axis in its last step."""
    return next((c.box.called for c in body.contacts if body.axes[c.axis] == axis), "")
