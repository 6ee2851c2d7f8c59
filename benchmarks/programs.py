"""A program that does nothing, 12 channels: in batches against the same subject in Python, and frame by frame beside a
bare echo over the same pipe."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Iterable
from pathlib import Path

import larktally as lt
from larktally.runs.observers import RunObserver
from larktally.runs.record import record_watched

FRAMES, STEPS, WIDE_FRAMES = 20_000, 1_000, 100_000
STILL = r"""
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
static char line[1 << 22];
int main(int count, char **words) {
    (void)words;
    if (count > 1) { /* a bare echo */
        while (fgets(line, sizeof line, stdin)) { fputs(line, stdout); fflush(stdout); }
        return 0;
    }
    while (fgets(line, sizeof line, stdin)) {
        long id = atol(strstr(line, "\"id\":") + 5);
        char *frames = strstr(line, "\"frames\":");
        printf("{\"jsonrpc\":\"2.0\",\"id\":%ld,\"result\":", id);
        if (strstr(line, "\"hello\"")) {
            fputs("{\"protocol\":1,\"name\":\"still\",\"channels\":[", stdout);
            for (int c = 0; c < 12; c++) printf("%s{\"name\":\"c%d\",\"kind\":\"number\"}", c ? "," : "", c);
            fputs("],\"actions\":[\"hop\"],\"events\":[]}", stdout);
        } else if (frames) {
            int n = atoi(frames + 9);
            fputs("{\"columns\":{", stdout);
            for (int c = 0; c < 12; c++) {
                printf("%s\"c%d\":[", c ? "," : "", c);
                for (int k = 0; k < n; k++) fputs(k ? ",1.5" : "1.5", stdout);
                putchar(']');
            }
            fputs("}}", stdout);
        } else {
            fputs("{\"row\":{", stdout);
            for (int c = 0; c < 12; c++) printf("%s\"c%d\":1.5", c ? "," : "", c);
            fputs("}}", stdout);
        }
        fputs("}\n", stdout);
        fflush(stdout);
    }
    return 0;
}
"""


class Still:
    """The same subject in Python."""

    actions = ("hop",)

    def reset(self, setup: lt.Setup) -> None:
        pass

    def step(self, now: lt.FrameInput) -> None:
        pass

    def observe(self) -> dict[str, float]:
        return {f"c{n}": 1.5 for n in range(12)}


WIDE = r"""
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#ifdef BOUND
#include "larktally.hpp"
#endif
static double x[32];
static int n[4], odd[2];
static void reset(void) { memset(x, 0, sizeof x); memset(n, 0, sizeof n); memset(odd, 0, sizeof odd); }
static void step(void) {
    for (int k = 0; k < 32; k++) x[k] += (k + 1) / 7.0;
    for (int k = 0; k < 4; k++) n[k] += k;
    odd[0] = !odd[0];
    odd[1] = n[1] % 3 == 0;
}
#ifdef BOUND
int main() {
    larktally::Subject game("wide", "1");
    for (int k = 0; k < 32; k++) game.bind("x" + std::to_string(k), &x[k]);
    for (int k = 0; k < 4; k++) game.bind("n" + std::to_string(k), &n[k]);
    for (int k = 0; k < 2; k++) game.bind("f" + std::to_string(k), [k] { return odd[k] != 0; });
    for (int k = 0; k < 2; k++) game.bind("g" + std::to_string(k), &odd[k], {"calm", "cross"});
    game.action("hop").on_reset([](const larktally::Start &) { reset(); });
    return game.serve(step);
}
#else
static char line[1 << 22];
static double xs[32][4096];
static int ns[4][4096], odds[2][4096];
/* As the page on programs has it: JSON text, floats with 17 digits. */
static void columns(int count) {
    for (int c = 0; c < 32; c++) {
        printf("%s\"x%d\":[", c ? "," : "", c);
        for (int k = 0; k < count; k++) printf(k ? ",%.17g" : "%.17g", xs[c][k]);
        putchar(']');
    }
    for (int c = 0; c < 4; c++) {
        printf(",\"n%d\":[", c);
        for (int k = 0; k < count; k++) printf(k ? ",%d" : "%d", ns[c][k]);
        putchar(']');
    }
    for (int c = 0; c < 4; c++) {
        static const char *words[2][2] = {{"false", "true"}, {"\"calm\"", "\"cross\""}};
        printf(",\"%c%d\":[", c < 2 ? 'f' : 'g', c % 2);
        for (int k = 0; k < count; k++) printf(k ? ",%s" : "%s", words[c / 2][odds[c % 2][k]]);
        putchar(']');
    }
}
static void keep(int k) {
    for (int c = 0; c < 32; c++) xs[c][k] = x[c];
    for (int c = 0; c < 4; c++) ns[c][k] = n[c];
    for (int c = 0; c < 2; c++) odds[c][k] = odd[c];
}
int main(void) {
    while (fgets(line, sizeof line, stdin)) {
        long id = atol(strstr(line, "\"id\":") + 5);
        char *frames = strstr(line, "\"frames\":");
        printf("{\"jsonrpc\":\"2.0\",\"id\":%ld,\"result\":", id);
        if (strstr(line, "\"hello\"")) {
            fputs("{\"protocol\":1,\"name\":\"wide\",\"channels\":[", stdout);
            for (int c = 0; c < 32; c++) printf("%s{\"name\":\"x%d\",\"kind\":\"number\"}", c ? "," : "", c);
            for (int c = 0; c < 4; c++) printf(",{\"name\":\"n%d\",\"kind\":\"count\"}", c);
            for (int c = 0; c < 2; c++) printf(",{\"name\":\"f%d\",\"kind\":\"flag\"}", c);
            for (int c = 0; c < 2; c++) printf(",{\"name\":\"g%d\",\"kind\":\"label\",\"labels\":[\"calm\",\"cross\"]}", c);
            fputs("],\"actions\":[\"hop\"],\"events\":[]}", stdout);
        } else if (frames) {
            int count = atoi(frames + 9);
            for (int k = 0; k < count; k++) step(), keep(k);
            fputs("{\"columns\":{", stdout);
            columns(count);
            fputs("}}", stdout);
        } else if (strstr(line, "\"reset\"")) {
            reset();
            fputs("{\"row\":{", stdout);
            for (int c = 0; c < 32; c++) printf("%s\"x%d\":0", c ? "," : "", c);
            for (int c = 0; c < 4; c++) printf(",\"n%d\":0", c);
            fputs(",\"f0\":false,\"f1\":false,\"g0\":\"calm\",\"g1\":\"calm\"}}", stdout);
        } else {
            fputs("{}", stdout);
        }
        fputs("}\n", stdout);
        fflush(stdout);
    }
    return 0;
}
#endif
"""


class Waits(RunObserver):
    """May end the run, for all that is known: so that no message is asked for before the one before was looked at."""

    may_stop = True


def wide_rows(folder: Path) -> Iterable[tuple[str, float, object, object]]:
    """A wide game, bound and by hand; the control is one message after the other, as text, 256 frames each."""
    (folder / "wide.c").write_text(WIDE)
    (folder / "wide.cpp").write_text(WIDE)
    bindings = Path(lt.__file__).parent / "bindings" / "cpp"
    subprocess.run(["cc", "-O2", "-o", folder / "by_hand", folder / "wide.c"], check=True)
    bound = ["c++", "-std=c++17", "-O2", "-DBOUND", f"-I{bindings}", "-o", folder / "bound", folder / "wide.cpp"]
    subprocess.run(bound, check=True)
    as_bytes = lt.Scenario(lt.Program([str(folder / "bound")]), frames=WIDE_FRAMES)
    as_text = lt.Scenario(lt.Program([str(folder / "bound")], columns="json"), frames=WIDE_FRAMES)
    by_hand = lt.Scenario(lt.Program([str(folder / "by_hand")]), frames=WIDE_FRAMES)
    one, other = lt.record(as_bytes), record_watched(by_hand, [Waits()])
    assert one.channels == other.channels and len(one.channels) == 40
    for name in one.channels:
        assert one.column(name).stored.tobytes() == other.column(name).stored.tobytes(), name
    control = lambda: record_watched(by_hand, [Waits()])  # noqa: E731 - both rows have it
    what = "40 channels x 100,000"
    yield f"{what} as bytes, asked ahead / as text by hand, one by one", 0.1, lambda: lt.record(as_bytes), control
    yield f"{what} as the binding's text, asked ahead / the same", 0.5, lambda: lt.record(as_text), control
    yield f"{what} as text by hand, asked ahead / the same", 1.0, lambda: lt.record(by_hand), control


class Echo:
    """A bare echo: a line there and back."""

    def __init__(self, command: str) -> None:
        self.process = subprocess.Popen([command, "echo"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)

    def steps(self) -> None:
        for _ in range(STEPS):
            self.process.stdin.write(b'{"jsonrpc":"2.0","id":1,"method":"step","params":{"first":1,"frames":1}}\n')
            self.process.stdin.flush()
            self.process.stdout.readline()


def rows() -> Iterable[tuple[str, float, object, object]]:
    if not shutil.which("cc"):
        print("there is no C compiler here (cc): programs are not measured")
        return
    folder = Path(tempfile.mkdtemp())
    (folder / "still.c").write_text(STILL)
    subprocess.run(["cc", "-O2", "-o", folder / "still", folder / "still.c"], check=True)
    batched = lt.Scenario(lt.Program([str(folder / "still")]), frames=FRAMES)
    single = lt.Scenario(lt.Program([str(folder / "still")], batch=1), frames=STEPS)
    in_python, echo = lt.Scenario(Still, frames=FRAMES), Echo(str(folder / "still"))
    yield (
        "a program, 12 channels, in batches / the same in Python",
        3.0,
        lambda: lt.record(batched),
        lambda: lt.record(in_python),
    )
    yield "a program frame by frame / a bare echo over the pipe", 6.0, lambda: lt.record(single), echo.steps
    yield from wide_rows(folder)
