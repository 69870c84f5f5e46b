"""Tips of faces between two edges: drawn together below the ignore size, and nothing else."""

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from dice import seeds
from scipy.spatial import Delaunay
from solids import motion
from test_skin import closed_up, skin_area

import lithon
from lithon import do
from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.copies import moved
from lithon.brep.measures import area, volume
from lithon.brep.topology import Model
from lithon.carve.score import scored
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mesh.partly import what_can
from lithon.mesh.remake import _Tips, graded
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.skin import Skin
from lithon.mesh.surface import surface_mesh
from lithon.mesh.verdict import verdict
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Round, prism, rectangle
from lithon.survey.findings import findings

SIDE, HIGH, TALL = 12.0, 4.0, 5.0


def spandrels(place):
    """A round post on a square foot that is just as wide: its four corners run out in tips beside the post."""
    foot = prism(rectangle(-SIDE, -SIDE, SIDE, SIDE), HIGH, name="foot")
    up = np.eye(4)
    up[2, 3] = HIGH
    post = moved(prism(Round((0.0, 0.0), SIDE), TALL, name="post"), up)
    model = Model.of([foot, post])
    (body,) = run(State(model), do.unite([foot], [post])).model.bodies
    return moved(body, place)


TRUE = 4.0 * SIDE**2 * HIGH + np.pi * SIDE**2 * TALL


@pytest.mark.parametrize("seed", seeds(10))
def test_a_post_as_wide_as_its_foot_has_no_poor_element(seed):
    """Where the foot's corners are narrower than what is ignored they are gone, and nothing has moved further; what is
    as wide is as it was. Followed to the end they make poor elements."""
    body = spandrels(motion(seed))
    assert volume(body) == pytest.approx(TRUE, rel=1e-9)
    model = Model.of([body])
    rules = SizeRules(3.0, ignore=0.3)
    mesh = what_can(model, rules)
    assert not mesh.failures and not mesh.rounded and mesh.conformal() and verdict(mesh).good
    assert mesh.quality.smallest_angle.min() > 12.0 and lithon.patch_test(mesh).passed
    alike = what_can(model, SizeRules(3.0))
    assert verdict(alike).strict > 0 and alike.quality.smallest_angle.min() < 12.0
    assert mesh.volumes.sum() == pytest.approx(TRUE, rel=0.01)
    for k, face in enumerate(mesh.faces):
        own = mesh.points[np.unique(mesh.triangles[mesh.face == k])]
        off = np.abs(face.surface.signed_distance(own))
        assert off.max() < 0.3 and np.mean(off < 1e-6) > 0.8
    corners = [k for k, f in enumerate(mesh.faces) if sum(1 for _ in f.edges()) == 3]
    assert len(corners) == 4
    for k in corners:
        mine = mesh.triangles[mesh.face == k]
        v = mesh.points[mine]
        lost = area_of_tip(0.3)
        size = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum()
        whole = (1.0 - np.pi / 4.0) * SIDE**2
        assert whole - 2.0 * 4.0 * lost < size < whole + 0.02 * whole
        u, w = v - np.roll(v, 1, axis=1), np.roll(v, -1, axis=1) - v
        angle = np.arccos(-(u * w).sum(axis=2) / np.linalg.norm(u, axis=2) / np.linalg.norm(w, axis=2))
        assert np.degrees(angle.min()) > 8.0


def area_of_tip(width):
    """Of what lies between a circle and its tangent, up to a width."""
    far = np.sqrt(2.0 * SIDE * width)
    return far**3 / (6.0 * SIDE)


