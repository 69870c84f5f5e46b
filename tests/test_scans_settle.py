"""What a scan leaves open is settled by what surfaces have to do with each other: where they touch, on which side of
that a triangle lies, what a cone or a torus goes on from; against closed forms, at any place."""

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from dice import seeds
from solids import motion as any_motion
from test_smooth_patches import ball

from lithon.brep.faceted import soup_of, welded
from lithon.brep.measures import volume
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.borders import straightened, united
from lithon.mend.noise import noise_of
from lithon.mend.relations import _held, related
from lithon.mend.scan_patches import Scan
from lithon.mend.scans import parted_scan
from lithon.mend.seams import scatter_of, strayed, touching_curve
from lithon.mend.segments import ROUGH, Patch, segmented
from lithon.mend.solid import bordering
from lithon.mend.tangency import touching_curves
from lithon.samples import cast_anchor, collar_anchor, paddle_frame
from lithon.samples.build import Piece, prism
from lithon.samples.cover_plate import cover_plate

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from returns import divided, held

X, Y, Z = np.eye(3)


def moved_surface(s, motion):
    turn, shift = motion[:3, :3], motion[:3, 3]
    frame = Frame.of(turn @ s.frame.origin + shift, turn @ s.frame.z, turn @ s.frame.x)
    numbers = [getattr(s, n) for n in ("radius", "angle", "major", "minor") if hasattr(s, n)]
    return type(s)(frame, *numbers)


def about(z=0.0, way=Z):
    return Frame.of(z * Z, way)


#: Pairs of surfaces that touch, a point where they do, and the radius of the circle, none of a line.
TOUCHING = {
    "wall and flat": (Cylinder(about(), 5.0), Plane.of(5.0 * X, X), 5.0 * X, None),
    "walls side by side": (Cylinder(about(), 5.0), Cylinder(Frame.of(7.0 * X, Z), 2.0), 5.0 * X, None),
    "wall inside a wall": (Cylinder(about(), 5.0), Cylinder(Frame.of(3.0 * X, -Z), 2.0), 5.0 * X, None),
    "ring and flat": (Torus(about(), 8.0, 2.0), Plane.of(2.0 * Z, Z), 8.0 * X + 2.0 * Z, 8.0),
    "ring and the wall around it": (Torus(about(), 8.0, 2.0), Cylinder(about(3.0, -Z), 10.0), 10.0 * X, 10.0),
    "ring and the wall within": (Torus(about(), 8.0, 2.0), Cylinder(about(), 6.0), 6.0 * X, 6.0),
    "ring going on straight": (Torus(about(), 8.0, 2.0), Cylinder(Frame.of(8.0 * X, Y), 2.0), 10.0 * X, 2.0),
    "ring ending in a ball": (Torus(about(), 8.0, 2.0), Sphere(Frame.of(8.0 * X, Z), 2.0), 8.0 * X + 2.0 * Z, 2.0),
    "ball on a bar": (Sphere(about(4.0), 3.0), Cylinder(about(), 3.0), 3.0 * X + 4.0 * Z, 3.0),
    "ball in a funnel": (Sphere(about(np.sqrt(2.0) * 3.0), 3.0), Cone(about(2.0), 2.0, np.pi / 4.0),
                         3.0 * np.sqrt(0.5) * (X + Z), 3.0 * np.sqrt(0.5)),
    "ring on a funnel": (Torus(about(), 8.0, 2.0), Cone(about(0.0), 8.0 + 2.0 * np.sqrt(2.0), np.pi / 4.0),
                         (8.0 + np.sqrt(2.0)) * X - np.sqrt(2.0) * Z, 8.0 + np.sqrt(2.0)),
    "funnel and flat": (Cone(about(), 2.0, np.pi / 6.0), Plane.of(2.0 * X, np.sqrt(0.75) * X - 0.5 * Z), 2.0 * X, None),
    "ring on a ring": (Torus(about(), 8.0, 2.0), Torus(about(5.0), 8.0, 3.0), 8.0 * X + 2.0 * Z, 8.0),
    "ball on a ball's axis": (Cylinder(about(), 3.0), Sphere(about(-1.0), 3.0), 3.0 * X - Z, 3.0),
}  # fmt: skip


