"""The claim language evaluated row by row, as slowly and plainly as its table reads."""

import math

from larktally.language.tree import Call, ChannelRef, Compare, Flag, Membership, Number, Operation, Text

NAN = math.nan
COMPARES = {
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
    "==": lambda a, b: a == b,
    "!=": lambda a, b: a != b,
}


class Oracle:
    """Reads `rows` (a dict of values each), `events` (row, name, source, data) and `inputs` (a list a name)."""

    def __init__(self, rows, events, inputs, rate):
        self.rows, self.events, self.inputs, self.rate = rows, events, inputs, rate
        self.count = len(rows)
        self.known = {}

    def at(self, node, k):
        """The value in row k, remembered, since nested spans would ask for it without end."""
        if (node, k) not in self.known:
            self.known[node, k] = self.value(node, k)
        return self.known[node, k]

    def value(self, node, k):
        match node:
            case Number(value):
                return float(value)
            case Text(value) | Flag(value):
                return value
            case ChannelRef(name):
                value = self.rows[k][name]
                return float(value) if type(value) is int else value
            case Operation(op, args):
                return self.operation(op, [self.at(arg, k) for arg in args])
            case Compare(ops, args):
                values = [self.at(arg, k) for arg in args]
                return all(COMPARES[op](a, b) for op, a, b in zip(ops, values, values[1:]))
            case Membership(item, options):
                return any(self.at(item, k) == self.at(option, k) for option in options)
            case Call():
                return getattr(self, "s_" + node.name)(node, k)

    def operation(self, op, values):
        if op == "and":
            return all(values)
        if op == "or":
            return any(values)
        if op == "not":
            return not values[0]
        if op == "neg":
            return -values[0]
        a, b = values
        if op in "+-*":
            return a + b if op == "+" else a - b if op == "-" else a * b
        if op == "/":
            return a / b if b else NAN if a == 0 or a != a else math.copysign(math.inf, a) * math.copysign(1, b)
        raise AssertionError(op)

    def holds(self, node):
        return [k for k in range(self.count) if self.at(node, k)]

    def span(self, node):
        return int(node.value) if isinstance(node, Number) else int(node.value.rstrip("f"))

    def window(self, node, k):
        last, since = node.option("last"), node.option("since")
        if last:
            return range(max(0, k - self.span(last) + 1), k + 1)
        if since:
            starts = [j for j in self.holds(since) if j <= k]
            return range(starts[-1] if starts else 0, k + 1)
        return range(k + 1)

    def s_frame(self, node, k):
        return float(k)

    def s_time(self, node, k):
        return k / self.rate

    def s_abs(self, node, k):
        return abs(self.at(node.args[0], k))

    def pair(self, node, k, pick):
        a, b = (self.at(arg, k) for arg in node.args)
        return NAN if a != a or b != b else pick(a, b)

    def s_min(self, node, k):
        return self.pair(node, k, min)

    def s_max(self, node, k):
        return self.pair(node, k, max)

    def s_near(self, node, k):
        x, y, tolerance = (self.at(arg, k) for arg in node.args)
        return abs(x - y) <= tolerance

    def s_implies(self, node, k):
        return not self.at(node.args[0], k) or self.at(node.args[1], k)

    def said(self, node, k):
        source = node.option("source")
        return [
            data
            for row, name, by, data in self.events
            if row == k
            and name == node.args[0].value
            and (source is None or by == source.value or by.startswith(source.value + "."))
        ]

    def s_event(self, node, k):
        return bool(self.said(node, k))

    def s_events(self, node, k):
        return float(len(self.said(node, k)))

    def s_data(self, node, k):
        found = self.said(node, k)
        value = found[-1].get(node.args[1].value) if found else None
        return NAN if value is None else float(value)

    def s_held(self, node, k):
        return abs(self.inputs[node.args[0].value][k]) >= 0.5

    def s_pressed(self, node, k):
        return k > 0 and self.s_held(node, k) and not self.s_held(node, k - 1)

    def s_released(self, node, k):
        return k > 0 and self.s_held(node, k - 1) and not self.s_held(node, k)

    def s_axis(self, node, k):
        negative, positive = (self.inputs[arg.value][k] for arg in node.args)
        return positive - negative

    def s_turn(self, node, k):
        x, y = (self.at(arg, k) for arg in node.args)
        full = node.option("full").value if node.option("full") is not None else 360
        if not math.isfinite(x - y):
            return NAN
        # Of all the ways round the shortest, and of two as short the one upward.
        turns = math.floor((x - y) / full)
        ways = [x - y - full * (turns + n) for n in (-1, 0, 1, 2)]
        return min(ways, key=lambda way: (abs(way), -way))

    def s_value(self, node, k):
        return self.inputs[node.args[0].value][k]

    def s_in_state(self, node, k):
        state, wanted = self.at(node.args[0], k), node.args[1].value
        return state == wanted or state.startswith(wanted + "/")

    def s_prev(self, node, k):
        return self.at(node.args[0], max(0, k - (self.span(node.args[1]) if len(node.args) > 1 else 1)))

    def s_began(self, node, k):
        return k > 0 and self.at(node.args[0], k) and not self.at(node.args[0], k - 1)

    def s_ended(self, node, k):
        return k > 0 and self.at(node.args[0], k - 1) and not self.at(node.args[0], k)

    def s_changed(self, node, k):
        return k > 0 and self.at(node.args[0], k) != self.at(node.args[0], k - 1)

    def s_delta(self, node, k):
        return self.at(node.args[0], k) - self.at(node.args[0], k - 1) if k else 0.0

    def s_per_second(self, node, k):
        return self.s_delta(node, k) * self.rate

    def s_lasted(self, node, k):
        length = 0
        while k - length >= 0 and self.at(node.args[0], k - length):
            length += 1
        return float(length)

    def s_since(self, node, k):
        held = [j for j in self.holds(node.args[0]) if j <= k]
        return float(k - held[-1]) if held else math.inf

    def s_latest(self, node, k):
        held = [j for j in self.holds(node.option("when")) if j <= k]
        return self.at(node.args[0], held[-1]) if held else NAN

    def s_count(self, node, k):
        return float(sum(self.at(node.args[0], j) for j in self.window(node, k)))

    def s_total(self, node, k):
        return float(sum(self.at(node.args[0], j) for j in self.window(node, k)))

    def fold(self, node, k, pick):
        values = [self.at(node.args[0], j) for j in self.window(node, k)]
        return NAN if any(v != v for v in values) else pick(values)

    def s_highest(self, node, k):
        return self.fold(node, k, max)

    def s_lowest(self, node, k):
        return self.fold(node, k, min)

    def s_mean(self, node, k):
        return self.s_total(node, k) / len(self.window(node, k))

    def slack(self, node, k):
        if isinstance(node, Call) and node.name == "near":
            x, y, tolerance = (self.at(arg, k) for arg in node.args)
            found = tolerance - abs(x - y)
        elif isinstance(node, Compare) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">="):
            a, b = (self.at(arg, k) for arg in node.args)
            found = 0.0 if a == b else b - a if node.ops[0][0] == "<" else a - b
        else:
            return None
        return -math.inf if found != found else found

    def least(self, node, rows, pick=min):
        slacks = [self.slack(node, k) for k in rows]
        return pick(slacks) if slacks and slacks[0] is not None else None

    def judge(self, node):
        """(cases, breaches, open, margin) of a property."""
        return getattr(self, "p_" + node.name)(node)

    def p_always(self, node):
        p, rows = node.args[0], range(self.count)
        if isinstance(p, Call) and p.name == "implies":
            rows = self.holds(p.args[0])
            return len(rows), [(k, k) for k in rows if not self.at(p.args[1], k)], 0, self.least(p.args[1], rows)
        return self.count, [(None, k) for k in rows if not self.at(p, k)], 0, self.least(p, rows)

    def p_never(self, node):
        rows = range(self.count)
        slacks = [self.slack(node.args[0], k) for k in rows]
        margin = min(-s for s in slacks) if slacks and slacks[0] is not None else None
        return self.count, [(None, k) for k in self.holds(node.args[0])], 0, margin

    def p_eventually(self, node):
        margin = self.least(node.args[0], range(self.count), max)
        return 1, [] if self.holds(node.args[0]) else [(None, self.count - 1)], 0, margin

    def p_at(self, node):
        k = self.span(node.args[0])
        if k >= self.count:
            return 1, [], 1, None
        return 1, [] if self.at(node.args[1], k) else [(None, k)], 0, self.slack(node.args[1], k)

    def p_follows(self, node):
        a, p = node.args
        within, after, unless = self.span(node.option("within")), node.option("after"), node.option("unless")
        wait = self.span(after) if after else 0
        breaches, opened, margins, rows = [], 0, [], self.holds(a)
        for k in rows:
            state = "waiting"
            for j in range(k, min(k + within, self.count - 1) + 1):
                if self.at(p, j) and j >= k + wait:
                    state = "answered"
                elif unless and self.at(unless, j):
                    state = "excused"
                elif self.at(p, j):
                    state = ("early", j)
                if state != "waiting":
                    break
            if state == "waiting" and k + within >= self.count:
                opened += 1
            elif state == "waiting":
                breaches.append((k, k + within))
            elif state[0] == "early":
                breaches.append((k, state[1]))
            decided = state == "answered" or (breaches and breaches[-1][0] == k)
            span = [j for j in range(k + wait, k + within + 1) if j < self.count]
            if decided and span:
                margins.append(self.least(p, span, max))
        return len(rows), breaches, opened, min(margins) if margins and margins[0] is not None else None

    def p_lasts(self, node):
        a, p, width = node.args[0], node.args[1], self.span(node.args[2])
        breaches, opened, margins, rows = [], 0, [], self.holds(a)
        for k in rows:
            span = [j for j in range(k, k + width) if j < self.count]
            wrong = next((j for j in span if not self.at(p, j)), None)
            if wrong is not None:
                breaches.append((k, wrong))
            elif k + width > self.count:
                opened += 1
            margins.append(self.least(p, span))
        return len(rows), breaches, opened, min(margins) if margins and margins[0] is not None else None

    def p_until(self, node):
        a, p, q = node.args
        breaches, opened, rows = [], 0, self.holds(a)
        for k in rows:
            for j in range(k, self.count):
                if self.at(q, j):
                    break
                if not self.at(p, j):
                    breaches.append((k, j))
                    break
            else:
                opened += 1
        return len(rows), breaches, opened, None

    def p_precedes(self, node):
        a, b = node.args
        breaches, rows, before = [], self.holds(b), -1
        for k in rows:
            if not any(self.at(a, j) for j in range(before + 1, k + 1)):
                breaches.append((k, k))
            before = k
        return len(rows), breaches, 0, None

    def limits(self, node):
        low, high = node.option("exactly") or node.option("at_least"), node.option("exactly") or node.option("at_most")
        return self.span(low) if low else 0, self.span(high) if high else math.inf

    def p_spaced(self, node):
        rows, (low, high) = self.holds(node.args[0]), self.limits(node)
        pairs = list(zip(rows, rows[1:]))
        return len(pairs), [(a, b) for a, b in pairs if not low <= b - a <= high], 0, None

    def p_stays(self, node):
        low, high = self.limits(node)
        stretches, breaches, opened, k = 0, [], 0, 0
        while k < self.count:
            if not self.at(node.args[0], k):
                k += 1
                continue
            start = k
            while k < self.count and self.at(node.args[0], k):
                k += 1
            stretches, length = stretches + 1, k - start
            if length > high:
                breaches.append((start, start + high))
            elif k == self.count and (length < low or high < math.inf):
                opened += 1
            elif length < low:
                breaches.append((start, k - 1))
        return stretches, breaches, opened, None

    def counted(self, node, low, high):
        rows, n = self.holds(node.args[0]), int(node.args[1].value)
        if high and len(rows) > n:
            return 1, [(None, rows[n])], 0, None
        return 1, [(None, self.count - 1)] if low and len(rows) < n else [], 0, None

    def p_exactly(self, node):
        return self.counted(node, True, True)

    def p_at_least(self, node):
        return self.counted(node, True, False)

    def p_at_most(self, node):
        return self.counted(node, False, True)

    def p_in_order(self, node):
        row = -1
        for arg in node.args:
            row = next((k for k in range(row + 1, self.count) if self.at(arg, k)), None)
            if row is None:
                return 1, [(None, self.count - 1)], 0, None
        return 1, [], 0, None


UNTESTED = {"follows", "lasts", "until", "precedes", "spaced", "stays"}


def verdict(node, cases, breaches, opened):
    """The verdict by the rules of section 6."""
    conditional = node.name in UNTESTED or (
        node.name == "always" and isinstance(node.args[0], Call) and node.args[0].name == "implies"
    )
    if breaches:
        return "broken"
    if opened:
        return "unfinished"
    return "untested" if conditional and not cases else "kept"
