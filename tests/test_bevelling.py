"""Bevels: what a flat takes away or adds, by closed forms; edges like knives and cuts of no angle made blunt."""

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import motion as any_motion
from test_solids_from_triangles import as_triangles

from lithon.arrange.boolean import combine
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules
from lithon.operations.cures import cured, ways
from lithon.operations.cures import moved as moved_by
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.survey.groups import Group
from lithon.trim.bevelling import bevelled
from lithon.trim.clear import clear
from lithon.trim.rounding import rounded

NEAR = 1e-6
UP = Frame.of((0, 0, 10), (0, 0, 1), (1, 0, 0))


def turned(body, kind):
    adj = adjacency(body)
    return [e for e in body.edges() if adj.turn(e) == kind]


def sound(body):
    return not flaws(body, NEAR)


@pytest.mark.parametrize("seed", seeds(6))
def test_edges_of_any_block(seed):
    """Parallel ones, the four of a side with their mitres, and all twelve: at a corner of all a quarter of a cube is
    left, as of what lies beyond three planes through its diagonals."""
    rng = np.random.default_rng(seed)
    x, y, z = rng.uniform(6.0, 20.0, 3)
    d = float(rng.uniform(0.2, 2.5))
    m = any_motion(seed)
    body = moved(box(0, 0, x, y, 0, z, "b"), m)
    every = list(body.edges())
    along = [e for e in every if abs(float(e.direction(0.5) @ m[:3, 2])) > 0.999]
    made = bevelled(body, along[:3], d, NEAR)
    assert sound(made) and len(made.faces) == 9
    assert volume(body) - volume(made) == pytest.approx(1.5 * d**2 * z, rel=1e-9)
    top = list(face_toward(body, m[:3, 2]).edges())
    made = bevelled(body, top, d, NEAR)
    assert sound(made) and len(made.faces) == 10
    assert volume(body) - volume(made) == pytest.approx(d**2 * (x + y) - 4.0 / 3.0 * d**3, rel=1e-9)
    made = bevelled(body, every, d, NEAR)
    assert sound(made) and len(made.faces) == 18
    gone = 2.0 * d**2 * (x + y + z - 6.0 * d) + 6.0 * d**3
    assert volume(body) - volume(made) == pytest.approx(gone, rel=1e-9)


def strips():
    """Bodies with strips along edges that are mitred with the next, those as they were, and what kind they are of."""
    block = box(0, 0, 20, 16, 0, 10, "b")
    plate = box(-20, -20, 20, 20, 0, 10, "b")
    pocket = sink(plate, face_toward(plate, (0, 0, 1)), UP, rectangle(-8, -6, 8, 6), 5.0)
    rim = [e for e in turned(pocket, "convex") if abs(e.at(0.5)[2] - 10) < 1e-6 and np.abs(e.at(0.5)[:2]).max() < 9]
    floor = [e for e in turned(pocket, "concave") if abs(e.at(0.5)[2] - 5) < 1e-6]
    slab = prism(rectangle(0, 0, 30, 20, 5.0), 6.0)
    cases = [(block, list(face_toward(block, (0, 0, 1)).edges())), (block, list(block.edges())), (pocket, rim),
             (pocket, floor), (slab, [e for e in slab.edges() if abs(e.at(0.5)[2] - 6.0) < 1e-9])]  # fmt: skip
    for body, edges in cases:
        for kind, make in (("chamfer", bevelled), ("fillet", rounded)):
            yield body, kind, make(body, edges, 1.0, NEAR), len(edges), body is pocket and edges is floor


def test_strips_that_meet_in_mitres_are_found_and_cleared():
    for body, kind, made, count, inner in strips():
        old = {id(f.surface) for f in body.faces}
        new = [f for f in made.faces if id(f.surface) not in old]
        known = {f for found in features(made) if found.kind == kind for f in found.faces}
        assert set(new) <= known or (inner and kind == "chamfer")  # along an inner edge it is as any face
        assert len(new) >= count
        (back, *_) = clear(made, new, NEAR)
        assert volume(back.body) == pytest.approx(volume(body), rel=1e-10) and sound(back.body)
        assert len(back.body.faces) == len(body.faces)


