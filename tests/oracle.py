"""The claim language evaluated row by row, as slowly and plainly as its table reads."""

import fnmatch
import math
from fractions import Fraction

from larktally.language.parsing import parse
from larktally.language.tree import Call, ChannelRef, Compare, Flag, Membership, Number, Operation, Text, to_text

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

    def __init__(self, rows, events, inputs, rate, settings=()):
        self.rows, self.events, self.inputs, self.rate = rows, events, inputs, rate
        self.settings = dict(settings)
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
            case Call("param", (Text(name),)):
                return float(self.settings[name])
            case ChannelRef(name):
                value = self.rows[k][name]
                return float(value) if type(value) is int else value
            case Operation(op, args):
                return self.operation(op, [self.at(arg, k) for arg in args])
            case Compare(ops, args):
                values = [self.compared(arg, k) for arg in args]
                return all(COMPARES[op](a, b) for op, a, b in zip(ops, values, values[1:]))
            case Membership(item, options):
                return any(self.at(item, k) == self.at(option, k) for option in options)
            case Call():
                return getattr(self, "s_" + node.name)(node, k)

    def compared(self, node, k):
        """A side of a comparison: a duration beside a number of rows is its frames."""
        text = isinstance(node, Text) and node.value[:1].isdigit()
        return float(self.span(node)) if text else self.at(node, k)

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
        """A duration in frames, exactly: of times, frames, settings, and sums and multiples of them."""
        match node:
            case Number(value):
                return Fraction(value)
            case Text(value) if value.endswith("s"):
                return Fraction(value[:-1]) * Fraction(self.rate)
            case Text(value):
                return Fraction(value.rstrip("f"))
            case Call("param", (Text(name),)):
                return Fraction(self.settings[name])
            case Operation("neg", (arg,)):
                return -self.span(arg)
            case Operation(op, (left, right)):
                a, b = self.span(left), self.span(right)
                return a + b if op == "+" else a - b if op == "-" else a * b

    def frames(self, node):
        found = self.span(node)
        assert found.denominator == 1
        return int(found)

    def window(self, node, k):
        last, since = node.option("last"), node.option("since")
        if last:
            return range(max(0, k - self.frames(last) + 1), k + 1)
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
            and all(self.carries(data, field, wanted) for field, wanted in node.named if field != "source")
        ]

    def carries(self, data, field, wanted):
        value, wanted = data.get(field), self.at(wanted, 0)
        return isinstance(value, bool) == isinstance(wanted, bool) and value == wanted

    def s_text(self, node, k):
        found = self.said(node, k)
        value = found[-1].get(node.args[1].value) if found else None
        return value if isinstance(value, str) else ""

    def s_clock(self, node, k):
        return k == 0 or self.rows[k][node.args[0].value + ".ticking"]

    def s_event(self, node, k):
        return bool(self.said(node, k))

    def s_events(self, node, k):
        return float(len(self.said(node, k)))

    def s_data(self, node, k):
        found = self.said(node, k)
        value = found[-1].get(node.args[1].value) if found else None
        return float(value) if isinstance(value, (int, float)) else NAN

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
        return self.at(node.args[0], max(0, k - (self.frames(node.args[1]) if len(node.args) > 1 else 1)))

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

    def many(self, node, k):
        """The value of the second argument for each of the many that is there, {it} being its name."""
        pattern = node.args[0].value
        names = dict.fromkeys(".".join(name.split(".")[: pattern.count(".") + 1]) for name in self.rows[k])
        found = {}
        for name in fnmatch.filter(names, pattern):
            if self.rows[k].get(name + ".present", True):
                template = parse(to_text(node.args[1]).replace("{it}", name))
                found[name] = self.at(template, k)
        return list(found.values())

    def s_how_many(self, node, k):
        return float(sum(self.many(node, k)))

    def s_all_of(self, node, k):
        return all(self.many(node, k))

    def s_any_of(self, node, k):
        return any(self.many(node, k))

    def s_least_of(self, node, k):
        values = self.many(node, k)
        return NAN if not values or any(v != v for v in values) else min(values)

    def s_greatest_of(self, node, k):
        values = self.many(node, k)
        return NAN if not values or any(v != v for v in values) else max(values)

    def slack(self, node, k):
        if isinstance(node, Call) and node.name == "near":
            x, y, tolerance = (self.at(arg, k) for arg in node.args)
            found = tolerance - abs(x - y)
        elif isinstance(node, Compare) and len(node.ops) == 1 and node.ops[0] in ("<", "<=", ">", ">="):
            a, b = (self.compared(arg, k) for arg in node.args)
            found = 0.0 if a == b else b - a if node.ops[0][0] == "<" else a - b
        else:
            return None
        return -math.inf if found != found else found

    def least(self, node, rows, pick=min):
        slacks = [self.slack(node, k) for k in rows]
        return pick(slacks) if slacks and slacks[0] is not None else None

    def judge(self, node):
        """(cases, breaches, open, margin) of a property."""
        if isinstance(node, Compare):
            return self.compared_measures(node)
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
        k = self.frames(node.args[0])
        if k >= self.count:
            return 1, [], 1, None
        return 1, [] if self.at(node.args[1], k) else [(None, k)], 0, self.slack(node.args[1], k)

    def ticked(self, node, k):
        """Whether row k is a tick of the call's clock; without one each row is."""
        on = node.option("on")
        if on is None:
            return True
        if isinstance(on, Text):
            return k == 0 or self.rows[k][on.value + ".ticking"]
        return self.at(on, k)

    def apart(self, node, k, j):
        """The ticks from row k to row j."""
        return sum(self.ticked(node, i) for i in range(min(k, j) + 1, max(k, j) + 1))

    def p_follows(self, node):
        a, p = node.args
        within, after, unless = self.frames(node.option("within")), node.option("after"), node.option("unless")
        wait = self.frames(after) if after else 0
        breaches, opened, margins, cases = [], 0, [], 0
        for k in self.holds(a):
            state, span = "waiting", [j for j in range(k, self.count) if self.apart(node, k, j) <= within]
            for j in span:
                if self.at(p, j) and self.apart(node, k, j) >= wait:
                    state = "answered"
                elif unless and self.at(unless, j):
                    state = "excused"
                elif self.at(p, j):
                    state = ("early", j)
                if state != "waiting":
                    break
            cases += state != "excused"
            if state == "waiting" and self.apart(node, k, self.count - 1) < within:
                opened += 1
            elif state == "waiting":
                breaches.append((k, min(j for j in span if self.apart(node, k, j) == within)))
            elif state[0] == "early":
                breaches.append((k, state[1]))
            decided = state == "answered" or (breaches and breaches[-1][0] == k)
            span = [j for j in span if self.apart(node, k, j) >= wait]
            if decided and span:
                margins.append(self.least(p, span, max))
        return cases, breaches, opened, min(margins) if margins and margins[0] is not None else None

    def p_lasts(self, node):
        a, p, width, unless = node.args[0], node.args[1], self.frames(node.args[2]), node.option("unless")
        breaches, opened, margins, cases = [], 0, [], 0
        for k in self.holds(a):
            span = [j for j in range(k, self.count) if self.apart(node, k, j) <= width - 1]
            asked = []
            for j in span:
                if unless and self.at(unless, j):
                    break
                asked.append(j)
            wrong = next((j for j in asked if not self.at(p, j)), None)
            if wrong is None and len(asked) < len(span):
                continue
            cases += 1
            if wrong is not None:
                breaches.append((k, wrong))
            elif self.apart(node, k, self.count - 1) < width - 1:
                opened += 1
            margins.append(self.least(p, asked))
        return cases, breaches, opened, min(margins) if margins and margins[0] is not None else None

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
        return self.frames(low) if low else 0, self.frames(high) if high else math.inf

    def p_spaced(self, node):
        rows, (low, high) = self.holds(node.args[0]), self.limits(node)
        pairs = list(zip(rows, rows[1:]))
        return len(pairs), [(a, b) for a, b in pairs if not low <= self.apart(node, a, b) <= high], 0, None

    def p_stays(self, node):
        (low, high), unless = self.limits(node), node.option("unless")
        cases, breaches, opened, k = 0, [], 0, 0
        while k < self.count:
            if not self.at(node.args[0], k):
                k += 1
                continue
            start = k
            while k < self.count and self.at(node.args[0], k):
                k += 1
            ticks = [j for j in range(start, k) if self.ticked(node, j)]
            if not ticks:
                continue
            held = [j for j in range(start, min(k, self.count - 1) + 1) if unless and self.at(unless, j)]
            if len(ticks) > high:
                if not any(j < ticks[high] for j in held):
                    breaches.append((start, ticks[high]))
                    cases += 1
            elif k == self.count and (len(ticks) < low or high < math.inf):
                opened += not held
                cases += not held
            elif len(ticks) < low:
                if not held:
                    breaches.append((start, k - 1))
                    cases += 1
            else:
                cases += 1
        return cases, breaches, opened, None

    def p_paired(self, node):
        within, alone = self.frames(node.option("within")), []
        a, b = (self.holds(arg) for arg in node.args)
        cases = len(a) + len(b)
        while a or b:
            if a and b and self.apart(node, a[0], b[0]) <= within:
                a, b = a[1:], b[1:]
            elif not b or (a and a[0] < b[0]):
                alone, a = [*alone, a[0]], a[1:]
            else:
                alone, b = [*alone, b[0]], b[1:]
        waits = [k for k in alone if self.apart(node, k, self.count - 1) < within]
        return cases, [(k, k) for k in alone if k not in waits], len(waits), None

    def p_distinct(self, node):
        source, carried, breaches = node.option("source"), [], []
        for row, name, by, data in self.events:
            mine = source is None or by == source.value or by.startswith(source.value + ".")
            if name == node.args[0].value and mine and node.args[1].value in data:
                value = data[node.args[1].value]
                earlier = [r for r, v in carried if v == value and isinstance(v, bool) == isinstance(value, bool)]
                breaches += [(earlier[0], row)] if earlier else []
                carried.append((row, value))
        return len(carried), breaches, 0, None

    def counted(self, node, low, high):
        rows, n = self.holds(node.args[0]), self.frames(node.args[1])
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

    def p_measured(self, node):
        m, low, high = node.args
        return self.compared_measures(Compare(("<=", "<="), (low, m, high)))

    def measure(self, node, first, last):
        """(value, row) over rows first..last: NaN where there is nothing to measure."""
        if isinstance(node, (Number, Operation)) or node.name == "param":
            return self.arithmetic(node, first, last), None
        since, until = node.option("since"), node.option("until")
        if since:
            first = next((k for k in range(first, last + 1) if self.at(since, k)), None)
        if until and first is not None:
            last = next((k for k in range(first + 1, last + 1) if self.at(until, k)), None)
        if first is None or last is None:
            return NAN, None
        columns = []
        for arg in node.args:
            arg = ChannelRef(arg.value) if isinstance(arg, Text) else arg
            columns.append([self.at(arg, k) for k in range(first, last + 1)])
        value, row = MEASURES[node.name](*columns)
        if node.name in ("area", "time_to"):
            value /= self.rate
        return float(value), None if row is None else first + row

    def arithmetic(self, node, first, last):
        match node:
            case Operation(op, args):
                return self.operation(op, [self.measure(arg, first, last)[0] for arg in args])
            case Call() if node.name != "param":
                return self.measure(node, first, last)[0]
        return self.at(node, 0)

    def compared_measures(self, node, first=0, last=None):
        """(cases, breaches, open, margin) of a comparison of measures."""
        last = self.count - 1 if last is None else last
        values = []
        for arg in node.args:
            timed = isinstance(arg, Text) or (isinstance(arg, Operation) and not self.measures_of(arg))
            values.append(float(self.span(arg)) if timed else self.arithmetic(arg, first, last))
        slacks, row, broken = [], None, False
        for n, op in enumerate(node.ops):
            a, b = values[n], values[n + 1]
            holds = COMPARES[op](a, b) and a == a and b == b
            if not holds and not broken:
                broken = True
                named = [m for arg in node.args[n : n + 2] for m in self.measures_of(arg)]
                row = self.measure(named[0], first, last)[1] if named else None
            slack = 0.0 if a == b else b - a if op[0] == "<" else a - b
            slacks.append(-math.inf if slack != slack else slack)
        margin = min(slacks) if all(op in ("<", "<=", ">", ">=") for op in node.ops) else None
        return 1, [(None, row)] if broken else [], 0, margin

    def measures_of(self, node):
        if isinstance(node, Operation):
            return [found for arg in node.args for found in self.measures_of(arg)]
        return [node] if isinstance(node, Call) and node.name != "param" else []

    def p_each(self, node):
        (a, p), until = node.args, node.option("until")
        rows, breaches, opened, margins = self.holds(a), [], 0, []
        for n, k in enumerate(rows):
            if until:
                end = next((j for j in range(k + 1, self.count) if self.at(until, j)), None)
            else:
                end = rows[n + 1] - 1 if n + 1 < len(rows) else self.count - 1
            if end is None:
                opened += 1
                continue
            _, wrong, _, margin = self.compared_measures(p, k, end)
            breaches += [(k, end)] if wrong else []
            margins.append(margin)
        return len(rows), breaches, opened, min(margins) if margins and margins[0] is not None else None


