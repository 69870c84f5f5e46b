"""Surfaces started from scattered corners, against what these were drawn from; small bodies that lie on nothing."""

import numpy as np
import pytest
import scipy
from blocks import box, plate
from dice import seeds

import lithon.operations.mend.solid as mend_solid
from lithon import do
from lithon.brep.analysis.fits import simple_fits
from lithon.brep.faceted import Triangles, bodies_of, soup_of, welded
from lithon.brep.measures import face_area, volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.links import along, in_common, lists
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import parted_scan
from lithon.mend.starts import scattered_fits
from lithon.operations.mend.solid import _coarsened, _told_apart
from lithon.operations.running import run
from lithon.operations.state import State


def _drawn(kind, rng):
    """A surface somewhere, points (n,3) of a part of it and its normals there."""
    axis, middle = rng.normal(size=3), rng.uniform(-20.0, 20.0, 3)
    frame, r = Frame.of(middle, axis), float(rng.uniform(2.0, 6.0))
    made = {
        "plane": Plane(frame), "cylinder": Cylinder(frame, r), "sphere": Sphere(frame, r), "cone": Cone(frame, r, 0.4),
        "torus": Torus(frame, 3.0 * r, r),
    }[kind]  # fmt: skip
    turn, rise, high = rng.uniform(0.0, 1.6, 120), rng.uniform(0.2, 1.4, 120), rng.uniform(-0.5 * r, r, 120)
    away, up = {
        "plane": (r * rise, 0.0 * rise), "cylinder": (r + 0.0 * rise, high), "cone": (r + high * np.tan(0.4), high),
        "sphere": (r * np.cos(rise), r * np.sin(rise)), "torus": (r * (3.0 + np.cos(rise)), r * np.sin(rise)),
    }[kind]  # fmt: skip
    p = frame.world(np.column_stack([away * np.cos(turn), away * np.sin(turn), up]))
    assert np.abs(made.signed_distance(p)).max() < 1e-9
    return made, p, made.normal(p)


@pytest.mark.parametrize("kind", ["plane", "cylinder", "cone", "sphere", "torus"])
@pytest.mark.parametrize("seed", seeds(20))
def test_a_surface_is_found_from_its_corners(kind, seed):
    rng = np.random.default_rng(seed)
    made, p, n = _drawn(kind, rng)
    for noise in (0.0, 0.002):
        q = p + rng.normal(0.0, noise, p.shape)
        found = {s.kind: s for s in scattered_fits(q, n, max(3.0 * noise, 1e-9), True)}
        assert kind in found
        off = np.abs(found[kind].signed_distance(p)).max()
        assert off <= max(5.0 * noise, 1e-9)
        for name in ("radius", "angle", "major", "minor") if noise == 0.0 else ():
            if hasattr(made, name) and kind != "cone":
                assert getattr(found[kind], name) == pytest.approx(getattr(made, name), rel=1e-6)
        # What others find in closed form comes no nearer.
        for other in simple_fits(q, n):
            if other.kind in found:
                mine, theirs = (float((s.signed_distance(q) ** 2).mean()) for s in (found[other.kind], other))
                assert mine <= 1.0001 * theirs + 1e-18
    assert scattered_fits(p[:2], n[:2], 1.0, True) == []
    assert not any(s.kind == "torus" for s in scattered_fits(p, n, 1e9, False))


@pytest.mark.parametrize("seed", seeds(10))
def test_what_sets_have_in_common_is_told_two_by_two(seed):
    rng = np.random.default_rng(seed)
    sets = [np.unique(rng.integers(0, 30, rng.integers(0, 14))) for _ in range(9)]
    want = {(a, b): np.intersect1d(sets[a], sets[b]) for a in range(9) for b in range(a + 1, 9)}
    got = in_common(sets)
    assert set(got) == {pair for pair, both in want.items() if len(both)}
    assert all((got[pair] == want[pair]).all() for pair in got)
    assert in_common([]) == in_common(sets[:1]) == {}


@pytest.mark.parametrize("seed", seeds(10))
def test_a_neighbourhood_is_the_nearest_by_steps_over_links(seed):
    rng = np.random.default_rng(seed)
    i, j = np.unique(np.sort(rng.integers(0, 60, (140, 2)), axis=1), axis=0).T
    i, j = i[i != j], j[i != j]
    starts, other = lists(60, i, j)
    way, mask, most = rng.random(len(other)) < 0.8, rng.random(60) < 0.9, 15
    got = along(starts, other, way, np.where(mask, -1, 3), 0, most).tolist()
    level, reached = [0], {0}
    while level:
        level = list(dict.fromkeys(int(other[k]) for a in level for k in range(starts[a], starts[a + 1])
                                   if way[k] and mask[other[k]] and int(other[k]) not in reached))  # fmt: skip
        reached |= set(level)
    assert got[0] == 0 and len(set(got)) == len(got) == min(most, len(reached)) and set(got) <= reached