@pytest.mark.parametrize("n", [3, 5, 8])
def test_the_rim_and_the_edges_of_prisms(n):
    """The rim of an n-sided prism: mitred at any angle; its upright edges lose an isosceles triangle each."""
    ring = [Piece((10.0 * np.cos(2 * np.pi * k / n), 10.0 * np.sin(2 * np.pi * k / n))) for k in range(n)]
    body, d = prism(ring, 7.0), 1.2
    rim = [e for e in body.edges() if e.at(0.5)[2] > 6.9]
    inner = 10.0 * np.cos(np.pi / n)
    area = n * inner**2 * np.tan(np.pi / n)
    left = (1.0 + (1.0 - d / inner) + (1.0 - d / inner) ** 2) / 3.0 * area * d + area * (7.0 - d)
    made = bevelled(body, rim, d, NEAR)
    assert volume(made) == pytest.approx(left, rel=1e-10) and sound(made)
    upright = [e for e in body.edges() if abs(float(e.direction(0.5)[2])) > 0.999]
    gone = n * 0.5 * d**2 * np.sin(np.pi * (n - 2) / n) * 7.0
    assert volume(body) - volume(bevelled(body, upright, d, NEAR)) == pytest.approx(gone, rel=1e-10)


@pytest.mark.parametrize("d", [0.4, 2.0])
def test_rims_of_holes_and_bosses(d):
    """A ring's bevel is a triangle turned about the axis, by Pappus: half of a square, its centroid a third in."""
    base = box(-20, -20, 20, 20, 0, 10, "b")
    pocket = sink(base, face_toward(base, (0, 0, 1)), UP, Round((0, 0), 6.0), 5.0)
    boss = raised(base, face_toward(base, (0, 0, 1)), UP, Round((0, 0), 6.0), 5.0)
    cases = [(pocket, "convex", -1.0, 1.0), (pocket, "concave", 1.0, -1.0), (boss, "convex", -1.0, -1.0),
             (boss, "concave", 1.0, 1.0)]  # fmt: skip
    for body, kind, sign, side in cases:
        (rim,) = [e for e in turned(body, kind) if e.ring]
        made = bevelled(body, [rim], d, NEAR)
        assert volume(made) - volume(body) == pytest.approx(sign * np.pi * d**2 * (6.0 + side * d / 3.0), rel=1e-9)
        assert [f.surface.kind for f in made.faces].count("cone") == 1 and sound(made)


def test_a_chain_around_a_rounded_plate():
    """Planes and cones one after the other; where only some are bevelled the last stops at a flat end."""
    body, d = prism(rectangle(0, 0, 30, 20, 5.0), 6.0), 1.5
    rim = [e for e in body.edges() if abs(e.at(0.5)[2] - 6.0) < 1e-9]
    made = bevelled(body, rim, d, NEAR)
    gone = 0.5 * d**2 * (2 * (20 + 10) + 2.0 * np.pi * (5.0 - d / 3.0))
    assert volume(body) - volume(made) == pytest.approx(gone, rel=1e-10) and sound(made)
    straight = [e for e in rim if e.curve.kind == "line"]
    made = bevelled(body, straight[:1], d, NEAR)
    assert volume(body) - volume(made) == pytest.approx(0.5 * d**2 * straight[0].length, rel=1e-9) and sound(made)


def wedge(angle):
    return prism([Piece((0, 0)), Piece((40, 0)), Piece((40, 40 * np.tan(np.radians(angle))))], 10.0)


def cusp():
    """A plane runs into a round wall of radius 5 at no angle, along 8: a cut there."""
    wall = Piece((0.0, 10.0), (0.0, 5.0))
    return prism([Piece((-20, -10)), Piece((20, -10)), Piece((20, 10)), wall, Piece((0, 0)), Piece((-20, 0))], 8.0)


def horn():
    """What would fill that, up to a sixth of a turn: a knife edge of no angle."""
    x, y = -5.0 * np.sin(np.pi / 3), 5.0 - 5.0 * np.cos(np.pi / 3)
    return prism([Piece((0, 0), (0.0, 5.0), ccw=False), Piece((x, y)), Piece((x, 0))], 8.0)


def between(d, radius=5.0):
    """The area (mm2) of what is between a circle and its tangent, up to d from where they touch."""
    turn = 2.0 * np.arcsin(0.5 * d / radius)
    y = radius * (1.0 - np.cos(turn))
    return 0.5 * d * y - 0.5 * radius**2 * (turn - np.sin(turn))


@pytest.mark.parametrize("d", [0.5, 1.5])
def test_edges_of_little_and_of_no_angle(d):
    knife = wedge(4.0)
    (edge,) = [e for e in knife.edges() if np.hypot(*e.at(0.5)[:2]) < 1e-9]
    gone = 0.5 * d**2 * np.sin(np.radians(4.0)) * 10.0
    assert volume(knife) - volume(bevelled(knife, [edge], d, NEAR)) == pytest.approx(gone, rel=1e-9)
    area = between(d)
    for body, turn, sign in ((cusp(), "concave", 1.0), (horn(), "convex", -1.0)):
        (edge,) = [e for e in body.edges() if np.hypot(*e.at(0.5)[:2]) < 1e-9]
        assert adjacency(body).turn(edge) == turn  # told by what is beside it: its tangents are one line
        made = bevelled(body, [edge], d, NEAR)
        assert sound(made) and volume(made) - volume(body) == pytest.approx(sign * 8.0 * area, rel=1e-7)
        # A ball of radius r that touches the circle and its tangent from between has its centre 2 sqrt(5 r) along.
        r = 0.02 * d
        foot = 2.0 * np.sqrt(5.0 * r)
        lean = np.arctan2(foot, 5.0 - r)
        inside = 0.5 * (5.0 + r) * foot - 0.5 * 25.0 * lean - 0.5 * r**2 * (np.pi - lean)
        made = rounded(body, [edge], r, NEAR)
        assert sound(made) and volume(made) - volume(body) == pytest.approx(sign * 8.0 * inside, rel=1e-6)


