"""Bodies that stand a little apart, brought together and bonded: volumes and areas in closed form."""

import numpy as np
import pytest
from blocks import box
from solids import motion as any_motion

from lithon import SizeRules, do, tetrahedral_mesh
from lithon.arrange.boolean import combine
from lithon.brep.copies import moved
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.operations.cures import ways
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Round, prism
from lithon.survey.findings import findings
from lithon.survey.groups import grouped

GAP = 0.02


def on_a_block():
    return [box(0, 0, 20, 20, 0, 10, "a"), box(4, 4, 9, 9, 10 + GAP, 22, "b")], 25.0, [4000.0, 300.0]


def beside_it():
    return [box(0, 0, 20, 20, 0, 10, "a"), box(20 + GAP, 4, 29, 30, 3, 12, "b")], 16.0 * 7.0, [4000.0, 9.0 * 26.0 * 9.0]


def in_a_corner():
    """Between a floor and a wall that stands on it, apart from both."""
    wall = box(0, 0, 3, 20, 10, 20, "w")
    return (
        [box(0, 0, 20, 20, 0, 10, "a"), wall, box(3 + GAP, 2, 8, 9, 10 + GAP, 14, "b")],
        60 + 35 + 28,
        [4000, 600, 140],
    )


def pin_in_a_bore():
    """A pin with clearance all around in a bore right through, as long as the plate is thick."""
    (plate,) = combine(box(0, 0, 20, 20, 0, 8, "a"), prism(Round((10.0, 10.0), 3.0), 8.0), "subtract", 1e-6)
    pin = prism(Round((10.0, 10.0), 3.0 - GAP), 8.0, name="b")
    return [plate, pin], 2 * np.pi * 3 * 8, [8 * (400 - 9 * np.pi), 8 * 9 * np.pi]


PAIRS = {f.__name__: f for f in (on_a_block, beside_it, in_a_corner, pin_in_a_bore)}


@pytest.mark.parametrize("seed", [None, 3])
@pytest.mark.parametrize("name", PAIRS)
def test_bodies_are_brought_together_over_a_gap(name, seed):
    """The card that tells the gap offers it, and it is taken by nobody unseen; what comes of it is whole."""
    bodies, area, volumes = PAIRS[name]()
    if seed is not None:
        bodies = [moved(b, any_motion(seed)) for b in bodies]
    state = State(Model.of(bodies))
    cards = [g for g in grouped(findings(state.model, 4.0)) if g.first.kind == "thin gap"]
    assert cards and all(g.first.size == pytest.approx(GAP, rel=1e-6) for g in cards)
    assert not list(ways(cards[0], unseen=True))
    out = run(state, do.bond(gap=1.1 * GAP)).model if name == "in_a_corner" else run(state, next(ways(cards[0]))).model
    assert sum(face_area(f) for f in out.shared()) == pytest.approx(area, rel=1e-9)
    assert [volume(b) for b in out.bodies] == pytest.approx(volumes, rel=1e-9)
    assert not [f for b in out.bodies for f in flaws(b, out.tolerance)]
    mesh = tetrahedral_mesh(out, SizeRules(4.0))
    assert mesh.conformal() and mesh.quality.smallest_angle.min() > 12.0


def test_what_stands_further_apart_or_beside_stays():
    bodies, *_ = on_a_block()
    with pytest.raises(Refusal, match="touch"):
        run(State(Model.of(bodies)), do.bond(gap=0.5 * GAP))
    past = box(30, 0, 40, 20, 10 + GAP, 20, "c")  # over nothing of the block
    with pytest.raises(Refusal, match="touch"):
        run(State(Model.of([bodies[0], past])), do.bond(gap=11.0))
    first = run(State(Model.of([bodies[0], box(0, 0, 20, 20, -5, 0, "under")])), do.bond()).model
    out = run(State(Model((*first.bodies, bodies[1]), first.tolerance)), do.bond(gap=1.1 * GAP)).model
    assert len(out.shared()) == 2 and set(first.bodies) & set(out.bodies)


def test_a_face_goes_to_the_nearest_and_stays_where_it_lies_on_another():
    """Over two feet of unlike height a bridge comes down on the higher one, and one that stands on it already stays."""
    high, low = box(0, 0, 20, 20, 0, 10, "high"), box(20, 0, 40, 20, 0, 9.99, "low")
    for stands in (10.0, 10.0 + GAP):
        bridge = box(12, 4, 30, 16, stands, 15, "bridge")
        for order in ([high, low, bridge], [bridge, low, high]):
            out = run(State(Model.of(order)), do.bond(gap=2.0 * GAP)).model
            assert not [f for b in out.bodies for f in flaws(b, out.tolerance)]
            lies = {b.name: b for b in out.bodies}
            on = [f for f in out.shared() if set(out.owners(f)) == {lies["high"], lies["bridge"]}]
            assert sum(map(face_area, on)) == pytest.approx(8.0 * 12.0)