def test_what_is_held_named_or_divided_on_purpose_keeps_its_tips():
    body = spandrels(np.eye(4))
    corner = next(f for f in body.faces if sum(1 for _ in f.edges()) == 3)
    edge = next(iter(corner.edges()))
    size = {"ignore": 0.3}

    def found(bodies, rules):
        plain = surface_mesh(bodies, size_field(bodies, rules))
        return plain, {plain.faces[j] for j in _Tips(plain, ()).at_first()[0][:, 1]}

    plain, every = found((body,), SizeRules(0.8, **size))
    assert corner in every and len(every) == 4
    assert corner not in {plain.faces[j] for j in _Tips(plain, {corner}).at_first()[0][:, 1]}
    (beside,) = (f for f in body.faces if f is not corner and edge in set(f.edges()))
    held = [{"kept": (corner,)}, {"kept": (beside,)}, {"followed": (corner,)}, {"followed": (edge,)}]
    asked = [*held, {"divisions": ((edge, 9),)}]
    for rules in asked:
        assert corner not in found((body,), SizeRules(0.8, **size, **rules))[1]
    assert not found((body,), SizeRules(0.8))[1]  # nothing is ignored


@pytest.mark.parametrize("seed", seeds(20))
def test_wedges_scored_on_a_face_lose_their_tips_alone(seed):
    """Two lines across a top at a few degrees: all of it stays flat and covered once, no corner of the block moves, the
    lines are where they were but where they are nearer to each other than what is ignored."""
    rng = np.random.default_rng(seed)
    ignore, size = 0.4, float(rng.uniform(2.0, 5.0))
    angle = np.radians(rng.uniform(2.0, 9.0))
    centre = np.array([rng.uniform(-4.0, 4.0), rng.uniform(-3.0, 3.0), 0.0])
    turn = rng.uniform(0.0, np.pi)
    body = prism(rectangle(-20, -14, 20, 14), 8.0)
    planes = []
    for way in (turn, turn + angle):
        planes.append(Plane.of(centre, (np.cos(way), np.sin(way), 0.0)))
        top = [f for f in body.faces if f.surface.kind == "plane" and f.surface.frame.z[2] > 0.9]
        body = scored(body, planes[-1], 1e-6, top)
    place = motion(seed)
    rules = SizeRules(size, ignore=ignore)
    model = Model.of([moved(body, place)])
    skin = graded(surface_mesh(model.bodies, size_field(model.bodies, rules)))[1]
    assert isinstance(skin, Skin)
    assert closed_up(skin) and skin_area(skin) == pytest.approx(area(body), rel=1e-9)
    points, (triangles, of) = skin.points(), skin.triangles()
    assert not len(cutting_pairs(points, triangles))
    local = (points - place[:3, 3]) @ np.linalg.inv(place[:3, :3]).T
    for k, face in enumerate(skin.faces):
        own = points[np.unique(triangles[of == k])]
        assert not len(own) or np.abs(face.surface.signed_distance(own)).max() < 1e-7
    block = np.array([[x, y, z] for x in (-20, 20) for y in (-14, 14) for z in (0, 8)])
    assert np.linalg.norm(local[None] - block[:, None], axis=2).min(axis=1).max() < 1e-7
    ends = np.unique([s for s, e in skin.segments.items() if was_scored(e, planes, place)])
    off = np.min([np.abs(plane.signed_distance(local[ends])) for plane in planes], axis=0)
    # On one of the two lines, whichever; where one ends beside a corner of the block it is drawn there.
    assert off.max() < ignore and (off < 1e-6).sum() >= max(len(off) - 4, 1)
    mesh = what_can(model, rules)
    assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, rel=1e-9) and verdict(mesh).good


def was_scored(edge, planes, place):
    """Whether an edge is one of those that were scored."""
    back = np.linalg.inv(place)
    at = np.array([edge.at(t) for t in (0.2, 0.8)]) @ back[:3, :3].T + back[:3, 3]
    inner = (np.abs(at[:, 0]) < 19.9) & (np.abs(at[:, 1]) < 13.9) & (at[:, 2] > 7.9)
    return bool(inner.all() and any(np.abs(p.signed_distance(at)).max() < 1e-6 for p in planes))


def test_the_post_is_what_it_says():
    body = spandrels(np.eye(4))
    assert any(isinstance(f.surface, Cylinder) and f.surface.radius == SIDE for f in body.faces)
    assert area(body) == pytest.approx(
        4.0 * SIDE**2 + 8.0 * SIDE * HIGH + 2.0 * np.pi * SIDE * TALL + 4.0 * SIDE**2, rel=1e-9
    )


