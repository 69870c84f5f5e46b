"""Exact triangles, however coarse: round ends with a flat left, tori told about known axes, faces one chord wide, and
what a few corners that stray may and may not do."""

import copy
import pickle
from collections import Counter
from itertools import pairwise
from types import SimpleNamespace

import numpy as np
import pytest
import scipy
from dice import LONG, seeds
from solids import motion as any_motion
from test_scans_settle import blend
from test_solids_from_triangles import divided, kinds, turned

from lithon import do
from lithon.arrays import by_label, rows_of
from lithon.brep.faceted import Triangles, bodies_of, soup_of, welded
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import CrossesItself, body_mesh, face_mesh
from lithon.brep.topology import Coedge, Edge, Face, Model, Vertex
from lithon.brep.validate import flaws, outline_flaws
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.contest import Contest
from lithon.mend.fitting import tubes
from lithon.mend.meetings import Meetings
from lithon.mend.noise import noise_of
from lithon.mend.segments import Patch, segmented
from lithon.operations.mend.solid import _strays, _without_strays
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import cast_anchor, collar_anchor, paddle_frame
from lithon.samples.build import Piece, prism
from lithon.samples.cover_plate import cover_plate


def solid_from(points, corners):
    """The body that triangles become, and the resolution of its model."""
    state = run(State(Model.of(bodies_of([Triangles(points, corners, "part")])[0])), do.solid())
    return state.model.bodies[0], state.model.tolerance


@pytest.mark.parametrize("left", [0.02, 0.2, 0.6])
@pytest.mark.parametrize("count", [12, 14, 36])
def test_the_flat_that_is_left_at_a_rounded_end_is_a_plane(left, count):
    """Its rim is the only thing of it that there is: all its corners lie on the torus, and where little is left the
    axis of a torus that crosses itself goes through it."""
    arc = np.linspace(0.0, np.pi / 2.0, 7)
    r = 1.0 - left
    end = np.column_stack([left + r * np.cos(arc), 4.0 - r + r * np.sin(arc)])
    points, corners = turned([(1.0, 0.0), *end], count, 0.0)
    points, corners = points[:-1], corners.copy()  # a fan about a corner of the rim, not about its middle
    rim = np.arange(count) + count * len(end)
    corners = corners[~(corners == len(points)).any(axis=1)]
    fan = np.column_stack([np.full(count - 2, rim[0]), rim[1:-1], rim[2:]])
    made, tolerance = solid_from(points, np.vstack([corners, fan]))
    assert kinds(made) == {"plane": 2, "cylinder": 1, "torus": 1} and not flaws(made, tolerance)
    (ring,) = [f.surface for f in made.faces if isinstance(f.surface, Torus)]
    assert (ring.major, ring.minor) == pytest.approx((left, r), rel=1e-5)
    tip = np.pi * left**2 * r + 2.0 * np.pi * (np.pi * r**2 / 4.0) * (left + 4.0 * r / (3.0 * np.pi))
    assert volume(made) == pytest.approx(tip + np.pi * (4.0 - r), rel=1e-5)


def strewn(profile, counts, rng):
    """Closed triangles of a profile (radius, height) about z, each ring of so many corners that stand unevenly; two
    rings side by side are zipped up, so triangles lean every way."""
    rings, start = [], [0]
    for (r, z), n in zip(profile, counts, strict=True):
        t = (np.arange(n) + rng.uniform(-0.25, 0.25, n)) * 2.0 * np.pi / n
        r, z = (np.broadcast_to(x, n) for x in ((r(t), z(t)) if callable(r) else (r, z)))
        rings.append((t, np.column_stack([r * np.cos(t), r * np.sin(t), z])))
        start.append(start[-1] + n)
    corners = []
    for k in range(len(rings) - 1):
        (a, _), (b, _) = rings[k], rings[k + 1]
        i = j = 0
        while i < len(a) or j < len(b):
            here, there = start[k] + i % len(a), start[k + 1] + j % len(b)
            on_a = np.append(a, a[0] + 2.0 * np.pi)[min(i + 1, len(a))]
            on_b = np.append(b, b[0] + 2.0 * np.pi)[min(j + 1, len(b))]
            if j == len(b) or (i < len(a) and on_a <= on_b):
                corners.append((here, start[k] + (i + 1) % len(a), there))
                i += 1
            else:
                corners.append((here, start[k + 1] + (j + 1) % len(b), there))
                j += 1
    points = np.vstack([p for _, p in rings])
    first, last = np.arange(counts[0]), np.arange(start[-2], start[-1])
    corners += [(first[0], b, a) for a, b in pairwise(first[1:])]
    corners += [(last[0], a, b) for a, b in pairwise(last[1:])]
    return points, np.array(corners)


