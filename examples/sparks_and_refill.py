"""Seven sparks from an oil can, then a refill of 2.4 s, in which none flies.

The wrong version first: a reload that never comes back, because its timer is set anew in every frame at zero.
"""

import larktally as lt


class ByHand:
    """What it looks like before: the timer is set in every frame in which the can is empty, so it never runs out."""

    actions = ("spark",)
    events = ("spark", "full")

    def reset(self, setup: lt.Setup) -> None:
        self.oil, self.timer = 7, 0

    def step(self, now: lt.FrameInput) -> list[lt.Event]:
        said = []
        if now.pressed("spark") and self.oil > 0:
            self.oil -= 1
            said.append(lt.Event("spark"))
        if self.oil == 0:
            self.timer = 144
        if self.timer > 0:
            self.timer -= 1
            if self.timer == 0:
                self.oil = 7
                said.append(lt.Event("full"))
        return said

    def observe(self) -> dict[str, int]:
        return {"oil": self.oil, "timer": self.timer}


def can(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, actions=("spark",), events=("spark",))
    oil = sim.stock("oil", 7, "2.4s")
    sim.before("machines", lambda now: now.pressed("spark") and oil.use() and now.emit("spark"))
    return sim


CLAIMS = [
    lt.claim(
        "an empty can is full again 2.4 s later", "follows(began(oil == 0), oil >= 6, within='2.4s', after='2.4s')"
    ),
    lt.claim("no spark flies from an empty can", "never(event('spark') and lasted(oil == 0) > 1)"),
]
taps = lt.InputScript().tap("spark", start=10, every=12, times=20)
empty_and_full = lt.Scenario(can, frames=400, inputs=taps, claims=CLAIMS)

if __name__ == "__main__":
    wrong = lt.record(ByHand, taps, frames=400)
    print(f"by hand:\n{lt.check(wrong, CLAIMS)[0]}\n")
    print(f"the timer at its end: {wrong['timer'][-3:].tolist()}: set anew in every frame\n")
    trace = lt.record(empty_and_full)
    tally = lt.check(trace, CLAIMS)
    print(f"a stock:\n{tally}\nrefused meanwhile: {len(trace.events.named('refused'))} sparks")
    assert tally.passed, tally
