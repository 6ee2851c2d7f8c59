"""What gameplay is modelled from: the sim and its parts."""

from larktally.parts.builders import Under
from larktally.parts.machine import ANY, BACK, STAY, Machine
from larktally.parts.now import Now
from larktally.parts.part import Part
from larktally.parts.sim import Sim
from larktally.parts.stream import Stream
from larktally.parts.timers import Animation, Clip, Cooldown, Request
from larktally.parts.value import Value

__all__ = [
    "ANY",
    "BACK",
    "STAY",
    "Animation",
    "Clip",
    "Cooldown",
    "Machine",
    "Now",
    "Part",
    "Request",
    "Sim",
    "Stream",
    "Under",
    "Value",
]
