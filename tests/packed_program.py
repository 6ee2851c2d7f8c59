"""A program that says its columns as bytes, and with a word fails in one way of its own. Run by test_wires.py."""

import json
import struct
import sys

HOW = sys.argv[1]
LABELS = ["calm", "cross"]
state = {"n": 0, "binary": False, "rate": 0}
out = sys.stdout.buffer


def say(message, more=b""):
    out.write(json.dumps(message).encode() + b"\n" + more)
    out.flush()


def row(n):
    if HOW == "rated":
        return {"half": n * state["rate"], "n": -n, "odd": False, "mood": "calm"}
    values = {"half": n / 2 - 3, "n": -n, "odd": n % 2 == 1, "mood": LABELS[n // 100 % 2]}
    return {**values, "half": "-0.0" if values["half"] == 0 and HOW == "minus" else values["half"]}


def packed(rows):
    halves = [-0.0 if one["half"] == "-0.0" else one["half"] for one in rows]
    parts = [struct.pack(f"<{len(rows)}d", *halves), struct.pack(f"<{len(rows)}q", *(one["n"] for one in rows))]
    flags = [int(one["odd"]) for one in rows]
    labels = [LABELS.index(one["mood"]) for one in rows]
    if rows and state["n"] >= 500:
        flags[-1] = 2 if HOW == "flag" else flags[-1]
        labels[-1] = 7 if HOW == "label" else labels[-1]
    parts += [struct.pack(f"<{len(rows)}B", *flags), struct.pack(f"<{len(rows)}H", *labels)]
    return b"".join(parts)


def step(params, id_):
    rows, events, notes = [], [], []
    for k in range(params["frames"]):
        state["n"] += 1
        if HOW in ("dies", "rated") and state["n"] == 500:
            sys.exit(3)
        frame = params["first"] + k
        if state["n"] % 100 == 0:
            events.append([frame, "mark"])
            notes.append(
                [frame + 9999 if HOW == "late note" else frame, "nobody" if HOW == "whose note" else "n", "a hundred"]
            )
        if HOW == "ends" and state["n"] == 500:
            events.append([frame, "end", "", {"reason": "won"}])
        rows.append(row(state["n"]))
    beside = {"events": events, "notes": notes}
    if HOW == "text" or not state["binary"]:
        columns = {name: [one[name] for one in rows] for name in row(0)}
        text = json.dumps({"jsonrpc": "2.0", "id": id_, "result": {**beside, "columns": columns}})
        out.write(text.replace("[0.0,", "[-0,").encode() + b"\n")
        out.flush()
        return
    content = packed(rows)
    length = len(content) - (8 if HOW == "length" else 0)
    say({"jsonrpc": "2.0", "id": id_, "result": {**beside, "bytes": length}}, content[: 5 if HOW == "half" else None])
    if HOW == "half":
        sys.exit(0)


for line in sys.stdin:
    request = json.loads(line)
    method, params, id_ = request["method"], request["params"], request["id"]
    if method == "hello":
        wished = "binary" in params.get("columns", ()) and HOW != "text"
        state["binary"] = wished
        channels = [{"name": "half", "kind": "number"}, {"name": "n", "kind": "count"}, {"name": "odd", "kind": "flag"}]
        channels.append({"name": "mood", "kind": "label", "labels": LABELS})
        able = {
            "protocol": 1,
            "name": "packed",
            "channels": channels,
            "actions": ["hop"],
            "events": ["mark"],
            "saves": True,
        }
        way = {"columns": "pigeon" if HOW == "way" else "binary"} if wished and HOW != "unasked" else {}
        say({"jsonrpc": "2.0", "id": id_, "result": {**able, **way}})
    elif method == "reset":
        state["n"], state["rate"] = 0, float(params["rate"])
        say({"jsonrpc": "2.0", "id": id_, "result": {"row": row(0), "events": []}})
    elif method == "step":
        step(params, id_)
    elif method == "save":
        say({"jsonrpc": "2.0", "id": id_, "result": {"state": str(state["n"])}})
    elif method == "load":
        state["n"] = int(params["state"])
        say({"jsonrpc": "2.0", "id": id_, "result": {"frame": state["n"], "row": row(state["n"])}})
    else:
        say({"jsonrpc": "2.0", "id": id_, "result": {}})
        break
