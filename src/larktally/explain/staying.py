"""Why a channel of a sim is still what it was: what holds it, asked of its parts after a step that did not set it."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from larktally.parts.part import Part
from larktally.parts.sim import Sim
from larktally.parts.space.body import Body
from larktally.parts.space.hitbox import Hitbox
from larktally.parts.space.reasons import reason_of
from larktally.parts.timers.animation import Animation
from larktally.parts.timers.clock import Clock
from larktally.parts.timers.counted import CountedTimer
from larktally.parts.timers.gate import Gate
from larktally.textfmt import plural

__all__ = ["held_by"]


def held_by(sim: Sim, channel: str) -> str:
    """What keeps a channel as it is, in a few words; "" where nothing but that nobody set it."""
    owner, attribute = sim.bindings[channel]
    if not isinstance(owner, Part):
        return ""
    clock = owner.clock
    # A value has no step that a clock could hold.
    if owner.phase and isinstance(clock, Clock) and not clock.ticking:
        return f"its clock {clock.name!r} stands{_why_it_stands(clock)}"
    for kind, reason in _REASONS.items():
        if isinstance(owner, kind):
            return reason(sim, owner, attribute)
    return ""


def _why_it_stands(clock: Clock) -> str:
    if clock.rate == 0:
        return " at rate 0"
    if clock.held:
        return ", held for some frames"
    return f" in this frame, at {clock.rate} of the rate"


def _of_body(sim: Sim, body: Part, attribute: str) -> str:
    assert isinstance(body, Body)
    upward = body.level.has_up and attribute in (f"v{body.axes[body.up]}", body.axes[body.up])
    reason = reason_of(body, attribute)
    if upward and not body.gravity:
        return f"gravity of {body.name!r} is 0"
    if reason.startswith(("with v", "gravity")):
        return ""
    return reason


def _of_hitbox(sim: Sim, box: Part, attribute: str) -> str:
    assert isinstance(box, Hitbox)
    if attribute != "is_open" or not box.is_open:
        return ""
    for animation in sim.parts_of(Animation):
        for opened, span in animation.opened:
            if opened is box and animation.within(span):
                clip = animation.clips[animation.clip]
                if span in clip.boxes:
                    return f"held open by the box {span!r} of {animation.name!r}, frame {animation.frame} of {animation.clip!r}"
                first, last = clip.spans[span]
                return f"held open by the span {span!r} of {animation.name!r}, frames {first} to {last} of {animation.clip!r}"
    return ""


def _of_gate(sim: Sim, gate: Part, attribute: str) -> str:
    assert isinstance(gate, Gate)
    if gate.state == "locked":
        return f"{gate.name!r} is locked for {plural(gate.left, 'more frame')}"
    return f"{gate.name!r} is {gate.state}"


def _of_timer(sim: Sim, timer: Part, attribute: str) -> str:
    assert isinstance(timer, CountedTimer)
    if timer.left and not timer.running:
        return f"{timer.name!r} is paused with {plural(timer.left, 'frame')} left"
    if timer.left:
        return f"{timer.name!r} runs for {plural(timer.left, 'more frame')}"
    return f"{timer.name!r} does not run"


# A gate is a timer too, and says more: the first that fits counts.
_REASONS: Mapping[type[Part], Callable[[Sim, Part, str], str]] = {
    Body: _of_body,
    Hitbox: _of_hitbox,
    Gate: _of_gate,
    CountedTimer: _of_timer,
}