def plate_with_a_boss(rng, waver):
    """Triangles of a plate and a boss with a fillet at its root, whose rings go to and fro; and the fillet's radius."""
    small = rng.uniform(0.15, 0.4)
    arc = np.linspace(0.0, np.pi / 2.0, 5)

    def wavering(at):
        """A ring that goes to and fro between those beside it."""
        rate, phase = rng.uniform(40.0, 90.0), rng.uniform(0.0, 6.0)

        def angle(t):
            return at + waver * np.sin(rate * t + phase)

        return lambda t: 2.0 + small - small * np.sin(angle(t)), lambda t: 1.0 + small - small * np.cos(angle(t))

    fillet = [(2.0 + small, 1.0), *(wavering(at) for at in arc[1:-1]), (2.0, 1.0 + small)]
    profile = [(5.0, 0.0), (5.0, 1.0), *fillet, (2.0, 4.0)]
    counts = [30, 30, *rng.integers(22, 34, len(fillet)), 26]
    return (*strewn(profile, counts, rng), small)


@pytest.mark.parametrize("seed", seeds(4))
def test_a_coarse_fillet_about_a_boss_is_a_torus_wherever_it_stands(seed):
    points, corners, small = plate_with_a_boss(np.random.default_rng(seed), 0.05)
    move = any_motion(seed)
    points = (points @ move[:3, :3].T + move[:3, 3]).astype(np.float32).astype(float)
    made, tolerance = solid_from(points, corners)
    assert kinds(made) == {"plane": 3, "cylinder": 2, "torus": 1} and not flaws(made, tolerance) and closed(made)
    (ring,) = [f.surface for f in made.faces if isinstance(f.surface, Torus)]
    assert (ring.major, ring.minor) == pytest.approx((2.0 + small, small), rel=1e-4)
    # Pappus: the plate, the boss, and what a square leaves around a quarter of a disc.
    quarter = np.pi * small**2 / 4.0
    middle = (small**3 / 2.0 - quarter * (small - 4.0 * small / (3.0 * np.pi))) / (small**2 - quarter)
    true = np.pi * 25.0 + np.pi * 4.0 * 3.0 + 2.0 * np.pi * (small**2 - quarter) * (2.0 + middle)
    assert volume(made) == pytest.approx(true, rel=1e-5)


@pytest.mark.parametrize("seed", seeds(6))
def test_a_tube_about_a_known_axis_is_told_among_others_and_none_of_a_flat(seed):
    rng = np.random.default_rng(seed)
    major, minor = rng.uniform(1.0, 3.0), rng.uniform(0.2, 0.9)
    u, v = rng.uniform(0.0, 0.5, 14), rng.uniform(0.0, 1.2, 14)
    ring = major + minor * np.cos(v)
    p = np.column_stack([ring * np.cos(u), ring * np.sin(u), minor * np.sin(v)])
    p[10:] += rng.normal(0.0, 0.2, (4, 3))  # less than half are of another
    axes = rng.normal(0.0, 1.0, (3, 2))
    away = np.array([np.hypot(*p[:, :2].T), *(np.hypot(*(p[:, :2] - a).T) for a in axes)])
    along = np.tile(p[:, 2], (4, 1))
    found = tubes(away, along, 1e-6)
    assert found[:, 0].tolist() == [0.0] and found[0, 1:] == pytest.approx((major, 0.0, minor), abs=1e-5)
    p[:, 2] = rng.normal(0.0, 1e-7, len(p))
    assert not len(tubes(np.hypot(*p[:, :2].T)[None], p[None, :, 2], 1e-6))


