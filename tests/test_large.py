"""What makes large bodies quick must find just what looking at everything would: boxes, places, nearest edges,
angles; and cuts, bonds and clears of a plate full of pockets."""

import sys
from pathlib import Path

import numpy as np
import pytest
from dice import LONG, seeds
from solids import bracket, simple_solid

from lithon.arrange.boolean import combine
from lithon.arrange.places import Places
from lithon.bond.share import bond
from lithon.brep.analysis.adjacency import adjacency, edge_turn
from lithon.brep.area import area_of, off_edge
from lithon.brep.boxes import box, edge_boxes, face_boxes, meeting
from lithon.brep.measures import volume
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import vertex_at
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.samples.build import prism, rectangle
from lithon.survey.features import features
from lithon.trim.clear import clear

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from parts import perforated, pocketed


@pytest.mark.parametrize("seed", seeds(4))
def test_boxes_hold_what_they_box_and_no_more(seed):
    rng = np.random.default_rng(seed)
    bodies = [bracket(seed).body, simple_solid(rng, "ck"), simple_solid(rng, "st")]
    for body in bodies:
        for edge, (low, high) in zip(body.edges(), edge_boxes(body.edges()), strict=True):
            p = edge.curve.point(np.linspace(edge.t0, edge.t1, 4001))
            scale = float(np.linalg.norm(high - low)) + 1e-9
            assert np.allclose(p.min(axis=0), low, atol=1e-6 * scale)
            assert np.allclose(p.max(axis=0), high, atol=1e-6 * scale)
        for face, (low, high) in zip(body.faces, face_boxes(body.faces), strict=True):
            p = face_mesh(face).points
            on = face.surface.project(p[face_mesh(face).triangles].mean(axis=1))
            assert (on >= low - 1e-9).all() and (on <= high + 1e-9).all()
        if body.edges():
            every = np.concatenate([edge_points(e)[1] for e in body.edges()])
            whole = box(body)
            assert (every >= whole[0] - 1e-9).all() and (every <= whole[1] + 1e-9).all()


@pytest.mark.parametrize("near", [0.0, 0.3])
def test_boxes_that_meet(near):
    rng = np.random.default_rng(5)
    rows = []
    for n in (300, 170):
        low = rng.uniform(0, 10, (n, 3))
        rows.append(np.stack([low, low + rng.uniform(0, 1.5, (n, 3))], axis=1))
    a, b = rows
    slow = [
        (i, j)
        for i in range(len(a))
        for j in range(len(b))
        if (a[i, 0] <= b[j, 1] + near).all() and (b[j, 0] <= a[i, 1] + near).all()
    ]
    assert [tuple(p) for p in meeting(a, b, near).tolist()] == slow and len(slow) > 50
    assert len(meeting(a, b[:0])) == 0


def test_vertices_are_found_by_place():
    rng = np.random.default_rng(2)
    points = rng.uniform(-1.0, 1.0, (700, 3))
    near = 0.05
    places = Places(near)
    for p in points:
        places.add(vertex_at(p))
    for q in rng.uniform(-1.0, 1.0, (400, 3)):
        gap = np.linalg.norm(points - q, axis=1)
        found = places.find(q)
        if gap.min() > near:
            assert found is None
        else:
            assert found is not None and np.array_equal(found.point, points[gap.argmin()])
    low, high = np.array([-0.3, -0.2, 0.0]), np.array([0.4, 0.5, 0.6])
    vertices, at = places.within(low, high)
    inside = ((points >= low) & (points <= high)).all(axis=1)
    assert len(vertices) == inside.sum() and np.array_equal(at, points[inside])


