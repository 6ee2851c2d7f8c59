"""The physical keys and pad buttons that an action can be bound to, by their W3C names.

Keys are `code` values of UI Events KeyboardEvent (W3C, "UI Events KeyboardEvent code Values"). Pad buttons and axes
follow the order of the Standard Gamepad (W3C, "Gamepad", section "Remapping"): `pad:button0` … `pad:button16` and
`pad:axis0` … `pad:axis3`.
"""

from __future__ import annotations

from larktally.errors import InputError
from larktally.names import did_you_mean

__all__ = ["KEY_CODES", "PAD_CODES", "known_code"]

_WRITING = (
    "Backquote Backslash BracketLeft BracketRight Comma Equal IntlBackslash IntlRo IntlYen Minus Period Quote "
    "Semicolon Slash"
)
_FUNCTION = (
    "AltLeft AltRight Backspace CapsLock ContextMenu ControlLeft ControlRight Enter MetaLeft MetaRight ShiftLeft "
    "ShiftRight Space Tab Convert KanaMode Lang1 Lang2 NonConvert"
)
_CONTROL = "Delete End Help Home Insert PageDown PageUp ArrowDown ArrowLeft ArrowRight ArrowUp"
_NUMPAD = (
    "NumLock NumpadAdd NumpadComma NumpadDecimal NumpadDivide NumpadEnter NumpadEqual NumpadMultiply NumpadSubtract "
    "NumpadParenLeft NumpadParenRight"
)
_SYSTEM = "Escape Fn FnLock PrintScreen ScrollLock Pause"

KEY_CODES: frozenset[str] = frozenset(
    [f"Key{letter}" for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ"]
    + [f"Digit{digit}" for digit in range(10)]
    + [f"Numpad{digit}" for digit in range(10)]
    + [f"F{number}" for number in range(1, 25)]
    + f"{_WRITING} {_FUNCTION} {_CONTROL} {_NUMPAD} {_SYSTEM}".split()
)
PAD_CODES: frozenset[str] = frozenset(
    [f"pad:button{number}" for number in range(17)] + [f"pad:axis{number}" for number in range(4)]
)


def known_code(code: str) -> str:
    """The code itself, where it is a W3C key code or a pad code; raises InputError with the nearest one."""
    known = KEY_CODES | PAD_CODES
    if code not in known:
        near = did_you_mean(code, sorted(known))
        raise InputError(
            f"no key code {code!r}{near or '; keys have W3C names'}, such as KeyW, ArrowUp, Space, pad:button0"
        )
    return code
