"""Hulls, smallest blocks and cylinders, triangles cleaned: by brute force, closed forms and what was spoiled."""

import itertools

import numpy as np
import pytest
import scipy
from blocks import box
from dice import seeds
from solids import motion as any_motion

from lithon.brep.cleaning import cleaned, least_area, rims, winding_number
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of, enclosed
from lithon.brep.measures import volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mend.hull import block, cylinder, hull, least_circle, points_of
from lithon.samples.build import Round, prism
from lithon.samples.gudgeon_scan import GUDGEON, scanned

NEAR = 1e-7


@pytest.mark.parametrize("seed", seeds(6))
def test_a_hull_holds_everything_and_no_more(seed):
    rng = np.random.default_rng(seed)
    points = rng.normal(size=(60, 3)) * rng.uniform(1, 5, 3)
    made = hull(points)
    assert not flaws(made, NEAR)
    assert volume(made) == pytest.approx(scipy.spatial.ConvexHull(points).volume, rel=1e-12)
    for face in made.faces:
        assert float(made.outward(face, points)[0] @ face.surface.frame.z) > 0.99
        assert face.surface.signed_distance(points).max() < 1e-9
    corners = {tuple(v.point) for v in made.vertices()}
    assert corners <= {tuple(p) for p in points}


def test_a_hull_of_a_block_has_six_faces_whatever_is_inside():
    body = moved(box(0, 0, 4, 5, 0, 6, "b"), any_motion(3))
    rng = np.random.default_rng(1)
    corners = np.array([v.point for v in body.vertices()])
    inside = rng.dirichlet(np.ones(8), 200) @ corners
    made = hull(np.vstack([corners, inside]))
    assert len(made.faces) == 6 and volume(made) == pytest.approx(120.0, rel=1e-12)
    with pytest.raises(Refusal, match="plane"):
        hull(np.column_stack([rng.normal(size=(20, 2)), np.zeros(20)]))
    with pytest.raises(Refusal, match="plane"):
        block(np.column_stack([rng.normal(size=(20, 2)), np.zeros(20)]))


@pytest.mark.parametrize("seed", seeds(6))
def test_the_smallest_block_about_a_turned_block_is_that_block(seed):
    rng = np.random.default_rng(seed)
    size = rng.uniform(2, 9, 3)
    body = moved(box(0, 0, size[0], size[1], 0, size[2], "b"), any_motion(seed))
    made = block(points_of([body]))
    assert not flaws(made, NEAR) and volume(made) == pytest.approx(float(size.prod()), rel=1e-9)
    cloud = rng.normal(size=(80, 3)) * size
    about = block(cloud)
    for face in about.faces:  # nothing stands out, and each side is touched
        off = face.surface.signed_distance(cloud) * (1.0 if face.along else -1.0)
        assert off.max() == pytest.approx(0.0, abs=1e-9)


@pytest.mark.parametrize("seed", seeds(4))
def test_the_smallest_cylinder_about_a_turned_cylinder(seed):
    rng = np.random.default_rng(seed)
    r, h = rng.uniform(1, 5), rng.uniform(2, 20)
    body = moved(prism(Round((0.0, 0.0), r), h), any_motion(seed))
    made = cylinder(points_of([body]))
    assert volume(made) == pytest.approx(np.pi * r**2 * h, rel=1e-6)
    cloud = rng.normal(size=(60, 3)) * (1, 2, 3)
    (wall,) = [f for f in cylinder(cloud).faces if f.surface.kind == "cylinder"]
    assert wall.surface.signed_distance(cloud).max() == pytest.approx(0.0, abs=1e-8)