def rounded_bar(n, mids, rng):
    """Triangles of a bar with one long edge rounded, whose round face has corners on its two long sides, n each that
    stand unevenly, and `mids` on the arcs at its ends; all faces are convex where they lie flat. And its volume."""
    span = np.radians(36.0)
    arc = np.linspace(0.0, span, mids + 2)
    end = np.column_stack([1.0 + np.sin(arc) - np.sin(span), 1.0 + np.cos(arc) - np.cos(span)])
    outline = np.vstack([end, [(1.0, 0.0), (-2.0, 0.0), (-2.0, end[0, 1])]])
    last = len(end) - 1
    lines = {k: rng.uniform(0.5, 9.5, n) for k in (0, last)}
    rows = [np.concatenate([[0.0], np.sort(lines.get(k, np.zeros(0))), [10.0]]) for k in range(len(outline))]
    points = np.vstack([np.column_stack([x, np.tile(yz, (len(x), 1))]) for x, yz in zip(rows, outline, strict=True)])
    start = np.cumsum([0, *map(len, rows)])
    ids = [np.arange(a, b) for a, b in pairwise(start)]
    corners = []

    def fill(own, flat, bowed=True, inside=(5.0, -0.5, 0.6), along=(1.0, 1.0, 1.0)):
        if bowed:  # corners in one line: each is one of the outline
            low, high = flat.min(axis=0), flat.max(axis=0)
            u, v = ((flat - low) / (high - low)).T
            flat = flat + 0.02 * (high - low) * np.column_stack([(2 * u - 1) * v * (1 - v), (2 * v - 1) * u * (1 - u)])
        made = own[scipy.spatial.Delaunay(flat).simplices]
        a, b, c = (points[made[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        inwards = (normal * (a - inside) * along).sum(axis=1) < 0.0
        made = np.where(inwards[:, None], made[:, ::-1], made)
        corners.append(made[np.linalg.norm(normal, axis=1) > 1e-9])

    ring = np.concatenate([ids[0], *(row[[0, -1]] for row in ids[1:last]), ids[last]])
    turn = np.arctan2(points[ring, 1] - 1.0 + np.sin(span), points[ring, 2] - 1.0 + np.cos(span))
    axis = (0.0, 1.0 - np.sin(span), 1.0 - np.cos(span))
    fill(ring, np.column_stack([turn, points[ring, 0]]), inside=axis, along=(0.0, 1.0, 1.0))
    for k in range(last, len(outline)):
        own = np.concatenate([ids[k], ids[(k + 1) % len(outline)]])
        fill(own, np.column_stack([np.linalg.norm(points[own, 1:] - outline[k], axis=1), points[own, 0]]))
    for side in (0, -1):
        own = np.array([row[side] for row in ids])
        fill(own, points[own, 1:], bowed=False)
    # The outline with the arc's own segment instead of its chords.
    y, z = end[[0, last]].T
    square = 0.5 * (span - np.sin(span))
    body = np.vstack([end[[0, last]], outline[last + 1 :]])
    y, z = body.T
    return points, np.vstack(corners), 10.0 * (0.5 * abs(y @ np.roll(z, -1) - z @ np.roll(y, -1)) + square)


@pytest.mark.parametrize("mids", [1, 3])
@pytest.mark.parametrize("seed", seeds(4))
def test_a_round_face_one_chord_wide_is_told_from_its_ends(mids, seed):
    points, corners, true = rounded_bar(12, mids, np.random.default_rng(seed))
    move = any_motion(seed)
    points = points @ move[:3, :3].T + 0.05 * move[:3, 3]
    made, tolerance = solid_from(points.astype(np.float32).astype(float), corners)
    assert kinds(made) == {"plane": 6, "cylinder": 1} and not flaws(made, tolerance)
    (bar,) = [f.surface for f in made.faces if isinstance(f.surface, Cylinder)]
    assert bar.radius == pytest.approx(1.0, rel=1e-4) and volume(made) == pytest.approx(true, rel=1e-5)


def test_without_them_it_is_the_flat_that_its_corners_lie_on():
    points, corners, true = rounded_bar(12, 0, np.random.default_rng(3))
    made, tolerance = solid_from(points.astype(np.float32).astype(float), corners)
    assert kinds(made) == {"plane": 7} and not flaws(made, tolerance) and volume(made) < true


@pytest.mark.parametrize(
    ("make", "fineness"),
    [(cover_plate, 40), (collar_anchor, 30), *(((paddle_frame, 40), (cast_anchor, 60)) if LONG else ())],
    ids=lambda x: x.__name__ if callable(x) else str(x),
)
def test_every_exact_triangle_comes_to_the_face_that_it_was_taken_from(make, fineness):
    """But for those in the plane of a face whose corners lie on another as well."""
    body = make().bodies[0]
    soup = divided(body, fineness)
    points, corners, _ = body_mesh(soup)
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    found = segmented(points, corners, 3e-6 * scale)
    assert Counter(p.kind for p in found) == kinds(body)
    for patch in found:
        p = points[corners[patch.rows]].reshape(-1, 3)
        off = [float(np.abs(f.surface.signed_distance(p)).max()) for f in body.faces if f.surface.kind == patch.kind]
        assert min(off) < 3e-7 * scale and patch.off < 3e-7 * scale


def sprayed(rng, far):
    """A flat patch of 200 triangles whose corners scatter by a hundredth, and some rows of which one corner is off."""
    x, y = (g.ravel() for g in np.meshgrid(np.arange(11.0), np.arange(11.0)))
    points = np.column_stack([x, y, rng.normal(0.0, 0.01, len(x))])
    own = np.arange(121).reshape(11, 11)
    a, b, c, d = own[:-1, :-1].ravel(), own[:-1, 1:].ravel(), own[1:, 1:].ravel(), own[1:, :-1].ravel()
    corners = np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    points[far, 2] += 0.5
    flat = Plane.of((0, 0, 0), (0, 0, 1))
    return points, corners, Patch(flat, np.arange(200), float(np.abs(points[:, 2]).max()))


@pytest.mark.parametrize("seed", seeds(5))
def test_a_corner_that_strays_takes_its_triangles_not_the_face(seed):
    rng = np.random.default_rng(seed)
    points, corners, patch = sprayed(rng, [60])
    assert _strays(points, corners, patch, 0.3, 0.0) and not _strays(points, corners, patch, 0.3, 0.01)
    assert not _strays(points, corners, patch, 0.6, 0.0) and _strays(points, corners, patch, 0.1, 0.01)
    good, bad = _without_strays(points, corners, patch, 0.3)
    assert good.surface is patch.surface and bad.surface is None and good.off < 0.1
    assert set(bad.rows.tolist()) == set(np.flatnonzero((corners == 60).any(axis=1)).tolist())
    assert np.array_equal(np.sort(np.concatenate([good.rows, bad.rows])), np.arange(200))
    points, corners, patch = sprayed(rng, rng.permutation(121)[:20])
    (nothing,) = _without_strays(points, corners, patch, 0.3)
    assert nothing.surface is None and len(nothing.rows) == 200


def test_where_a_boundary_crosses_itself_is_told():
    spots = [Vertex(np.array(p, dtype=float)) for p in ((0, 0, 0), (8, 0, 0), (8, 3, 0), (4, -1, 0), (0, 3, 0))]
    edges = []
    for a, b in zip(spots, [*spots[1:], spots[0]], strict=True):
        edges.append(Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b))
    face = Face(Plane.of((0, 0, 0), (0, 0, 1)), (tuple(Coedge(e, True) for e in edges),), True)
    with pytest.raises(CrossesItself, match="crosses itself") as told:
        face_mesh(face)
    (flaw,) = [f for f in outline_flaws(face, 1e-6) if f.entity is face]
    assert np.allclose(flaw.place, told.value.place)
    crossing = (edges[0], edges[2], edges[3])
    assert min(np.linalg.norm(edge_points(e)[1] - flaw.place, axis=1).min() for e in crossing) < 1e-9
    again = pickle.loads(pickle.dumps(copy.copy(told.value)))
    assert str(again) == str(told.value) and np.allclose(again.place, told.value.place)


@pytest.mark.parametrize("seed", seeds(5))
def test_rows_by_their_labels(seed):
    rng = np.random.default_rng(seed)
    label = rng.integers(-1, 7, rng.integers(0, 60))
    order, starts = by_label(label, 6)
    parts = rows_of(label, 6)
    for k in range(6):
        assert parts[k].tolist() == np.flatnonzero(label == k).tolist() == order[starts[k] : starts[k + 1]].tolist()


@pytest.mark.parametrize("scatter", [0.005, 0.02])
def test_a_part_of_many_small_faces_scatters_no_more_for_its_creases(scatter):
    """A comb of which most corners are on an edge, against the dice."""
    teeth = [(x + dx, y) for x in range(0, 40, 2) for dx, y in ((0.0, 1.0), (0.0, 2.0), (1.0, 2.0), (1.0, 1.0))]
    body = prism([Piece(p) for p in reversed([(0.0, 0.0), *teeth, (39.0, 0.0)])], 1.5)
    soup = soup_of(divided(body, 20, scatter, seed=5))
    points, corners = welded(soup.points, soup.corners)
    side = float(np.median(np.linalg.norm(points[corners] - np.roll(points[corners], 1, axis=1), axis=2)))
    assert noise_of(points, corners) == pytest.approx(scatter * side / np.sqrt(3.0), rel=0.25)


def patched(points, corners, surfaces, label):
    """A search that has found some surfaces, with its triangles labelled."""
    out = Contest(points, corners, 1e-3, 0.0)
    out.found, out.label = list(surfaces), np.array(label, dtype=np.int64)
    return out


@pytest.mark.parametrize("seed", seeds(5))
def test_beside_a_border_where_two_touch_triangles_go_to_the_nearer(seed):
    """A flat that goes on into a bar: within what is allowed both hold what is near the line."""
    rng = np.random.default_rng(seed)
    points, corners, along = blend(60, rng, 0.0)
    flat, bar = Plane.of((0, 0, 0), (0, 0, 1)), Cylinder(Frame.of((0.0, 0.0, -5.0), (1, 0, 0)), 5.0)
    true = (along > 0.0).astype(int)
    off = np.array([np.abs(s.signed_distance(points[corners].reshape(-1, 3))).reshape(-1, 3).max(axis=1)
                    for s in (flat, bar)])  # fmt: skip
    here = off[true, np.arange(len(true))]
    both, sure = off.max(axis=0) < 0.02, (off.max(axis=0) > 1e-4) & (here < 1e-7)
    label = np.where(both & (rng.random(len(true)) < 0.5), 1 - true, true)
    wrong = sure & (label != true)
    assert wrong.sum() > 20
    made = patched(points, corners, (flat, bar), label)
    made.to_the_nearer()
    assert ((made.label != true) & wrong).sum() < 0.2 * wrong.sum() and (
        made.label[~wrong & sure] == true[~wrong & sure]
    ).all()


def test_pieces_of_one_bar_are_one_however_badly_the_small_one_is_told():
    points, corners = turned([(1.0, 0.0), (1.0, 4.0)], 24, 0.0)
    side = np.abs(
        np.cross(points[corners[:, 1]] - points[corners[:, 0]], points[corners[:, 2]] - points[corners[:, 0]])[:, 2]
    )
    round_ones = np.flatnonzero(side < 1e-9)
    label = np.where(side < 1e-9, 0, np.where(points[corners].mean(axis=1)[:, 2] > 2.0, 2, 3))
    some = round_ones[np.isin(corners[round_ones], corners[round_ones[0]]).sum(axis=1) > 1][:4]
    label[some] = 1
    bar, tilted = Cylinder(Frame.of((0, 0, 0), (0, 0, 1)), 1.0), Cylinder(Frame.of((0, 0, 0), (0, 0.004, 1)), 1.003)
    flats = Plane.of((0, 0, 4), (0, 0, 1)), Plane.of((0, 0, 0), (0, 0, -1))
    made = patched(points, corners, (bar, tilted, *flats), label)
    made.join()
    assert (made.label[round_ones] == made.label[round_ones[0]]).all() and len(set(made.label.tolist())) == 3
    other = Cylinder(Frame.of((0.02, 0, 0), (0, 0, 1)), 1.02)
    bent = points.copy()
    bent[np.unique(corners[some])] *= (1.02, 1.02, 1.0)
    apart = patched(bent, corners, (bar, other, *flats), label)
    apart.join()
    assert len(set(apart.label.tolist())) == 4


@pytest.mark.parametrize("seed", seeds(5, 3))
def test_a_coarse_torus_is_grown_about_the_axis_of_the_boss(seed):
    """From a few seeds at the most, where the ways that triangles lean say little."""
    points, corners, small = plate_with_a_boss(np.random.default_rng(seed), 0.15)
    ring = Torus(Frame.of((0, 0, 1.0 + small), (0, 0, 1)), 2.0 + small, small)
    off = np.abs(ring.signed_distance(points))[corners].max(axis=1)
    own = np.flatnonzero((off < 1e-9) & (np.ptp(points[corners][..., 2], axis=1) > 1e-9))
    label = np.zeros(len(corners), dtype=int)
    label[own] = -1
    for seed_row in own[:: len(own) // 10]:
        made = patched(points, corners, [Cylinder(Frame.of((0, 0, 0), (0, 0, 1)), 2.0)], label)
        if made.tube(int(seed_row)):
            break
    found = made.found[-1]
    assert isinstance(found, Torus) and (found.major, found.minor) == pytest.approx((2.0 + small, small), rel=1e-6)
    assert (made.label[own] == 1).mean() > 0.95 and not (made.label[np.setdiff1d(np.arange(len(corners)), own)]).any()


@pytest.mark.parametrize("seed", seeds(5))
def test_where_surfaces_touch_a_corner_is_on_the_curve_along_which_they_do(seed):
    """A plane and a round of its edge, a shaft and its fillet, a face across: all that is near to such surfaces is near
    to their common point, but for one direction, in which corners that scatter stray far. What there must be the point
    on the line or circle of contact is told in closed form; where only that counts, nothing else is taken."""
    rng = np.random.default_rng(seed)
    r, shaft = rng.uniform(2.0, 5.0), rng.uniform(6.0, 12.0)
    across = Plane(Frame.of((0, 4.0, 0), (0, 1, 0), (1, 0, 0)))
    flat = [
        Plane(Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))),
        Cylinder(Frame.of((0, 0, r), (0, 1, 0), (1, 0, 0)), r),
        across,
    ]
    half = Plane(Frame.of((0, 0, 0), (0, 1, 0), (1, 0, 0)))
    up = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))
    filleted = [Cylinder(up, shaft), Torus(up, shaft + r, r), half]
    near, scatter = 1e-6, 2e-3
    for known, true, away in ((flat, (0, 4, 0), (1, 0, 0)), (filleted, (shaft, 0, 0), (0, 0, 1))):
        where = np.array([true], dtype=float)
        stray = float(np.sqrt(r * scatter))  # so far along what they touch they part by half the scatter
        here = where + np.array(away) * stray * rng.choice([-1.0, 1.0]) + rng.uniform(-1e-4, 1e-4, (1, 3))
        at = SimpleNamespace(near=near, tolerance=10.0 * near, free=0.0)
        found = Meetings._on_all(at, known, here, 2.0 * stray, False, scatter, True)
        assert found is not None and np.abs(found - where).max() < 1e-5
        far = where + 40.0 * stray * np.array([[0.0, 1.0, 0.0]])  # on the curve or off it, but nowhere near the face
        assert Meetings._on_all(at, known, far, stray, False, scatter, True) is None
    two = Meetings._on_all(
        SimpleNamespace(near=near, tolerance=1e-5, free=0.0),
        flat[:2],
        here * 0 + [[0.01, 7, 0]],
        1.0,
        False,
        scatter,
        True,
    )
    assert two is not None and abs(two[0, 0]) < 1e-5 and abs(two[0, 2]) < 1e-5 and abs(two[0, 1] - 7.0) < 0.05
