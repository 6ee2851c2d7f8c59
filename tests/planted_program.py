"""A game that speaks the protocol well, and with a word has one fault of those that adapters have. Run by test_programs.py."""

import json
import math
import os
import random
import sys
import time
from fractions import Fraction

FAULT = sys.argv[1] if len(sys.argv) > 1 else ""
FIELDS = (
    "x",
    "y",
    "vx",
    "vy",
    "rest",
    "hop_held",
    "burst_held",
    "facing",
    "age",
    "buffer",
    "oil",
    "rng",
    "frame",
    "lamp",
)
PARAMS = [
    {"name": "speed", "default": 120.0, "least": 10, "most": 400},
    {"name": "oil", "default": 7, "least": 1, "most": 9},
]
state = {}
setup = {"rate": 60.0, "speed": 120.0, "oil": 7}
leaks = {}


def fault(word):
    return word == FAULT


def draw(limit):
    """A small generator of its own, so that its state is one whole number."""
    state["rng"] = (state["rng"] * 1103515245 + 12345) % 2**31
    return state["rng"] / 2**31 * limit


def reset(params):
    before = dict(state)
    text = params["rate"]
    rate = float(Fraction(text)) if not fault("fraction read as 60000") else float(text.split("/")[0])
    if not (fault("rate of the first reset") and before):
        setup["rate"] = 60.0 if fault("rate ignored") else rate
    given = params.get("params", {})
    for one in PARAMS:
        if not fault("params ignored") and not (fault("params left") and one["name"] not in given):
            setup[one["name"]] = given.get(one["name"], one["default"])
    seed = 99 if fault("seed ignored") else params["seed"]
    if fault("seeded by process"):
        seed += os.getpid()
    if fault("seeded by time"):
        seed += time.perf_counter_ns()
    if fault("seeded by hash"):
        seed += hash("wick") % 1000
    state.update(x=40.0, y=16.0, vx=0.0, vy=0.0, rest=0, hop_held=0, burst_held=0, facing=1, age=0, buffer=0)
    state.update(oil=setup["oil"], rng=seed * 7919 + 17, frame=0, lamp=0.0)
    for name in FIELDS:
        if fault(f"reset leaves {name}") and before:
            state[name] = before[name]


def step(inputs, events):
    s, rate = state, setup["rate"]
    s["frame"] += 1
    hop, burst, walk = inputs["hop"] >= 0.5, inputs["burst"] >= 0.5, inputs["walk"]
    if fault("hop never read"):
        hop = False
    if fault("burst never read"):
        burst = False
    if fault("walk as on or off"):
        walk = float(abs(walk) >= 0.5) * (1 if walk > 0 else -1)
    if fault("walk without sign"):
        walk = abs(walk)
    if fault("dies early") and s["frame"] > 30:
        return
    s["rest"] = max(s["rest"] - 1, 0)
    s["age"] += 1
    s["buffer"] = 4 if hop and not s["hop_held"] else max(s["buffer"] - 1, 0)
    grounded = s["y"] == 16.0
    if s["buffer"] and grounded:
        s.update(vy=300 + draw(40), buffer=0, age=0)
        events.append("hop")
    if burst and not s["burst_held"] and not s["rest"] and s["oil"]:
        s.update(rest=20, oil=s["oil"] - 1)
        events.append("undeclared" if fault("undeclared event") else "used")
        if fault("events out of a set"):
            events.extend({"spark": 1, "glow": 2, "smoke": 3}.keys() & set(["spark", "glow", "smoke"]))
    if walk:
        s["facing"] = 1 if walk > 0 else -1
    s.update(hop_held=int(hop), burst_held=int(burst))
    s["vx"] = s["vx"] * 0.9 + 0.1 * (setup["speed"] * walk + (200.0 * s["facing"] if s["rest"] > 14 else 0))
    s["vy"] -= 900 / rate
    s["x"] += s["vx"] / rate
    s["y"] = max(s["y"] + s["vy"] / rate, 16.0)
    if s["y"] == 16.0:
        s["vy"] = 0.0
    s["lamp"] = s["lamp"] * 0.97 + draw(0.1)
    leaks["n"] = leaks.get("n", 0) + 1
    if fault("drifts in a long process") and leaks["n"] > 3000:
        s["lamp"] += 1e-9


