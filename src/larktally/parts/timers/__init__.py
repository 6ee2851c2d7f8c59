"""What counts frames: countdowns, cooldowns, stocks, intervals, chains, meters, stats, gates, animations, clocks."""

from larktally.parts.timers.animation import Animation, Clip
from larktally.parts.timers.chain import Chain
from larktally.parts.timers.clock import Clock
from larktally.parts.timers.cooldown import Cooldown
from larktally.parts.timers.countdown import Countdown
from larktally.parts.timers.gate import Gate, Grace, Latch
from larktally.parts.timers.interval import Delay, Interval, Opening
from larktally.parts.timers.meter import Meter
from larktally.parts.timers.recent import Recent
from larktally.parts.timers.request import Request
from larktally.parts.timers.stat import Stat
from larktally.parts.timers.stock import Stock
from larktally.parts.timers.stopwatch import Stopwatch

__all__ = [
    "Animation",
    "Chain",
    "Clip",
    "Clock",
    "Cooldown",
    "Countdown",
    "Delay",
    "Gate",
    "Grace",
    "Interval",
    "Latch",
    "Meter",
    "Opening",
    "Recent",
    "Request",
    "Stat",
    "Stock",
    "Stopwatch",
]