@pytest.mark.parametrize("name", TOUCHING)
@pytest.mark.parametrize("seed", seeds(2))
def test_surfaces_touch_along_the_line_or_circle_of_their_closed_form(name, seed):
    a, b, at, radius = TOUCHING[name]
    motion = any_motion(seed)
    a, b, at = moved_surface(a, motion), moved_surface(b, motion), motion[:3, :3] @ at + motion[:3, 3]
    for one, two in ((a, b), (b, a)):
        found = [c for c in touching_curves(one, two) if np.linalg.norm(c.point(c.parameter(at[None])) - at) < 1e-9]
        assert found
        curve = found[0]
        assert curve.kind == ("line" if radius is None else "circle")
        if radius is not None:
            assert curve.radius == pytest.approx(radius, rel=1e-12)
        on = curve.point(np.linspace(0.0, 2.0, 9))
        for s in (one, two):
            assert np.abs(s.signed_distance(on)).max() < 1e-9
        assert np.abs((one.normal(on) * two.normal(on)).sum(axis=1)).min() > 1.0 - 1e-12
        shaken = on + np.random.default_rng(seed).normal(0.0, 0.01, on.shape)
        told = touching_curve(one, two, shaken, 1e-6, scatter_of([0.03]))
        assert told is not None and np.linalg.norm(told.point(told.parameter(on)) - on, axis=1).max() < 1e-9
        # Pushed into or off each other by more than what is asked they do not touch.
        if not isinstance(two, Plane):
            thinner = "minor" if isinstance(two, Torus) else "radius"
            apart = replace(two, **{thinner: 0.98 * getattr(two, thinner)})
            assert touching_curve(one, apart, shaken, 1e-6, scatter_of([0.03])) is None


def test_a_bar_that_is_held_all_round_stays_where_it_is_told_from():
    """Where its middle, radius and direction are tied nothing is left but the way along its axis, which no corner
    tells: it does not run off there."""
    rng = np.random.default_rng(4)
    turn = rng.uniform(0.0, 1.5, 60)
    p = np.column_stack([5.0 * np.cos(turn), 5.0 * np.sin(turn), rng.uniform(0.0, 9.0, 60)])
    p += rng.normal(0.0, 0.02, p.shape)
    walls = ((0.9791153467666125, 0.2033055280264066), (0.33826899387745124, -0.9410492146225603))  # it touches both
    rows = [np.array([*wall, 0.0, -1.0]) for wall in walls] + [np.array([0.0, 0.0, 0.0, 1.0])]
    ties = [(row, float(row @ (0.01, -0.02, 0.0, 5.0))) for row in rows]
    made = _held(Cylinder(Frame.of((0.0, 0.0, 4.0), Z), 5.1), p, ties)
    assert made.radius == pytest.approx(5.0, rel=1e-12)
    assert np.abs(made.frame.origin - (0.01, -0.02, 4.0)).max() < 1e-9


def blend(n, rng, scatter):
    """A flat that goes over into a quarter of a bar's side over the line y = 0: points, triangles, and how far along
    the section the middle of each triangle is, on the flat below zero."""
    u, v = np.meshgrid(np.linspace(-6.0, 6.0, n), np.linspace(0.0, 10.0, n), indexing="ij")
    bent = np.maximum(u, 0.0) / 5.0
    points = np.stack([v, np.where(u < 0.0, u, 5.0 * np.sin(bent)), 5.0 * (np.cos(bent) - 1.0)], axis=-1).reshape(-1, 3)
    k = np.arange(n * n).reshape(n, n)
    a, b, c, d = (x.ravel() for x in (k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]))
    corners = np.concatenate([np.stack([a, c, b], axis=1), np.stack([a, d, c], axis=1)])
    return points + rng.normal(0.0, scatter, points.shape), corners, u.ravel()[corners].mean(axis=1)


