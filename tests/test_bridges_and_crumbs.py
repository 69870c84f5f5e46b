"""Bodies joined over a gap, divided by each other, and rid of crumbs: volumes in closed form, nothing lost."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box, total
from dice import seeds
from solids import motion as any_motion
from test_stuffing import facets

from lithon import do
from lithon.bond.share import touching
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.operations.bond.crumbs import shared_area, widest_gap
from lithon.operations.cures import cured, ways
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, Round, face_toward, prism
from lithon.survey.findings import findings
from lithon.survey.groups import grouped
from lithon.trim.bridge import bridged, facing

NEAR = 1e-6


def use(body, way):
    return body.use_of(face_toward(body, way))


def up(z):
    return Frame.of((0, 0, z), (0, 0, 1), (1, 0, 0))


@pytest.mark.parametrize("seed", seeds(6))
def test_a_frustum_between_two_rectangles(seed):
    """Prismatoid: h / 6 (A + 4 M + B), with M the section midway."""
    rng = np.random.default_rng(seed)
    a, b, c, d, h = *rng.uniform(2, 9, 4), rng.uniform(3, 12)
    low = box(-a, -b, a, b, -2, 0, "low")
    high = box(-c, -d, c, d, h, h + 2, "high")
    made = bridged(use(low, (0, 0, 1)), use(high, (0, 0, -1)))
    assert not flaws(made, NEAR) and len(made.faces) == 6
    want = h / 6.0 * 4.0 * (a * b + (a + c) * (b + d) + c * d)
    assert volume(made) == pytest.approx(want, rel=1e-9)
    out = run(State(Model.of([low, high])), do.bridge(face_toward(low, (0, 0, 1)), face_toward(high, (0, 0, -1))))
    assert len(out.model.bodies) == 1
    assert volume(out.model.bodies[0]) == pytest.approx(want + 8.0 * (a * b + c * d), rel=1e-9)


def test_round_faces_are_bridged_by_cylinders_and_cones():
    pins = [prism(Round((0.0, 0.0), r), 2.0, up(z)) for r, z in ((3.0, 0.0), (5.0, 10.0), (3.0, 20.0))]
    made = bridged(use(pins[0], (0, 0, 1)), use(pins[1], (0, 0, -1)))
    assert volume(made) == pytest.approx(np.pi * 8.0 / 3.0 * (9 + 15 + 25), rel=1e-12)
    straight = bridged(use(pins[0], (0, 0, 1)), use(pins[2], (0, 0, -1)))
    assert volume(straight) == pytest.approx(np.pi * 9.0 * 18.0, rel=1e-12) and not flaws(straight, NEAR)


def test_a_gap_between_turned_faces():
    """Two bars at an angle: what stands between them is a wedge of a prism."""
    bar = box(0, 0, 20, 6, 0, 4, "bar")
    turned = moved(box(0, 0, 20, 6, 0, 4, "other"), _about(np.radians(30.0), (24.0, 0.0, 0.0)))
    a, b = face_toward(bar, (1, 0, 0)), face_toward(turned, (-np.cos(np.radians(30)), -0.5, 0))
    made = bridged(bar.use_of(a), turned.use_of(b))
    corners = np.array([[20, 0], [24, 0], [24 - 6 * 0.5, 6 * np.cos(np.radians(30))], [20, 6]])
    x, y = corners.T
    area = 0.5 * abs(float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()))
    assert volume(made) == pytest.approx(4.0 * area, rel=1e-9) and not flaws(made, NEAR)


def _about(angle, at):
    c, s = np.cos(angle), np.sin(angle)
    out = np.eye(4)
    out[:2, :2] = [[c, -s], [s, c]]
    out[:3, 3] = at
    return out


def test_faces_that_do_not_pair_are_refused():
    low, high = box(0, 0, 5, 5, 0, 1, "a"), box(0, 0, 5, 5, 4, 5, "b")
    with pytest.raises(Refusal, match="look at each other"):
        bridged(use(low, (0, 0, -1)), use(high, (0, 0, -1)))
    assert facing(use(low, (0, 0, 1)), use(high, (0, 0, -1))) and not facing(use(low, (1, 0, 0)), use(high, (0, 0, -1)))
    three = prism([Piece((0, 0)), Piece((5, 0)), Piece((0, 5))], 1.0, up(4.0))
    with pytest.raises(Refusal, match="sides"):
        bridged(use(low, (0, 0, 1)), use(three, (0, 0, -1)))
    with pytest.raises(Refusal):
        bridged(use(low, (0, 0, 1)), use(prism(Round((2.0, 2.0), 2.0), 1.0, up(4.0)), (0, 0, -1)))


@pytest.mark.parametrize("seed", seeds(6))
def test_part_all_loses_nothing_and_leaves_no_overlap(seed):
    """Boxes drawn at random: every cell is in one body, and the whole is the union's volume by inclusion."""
    rng = np.random.default_rng(seed)
    boxes = []
    for k in range(3):
        low = np.round(rng.uniform(0, 6, 3), 2)
        high = low + np.round(rng.uniform(4, 9, 3), 2)
        boxes.append((low, high, box(low[0], low[1], high[0], high[1], low[2], high[2], f"b{k}")))
    model = Model.of([b for _, _, b in boxes])

    def common(*rows):
        low = np.max([boxes[k][0] for k in rows], axis=0)
        high = np.min([boxes[k][1] for k in rows], axis=0)
        return float(np.clip(high - low, 0, None).prod())

    union = sum(common(k) for k in range(3)) - common(0, 1) - common(0, 2) - common(1, 2) + common(0, 1, 2)
    if common(0, 1) + common(0, 2) + common(1, 2) == 0.0:
        with pytest.raises(Refusal, match="overlap"):
            run(State(model), do.part_all())
        return
    out = run(State(model), do.part_all())
    assert total(out.model) == pytest.approx(union, rel=1e-9)
    assert all(not flaws(b, out.model.tolerance) for b in out.model.bodies)
    inner = [b for b in out.model.bodies if " in " in b.name]
    assert sum(map(volume, inner)) == pytest.approx(
        common(0, 1) + common(0, 2) + common(1, 2) - 2 * common(0, 1, 2), rel=1e-9
    )


