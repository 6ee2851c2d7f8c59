"""Bytes and JSON that are nearly what they were: what is read by `hostile.py`, and answered by a program that is odd."""

import json
import re

NASTY = (
    b"1e309", b"-1e309", b"9" * 400, b"9" * 5000, b"NaN", b"null", b"[]", b"{}", b'""', b"true", b"-1", b"0", b"0x1f", b"1e400",
    b'"\\ud800"', b'"\\u0000"', b"[" * 500, b'{"a":' * 300, b"9223372036854775808", b'"x"', b"\x1b[2J", b"\xff\xfe", b"\r", b"\n",
    b'"larktally"', b"+1", b" 1", b"12:00", b"'", b'"', b"''", b"\xe2\x80\xae", b"\x00",
)  # fmt: skip
TOKEN = re.compile(rb'"[^"\n]{0,40}"|-?\d+(?:\.\d+)?|true|false|null|\w+')


def mutated(good, pick):
    """Another file that is nearly this one."""
    content = bytearray(good)
    for _ in range(pick.choice((1, 1, 1, 2, 3, 6))):
        way, at = pick.randrange(8), pick.randrange(len(content) or 1)
        if way == 0 and content:
            content[at] ^= 1 << pick.randrange(8)
        elif way == 1:
            content[at : at + pick.randrange(1, 9)] = b""
        elif way == 2:
            content[at:at] = pick.choice(NASTY)
        elif way == 3:
            del content[at:]
        elif way == 4:
            other = pick.randrange(len(content) or 1)
            content[at:at] = content[other : other + pick.randrange(1, 60)]
        elif tokens := list(TOKEN.finditer(content)):
            # Most of them stay readable, and say something else.
            found = pick.choice(tokens)
            new = pick.choice(NASTY) if way != 7 else pick.choice(tokens)[0]
            content[found.start() : found.end()] = new
    return bytes(content)


VALUES = (
    None, True, False, 0, 1, -1, 0.5, 2**31, 2**63, 10**400, 1e308, "", "x", "n", "hop", "lit", "nan", "inf", "1", " n", "60", "0", "1/0",
    "\x1b[2J", "\x00", "\ud800", "a\nb", "count", "label", "number", [], [1, 2], ["n"], [[]], {}, {"n": 1}, {"": []}, "x" * 5000,
)  # fmt: skip


def restructured(value, pick):
    """The same JSON with one value, or one key, put in another's place."""
    value = json.loads(json.dumps(value))
    places = []
    walk = [value]
    while walk:
        inside = walk.pop()
        for key in inside if isinstance(inside, dict) else range(len(inside)):
            places.append((inside, key))
            if isinstance(inside[key], dict | list):
                walk.append(inside[key])
    if not places:
        return value
    inside, key = pick.choice(places)
    other, other_key = pick.choice(places)
    way = pick.randrange(5)
    if way == 0:
        del inside[key]
    elif way == 1 and isinstance(inside, dict):
        inside[pick.choice(("n", "", "x", "every", "wraps", "labels", other_key))] = inside[key]
    elif way == 2:
        inside[key] = json.loads(json.dumps(other[other_key]))
    else:
        inside[key] = pick.choice(VALUES)
    return value


def mutated_answer(answer, pick):
    """An answer of a program, as bytes, that is not what it should be."""
    if pick.random() < 0.3:
        return mutated(json.dumps(answer).encode(), pick).replace(b"\n", b" ")
    return json.dumps(restructured(answer, pick)).encode()