@pytest.mark.parametrize("seed", seeds(4))
def test_a_border_between_what_goes_over_into_each_other_is_where_it_touches(seed):
    """Triangles near the line that were given to either side by chance go where they are of; others stay."""
    rng = np.random.default_rng(seed)
    points, corners, along = blend(25, rng, 0.01)
    flat, bar = Plane.of((0, 0, 0), Z), Cylinder(Frame.of((0.0, 0.0, -5.0), X), 5.0)
    reach = strayed(flat, bar, 0.03)
    doubt = np.abs(along) < 0.6 * reach
    on_flat = np.where(doubt, rng.random(len(along)) < 0.5 + 0.3 * np.sign(-along), along < 0.0)
    patches = [Patch(s, np.flatnonzero(own), 0.03) for s, own in ((flat, on_flat), (bar, ~on_flat))]
    out = straightened(points, corners, patches, 0.002)
    side = 12.0 / 24.0
    label = np.zeros(len(corners), dtype=int)
    label[out[1].rows] = 1
    assert sum(len(p.rows) for p in out) == len(corners) and out[0].surface is flat
    sure = (np.abs(along) > 0.35 * side) & doubt
    before = (on_flat[sure] != (along[sure] < 0.0)).mean()
    assert before > 0.1 and ((label[sure] == 1) == (along[sure] > 0.0)).mean() > 0.98
    far = np.abs(along) > reach
    assert ((label[far] == 1) == (along[far] > 0.0)).all()


@pytest.mark.parametrize(("make", "fineness"), [(cover_plate, 40), (collar_anchor, 20), (cast_anchor, 20)])
def test_every_triangle_of_a_scan_comes_to_the_face_that_it_was_taken_from(make, fineness):
    """As many patches of each kind as faces, each of one face but for its border; cylinders within a hundredth."""
    body = make().bodies[0]
    soup = soup_of(divided(body, fineness, 0.02))
    points, corners = welded(soup.points, soup.corners)
    noise = noise_of(points, corners)
    found = segmented(points, corners, ROUGH * noise, noise)
    want, got = (sorted(x) for x in ([f.surface.kind for f in body.faces], [p.kind for p in found]))
    assert got == want
    for patch in found:
        own = points[np.unique(corners[patch.rows])]
        best = min(float(np.median(np.abs(f.surface.signed_distance(own)))) for f in body.faces
                   if f.surface.kind == patch.kind)  # fmt: skip
        assert best < 3.0 * noise
    told = related(points, corners, found, bordering(len(points), corners, found), ROUGH * noise / 3.0)
    radii = np.array([f.surface.radius for f in body.faces if f.surface.kind == "cylinder"])
    for patch in told:
        if patch.kind == "cylinder":
            assert np.abs(radii - patch.surface.radius).min() < 0.01 * patch.surface.radius
        if patch.kind == "cone":
            angles = [f.surface.angle for f in body.faces if f.surface.kind == "cone"]
            assert min(abs(a - patch.surface.angle) for a in angles) < np.radians(1.0)
    tori = sorted((f.surface.major, f.surface.minor) for f in body.faces if f.surface.kind == "torus")
    assert sorted((p.surface.major, p.surface.minor) for p in told if p.kind == "torus") == [
        pytest.approx(t, rel=0.01) for t in tori
    ]


@pytest.mark.slow
@pytest.mark.parametrize(("make", "k", "fineness"), [(cast_anchor, 0, 20), (cover_plate, 0, 40), (paddle_frame, 1, 40)])
def test_a_scan_with_fillets_around_corners_and_chamfers_becomes_the_solid_it_was_taken_from(make, k, fineness):
    """Through the command's own way, from a file."""
    body = make().bodies[k]
    told = held(body, fineness, 0.02)
    assert told["back"] == told["faces"] == told["made"] and not told["left"] and not told["why"]
    assert told["closed"] and told["sound"] and abs(told["off"]) < 1e-3
    assert told["radii"][0] == told["radii"][1]


def test_what_bends_everywhere_is_not_cut_into_a_handful_of_triangles_each():
    """A body of which nothing lies on anything simple keeps that, whatever lies near to a few triangles."""
    points, t = ball(900, lambda way: 5.0 + 1.2 * way[:, 2] + 0.8 * way[:, 0] ** 2 + 0.5 * np.sin(3.0 * way[:, 1]))
    points = points + np.random.default_rng(1).normal(0.0, 0.004, points.shape)
    noise = noise_of(points, t)
    assert noise > 0.0
    found = segmented(points, t, ROUGH * noise, noise, free=True)
    v = points[t]
    area = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
    for patch in found:
        if patch.surface is not None and len(patch.rows) >= 24:
            off = np.abs(patch.surface.signed_distance(points[np.unique(t[patch.rows])]))
            assert 1.4826 * np.median(off) < 6.1 * noise  # three times twice what is told
    small = sum(float(area[p.rows].sum()) for p in found if p.surface is not None and len(p.rows) < 12)
    assert small < 0.1 * float(area.sum())