@pytest.mark.parametrize("seed", seeds(8))
def test_the_smallest_circle_is_that_of_two_or_three_of_the_points(seed):
    rng = np.random.default_rng(seed)
    p = rng.normal(size=(12, 2)) * (3, 1)
    centre, radius = least_circle(p)
    assert np.linalg.norm(p - centre, axis=1).max() <= radius * (1 + 1e-9)
    best = np.inf
    for i, j in itertools.combinations(range(12), 2):
        c = 0.5 * (p[i] + p[j])
        r = 0.5 * np.linalg.norm(p[i] - p[j])
        if np.linalg.norm(p - c, axis=1).max() <= r * (1 + 1e-9):
            best = min(best, r)
    for three in itertools.combinations(range(12), 3):
        a, b, c = p[list(three)]
        m = 2.0 * np.stack([b - a, c - a])
        if abs(np.linalg.det(m)) > 1e-9:
            o = np.linalg.solve(m, np.array([b @ b - a @ a, c @ c - a @ a]))
            r = np.linalg.norm(a - o)
            if np.linalg.norm(p - o, axis=1).max() <= r * (1 + 1e-9):
                best = min(best, r)
    assert radius == pytest.approx(best, rel=1e-9)


def every_triangulation(ring):
    if len(ring) < 3:
        yield []
        return
    a, b = ring[0], ring[-1]
    for k in range(1, len(ring) - 1):
        for left in every_triangulation(ring[: k + 1]):
            for right in every_triangulation(ring[k:]):
                yield [*left, (a, ring[k], b), *right]


@pytest.mark.parametrize("seed", seeds(6))
def test_a_hole_is_filled_with_the_least_area(seed):
    rng = np.random.default_rng(seed)
    n = 7
    angle = np.sort(rng.uniform(0, 2 * np.pi, n))
    p = np.column_stack([np.cos(angle), np.sin(angle), 0.4 * rng.normal(size=n)])

    def area(triangles):
        return sum(0.5 * np.linalg.norm(np.cross(p[b] - p[a], p[c] - p[a])) for a, b, c in triangles)

    made = least_area(np.ascontiguousarray(p))
    best = min(area(t) for t in every_triangulation(list(range(n))))
    assert len(made) == n - 2 and area(made) == pytest.approx(best, rel=1e-4)


@pytest.mark.parametrize("seed", seeds(6))
def test_triangles_whose_corner_stands_on_their_side_are_gone_and_nothing_moves(seed):
    """Caps put between the triangles of a hull, some on sides of others, some beside a hole."""
    rng = np.random.default_rng(seed)
    points = rng.normal(size=(40, 3))
    found = scipy.spatial.ConvexHull(points)
    corners = [tri if eq[:3] @ np.cross(*(points[tri[1:]] - points[tri[0]])) > 0 else tri[::-1]
               for tri, eq in zip(found.simplices.tolist(), found.equations, strict=True)]  # fmt: skip
    open_one = seed % 2
    if open_one:
        corners.pop()
    caps = 0
    for k in rng.permutation(len(corners))[:12].tolist():
        a, b, c = np.roll(corners[k], int(rng.integers(3))).tolist()
        middle = len(points)
        points = np.vstack([points, points[a] + rng.uniform(0.2, 0.8) * (points[b] - points[a])])
        # The flat one keeps the long side, so that the other's neighbours are as they were.
        corners[k] = [a, middle, c]
        corners += [[middle, b, c], [a, b, middle]]
        caps += 1
    made = cleaned(points, np.array(corners))
    assert made.healed.pop("triangles without area") == caps
    assert made.healed == ({"holes filled": 1} if open_one else {})
    a, b, c = (made.points[made.corners[:, k]] for k in range(3))
    long = np.linalg.norm(np.stack([b - a, c - b, a - c]), axis=2).max(axis=0)
    assert (np.linalg.norm(np.cross(b - a, c - a), axis=1) > 1e-4 * long**2).all()
    assert enclosed(made.points, made.corners) == pytest.approx(found.volume, rel=1e-9)
    assert {tuple(p) for p in made.points} <= {tuple(p) for p in points}


