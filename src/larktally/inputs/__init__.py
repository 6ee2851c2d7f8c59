"""Actions, key codes, input scripts, and one frame's view of them."""

from larktally.inputs.actions import Action, Actions
from larktally.inputs.script import InputScript, Span
from larktally.inputs.view import FrameInput, InputFeed

__all__ = ["Action", "Actions", "FrameInput", "InputFeed", "InputScript", "Span"]