@pytest.mark.parametrize("body, kind", [(wedge(9.0), "knife edge"), (horn(), "knife edge"), (cusp(), "cut")])
def test_the_card_of_such_an_edge_blunts_it(body, kind):
    """Then nothing of the kind is told, and every element is as good as elsewhere; unseen it is taken where it gives
    up little and moves no more than it may."""
    size = 2.0
    state = State(Model.of([body]), settings=Settings(size))
    (card,) = [f for f in findings(state.model, size) if f.kind == kind]
    assert card.offer.operation == "bevel" and card.offer.word == {"cut": "Fill"}.get(kind, "Blunt")
    (way,) = ways(Group([card]))
    out = run(state, way)
    (made,) = out.model.bodies
    assert not [f for f in findings(out.model, size) if f.kind in (kind, "narrow face")] and sound(made)
    assert 0.97 * card.setback < moved_by(state.model, out) <= card.setback  # all of it but for the strip's slant
    unseen = cured(state, 3.0 * size)
    assert unseen.tally[kind] == ({"taken": 1} if kind == "cut" else {"left": 1})
    assert kind == "cut" or "volume" in unseen.reasons[0][1]  # more than may go where nobody looks
    assert cured(state, 0.5 * size).tally[kind] == {"left": 1}
    mesh = what_can(out.state.model, SizeRules(size, ignore=0.1 * size))
    before = what_can(state.model, SizeRules(size, ignore=0.1 * size))
    assert mesh.quality.scaled_jacobian.min() > 0.1 and mesh.quality.smallest_angle.min() > 12.0
    assert kind == "cut" or before.quality.smallest_angle.min() < 12.0


def test_what_has_no_answer_is_refused_in_words():
    block = box(0, 0, 10, 10, 0, 10, "b")
    edges, top = list(block.edges()), list(face_toward(block, (0, 0, 1)).edges())
    with pytest.raises(Refusal):
        bevelled(block, edges[:1], 12.0, NEAR)
    skewed = prism([Piece((0, 0)), Piece((10, 0)), Piece((14, 10)), Piece((0, 10))], 6.0)
    corner = [e for e in skewed.edges() if any(np.allclose(v.point, (10, 0, 6)) for v in (e.start, e.end))]
    upright = next(e for e in corner if abs(e.direction(0.5)[2]) > 0.9)
    with pytest.raises(Refusal, match="third edge"):
        bevelled(skewed, [upright, next(e for e in corner if e is not upright)], 1.0, NEAR)
    slab = prism(rectangle(0, 0, 30, 20, 5.0), 6.0)
    with pytest.raises(Refusal, match="smoothly"):
        bevelled(slab, turned(slab, "smooth")[:1], 1.0, NEAR)
    disc = prism(Round((0, 0), 4.0), 3.0)
    with pytest.raises(Refusal, match="axis"):
        bevelled(disc, turned(disc, "convex")[:1], 4.5, NEAR)
    narrow = bevelled(block, top[:1], 1.0, NEAR)
    with pytest.raises(Refusal, match="wider than what is beside") as refused:
        bevelled(narrow, [min(narrow.edges(), key=lambda e: np.linalg.norm(e.at(0.5) - top[1].at(0.5)))], 2.0, NEAR)
    assert "smaller setback" in refused.value.remedy
    (faceted,) = as_triangles(block)
    for strip in (bevelled, rounded):
        with pytest.raises(Refusal, match="triangles"):
            strip(faceted, list(faceted.edges())[:1], 1.0, NEAR)
    # A hole across a rod: its rim is neither line nor circle.
    rod = prism(Round((0, 0), 6.0), 20.0)
    holed = less_hole(rod)
    rim = next(e for e in holed.edges() if e.curve.kind not in ("line", "circle"))
    with pytest.raises(Refusal, match="neither plane nor cone"):
        bevelled(holed, [rim], 0.5, NEAR)


def less_hole(rod):
    tool = prism(Round((0, 0), 2.0), 40.0, Frame.of((0, -20, 10), (0, 1, 0), (1, 0, 0)))
    (made,) = combine(rod, tool, "subtract", 1e-7)
    return made