def test_inside_is_told_by_the_nearest_edges_alone():
    """Against the same question with every edge looked at."""
    body = pocketed(16).bodies[0]
    top = max(body.faces, key=lambda f: len(f.loops))
    area = area_of(top)
    assert len(area.coedges) > 100
    rng = np.random.default_rng(0)
    p = np.column_stack([rng.uniform(-2, 50, (3000, 2)), np.full(3000, 8.0)])
    edges = [c.edge for c in area.coedges]
    off = np.min([off_edge(e, p) for e in edges], axis=0)
    told = np.concatenate([area.side(run, 0.05) for run in np.array_split(p, 300)])
    assert np.array_equal(told == 0, off <= 0.05)
    x, y = p[:, 0] % 12.0 - 6.0, p[:, 1] % 12.0 - 6.0
    within = ((p[:, :2] > 0.0) & (p[:, :2] < 48.0)).all(axis=1)
    corner = np.hypot(np.maximum(np.abs(x) - 2.0, 0.0), np.maximum(np.abs(y) - 3.0, 0.0)) < 1.0
    assert np.array_equal(told > 0, within & ~corner & (told != 0))
    here = edges[37].at(0.4)
    assert edges[37] in area.edges_at(here, 1e-6) and len(area.edges_at(here, 1e-6)) == 1


@pytest.mark.parametrize("seed", seeds(4))
def test_angles_of_all_edges_at_once(seed):
    body = bracket(seed).body if seed < 3 else simple_solid(np.random.default_rng(1), "k")
    adj = adjacency(body)
    adj.all_angles()
    for edge, uses in adj.uses.items():
        assert adj.angle(edge) == pytest.approx(edge_turn(uses, edge), abs=1e-12)


def test_a_plate_full_of_pockets_is_cut_bonded_and_cleared():
    n = 25 if LONG else 9
    side = 12.0 * n**0.5
    model = pocketed(n)
    (plate,) = model.bodies
    corner = (4.0 - np.pi) * 3.5
    exact = side**2 * 8.0 - n * (6.0 * 8.0 * 3.5 - corner)
    assert volume(plate) == pytest.approx(exact, rel=1e-12)
    # Across every pocket: no piece is lost, and everything that was cut is shared again.
    for plane, many in ((Plane.of((0, 0, 6.5), (0, 0, 1)), 2), (Plane.of((side / 2, side / 2, 0), (1, 0.37, 0.0)), 2)):
        cut = split(model, [plate], plane)
        assert len(cut.bodies) == many and sum(volume(b) for b in cut.bodies) == pytest.approx(exact, rel=1e-10)
        whole, contacts = bond(cut)
        assert all(c.verdict == "shared" for c in contacts)
        area = sum(c.area for c in contacts)
        if plane.frame.z[2] > 0.9:
            assert area == pytest.approx(side**2 - n * (48.0 - (4.0 - np.pi)), rel=1e-9)
        assert all(not flaws(b, model.tolerance) for b in whole.bodies)
    # All fillets at once are what one after the other makes of them.
    fillets = [f for f in features(plate) if f.kind == "fillet"]
    assert len(fillets) == 4 * n
    few = fillets[:8]
    (together,) = clear(plate, [face for f in few for face in f.faces], model.tolerance)
    one_by_one = plate
    for fillet in few:
        one_by_one = clear(one_by_one, fillet.faces, model.tolerance)[0].body
    assert len(together.body.faces) == len(one_by_one.faces) == len(plate.faces) - 8
    assert together.volume_change == pytest.approx(volume(one_by_one) - volume(plate), rel=1e-9)
    assert together.volume_change == pytest.approx(-8 * (1.0 - np.pi / 4) * 3.5, rel=1e-9)
    everything = [face for f in features(plate) for face in f.faces]
    (bare,) = clear(plate, dict.fromkeys(everything), model.tolerance)
    assert len(bare.body.faces) == 6 and volume(bare.body) == pytest.approx(side**2 * 8.0, rel=1e-12)


def test_a_plate_of_rings_is_cut_through_all_of_them():
    model = perforated(36)
    (plate,) = model.bodies
    cut = split(model, [plate], Plane.of((0, 0, 3.0), (0, 0, 1)))
    assert sum(volume(b) for b in cut.bodies) == pytest.approx(volume(plate), rel=1e-12)
    whole, contacts = bond(cut)
    assert [c.verdict for c in contacts] == ["shared"]
    assert len(whole.shared()[0].loops) == 37
    block = prism(rectangle(0, 0, 33, 33), 30.0, Frame.of((5, 5, -5), (0, 0, 1), (1, 0, 0)))
    rest = combine(plate, block, "subtract", model.tolerance)
    both = combine(plate, block, "intersect", model.tolerance)
    assert sum(volume(b) for b in (*rest, *both)) == pytest.approx(volume(plate), rel=1e-10)
