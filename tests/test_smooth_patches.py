"""Solids with free-form faces of triangles, against the functions that the triangles were made from."""

import itertools
import json

import meshio
import numpy as np
import pytest
import scipy
from dice import LONG
from test_cli import within

import lithon
from lithon import do
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.measures import volume
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.splines import BSplineSurface
from lithon.mend.freeform import _ripples, curve_along, unfolded
from lithon.mend.least_bending import _BEND, Bending, control_net, spots
from lithon.mend.noise import noise_of
from lithon.mend.patch import DEGREE, spline_values, uniform_knots
from lithon.mend.slicing import sliced
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules
from lithon.operations.state import Settings, State

A, B = 6.0, 4.0


def waved(x, y):
    return 2.0 + 0.4 * np.sin(0.9 * x) * np.cos(0.7 * y)


def bulged(x, y):
    r2 = ((x - 3.0) ** 2 + (y - 2.0) ** 2) / 1.6**2
    return 2.0 + 0.6 * np.where(r2 < 1.0, (1.0 - r2) ** 3, 0.0)


def block(height, n, window=None):
    """Triangles of a block whose top is a function of x and y, with a window through it: points and corners."""
    x, y = np.meshgrid(np.linspace(0.0, A, n), np.linspace(0.0, B, n), indexing="ij")
    number = np.arange(n * n).reshape(n, n)
    there = np.ones((n - 1, n - 1), dtype=bool)
    if window is not None:
        there[window, window] = False
    q = np.stack([number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]], axis=-1)[there]
    top = np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]])
    sides = {tuple(s) for t in top.tolist() for s in zip(t, [*t[1:], t[0]], strict=True)}
    rim = [(b, a) for a, b in sides if (b, a) not in sides]
    m = n * n
    walls = [t for a, b in rim for t in ((a, b, b + m), (a, b + m, a + m))]
    points = np.concatenate([np.stack([x, y, height(x, y)], axis=-1), np.stack([x, y, 0 * x], axis=-1)]).reshape(-1, 3)
    corners = np.concatenate([top, top[:, ::-1] + m, np.array(walls)])
    used, own = np.unique(corners, return_inverse=True)
    return points[used], own.reshape(-1, 3)


def ball(n, radius):
    k = np.arange(n) + 0.5
    up, around = np.arccos(1.0 - 2.0 * k / n), np.pi * (1.0 + 5.0**0.5) * k
    way = np.stack([np.cos(around) * np.sin(up), np.sin(around) * np.sin(up), np.cos(up)], axis=-1)
    t = scipy.spatial.ConvexHull(way).simplices
    a, b, c = (way[t[:, k]] for k in range(3))
    inward = (np.cross(b - a, c - a) * (a + b + c)).sum(axis=1) < 0.0
    t[inward] = t[inward][:, ::-1]
    return way * radius(way)[:, None], t.astype(np.int64)


def opened(tmp_path, points, corners, name="block"):
    meshio.Mesh(points, [("triangle", corners)]).write(tmp_path / f"{name}.stl", binary=True)
    return lithon.open(tmp_path / f"{name}.stl")


CASES = {"wave": (waved, 12, None), "bulge": (bulged, 20, None), "window": (waved, 16, slice(6, 9))}


@pytest.mark.slow
@pytest.mark.parametrize("name", CASES if LONG else ["wave"])
def test_what_fits_nothing_simple_is_one_free_form_face(tmp_path, name):
    """Between the corners too it is the function: the volume is that of its integral, not of the chords."""
    height, n, window = CASES[name]
    points, corners = block(height, n, window)
    work = opened(tmp_path, points, corners)
    found = work.take(do.find_patches(free=True)).outcome
    assert " on none" in found.words and len(work.model.bodies[0].faces) == (6 if window is None else 10)
    out = work.take(do.solid(kind="smooth")).outcome
    (body,) = work.model.bodies
    kinds = [f.surface.kind for f in body.faces]
    assert kinds.count("b-spline") == 1 and kinds.count("plane") == len(kinds) - 1 == (5 if window is None else 9)
    assert not flaws(body, work.model.tolerance) and not self_intersections(body, work.model.tolerance)
    at = np.linspace(0.0, 1.0, 4001)[:-1] + 0.5 / 4000
    x, y = np.meshgrid(A * at[::4], B * at[::4], indexing="ij")
    z = height(x, y)
    if window is not None:
        cell = 1.0 / (n - 1)
        z = np.where((abs(x / A - 7.5 * cell) < 1.5 * cell) & (abs(y / B - 7.5 * cell) < 1.5 * cell), 0.0, z)
    assert volume(body) == pytest.approx(float(z.mean()) * A * B, rel=4e-3 if window else 3e-4)
    free = next(f for f in body.faces if f.surface.kind == "b-spline")
    inside = np.random.default_rng(3).uniform((0.5, 0.5), (1.6, B - 0.5), (200, 2))
    probe = np.column_stack([inside, height(*inside.T)])
    assert float(np.abs(free.surface.signed_distance(probe)).max()) < 6e-3
    told = float(out.details[0]["deviation_mm"])
    assert float(np.abs(free.surface.signed_distance(points[points[:, 2] > 1e-9])).max()) < told + 1e-4 < 5e-3
    mesh = mesh_of(State(work.model, Settings(size=0.8)).model, SizeRules(0.8), "tet")
    assert mesh.volume_ratio == pytest.approx(1.0, abs=2e-2) and not mesh.failures


