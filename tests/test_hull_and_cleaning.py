"""Hulls, smallest blocks and cylinders, triangles cleaned: by brute force, closed forms and what was spoiled."""

import itertools

import numpy as np
import pytest
import scipy
from dice import seeds
from operation_examples import box
from solids import motion as any_motion
from test_stuffing import needles, plate, potato

from lithon import do
from lithon.arrays import triangle_areas, unit
from lithon.brep.cleaning import cleaned, least_area, rims, winding_number
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of, enclosed, soup_of
from lithon.brep.measures import volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mend.hull import block, cylinder, hull, least_circle, points_of
from lithon.operations.running import run
from lithon.operations.state import State
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


def section_area(body, middle, way):
    """The area within the lines in which a plane meets triangles: by Green's theorem, each line along its triangle."""
    soup, total = soup_of(body), 0.0
    off = (soup.points - middle) @ way
    for corners in soup.corners[(off[soup.corners].min(axis=1) < 0.0) & (off[soup.corners].max(axis=1) > 0.0)]:
        x, d = soup.points[corners] - middle, off[corners]
        ends = [x[i] + d[i] / (d[i] - d[j]) * (x[j] - x[i]) for i, j in ((0, 1), (1, 2), (2, 0)) if d[i] * d[j] < 0.0]
        p, q = ends
        along = np.cross(way, np.cross(x[1] - x[0], x[2] - x[0]))
        total += 0.5 * np.sign((q - p) @ along) * float(np.cross(p, q) @ way)
    return total


@pytest.mark.parametrize("seed", seeds(4))
def test_bodies_of_triangles_are_carved_by_planes(seed):
    """The pieces are sound, each on its side of the plane, and make up the whole; both have the section as a face, of
    the area that a slice of the body has. What passes it by is refused, and so is what is no plane, each in words."""
    rng = np.random.default_rng(seed)
    for whole in (plate(6.0, seed), potato(seed), needles(seed)):
        points = soup_of(whole).points
        middle, way = points.mean(axis=0) + rng.uniform(-0.5, 0.5, 3), unit(rng.normal(size=3))
        cut = do.Cut.at(middle.tolist(), way.tolist())
        state = State(Model.of([whole]))
        pieces = run(state, do.carve(cut)).model.bodies
        assert [b.name for b in pieces] == [f"part {chr(65 + k)}" for k in range(len(pieces))] and len(pieces) >= 2
        assert sum(volume(b) for b in pieces) == pytest.approx(volume(whole), rel=1e-7)
        assert not [f for b in pieces for f in flaws(b, 1e-6)]
        sections = {1.0: 0.0, -1.0: 0.0}
        for piece in pieces:
            soup = soup_of(piece)
            off = (soup.points - middle) @ way
            sense = 1.0 if off.max() > -off.min() else -1.0
            assert (sense * off).min() > -1e-6
            on = (np.abs(off[soup.corners]) < 1e-6).all(axis=1)
            sections[sense] += float(triangle_areas(soup.points, soup.corners[on]).sum())
        expected = pytest.approx(section_area(whole, middle, way), rel=1e-6)
        assert sections[1.0] == expected and sections[-1.0] == expected
        with pytest.raises(Refusal, match="does not pass through"):
            run(state, do.carve(do.Cut.at((middle + 500.0 * way).tolist(), way.tolist())))
        with pytest.raises(Refusal, match="made of triangles"):
            run(state, do.carve(do.Cut.round(do.Axis.at(middle.tolist(), way.tolist()), 1.0)))


def test_triangles_that_would_have_to_be_parted_are_refused_in_words():
    """Blocks of triangles share faces that match whole; a smaller face on a larger one is told, and nothing is lost."""
    foot, same, post = box(0, 0, 20, 20, 0, 10, "a"), box(0, 0, 20, 20, 10, 14, "b"), box(4, 4, 9, 9, 10, 22, "c")

    def of_triangles(*blocks):
        return State(Model.of([bodies_of([soup_of(b)])[0][0] for b in blocks]))

    assert len(run(of_triangles(foot, same), do.bond()).model.shared()) == 1
    with pytest.raises(Refusal, match="whole face in common") as told:
        run(of_triangles(foot, post), do.bond())
    assert "exact solids" in told.value.remedy


def test_a_round_cut_passes_triangles_by():
    """A body of triangles elsewhere does not keep exact ones from being cut; it is told where it is met, in the midst
    of a triangle, too."""
    exact, soup = box(0, 0, 9, 9, 0, 9, "exact"), box(0, 50, 9, 59, 0, 9, "soup")
    state = State(Model.of([exact, bodies_of([soup_of(soup)])[0][0]]))
    out = run(state, do.carve(do.Cut.round(do.Axis.at((0, 4, 4), (1, 0, 0)), 2.0))).model
    assert sorted(volume(b) for b in out.bodies) == pytest.approx([36 * np.pi, 729 - 36 * np.pi, 729])
    for bodies, z in ((["soup"], 4.5), (["soup"], 2.0)):
        with pytest.raises(Refusal, match="soup is made of triangles"):
            run(state, do.carve(do.Cut.round(do.Axis.at((0, 55, z), (1, 0, 0)), 1.0), bodies=bodies))
