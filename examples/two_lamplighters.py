"""Late inputs: two lamplighters on one canal, each late for the other, and a bell that rings twice.

They walk towards each other, and where they meet the bell is rung. Each of the two games goes on with guesses of what the
other presses and is put right when it is known: the naive game rings as soon as it sees them meet, and again when it sees it
anew. Shown when it is certain, or with a lag as long as the line, it rings once.
"""

import larktally as lt

CANAL = lt.Level([lt.geometry.box_at((0, 0), (600, 16))])
PEERS = {"west": ("west_left", "west_right"), "east": ("east_left", "east_right")}


def canal(setup: lt.Setup) -> lt.Sim:
    actions = tuple(action for own in PEERS.values() for action in own)
    sim = lt.Sim(setup, level=CANAL, actions=actions, events=("rings",))
    west = sim.body("west", size=(12, 20), at=(150, 16), gravity=900)
    east = sim.body("east", size=(12, 20), at=(260, 16), gravity=900)
    bell = sim.machine("bell", ("silent", "rung"), "silent")

    @sim.before("motion")
    def walk(now: lt.StepContext) -> None:
        west.vx = 120 * now.axis("west_left", "west_right")
        east.vx = 120 * now.axis("east_left", "east_right")

    @bell.transition("silent", to="rung", when="east.x - west.x < 16", name="they meet")
    def ring(now: lt.StepContext) -> None:
        now.emit("rings")

    bell.transition("rung", to="silent", when="east.x - west.x > 24", name="they part")
    return sim


meeting = lt.Scenario(
    canal,
    frames=120,
    # East stops just before they meet, which west does not know yet.
    inputs=lt.InputScript().hold("west_right", 1, 30).hold("east_left", 1, 20).hold("west_left", 40, 20),
    claims=[lt.claim("the bell rings once", "exactly(event('rings'), 1)")],
    name="meeting",
)

if __name__ == "__main__":
    assert lt.check(lt.record(meeting), meeting.claims).passed
    naive = lt.rollback_of_peers(meeting, PEERS, late=6)
    print(f"naive, each six frames late for the other:\n{naive}\n")
    assert naive.apart is None and not naive.passed
    confirmed, displayed = naive.runs["west"].check()
    print(f"what was confirmed:\n{confirmed}\n\nand what west saw:\n{displayed}\n")
    assert confirmed.passed and not displayed.passed
    for told, options in (("shown when certain", {"show": "confirmed"}), ("shown six frames later", {"lag": 6})):
        better = lt.rollback_of_peers(meeting, PEERS, late=6, **options)
        rung = [one for run in better.runs.values() for one in run.events if one.name == "rings"]
        print(f"{told}: {', '.join(map(str, rung))}")
        assert better.passed and len(rung) == 2