def test_triangles_are_laid_flat_without_a_fold_or_not_at_all():
    points, corners = block(waved, 12)
    top = corners[: 2 * 11 * 11]
    flat = unfolded(points, top)
    a, b, c = (flat.uv[flat.corners[:, k]] * flat.sides for k in range(3))
    area = 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    assert (area > 0.0).all() and flat.uv.min() > 0.0 and flat.uv.max() < 1.0
    # A plane keeps its shape: every angle of every triangle.
    plane = unfolded(points * [1.0, 1.0, 0.0], corners[2 * 11 * 11 : 4 * 11 * 11, ::-1])
    size = 1.0 + 2.0 * 0.04
    for k in range(3):
        p, q, r = (plane.points[plane.corners[:, (k + j) % 3]] for j in range(3))
        u, v, w = (plane.uv[plane.corners[:, (k + j) % 3]] * plane.sides * size for j in range(3))
        here = np.einsum("ij,ij->i", q - p, r - p)
        there = np.einsum("ij,ij->i", v - u, w - u)
        assert there == pytest.approx(here, abs=1e-6)
    assert unfolded(*ball(200, lambda way: np.full(len(way), 3.0))) is None  # it is closed


@pytest.mark.parametrize("spans", [3, 12])
def test_a_net_is_that_of_least_squares(spans):
    """Against all rows at once, dense and by orthogonal columns: points that want what no smooth surface does, few
    enough that bending has its say, and one weight a hundredth of the other."""
    rng = np.random.default_rng(spans)
    knots, bend = uniform_knots(spans), Bending.of(spans, np.array([1.0, 0.6]))
    parts = [(rng.random((n, 2)), rng.normal(size=(n, 3)), weight) for n, weight in ((60, 1.0), (25, 0.01))]
    own = []
    for uv, points, weight in parts:
        u, v = (spline_values(knots, uv[:, k]) for k in range(2))
        own.append((weight * np.einsum("ki,kj->kij", u, v).reshape(len(uv), -1), weight * points))
    stiff = _BEND * scipy.linalg.cholesky(bend.toarray())
    matrix = np.concatenate([*(a for a, _ in own), stiff])
    right = np.concatenate([*(b for _, b in own), np.zeros((len(stiff), 3))])
    best = np.linalg.lstsq(matrix, right, rcond=1e-15)[0]
    made = control_net(knots, parts, bend).reshape(-1, 3)
    assert bend.times(made) == pytest.approx(bend.toarray() @ made, rel=1e-9, abs=1e-9)
    cost = [float(((matrix @ x - right) ** 2).sum()) for x in (made, best)]
    assert cost[0] == pytest.approx(cost[1], rel=1e-6)


