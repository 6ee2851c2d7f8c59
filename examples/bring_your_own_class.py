"""Bring your own class: three methods, and the object that you have is recorded, claimed, replayed and audited.

The wrong version first: its `load` forgets a counter, so that a rewound run is another run. The audit names it.
"""

import json

import larktally as lt


class OilCan:
    """A can as a game has it: it leaks a drop every 20 frames, and a tap takes one."""

    actions = ("tap",)
    events = ("drop",)

    def reset(self, setup: lt.Setup) -> None:
        self.oil, self.since = 30, 0

    def step(self, now: lt.FrameInput) -> list[lt.Event]:
        said = []
        self.since += 1
        if self.since == 20 or (now.pressed("tap") and self.oil):
            self.oil -= 1
            said.append(lt.Event("drop", "can", left=self.oil))
        if self.since == 20:
            self.since = 0
        return said

    def observe(self) -> dict[str, int | bool]:
        return {"oil": self.oil, "empty": self.oil == 0}

    def save(self) -> bytes:
        return json.dumps({"oil": self.oil}).encode()

    def load(self, saved: bytes) -> None:
        self.oil = json.loads(saved)["oil"]


class WholeCan(OilCan):
    """The same, with all of its state saved."""

    def save(self) -> bytes:
        return json.dumps([self.oil, self.since]).encode()

    def load(self, saved: bytes) -> None:
        self.oil, self.since = json.loads(saved)


taps = lt.InputScript().tap("tap", start=7, every=31, times=5)
leaking = lt.Scenario(
    OilCan,
    frames=200,
    inputs=taps,
    claims=[
        lt.claim("a drop is one", "always(implies(event('drop'), delta(oil) == -1))"),
        lt.claim("it leaks every 20 frames or sooner", "spaced(event('drop'), at_most=20)"),
    ],
)

if __name__ == "__main__":
    trace = lt.record(leaking)
    tally = lt.check(trace, leaking.claims)
    print(f"{tally}\n{lt.replay(trace, leaking)}\n")
    assert tally.passed and lt.replay(trace, leaking).identical
    print(f"which line set what, where the can leaks:\n{lt.causes(trace, leaking, 20)}\n")
    found = lt.audit(leaking, rows=[10, 55, 100])
    print(f"a load that forgets:\n{found}\n")
    assert any("self.since" in suspect for one in found.rerun.failed for suspect in one.suspects)
    found = lt.audit(leaking.changed(subject=WholeCan), rows=[10, 55, 100], fresh=False)
    print(f"one that does not:\n{found}")
    assert found.passed