def rows_with(flags):
    return [k for k, flag in enumerate(flags) if flag]


def stretches_of(flags):
    """(length, first row) of each unbroken stretch."""
    found = []
    for k, flag in enumerate(flags):
        if flag and k and flags[k - 1]:
            found[-1] = (found[-1][0] + 1, found[-1][1])
        elif flag:
            found.append((1, k))
    return found


def gaps_of(flags):
    """(length, first row) of each gap from one row to the next."""
    rows = rows_with(flags)
    return [(b - a, a) for a, b in zip(rows, rows[1:])]


def widest(found, nothing=NAN):
    return max(found, key=lambda one: (one[0], -one[1]), default=(nothing, None))


def narrowest(found):
    return min(found, key=lambda one: (one[0], one[1]), default=(NAN, None))


def extreme(values, pick):
    if any(v != v for v in values):
        return NAN, next(k for k, v in enumerate(values) if v != v)
    return pick(values), values.index(pick(values))


def settled(x, tolerance):
    if x[-1] != x[-1]:
        return NAN, None
    away = [k + 1 for k, v in enumerate(x) if not (abs(v - x[-1]) <= tolerance[k] or v == x[-1])]
    return max(away, default=0), max(away, default=0)


def travelled(x, p):
    moved = [b - a for a, b, flag in zip(x, x[1:], p[1:]) if flag]
    return (sum(moved), rows_with(p)[-1]) if any(p) else (NAN, None)