def test_beyond_its_points_a_net_goes_on_as_it_is():
    """A cubic that is told over a disc, a little wrongly at its rim, is one over the whole square where it goes on
    calmly, and nothing like one where it need not; within the disc both are as near to the points."""
    rng = np.random.default_rng(1)
    spans = 8
    knots, bend = uniform_knots(spans), Bending.of(spans, np.array([1.0, 0.7]))

    def height(uv):
        return uv[:, 0] ** 2 - 0.3 * uv[:, 0] * uv[:, 1] ** 2 + 0.5 * uv[:, 1]

    uv = rng.random((4000, 2))
    far = np.linalg.norm(uv - 0.5, axis=1)
    told = uv[far < 0.4]
    wrong = np.where(np.linalg.norm(told - 0.5, axis=1) > 0.37, 1e-3, 0.0) * rng.choice([-1.0, 1.0], len(told))
    points = np.column_stack([told, height(told) + wrong])
    beyond = spots(spans)
    beyond = beyond[np.linalg.norm(beyond - 0.5, axis=1) > 0.4]
    assert len(spots(spans)) == (2 * spans) ** 2 and 0.3 < len(beyond) / len(spots(spans)) < 0.7
    off = {}
    for calm in (0.0, 1e-3):
        net = control_net(knots, [(told, points, 1.0)], bend, beyond, calm)
        made = BSplineSurface(knots, knots, DEGREE, DEGREE, net)
        there = made.at(*uv.T)[0]
        off[calm] = np.abs(there[:, 2] - height(uv))
    assert max(off[0.0][far < 0.35].max(), off[1e-3][far < 0.35].max()) < 1e-3
    assert off[1e-3][far > 0.5].max() < 0.02 and off[0.0][far > 0.5].max() > 10.0 * off[1e-3][far > 0.5].max()


def test_a_surface_that_ripples_is_told():
    """A flat patch of two triangles: the plane over it stands for it, the same with a fold within does not."""
    sheet = unfolded(np.array([[0.0, 0, 0], [4, 0, 0], [4, 3, 0], [0, 3, 0]]), np.array([[0, 1, 2], [0, 2, 3]]))
    knots = uniform_knots(6)
    greville = np.array([knots[k + 1 : k + 1 + DEGREE].mean() for k in range(6 + DEGREE)])
    u, v = np.meshgrid(greville, greville, indexing="ij")
    places = np.linalg.lstsq(np.column_stack([sheet.uv, np.ones(4)]), sheet.points, rcond=None)[0]
    for height, rippled in ((0.0, False), (0.05, False), (40.0, True)):
        net = np.stack([u, v, np.ones_like(u)], axis=-1) @ places
        net[4:7, 4:7, 2] += height
        rim = sheet.uv[[0, 1, 2, 3, 0]]
        lines = np.hstack([rim[:-1], rim[1:]])
        made = BSplineSurface(knots, knots, DEGREE, DEGREE, net)
        where = _ripples(made, sheet, sheet.uv, 0.0, lines)
        assert bool(len(where)) == rippled and np.isfinite(where).all()
        assert not len(
            _ripples(made, sheet, sheet.uv, 0.0, 0.05 * lines)
        )  # it does not within the corner that is cut out


def test_a_curve_lies_on_the_surface_beside_it_and_goes_through_its_ends():
    from lithon.geometry.surfaces import Cylinder

    tube = Cylinder.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), 2.0)
    angle = np.linspace(0.2, 2.5, 15)
    line = np.stack([2.0 * np.cos(angle), 2.0 * np.sin(angle), np.sin(2.0 * angle)], axis=1)
    curve = curve_along(line, (line[0], line[-1]), 1e-3, tube, 1e-5)
    t = np.linspace(curve.low, curve.high, 500)
    assert float(np.abs(tube.signed_distance(curve.point(t))).max()) < 1e-5
    assert curve.point(t[[0, -1]]) == pytest.approx(line[[0, -1]], abs=1e-12)
    ring = np.stack(
        [2.0 * np.cos(np.arange(9) * np.pi / 4), 2.0 * np.sin(np.arange(9) * np.pi / 4), np.full(9, 0.3)], 1
    )
    closed = curve_along(ring, None, 1e-3, tube, 1e-5)
    assert closed.period is not None
    assert float(np.abs(tube.signed_distance(closed.point(np.linspace(closed.low, closed.high, 300)))).max()) < 1e-5


def test_a_bend_is_no_noise_and_noise_is_told():
    points, corners = ball(900, lambda way: 5.0 + 1.2 * way[:, 2] + 0.8 * way[:, 0] ** 2)
    assert noise_of(points, corners) == 0.0
    for sigma in (0.01, 0.03):
        rough = points + sigma * np.random.default_rng(2).normal(size=points.shape)
        assert 0.4 * sigma < noise_of(rough, corners) < 1.6 * sigma


def knobbed(way):
    """How far a ball of 5 mm with a smooth bump reaches in directions (n,3)."""
    c = np.clip((way @ (np.array([0.3, 0.2, 0.93]) / np.linalg.norm([0.3, 0.2, 0.93])) - 0.8) / 0.2, 0.0, 1.0)
    return 5.0 + 0.5 * c**3