def shown(value):
    if isinstance(value, float) and FAULT in ("%.6g", "%f", "%.8g"):
        return float(FAULT % value)
    return value


def row():
    s = state
    values = {name: shown(s[name]) for name in ("x", "y", "vx", "lamp", "age", "oil")}
    values |= {"ready": not s["rest"], "gait": "standing" if s["y"] == 16.0 else "airborne"}
    if s["frame"] == 50:
        values |= {"NaN": {"lamp": "nan"}, "count as number": {"age": 3.5}, "flag as count": {"ready": 1}}.get(
            FAULT, {}
        )
        values |= {"odd label": {"gait": "lost"}}.get(FAULT, {})
    return values


def many(params):
    first, frames, inputs = params["first"], params["frames"], params["inputs"]
    if fault("crash above 300") and frames > 300:
        os._exit(9)
    columns, said = {name: [] for name in row()}, []
    for k in range(frames):
        now = {name: values[0 if fault("first input of a batch") else k] for name, values in inputs.items()}
        events = []
        step(now, events)
        said += [[first if fault("events in the first frame") else first + k, name, "wick", {}] for name in events]
        for name, value in row().items():
            columns[name].append(value)
    if fault("talks on standard output") and first <= 100 < first + frames:
        print("frame 100", flush=True)
    return {"columns": columns, "events": said}


def save():
    kept = {name: state[name] for name in FIELDS if not fault(f"save forgets {name}")}
    if fault("state in few digits"):
        kept = {name: float(f"{value:.6g}") if isinstance(value, float) else value for name, value in kept.items()}
    leaks["saved"] = dict(kept)
    return {"state": "last" if fault("state by reference") else json.dumps(kept)}


def load(params):
    old = row()
    state.update(leaks["saved"] if fault("state by reference") else json.loads(params["state"]))
    if fault("load lets go of keys"):
        state.update(hop_held=0, burst_held=0)
    frame = {"load says frame 0": 0, "load says a frame less": state["frame"] - 1}.get(FAULT, state["frame"])
    return {"frame": frame, "row": old if fault("load answers the old row") else row()}


class Refused(Exception):
    pass


def answer(method, params):
    if method == "hello":
        numbers = [{"name": name, "kind": "number"} for name in ("x", "y", "vx", "lamp")]
        counts = [{"name": name, "kind": "count"} for name in ("age", "oil")]
        labels = [
            {"name": "ready", "kind": "flag"},
            {"name": "gait", "kind": "label", "labels": ["standing", "airborne"]},
        ]
        actions = ["hop", "burst", {"name": "walk", "analog": True}]
        hello = {"protocol": 1, "name": "planted", "channels": numbers + counts + labels, "actions": actions}
        events = ["hop", "used", *(["spark", "glow", "smoke"] if fault("events out of a set") else [])]
        return {**hello, "events": events, "rates": [], "saves": True, "params": PARAMS}
    if method == "reset":
        reset(params)
        return {"row": row(), "events": []}
    if method == "step":
        if (
            type(params.get("frames")) is not int
            or params["frames"] < 0
            or set(params["inputs"]) != {"hop", "burst", "walk"}
        ):
            raise Refused
        return many(params)
    return {"save": save, "load": lambda: load(params), "end": dict}[method]()


def main():
    for line in sys.stdin:
        said = {"jsonrpc": "2.0", "id": None}
        try:
            request = json.loads(line)
            said["id"] = request["id"]
            said["result"] = answer(request["method"], request.get("params", {}))
        except ValueError:
            said["error"] = {"code": -32700, "message": "not JSON"}
        except KeyError:
            said["error"] = {"code": -32601, "message": "no such method"}
        except Refused:
            said["error"] = {"code": -32602, "message": "frames and inputs"}
        print(json.dumps(said), flush=True)
        if "result" in said and request["method"] == "end":
            sys.exit(3 if fault("ends badly") else 0)


if __name__ == "__main__":
    random.seed(1)
    assert math
    main()