def test_windings_tell_inside_from_outside():
    points, corners, _ = body_mesh(box(0, 0, 2, 2, 0, 2, "b"))
    at = np.array([[1, 1, 1], [0.1, 1.9, 0.2], [3, 1, 1], [-0.1, 1, 1]], dtype=float)
    assert winding_number(points, corners, at) == pytest.approx([1, 1, 0, 0], abs=1e-9)
    assert winding_number(points, corners[:, ::-1], at[:1]) == pytest.approx([-1], abs=1e-9)
    opened = winding_number(points, corners[2:], at[:1])
    assert 0.8 < float(opened[0]) < 0.85  # a sixth of what is seen from the middle is open


def soup():
    """A block with a bore, in many triangles."""
    body = prism(Round((0.0, 0.0), 8.0), 6.0)
    points, corners, _ = body_mesh(body)
    return points, corners


@pytest.mark.parametrize("seed", seeds(8))
def test_what_was_spoiled_is_healed(seed):
    rng = np.random.default_rng(seed)
    points, corners = soup()
    want = enclosed(points, corners)
    m = len(corners)
    gone, flipped, twice = (rng.choice(m, k, replace=False) for k in (2, 3, 2))
    bad = corners.copy()
    flipped = [k for k in flipped if k not in set(gone.tolist())]
    bad[flipped] = bad[flipped][:, ::-1]
    bad = np.vstack([np.delete(bad, gone, axis=0), corners[[k for k in twice if k not in set(gone.tolist())]]])
    loose = rng.permutation(len(bad))
    # Torn into triangles with corners of their own that stand off each other by a little.
    torn = points[bad[loose]].reshape(-1, 3) + 1e-7 * rng.normal(size=(3 * len(bad), 3))
    made = cleaned(torn, np.arange(3 * len(bad)).reshape(-1, 3), weld=1e-5)
    assert made.left == 0 and not rims(made.corners, len(made.points))
    assert made.healed["points welded"] > 0 and made.healed.get("holes filled", 0) >= 1
    assert enclosed(made.points, made.corners) == pytest.approx(want, rel=0.02)
    bodies, _ = bodies_of([Triangles(made.points, made.corners)])
    assert len(bodies) == 1 and not flaws(bodies[0], Model.of(bodies).tolerance)
    again = cleaned(made.points, made.corners, weld=1e-5)
    assert not again.healed and len(again.corners) == len(made.corners)


def test_islands_go_and_hollows_stay():
    outer, inner, far = (body_mesh(b)[:2] for b in (box(0, 0, 10, 10, 0, 10, "o"), box(4, 4, 6, 6, 4, 6, "i"),
                                                    box(20, 0, 20.5, 0.5, 0, 0.5, "f")))  # fmt: skip
    hollow = (inner[0], inner[1][:, ::-1])

    def both(*parts):
        points, corners, start = [], [], 0
        for p, c in parts:
            points.append(p)
            corners.append(c + start)
            start += len(p)
        return np.concatenate(points), np.concatenate(corners)

    kept = cleaned(*both(outer, hollow))
    assert enclosed(kept.points, kept.corners) == pytest.approx(1000.0 - 8.0)
    dropped = cleaned(*both(outer, inner, far))
    assert enclosed(dropped.points, dropped.corners) == pytest.approx(1000.0)
    assert dropped.healed["islands and inner fragments dropped"] == 2
    inside_out = cleaned(outer[0], outer[1][:, ::-1])
    assert enclosed(inside_out.points, inside_out.corners) == pytest.approx(1000.0)
    with pytest.raises(Refusal):
        cleaned(np.zeros((3, 3)), np.array([[0, 1, 2]]))


@pytest.mark.parametrize("seed", seeds(4))
def test_the_scan_of_any_seed_is_closed_within_its_noise(seed):
    soup_of, wounds = scanned(20 + seed)
    assert len(wounds) >= 4
    made = cleaned(soup_of.points, soup_of.corners)
    assert made.left == 0 and not rims(made.corners, len(made.points))
    assert enclosed(made.points, made.corners) == pytest.approx(GUDGEON.volume, rel=5e-3)