@pytest.mark.slow
def test_what_fits_nothing_stays_facets_and_the_rest_is_exact(tmp_path, capfd, monkeypatch):
    points, corners = ball(500, knobbed)
    work = opened(tmp_path, points, corners, "knob")
    out = work.take(do.solid()).outcome
    (body,) = work.model.bodies
    (left,) = out.details[0]["left"]
    exact = [f for f in body.faces if f.surface.kind == "sphere"]
    facets = [f for f in body.faces if f not in exact]
    assert len(exact) == 1 and exact[0].surface.radius == pytest.approx(5.0, abs=1e-4)
    assert out.details[0]["faces"] == {"sphere": 1, "facets": len(facets)} and "stays facets" in out.words
    assert not flaws(body, work.model.tolerance) and not self_intersections(body, work.model.tolerance)
    # The knob is a tenth of all directions, and hardly stands off the ball at its rim.
    assert 0.05 < left["area_mm2"] / (4 * np.pi * 25.0) < 0.16 and left["place_mm"][2] > 4.0
    known = scipy.spatial.cKDTree(points)
    spots = np.array([v.point for f in facets for c in f.loops[0] if (v := c.first) is not None])
    moved = known.query(spots)[0]
    assert (moved[np.abs(np.linalg.norm(spots, axis=1) - 5.0) > 1e-3] < 1e-6).all() and moved.max() < 1e-3
    way, chords = ball(60000, lambda w: np.ones(len(w)))[0], points[corners]
    true = 4.0 / 3.0 * np.pi * float((knobbed(way) ** 3).mean())
    flat = float(np.einsum("ij,ij->", chords[:, 0], np.cross(chords[:, 1], chords[:, 2]))) / 6.0
    assert flat + 0.8 * (true - flat) < volume(body) < true  # of the chords only the knob's are left
    # The mesh goes over the facets.
    worn = work.state.marks.all("drape")
    assert set(worn) == set(facets)
    over = mesh_of(work.model, SizeRules(2.5, drapes=tuple(worn.items())), "tet")
    assert over.conformal() and over.quality.smallest_angle.min() > 12.0 and not over.failures
    told = within(capfd, monkeypatch, "solid", tmp_path / "knob.stl", "--unit", "mm", "--kind", "simple", "--out",
                  tmp_path / "k.step", "--json")  # fmt: skip
    facts = json.loads(told.stdout)
    assert facts["faces"]["sphere"] == 1 and facts["valid"] and facts["left"][0]["area_mm2"] == left["area_mm2"]
    (again,) = lithon.open(tmp_path / "k.step").model.bodies
    assert volume(again) == pytest.approx(volume(body), rel=1e-6)


@pytest.mark.slow
def test_what_would_be_facets_nearly_all_is_refused_and_what_is_smooth_is_written(tmp_path, capfd, monkeypatch):
    points, corners = ball(160, lambda way: 5.0 + 1.2 * way[:, 2] + 0.8 * way[:, 0] ** 2 + 0.5 * way[:, 1] ** 3)
    egg = opened(tmp_path, points, corners, "egg")
    with pytest.raises(Refusal, match=r"nothing of it lies on a simple|of its skin would stay facets"):
        egg.take(do.solid())
    if LONG:
        with pytest.raises(Refusal, match=r"free-form|of its skin would stay facets"):
            egg.take(do.solid(kind="smooth", tolerance=1e-3))
    assert not egg.entries
    opened(tmp_path, *block(waved, 10))
    told = within(capfd, monkeypatch, "solid", tmp_path / "block.stl", "--unit", "mm", "--kind", "smooth", "--out",
                  tmp_path / "b.step", "--json")  # fmt: skip
    facts = json.loads(told.stdout)
    assert facts["faces"] == {"plane": 5, "b-spline": 1} and not facts["left"] and facts["valid"] and facts["closed"]
    (again,) = lithon.open(tmp_path / "b.step").model.bodies
    assert volume(again) == pytest.approx(facts["volume_mm3"], rel=1e-6)