MEASURES = {
    "apex": lambda x: (extreme(x, max)[0] - x[0], extreme(x, max)[1]),
    "reach": lambda x: extreme([abs(v - x[0]) for v in x], max),
    "greatest": lambda x: extreme(x, max),
    "smallest": lambda x: extreme(x, min),
    "area": lambda x: (sum(x), None),
    "travelled": travelled,
    "settling": settled,
    "value_when": lambda x, p: next(((x[k], k) for k in rows_with(p)), (NAN, None)),
    "first_row": lambda p: next(((k, k) for k in rows_with(p)), (NAN, None)),
    "last_row": lambda p: next(((k, k) for k in rows_with(p)[::-1]), (NAN, None)),
    "time_to": lambda p: next(((k, k) for k in rows_with(p)), (NAN, None)),
    "rows_with": lambda p: (len(rows_with(p)), None),
    "air_time": lambda p: widest(stretches_of([not v for v in p]), 0),
    "longest": lambda p: widest(stretches_of(p), 0),
    "shortest": lambda p: narrowest(stretches_of(p)),
    "longest_gap": lambda p: widest(gaps_of(p)),
    "shortest_gap": lambda p: narrowest(gaps_of(p)),
}


UNTESTED = {"follows", "lasts", "until", "precedes", "spaced", "stays", "paired", "distinct", "each"}


def verdict(node, cases, breaches, opened):
    """The verdict by the rules of section 6."""
    if isinstance(node, Compare):
        return "broken" if breaches else "kept"
    conditional = node.name in UNTESTED or (
        node.name == "always" and isinstance(node.args[0], Call) and node.args[0].name == "implies"
    )
    if breaches:
        return "broken"
    if opened:
        return "unfinished"
    return "untested" if conditional and not cases else "kept"