def test_a_chamfer_of_one_row_of_triangles_is_a_patch_of_its_own():
    """A block with one edge broken: the strip has no corner of its own, and lies on nothing beside it."""
    rng = np.random.default_rng(4)
    made = prism([Piece(p) for p in ((0, 0), (10, 0), (10, 6.8), (8.8, 8), (0, 8))], 20.0)
    assert volume(made) == pytest.approx(1600.0 - 0.5 * 1.2**2 * 20.0, rel=1e-9)
    soup = soup_of(divided(made, 15))
    points, corners = welded(soup.points, soup.corners)
    points = points + rng.normal(0.0, 0.01, points.shape)
    noise = noise_of(points, corners)
    found = segmented(points, corners, ROUGH * noise, noise)
    assert [p.kind for p in found] == ["plane"] * 7
    told = related(points, corners, found, bordering(len(points), corners, found), ROUGH * noise / 3.0)
    slope = min(told, key=lambda p: abs(float(np.abs(p.surface.frame.z).max()) - np.sqrt(0.5)))
    assert sorted(np.abs(slope.surface.frame.z)) == pytest.approx([0.0, np.sqrt(0.5), np.sqrt(0.5)], abs=1e-9)


@pytest.mark.parametrize("scatter", [0.0, 0.005, 0.01, 0.02])
def test_how_far_a_scan_scatters_is_told_however_little_it_is(scatter):
    """Against the dice; what was made scatters by nothing, and has flats as exact as its numbers are written."""
    soup = soup_of(divided(collar_anchor().bodies[0], 20, scatter, seed=3))
    points, corners = welded(soup.points, soup.corners)
    side = float(np.median(np.linalg.norm(points[corners] - np.roll(points[corners], 1, axis=1), axis=2)))
    assert noise_of(points, corners) == pytest.approx(scatter * side / np.sqrt(3.0), rel=0.35)


def test_a_scan_parted_without_any_patch_is_told_so():
    corners = np.array([[0, 1, 2]])
    points = np.eye(3)
    label, surfaces = parted_scan(
        Scan(points, corners, np.array([0.87]), np.full((1, 3), 0.577), np.zeros((0, 2), dtype=np.int64), 0.1)
    )
    assert label.tolist() == [-1] and surfaces == []


@pytest.mark.parametrize(("tilt", "step", "wide", "apart", "anyhow"), [
    (0.0, 0.001, 0.2, 1, 1),
    (0.01, 0.0, 0.2, 2, 1),  # along their border they are one surface, though not further out
    (0.01, 0.0, 2.0, 2, 2),  # along a wide one they are not
    (0.01, 0.006, 0.2, 2, 2),
    (0.2, 0.0, 0.2, 2, 2),
])  # fmt: skip
def test_patches_that_cannot_meet_in_an_edge_are_one_rather_than_facets(tilt, step, wide, apart, anyhow):
    y, x = np.meshgrid([-1.0, 0.0, 1.5], [0.0, wide], indexing="ij")
    points = np.stack([x, y, np.maximum(0.0, tilt * y)], axis=-1).reshape(-1, 3)
    corners = np.array([[0, 1, 3], [0, 3, 2], [2, 3, 5], [2, 5, 4]])
    surfaces = Plane.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0)), Plane.of((0.0, 0.0, step), (0.0, -tilt, 1.0))
    patches = [Patch(s, np.arange(2 * k, 2 * k + 2), 0.012) for k, s in enumerate(surfaces)]
    for how, want in ((False, apart), (True, anyhow)):
        made = united(points, corners, patches, [(0, 1)], 0.004, how)
        assert len(made) == want
        assert sorted(np.concatenate([p.rows for p in made]).tolist()) == [0, 1, 2, 3]
        for p in made if len(made) == 1 else ():
            off = np.abs(p.surface.signed_distance(points[corners[p.rows]].reshape(-1, 3))).max()
            assert p.off == pytest.approx(off)