@pytest.mark.parametrize("seed", seeds(6))
def test_a_tail_beside_a_step_is_closed_and_its_end_too(seed):
    """Two blocks in a row, one a thousandth higher, with a wall on it: the wall's end face runs on as a tail between
    the tops, which ends in a short edge. Nothing is left of it but what is as wide as what is ignored."""
    rng = np.random.default_rng(seed)
    step, wide = float(rng.uniform(5e-4, 4e-3)), float(rng.uniform(3.0, 7.0))
    low = prism(rectangle(0, 0, 10, 20), 5.0, name="low")
    high = prism(rectangle(10, 0, 22, 20), 5.0 + step, name="high")
    wall = prism(rectangle(10, 0, 22, wide), 9.0, name="wall")
    model = run(State(Model.of([low, high, wall])), do.unite([low], [high])).model
    (body,) = run(State(model), do.unite([model.bodies[0]], [model.bodies[1]])).model.bodies
    true = 200.0 * 5.0 + 240.0 * (5.0 + step) + 12.0 * wide * (4.0 - step)
    assert volume(body) == pytest.approx(true, rel=1e-12)
    assert min(e.length for e in body.edges()) == pytest.approx(step, rel=1e-6)
    mesh = what_can(Model.of([moved(body, motion(seed))]), SizeRules(2.0, ignore=0.1))
    assert not mesh.failures and not mesh.rounded and mesh.conformal() and verdict(mesh).good
    assert mesh.volumes.sum() == pytest.approx(true, rel=1e-3) and lithon.patch_test(mesh).passed
    sides = mesh.points[mesh.triangles] - np.roll(mesh.points[mesh.triangles], 1, axis=1)
    assert np.linalg.norm(sides, axis=2).min() > 0.1


@pytest.mark.parametrize("seed", seeds(6))
def test_triangles_of_one_plane_do_not_pass_through_each_other(seed):
    """However it stands in space, and however their nodes were rounded there; what is lifted through them does."""
    rng = np.random.default_rng(seed)
    place = motion(seed)
    flat = rng.uniform(-5.0, 5.0, (300, 2))
    triangles = Delaunay(flat).simplices.astype(np.int64)
    points = np.column_stack([flat, np.zeros(300), np.ones(300)]) @ place[:3].T
    plane = Plane.of(place[:3, 3], place[:3, 2])
    for _ in range(3):
        points = plane.project(points)
    assert not len(cutting_pairs(points, triangles))
    (inner,) = np.flatnonzero(np.linalg.norm(flat, axis=1) == np.linalg.norm(flat, axis=1).min())
    spike = np.vstack(
        [points, points[inner] + np.outer([1.0, -1.0, 0.0], place[:3, 2]) + place[:3, :2] @ [0.011, 0.007]]
    )
    pierced = np.vstack([triangles, [[300, 301, len(spike) - 1]]])
    assert len(cutting_pairs(spike, pierced))


def test_what_is_closed_is_counted_and_told_once():
    """Corners that the mesh closes, two of each of four faces, are one note and no cards; held ones are cards, and stay
    in the mesh. So it is of a copy, for which something else may be said than for what it was made from."""
    model = Model.of([spandrels(np.eye(4))])
    (body,) = model.bodies
    rules = SizeRules(3.0, ignore=0.3)
    kinds = {"spike", "small angle"}
    open_to_all = Counter(f.kind for f in findings(model, 3.0))
    assert sum(open_to_all[kind] for kind in kinds) == 8
    told = findings(model, 3.0, rules=rules)
    (note,) = (f for f in told if f.kind == "not followed")
    assert kinds.isdisjoint({f.kind for f in told}) and note.severity == "note" and note.text.startswith("8 s")
    assert what_can(model, rules).ignored["tips"] == 8 and what_can(model, SizeRules(3.0)).ignored["tips"] == 0
    held = replace(rules, kept=(next(f for f in body.faces if sum(1 for _ in f.edges()) == 3),))
    left = [f for f in findings(model, 3.0, rules=held) if f.kind in kinds]
    assert len(left) == 2 and all(tuple(f.faces) == held.kept for f in left)
    assert what_can(model, held).ignored["tips"] == 6
