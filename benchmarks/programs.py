"""A program that does nothing, 12 channels: in batches against the same subject in Python, and frame by frame beside a
bare echo over the same pipe."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Iterable
from pathlib import Path

import larktally as lt

FRAMES, STEPS = 20_000, 1_000
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