def _lump(seed):
    """A body of a few triangles about random points, of no surface."""
    rng = np.random.default_rng(seed)
    p = rng.normal(size=(17, 3))
    p /= np.linalg.norm(p, axis=1)[:, None] * rng.uniform(0.6, 1.4, (17, 1))
    hull = scipy.spatial.ConvexHull(p)
    corners = hull.simplices.copy()
    a, b, c = (p[corners[:, k]] for k in range(3))
    turned = (np.cross(b - a, c - a) * (a - p.mean(axis=0))).sum(axis=1) < 0.0
    corners[turned] = corners[turned][:, ::-1]
    return bodies_of([Triangles(p, corners, "lump")])[0][0], hull.volume


@pytest.mark.parametrize("seed", seeds(15))
def test_a_lump_of_few_triangles_is_a_solid_of_them_or_told_to_be_none(seed):
    lump, size = _lump(seed)
    for kind in ("simple", "smooth", "facets"):
        try:
            model = run(State(Model.of([lump])), do.solid(kind=kind)).model
        except Refusal as refusal:
            assert kind != "facets" and refusal.remedy
            continue
        assert not flaws(model.bodies[0], model.tolerance)
        if kind == "facets":
            assert volume(model.bodies[0]) == pytest.approx(size, rel=1e-9)


def test_where_nothing_is_found_there_are_no_patches():
    soup = soup_of(_lump(3)[0])
    p, t = welded(soup.points, soup.corners)
    cross = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
    double = np.linalg.norm(cross, axis=1)
    side = {(a, b): k for k, (i, j, m) in enumerate(t.tolist()) for a, b in ((i, j), (j, m), (m, i))}
    pairs = np.array([(k, side[b, a]) for (a, b), k in side.items() if a < b])
    label, surfaces = parted_scan(Scan(p, t, 0.5 * double, cross / double[:, None], pairs, 1e-9))
    assert surfaces == [] and (label == -1).all()


def _with_a_spike(small):
    """A block of triangles, in one of which a spike stands, so high and wide."""
    points, corners, _ = body_mesh(box(0, 0, 10, 8, 0, 6, "block"))
    a, b, c = corners[0].tolist()
    middle, cross = points[[a, b, c]].mean(axis=0), np.cross(points[b] - points[a], points[c] - points[a])
    foot = [middle + small * (points[k] - middle) / np.linalg.norm(points[k] - middle) for k in (a, b, c)]
    p, q, r, tip = (len(points) + k for k in range(4))
    points = np.vstack([points, foot, middle + small * cross / np.linalg.norm(cross)])
    ring = [[a, b, q], [a, q, p], [b, c, r], [b, r, q], [c, a, p], [c, p, r]]
    corners = np.vstack([corners[1:], ring, [[p, q, tip], [q, r, tip], [r, p, tip]]])
    return bodies_of([Triangles(points, corners, "block")])[0][0]


def test_triangles_too_small_to_be_told_apart_give_way_to_others():
    body = _with_a_spike(0.01)
    assert not flaws(body, 1e-6) and _told_apart(body, 1e-6) is body
    assert {flaw.kind for flaw in flaws(body, 0.06)} == {"empty face"}
    made = _told_apart(body, 0.06)
    assert not flaws(made, 0.06) and volume(made) == pytest.approx(480.0, rel=1e-3)
    assert len(soup_of(made).corners) < len(soup_of(body).corners)
    with pytest.raises(Refusal, match="smaller than the model tells apart"):
        _told_apart(body, 40.0)
    soup = soup_of(body)
    with pytest.raises(Refusal, match="nothing is left of block"):
        run(State(Model.of(bodies_of([Triangles(soup.points, soup.corners[1:], "block")])[0])),
            do.clean_triangles(weld=40.0))  # fmt: skip
    with pytest.raises(Refusal, match="not closed"):
        _told_apart(bodies_of([Triangles(soup.points, soup.corners[1:], "block")])[0][0], 1e-6)


def test_a_model_is_no_coarser_than_its_smallest_faces_allow():
    block, crumb = box(0, 0, 10, 8, 0, 6, "block"), box(0, 0, 1e-3, 1e-3, 0, 1e-3, "crumb")
    model = Model.of([block, crumb])
    assert _coarsened(model, block, 0.5 * model.tolerance) is model
    assert _coarsened(model, block, 1e-5).tolerance == 1e-5
    with pytest.raises(Refusal, match="smaller ones"):
        _coarsened(model, block, 0.1)
    assert _coarsened(Model.of([block]), block, 0.1).tolerance == 0.1


@pytest.mark.parametrize("kind", ["simple", "smooth"])
def test_a_step_taken_again_finds_the_same(kind, monkeypatch):
    """What is remembered of a body, and of what was looked for in vain, must not lead elsewhere the second time, nor
    after another kind of faces was tried; without the parts that are looked for as long as there is time."""
    monkeypatch.setattr(mend_solid, "_PARTING", (0.0, 0.0))
    rng = np.random.default_rng(4)
    points, corners, _ = body_mesh(plate().bodies[0])
    for noise in (0.0, 0.01):
        (body,) = bodies_of([Triangles(points + rng.normal(0.0, noise, points.shape), corners, "plate")])[0]

        def told(way, body=body):
            try:
                made = run(State(Model.of([body])), do.solid(kind=way)).model.bodies[0]
            except Refusal as refusal:
                return str(refusal)
            return sorted((f.surface.kind, round(face_area(f), 9)) for f in made.faces), round(volume(made), 9)

        first = told(kind)
        told("smooth" if kind == "simple" else "simple")
        assert told(kind) == first
