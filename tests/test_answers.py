"""Answers to a collision against the plain loops that they stand for."""

import random

import pytest
from tests.test_sim import assert_restores, model, run

import larktally as lt

SIZE = (6.0, 8.0)


def overlaps(x, y, box):
    return x < box.high[0] and box.low[0] < x + SIZE[0] and y < box.high[1] and box.low[1] < y + SIZE[1]


def counts(box, axis, start, way, up):
    """A plank counts along y, for who was above it and comes down."""
    if not box.one_way:
        return True
    return axis == 1 and way * up < 0 and (start >= box.high[1] if up > 0 else start + SIZE[1] <= box.low[1])


def plain_axes(place, velocity, boxes, up):
    place, velocity, floor = list(place), list(velocity), False
    for axis in (0, 1):
        way, start = velocity[axis] / 60, place[axis]
        place[axis] = start + way
        if not way:
            continue
        faces = []
        for box in boxes:
            if overlaps(*place, box) and counts(box, axis, start, way, up):
                faces.append(box.low[axis] - SIZE[axis] if way > 0 else box.high[axis])
        if faces:
            place[axis] = min(faces) if way > 0 else max(faces)
            velocity[axis] = 0.0
            floor |= axis == 1 and way * up < 0
    return place, velocity, floor


def plain_push(place, velocity, boxes, up):
    start = place[1]
    place = [p + v / 60 for p, v in zip(place, velocity)]
    velocity, way, floor = list(velocity), velocity[1] / 60, False
    for _ in range(8):
        inside = [box for box in boxes if overlaps(*place, box) and counts(box, 1, start, way, up)]
        if not inside:
            break
        box = inside[0]
        ways = []
        for axis in (0, 1):
            ways.append((place[axis] - (box.low[axis] - SIZE[axis]), axis, -1))
            ways.append((box.high[axis] - place[axis], axis, 1))
        if box.one_way:
            ways = [one for one in ways if one[1:] == (1, up)]
        _, axis, normal = min(ways)
        place[axis] = box.high[axis] if normal > 0 else box.low[axis] - SIZE[axis]
        if velocity[axis] * normal < 0:
            velocity[axis] = 0.0
        floor |= axis == 1 and normal == up
    return place, velocity, floor


def rests(place, vy, boxes, up):
    for box in boxes:
        level = box.high[1] == place[1] if up > 0 else box.low[1] == place[1] + SIZE[1]
        if level and place[0] < box.high[0] and box.low[0] < place[0] + SIZE[0]:
            return vy * up <= 0
    return False


def room(seed, up):
    """Crates on a floor, some of them planks, and what a body is told in each row."""
    pick = random.Random(seed)
    boxes = [lt.geometry.box_at((-100, 0 if up > 0 else 200), (800, 16))]
    for _ in range(16):
        boxes.append(
            lt.Box(
                (x := pick.randrange(0, 40) * 8.0, y := 16 + pick.randrange(0, 10) * 8.0),
                (x + 8, y + 8),
                one_way=pick.random() < 0.3,
            )
        )
    speeds = [
        (pick.choice((-600, -90, 0, 90, 480)), pick.choice((None, None, None, 300.0, -480.0))) for _ in range(120)
    ]
    return boxes, speeds


@pytest.mark.slow
@pytest.mark.parametrize("up", [1, -1])
@pytest.mark.parametrize("answer", ["axis by axis", "pushed out"])
def test_each_answer_is_its_plain_loop(answer, up):
    plain = plain_axes if answer == "axis by axis" else plain_push
    for seed in range(60):
        boxes, speeds = room(seed, up)
        level = lt.Level(boxes, up="+y" if up > 0 else "-y")
        boxes = level.boxes

        def build(sim, speeds=speeds):
            wick = sim.body("wick", size=SIZE, at=(100, 120), gravity=900, answer=answer)

            @sim.before("motion")
            def tell(now):
                vx, vy = speeds[now.frame - 1]
                wick.vx = vx
                if vy is not None:
                    wick.launch(vy=vy * up)

        trace = run(build, 120, level=level)
        place, vy = [100.0, 120.0], 0.0
        for row in range(1, 121):
            vx, launched = speeds[row - 1]
            vy = (vy if launched is None else launched * up) - up * 900 / 60
            place, (_, vy), floor = plain(place, (vx, vy), boxes, up)
            assert [trace["wick.x"][row], trace["wick.y"][row], trace["wick.vy"][row]] == pytest.approx(
                [*place, vy], abs=1e-9
            ), (seed, row)
            assert trace["wick.grounded"][row] == (floor or rests(place, vy, boxes, up)), (seed, row)
            place, vy = [trace["wick.x"][row], trace["wick.y"][row]], trace["wick.vy"][row]
        if seed < 3:
            assert_restores(model(build, level=level), lt.InputScript(), 120, (30, 77))


def test_what_moves_first_and_looks_afterwards_goes_through_a_thin_plank_and_the_sweep_does_not():
    level = lt.Level([lt.geometry.box_at((0, 50), (100, 2))])

    def build(sim):
        for n, answer in enumerate(("swept", "axis by axis", "pushed out")):
            sim.body(answer.replace(" ", "_"), size=(4, 4), at=(10 + 20 * n, 100), velocity=(0, -1200), answer=answer)

    trace = run(build, 5, level=level)
    assert [trace[f"{name}.y"][5] for name in ("swept", "axis_by_axis", "pushed_out")] == [52, 0, 0]


def test_grounded_by_contact_at_the_end_and_by_probe_part_at_an_edge():
    level = lt.Level([lt.geometry.box_at((0, 0), (100, 16))])
    ways = {"contact": {}, "end": {}, "probe": {"probe": 4.0}}

    def build(sim):
        for name, options in ways.items():
            sim.body(name, size=(8, 8), at=(80, 16), velocity=(120, 0), gravity=900, grounded_by=name, **options)

    trace = run(build, 20, level=level)
    # Past the edge from x = 100 on, in row 10; the sweep still meets it in that row, and 4 units below it is near for a while.
    last = {name: max(row for row in range(21) if trace[f"{name}.grounded"][row]) for name in ways}
    assert trace["contact.x"][10] == 100 and last == {"contact": 10, "end": 9, "probe": 9}
    for name in ways:
        (left,) = trace.events.named("left_ground", name)
        assert left.row == last[name] + 1 and trace[f"{name}.grounded"][0]


@pytest.mark.parametrize(
    ("options", "said"),
    [
        ({"answer": "sweep"}, "no answer 'sweep'"),
        ({"answer": "pushed out", "bounce": 0.5}, "bounces by the sweep alone"),
        ({"grounded_by": "luck"}, "no grounded_by 'luck'"),
        ({"grounded_by": "probe"}, "grounded by its probe, and has none"),
    ],
)
def test_what_no_answer_can_be_is_told(options, said):
    with pytest.raises(lt.LarkTallyError, match=said):
        run(lambda sim: sim.body("b", size=(1, 1), at=(9, 50), **options), 2)
