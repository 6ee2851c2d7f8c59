"""A program that speaks the protocol, and with a word fails in one way of its own. Run by test_programs.py."""

import json
import sys
import time

HOW = sys.argv[1] if len(sys.argv) > 1 else "well"
FAILS_AT = 500
state = {"n": 0, "held": 0}
out = sys.stdout


def say(message):
    out.write(json.dumps(message) + "\n")
    out.flush()


def row():
    values = {
        "n": state["n"],
        "half": state["n"] / 2,
        "odd": state["n"] % 2 == 1,
        "mood": "calm" if state["n"] < 900 else "cross",
    }
    if state["n"] == FAILS_AT:
        values |= {
            "wrong kind": {"n": "many"},
            "fraction": {"n": 0.5},
            "nan": {"half": "nan"},
            "label": {"mood": "wild"},
        }.get(HOW, {})
        if HOW == "missing":
            del values["odd"]
    return values


def hello():
    channels = [{"name": "n", "kind": "count"}, {"name": "half", "kind": "number"}, {"name": "odd", "kind": "flag"}]
    channels.append({"name": "mood", "kind": "label", "labels": ["calm", "cross"]})
    able = {"protocol": 2 if HOW == "protocol" else 1, "name": "faulty", "channels": channels, "actions": ["hop"]}
    return {**able, "events": ["mark"], "rates": [60] if HOW == "rate" else [], "saves": HOW != "no save"}


def step(params, id_):
    if HOW == "one frame only" and params["frames"] > 1 and params["first"] + params["frames"] > FAILS_AT:
        raise SystemExit(7)
    columns, events = {}, []
    for k in range(params["frames"]):
        state["n"] += 1
        if state["n"] == FAILS_AT:
            fail(id_)
        if state["n"] % 100 == 0:
            events.append([params["first"] + k, "mark", "faulty", {"n": state["n"]}])
        for name, value in row().items():
            columns.setdefault(name, []).append(value)
    if HOW == "short" and state["n"] >= FAILS_AT:
        columns["n"].pop()
    if HOW == "event" and events:
        events[0][0] += 10_000
    return {"columns": columns, "events": events}


def fail(id_):
    if HOW == "dies":
        sys.stderr.write("boom: a null lantern\n")
        raise SystemExit(3)
    if HOW == "killed":
        import os

        os.kill(os.getpid(), 9)
    if HOW == "hangs":
        time.sleep(600)
    if HOW == "half a line":
        out.write('{"jsonrpc": "2.0", "id": ')
        out.flush()
        raise SystemExit(0)
    if HOW == "a long line":
        for _ in range(100):
            out.write("x" * 1_000_000)
        out.flush()
        time.sleep(600)
    if HOW == "refuses":
        say(
            {
                "jsonrpc": "2.0",
                "id": id_,
                "error": {"code": -32000, "message": "out of oil", "data": {"frame": FAILS_AT}},
            }
        )


def main():
    if HOW == "exits":
        sys.stderr.write("no display\n")
        raise SystemExit(4)
    if HOW == "banner":
        print("Engine 4.2 (c) somebody", flush=True)
    if HOW == "floods":
        sys.stderr.write("x" * 5_000_000 + "\nthe last words\n")
    for line in sys.stdin:
        request = json.loads(line)
        method, params, id_ = request["method"], request.get("params", {}), request["id"]
        if method == "hello":
            result = hello()
        elif method == "reset":
            state.update(n=0)
            result = {"row": row(), "events": []}
        elif method == "step":
            result = step(params, id_)
        elif method == "save":
            result = {"state": json.dumps(state)}
        elif method == "load":
            state.update(json.loads(params["state"]))
            result = {"frame": state["n"], "row": row()}
        else:
            result = {}
        if not (HOW == "refuses" and state["n"] >= FAILS_AT):
            say(
                {
                    "jsonrpc": "2.0",
                    "id": id_ - 1 if HOW == "out of order" and state["n"] >= FAILS_AT else id_,
                    "result": result,
                }
            )
        if method == "end":
            if HOW == "lingers":
                time.sleep(600)
            return


main()
