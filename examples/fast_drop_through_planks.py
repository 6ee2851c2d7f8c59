"""A fast drop onto thin planks: moving first and testing overlap afterwards misses them, the sweep does not."""

import sys

import larktally as lt

PLANKS = lt.Level(
    [
        lt.geometry.box_at((0, 0), (160, 8)),
        lt.geometry.box_at((40, 120), (80, 1), name="thin plank"),
        lt.geometry.box_at((0, 240), (60, 2), one_way=True),
    ]
)


class WrongDrop:
    """The usual first version: move by the whole step, then look whether a plank is overlapped."""

    def reset(self, setup: lt.Setup) -> None:
        self.y, self.vy = 400.0, -3000.0

    def step(self, now: lt.FrameInput) -> None:
        self.y += self.vy / 60
        for low, high in ((120.0, 121.0), (0.0, 8.0)):
            if self.y < high and self.y + 10 > low:
                self.y, self.vy = high, 0.0

    def observe(self) -> dict[str, float]:
        return {"drop.y": self.y}


def drop(setup: lt.Setup) -> lt.Sim:
    sim = lt.Sim(setup, level=PLANKS)
    sim.body("drop", size=(10, 10), at=(70, 400), velocity=(0, -3000))
    return sim


CLAIM = lt.claim("nothing falls through the thin plank", "always(drop.y >= 121)")

if __name__ == "__main__":
    print("moved first, tested afterwards:")
    print(lt.check(lt.record(WrongDrop, frames=20), [CLAIM]))
    trace = lt.record(drop, frames=20)
    print("\nswept:")
    tally = lt.check(trace, [CLAIM])
    print(tally)
    (landed,) = trace.events.named("landed")
    print(f"landed in row {landed.row} on {landed.data['on']!r}, {landed.data['time']:.3f} of the way through the step")
    assert tally.passed
    if sys.argv[1:]:
        from larktally.views.picture import draw_run, save_picture

        save_picture(draw_run(trace), sys.argv[1])