def test_areas_of_contact():
    model = Model.of([box(0, 0, 10, 10, 0, 5, "a"), box(10, 2, 15, 6, 1, 9, "b"), box(30, 0, 31, 1, 0, 1, "c")])
    a, b, c = model.bodies
    assert shared_area(model, a, b) == pytest.approx(4.0 * 4.0) and shared_area(model, a, c) == 0.0
    assert len(touching(model, a, b).shared()) == 1


def test_the_widest_gap_is_between_orders_of_size():
    assert widest_gap(np.array([1e6, 2e6, 5e5, 3.0, 4.0])) == pytest.approx(np.sqrt(4.0 * 5e5))
    assert widest_gap(np.array([1.0, 2.0, 4.0, 8.0])) is None and widest_gap(np.array([5.0])) is None


@pytest.mark.parametrize("seed", seeds(4))
def test_crumbs_go_to_whom_they_touch_most(seed):
    """Slivers laid over the seam of two blocks: each goes to the one that it covers more of, wherever all stands."""
    rng = np.random.default_rng(seed)
    parts = [box(0, 0, 20, 20, 0, 10, "left"), box(20, 0, 40, 20, 0, 10, "right")]
    gained = {"left": 0.0, "right": 0.0}
    for k in range(3):
        a, b = rng.uniform(0.2, 1.5, 2)
        y = 2.0 + 6.0 * k
        parts.append(box(20 - a, y, 20 + b, y + 1.0, 10.0, 10.05, f"sliver {k}"))
        gained["left" if a > b else "right"] += (a + b) * 0.05
    parts = [moved(p, any_motion(seed)) for p in parts]
    out = run(State(Model.of(parts)), do.crumbs())
    assert {b.name: volume(b) - 4000.0 for b in out.model.bodies} == pytest.approx(gained, abs=1e-6)
    assert out.details[0]["absorbed"] == 3


def test_a_pair_left_apart_shares_nothing():
    parts = [box(0, 0, 20, 20, 0, 5, "foot"), box(4, 4, 10, 10, 5, 12, "post"), box(4, 4, 10, 10, 12, 15, "cap")]
    model = Model.of(parts)
    out = run(State(model), do.bond(apart=["post", "cap"]))
    foot, post, cap = out.model.bodies
    assert len(set(foot.faces) & set(post.faces)) == 1 and not set(post.faces) & set(cap.faces)
    assert len(run(State(model), do.bond()).model.shared()) == 2
    with pytest.raises(Refusal):
        run(State(model), do.bond(["post", "cap"], ["post", "cap"]))


@pytest.mark.parametrize("seed", seeds(4))
def test_bodies_of_no_thickness_go_unseen_and_crumbs_by_hand(seed):
    """Plates of triangles far thinner than elements are dropped with all others of their kind; a film, a sheet of metal
    and a crumb, which may be meant, and a model that is nothing else stay."""
    rng = np.random.default_rng(seed)
    thin = 10.0 ** rng.uniform(-5.0, -2.6, 2)
    kept = [box(0, 0, 40, 30, 0, 10, "block"), box(0, 40, 40, 70, 0, 0.1, "plate"), box(60, 0, 61, 1, 0, 1, "crumb")]
    plates = [box(0, 100 + 30 * k, 20, 120 + 30 * k, 0, t, f"skin {k}") for k, t in enumerate(thin)]
    kept.append(box(0, 200, 20, 220, 0, 0.002, "film"))
    fine = [replace(facets(moved(p, any_motion(seed))), name=p.name) for p in plates]
    model = Model.of([moved(p, any_motion(seed)) for p in kept] + fine)
    found = [f for f in findings(model, 4.0) if f.kind in ("sliver body", "crumb")]
    slivers = {f.body.name: f.size for f in found if f.kind == "sliver body"}
    named = {"film": 0.002} | {f"skin {k}": t for k, t in enumerate(thin)}
    expected = {name: 2.0 * 400.0 * t / (800.0 + 80.0 * t) for name, t in named.items()}
    assert slivers == pytest.approx(expected, rel=1e-6)
    assert [f.body.name for f in found if f.kind == "crumb"] == ["crumb"]
    cards = grouped(found)
    assert {g.text for g in cards if len(g.findings) == 2} == {"2 bodies of next to no thickness"}
    out = cured(State(model), 2.0)
    assert [b.name for b in out.state.model.bodies] == ["block", "plate", "crumb", "film"]
    assert out.tally["sliver body"] == {"taken": 2, "left": 1} and out.tally["crumb"]["left"] == 1
    (crumb,) = (g for g in cards if g.first.kind == "crumb")
    (drop,) = ways(crumb)
    assert [b.name for b in run(out.state, drop).model.bodies] == ["block", "plate", "film"]
    assert not [f for f in findings(Model.of(plates), 4.0) if f.kind == "sliver body"]