@pytest.mark.parametrize(("stretch", "parts"), [((1.0, 1.0, 1.0), 2), ((1.0, 1.0, 4.0), 2), ((3.0, 2.0, 1.0), 2)])
def test_what_closes_on_itself_is_cut_by_planes_into_parts_that_do_not(stretch, parts):
    """Of a ball or an egg: nothing is lost, triangles still meet side by side, each part unfolds, borders lie in
    planes, and new corners stand where the smooth surface is, not on chords."""
    points, corners = ball(2000, lambda way: np.full(len(way), 5.0))
    points = points * stretch
    made, triangles, parent, part = sliced(points, corners, np.arange(len(corners)))
    assert (made[: len(points)] == points).all() and part.min() >= 0 and len(set(part.tolist())) >= parts
    sides = {(int(a), int(b)) for t in triangles for a, b in zip(t, np.roll(t, -1), strict=True)}
    assert len(sides) == 3 * len(triangles) and all((b, a) in sides for a, b in sides)
    # Each triangle lies on the one that it was a part of, as far as the surface bends.
    middle, old = made[triangles].mean(axis=1), points[corners[parent]]
    normal = np.cross(old[:, 1] - old[:, 0], old[:, 2] - old[:, 0])
    size = np.linalg.norm(normal, axis=1)
    chord = np.sqrt(2.0 * size.max())
    assert np.abs(((middle - old[:, 0]) * normal).sum(axis=1) / size).max() < 0.2 * chord
    # New corners are nearer to the egg than the chords are, most of them far nearer.
    new = made[len(points) :] / stretch
    assert len(new) > 20
    sag = np.abs(np.linalg.norm(made[triangles].mean(axis=1) / stretch, axis=1) - 5.0).max()
    off = np.abs(np.linalg.norm(new, axis=1) - 5.0)
    assert np.quantile(off, 0.9) < 0.1 * sag and off.max() < 0.4 * sag
    for k in sorted(set(part.tolist())):
        assert unfolded(made, triangles[part == k]) is not None
    # Borders of two parts only are flat but for corners that stood near the plane.
    owner = {(int(a), int(b)): int(k) for t, k in zip(triangles, part, strict=True)
             for a, b in zip(t, np.roll(t, -1), strict=True)}  # fmt: skip
    borders = {}
    for (a, b), k in owner.items():
        if (other := owner[b, a]) > k:
            borders.setdefault((k, other), set()).update((a, b))
    step = float(np.linalg.norm(np.ptp(points, axis=0))) / 40.0
    for corner in borders.values():
        p = made[sorted(corner)]
        if len(p) > 6:
            assert np.linalg.svd(p - p.mean(axis=0), compute_uv=False)[2] / np.sqrt(len(p)) < 0.2 * step


def test_what_unfolds_is_not_cut():
    points, corners = block(waved, 12)
    top = np.flatnonzero(points[corners][:, :, 2].min(axis=1) > 1.0)
    made, triangles, parent, part = sliced(points, corners, top)
    assert len(made) == len(points) and (triangles == corners).all() and (parent == np.arange(len(corners))).all()
    assert (part[top] == 0).all() and (np.delete(part, top) == -1).all()


@pytest.mark.parametrize("seed", range(4))
def test_a_curve_along_corners_does_not_swing_out(seed):
    """Corners of an arc, some all but doubled and shifted by a little, some far apart: the curve stays as near as the
    corners do, and follows straight stretches."""
    rng = np.random.default_rng(seed)
    t = np.sort(rng.uniform(0.0, 1.5, 30))
    twice = np.sort(np.concatenate([t, t[5:25:5] + 1e-7]))
    line = np.column_stack([10.0 * np.cos(twice), 10.0 * np.sin(twice), 0.3 * twice])
    line[1:-1] += rng.normal(0.0, 1e-3, (len(line) - 2, 3))
    line = np.concatenate([line[0] + np.array([[0.0, -9.0, 0.0]]), line])  # a long way to the first
    made = curve_along(line, (line[0], line[-1]), 2e-3, None, 1e-6)
    p = made.point(np.linspace(made.low, made.high, 800))
    chords = np.concatenate([np.linspace(a, b, 60) for a, b in itertools.pairwise(line)])
    assert scipy.spatial.cKDTree(chords).query(p)[0].max() < 0.25
    arc = p[p[:, 1] > 0.5]
    sag = 10.0 * np.diff(t).max() ** 2 / 8.0  # where corners stand far apart, as long chords have
    assert np.abs(np.hypot(arc[:, 0], arc[:, 1]) - 10.0).max() < sag + 0.02
    assert np.allclose(p[[0, -1]], line[[0, -1]], atol=1e-9)
