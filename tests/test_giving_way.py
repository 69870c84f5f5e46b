"""Patches that nearly meet: what gives way, how much of it, and what that stands on."""

from itertools import pairwise

import numpy as np
import pytest
import shapely
from dice import seeds
from solids import motion
from test_parted_patches import TOLERANCE, parts_of

from lithon.arrays import gauss, triangle_areas
from lithon.brep.area import area_of
from lithon.brep.measures import _integrands, volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Coedge, Edge, Face, Model, Vertex
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineSurface, SplineChart
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.tolerance import MISS
from lithon.mend.freeform import Sheet, _folds, unfolded
from lithon.mend.giving_way import Skin
from lithon.mend.meetings import Failure, Piece
from lithon.mend.patch import uniform_knots
from lithon.mend.segments import Patch
from lithon.mend.solid import solid_of
from lithon.mesh import recover as recovery
from lithon.mesh.delaunay import Tetrahedra
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.progress import SILENT
from lithon.samples.build import prism, rectangle

NEAR = MISS * TOLERANCE


def net_of(rng, rational):
    """A free-form surface over a few uneven spans."""
    knots = [np.concatenate([np.zeros(4), np.sort(rng.uniform(0.1, 0.9, n)), np.ones(4)]) for n in (3, 2)]
    shape = (7, 6)
    u, v = (np.array([k[i + 1 : i + 4].mean() for i in range(n)]) for k, n in zip(knots, shape, strict=True))
    x, y = np.meshgrid(5.0 * u, 3.0 * v, indexing="ij")
    net = np.stack([x, y, 0.4 * rng.normal(size=shape)], axis=-1) @ motion(int(rng.integers(100)))[:3, :3].T
    return BSplineSurface(*knots, 3, 3, net, rng.uniform(0.6, 1.6, shape) if rational else None)


@pytest.mark.parametrize("swap", [False, True])
@pytest.mark.parametrize(("seed", "rational"), [(1, False), (2, True)])
def test_integrals_row_by_row_are_those_over_the_plane_of_the_surface(seed, rational, swap):
    """Below a curve in the chart, from cell to cell between knots by twenty nodes each way."""
    rng = np.random.default_rng(seed)
    surface = net_of(rng, rational)
    chart = SplineChart(surface, np.array([2.0, 3.0]), swap, False, (None, None))
    (low, high), base = ((0.0, 3.0), -1.9) if swap else ((0.0, 2.0), 0.2)
    nodes, weights = gauss(40)
    first = low + (high - low) * 0.5 * (1.0 + nodes)
    top = base + (0.4 if not swap else 0.6) * (1.5 + np.sin(2.0 * first))
    weight = 0.5 * (high - low) * weights
    got = chart.swept(np.stack([first, top], axis=1), base, weight, gauss(12))
    want = np.zeros(14)
    for a, b, w in zip(first, top, weight, strict=True):
        ends = np.unique(np.clip([base, *chart.knots()[1], b], min(base, b), max(base, b)))
        for x, y in pairwise(ends):
            height = x + (y - x) * 0.5 * (1.0 + gauss(20)[0])
            points, frame = chart.spots(np.stack([np.full(20, a), height], axis=1))
            normal = np.cross(frame[:, 0], frame[:, 1])
            size = np.linalg.norm(normal, axis=1)
            want += w * 0.5 * (y - x) * (gauss(20)[1] * size) @ _integrands(points, normal / size[:, None])
    assert got == pytest.approx(want, rel=1e-7, abs=1e-9 * abs(want).max())
    # Between two numbers side by side there is none: it is next to nothing, and soon told.
    for step in (0.0, np.spacing(base), 3.0 * np.spacing(base), -np.spacing(base)):
        flat = np.array([[first[3], base + step]])
        assert abs(chart.swept(flat, base, np.ones(1), gauss(12))).max() < 1e-12


def lens(reach, apart, seed):
    """A plane face between two arcs of circles that cross, and the circles in its plane."""
    turn = motion(seed)
    at = Frame.of(turn[:3, 3], turn[:3, 2], turn[:3, 0])
    middles = [at.world(np.array([[s * apart, 0.0, 0.0]]))[0] for s in (-1.0, 1.0)]
    circles = [Circle.about(Frame.of(m, at.z, at.x), reach) for m in middles]
    tips = [Vertex(at.world(np.array([[0.0, s * np.sqrt(reach**2 - apart**2), 0.0]]))[0]) for s in (-1.0, 1.0)]
    half = float(np.arccos(apart / reach))
    right = Edge(circles[0], -half, half, tips[0], tips[1])
    left = Edge(circles[1], np.pi - half, np.pi + half, tips[1], tips[0])
    return Face(Plane(at), ((Coedge(right, True), Coedge(left, True)),), True), at


@pytest.mark.parametrize("apart", [0.2, 0.9, 0.999])
def test_what_is_between_two_arcs_is_told_to_be_there_and_nothing_else(apart):
    """Beyond a tip, and beside arcs that turn little, too: against the two circles."""
    face, at = lens(10.0, 10.0 * apart, 3)
    rng = np.random.default_rng(5)
    wide, tall = 10.0 - 10.0 * apart, 10.0 * np.sqrt(1.0 - apart**2)
    flat = rng.uniform(-1.0, 1.0, (4000, 2)) * [3.0 * wide, 1.6 * tall]
    gap = np.max([np.linalg.norm(flat - [s * 10.0 * apart, 0.0], axis=1) - 10.0 for s in (-1.0, 1.0)], axis=0)
    clear = abs(gap) > 1e-6
    side = area_of(face).side(at.world(np.column_stack([flat, np.zeros(len(flat))])), 1e-9)
    assert (side[clear] == np.where(gap[clear] < 0.0, 1, -1)).all()


def ridge(lean, off):
    """A bar whose top is flat and then a round one that leans from it by so much (radians): points, corners, and its
    patches, the round one's surface `off` (mm) where it should be."""
    radius = 20.0
    turn = np.linspace(lean, lean + 0.5, 9)
    axis = np.array([-radius * np.sin(lean), 5.0 - radius * np.cos(lean)])
    arc = axis + radius * np.stack([np.sin(turn), np.cos(turn)], axis=1)
    line = np.vstack([[-6.0, 0.0], [arc[-1, 0], 0.0], arc[::-1], [-6.0, 5.0]])
    deep = np.linspace(0.0, 8.0, 7)
    n = len(line)
    points = np.array([[x, y, z] for y in deep for x, z in line])
    label, corners = [], []
    for k in range(len(deep) - 1):
        for i in range(n):
            a, b = k * n + i, k * n + (i + 1) % n
            corners += [[a, b, b + n], [a, b + n, a + n]]
            label += [i if i < 2 else 2 if i < 10 else i - 7] * 2
    end = shapely.Polygon(line)
    for tri in shapely.constrained_delaunay_triangles(end).geoms:
        p = np.array(tri.exterior.coords)[:3]
        ids = [int(np.abs(line - q).sum(axis=1).argmin()) for q in p]
        if shapely.Polygon(p).exterior.is_ccw:
            ids = ids[::-1]
        corners += [ids, [v + (len(deep) - 1) * n for v in ids[::-1]]]
        label += [5, 6]
    corners, label = np.array(corners), np.array(label)
    v = points[corners]
    if float((v[:, 0] * np.cross(v[:, 1], v[:, 2])).sum()) < 0.0:
        corners = corners[:, ::-1]
    patches = []
    for k in range(7):
        rows = np.flatnonzero(label == k)
        p = points[corners[rows]].reshape(-1, 3)
        if k == 2:
            surface = Cylinder(Frame.of((axis[0], 0.0, axis[1]), (0, 1, 0), (0, 0, 1)), radius + off)
        else:
            surface = Plane.of(p.mean(axis=0), np.linalg.svd(p - p.mean(axis=0))[2][2])
        patches.append(Patch(surface, rows, float(abs(surface.signed_distance(p)).max())))
    return points, corners, patches


@pytest.mark.parametrize(("lean", "off"), [(0.07, 0.5), (0.04, 0.7), (0.07, -0.5)])
def test_where_surfaces_cross_at_a_flat_angle_there_is_an_edge_midway(lean, off):
    """The round one stands off its corners by less than may be missed, and so crosses the flat one far from where they
    meet: both are as near as they have to be to what joins the corners."""
    points, corners, patches = ridge(lean, off * NEAR)
    made = solid_of(points, corners, patches, TOLERANCE)
    assert not flaws(made.body, TOLERANCE) and len(made.body.faces) == 7
    v = points[corners]
    held = float((v[:, 0] * np.cross(v[:, 1], v[:, 2])).sum()) / 6.0
    assert volume(made.body) == pytest.approx(held, rel=1e-3)  # chords cut the round off
    # Where it is far off, there is none.
    points, corners, patches = ridge(lean, 8.0 * NEAR)
    with pytest.raises(Refusal):
        solid_of(points, corners, [Patch(p.surface, p.rows, 0.0) for p in patches], TOLERANCE)


def spire(off):
    """Five planes that meet in a point, of which a scan made three corners with two short sides between; the first of
    them stands off (mm) the point."""
    turn = 2.0 * np.pi * np.arange(5) / 5
    foot = np.column_stack([4.0 * np.cos(turn), 4.0 * np.sin(turn), np.zeros(5)])
    tip = np.array([0.0, 0.0, 5.0])
    a, b, c = 5, 6, 7
    points = np.vstack([foot, tip + [[0.0, 0.002, 0.0], tip * 0.0, [0.002, -0.002, 0.0]]])
    sides = [
        [[0, 1, a]], [[1, 2, b], [1, b, a]], [[2, 3, c], [2, c, b]], [[3, 4, c]], [[4, 0, a], [4, a, b], [4, b, c]],
    ]  # fmt: skip
    corners = [t for own in sides for t in own] + [[0, 2, 1], [0, 3, 2], [0, 4, 3]]
    label = np.repeat([*range(5), 5], [*map(len, sides), 3])
    patches = []
    for k in range(5):
        p, q = foot[k], foot[(k + 1) % 5]
        surface = Plane.of(p, np.cross(q - p, tip - p))
        if k == 0:
            surface = Plane.of(p + off * surface.frame.z, surface.frame.z)
        patches.append(Patch(surface, np.flatnonzero(label == k), 0.004))
    patches.append(Patch(Plane.of(foot[0], np.array([0.0, 0.0, -1.0])), np.flatnonzero(label == 5), 0.004))
    return points, np.array(corners), patches


@pytest.mark.parametrize("off", [0.0, 1.4])
def test_corners_that_are_one_lie_on_all_that_meets_in_any(off):
    """One after the other they become one: the last must not leave what the first was on."""
    points, corners, patches = spire(off * NEAR)
    made = solid_of(points, corners, patches, TOLERANCE)
    assert not flaws(made.body, TOLERANCE)
    assert len(list(made.body.vertices())) == 6 and len(made.body.faces) == 6
    (top,) = (v for v in made.body.vertices() if v.point[2] > 4.0)
    for face in made.body.faces:
        if any(v is top for e in face.edges() for v in (e.start, e.end)):
            assert abs(float(face.surface.signed_distance(top.point[None])[0])) <= NEAR


def test_a_surface_that_folds_beside_its_triangles_is_told():
    """Smooth it is not, whatever it is like within; folded along one side it is, there."""
    points, corners, patches = parts_of(lambda x, y: 2.0 + 0.1 * np.sin(x) * np.cos(y), 9)
    sheet = unfolded(points, corners[patches[-1].rows])
    assert isinstance(sheet, Sheet)
    knots = uniform_knots(6)
    at = np.array([knots[k + 1 : k + 6].mean() for k in range(11)])
    u, v = np.meshgrid(at, at, indexing="ij")
    rim = np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0], [0.0, 0.0]])
    t = np.linspace(0.0, 1.0, 400)[:, None]
    path = np.concatenate([p + t * (q - p) for p, q in pairwise(rim)])
    lines = np.hstack([path[:-1], path[1:]])
    size = float(np.linalg.norm(np.ptp(sheet.points, axis=0)))
    net = size * np.stack([u, v, 0.05 * np.sin(4.0 * v) + 0.02 * u], axis=-1)
    smooth = BSplineSurface(knots, knots, 5, 5, net)
    assert not len(_folds(smooth, sheet, sheet.uv, lines))
    net = net.copy()
    net[2:4, :, 0] -= 0.3 * size  # it runs back on itself, and on again
    folded = _folds(BSplineSurface(knots, knots, 5, 5, net), sheet, sheet.uv, lines)
    assert len(folded) and (folded[:, 0] < 0.3 * size).all()


def skin_of(fine):
    """A plate in two patches, the left one a tenth."""
    x, y = np.meshgrid(np.linspace(0.0, 10.0, fine + 1), np.linspace(0.0, 4.0, fine + 1), indexing="ij")
    points = np.column_stack([x.ravel(), y.ravel(), np.zeros(x.size)])
    a = (np.arange(fine)[:, None] * (fine + 1) + np.arange(fine)).ravel()
    corners = np.concatenate(
        [np.stack([a, a + fine + 1, a + fine + 2], axis=1), np.stack([a, a + fine + 2, a + 1], axis=1)]
    )
    area = triangle_areas(points, corners)
    left = points[corners].mean(axis=1)[:, 0] < 1.0
    plane = Plane.of(np.zeros(3), np.array([0.0, 0.0, 1.0]))
    pieces = [Piece(plane, np.flatnonzero(m), float(area[m].sum())) for m in (left, ~left)]
    return Skin(points, corners, pieces, {})


def test_of_a_large_patch_only_what_is_in_the_way_stays_facets():
    """Nothing is lost or counted twice; what is small stays so whole, and so does what would be eaten up."""
    skin = skin_of(40)
    total = sum(piece.area for piece in skin.pieces)
    v = int(np.linalg.norm(skin.points - [1.0, 2.0, 0.0], axis=1).argmin())
    failure = Failure((0, 1), Refusal("they do not meet"), None, (v,))
    for turn in range(30):
        before = dict(skin.stay)
        alone = 0 in before
        assert skin.give_up([failure], all_of=False) or alone
        rows = np.sort(np.concatenate([piece.rows for piece in skin.pieces]))
        assert (rows == np.arange(len(skin.corners))).all()
        assert sum(piece.area for piece in skin.pieces) == pytest.approx(total, rel=1e-12)
        if alone:
            break
        lost = sum(skin.pieces[k].area for k in skin.stay)
        assert lost <= 0.1 * total + 1e-9 and skin.pieces[1].area == pytest.approx(0.9 * total)
        if turn == 0:
            touching = np.isin(skin.corners, [v]).any(axis=1) & (skin.points[skin.corners].mean(axis=1)[:, 0] < 1.0)
            assert sorted(skin.pieces[2].rows.tolist()) == np.flatnonzero(touching).tolist()
    assert 0 in skin.stay and 1 not in skin.stay
    # A crumb of a patch stays facets at once, with all it has.
    skin = skin_of(40)
    crumb = skin.pieces[0].rows[:4]
    area = float(triangle_areas(skin.points, skin.corners)[crumb].sum())
    rest = np.setdiff1d(skin.pieces[0].rows, crumb)
    skin.pieces[0] = Piece(skin.pieces[0].surface, rest, skin.pieces[0].area - area)
    skin.pieces.append(Piece(skin.pieces[0].surface, crumb, area))
    at = tuple(skin.corners[crumb[0]].tolist())
    assert skin.give_up([Failure((0, 2), Refusal("they do not meet"), None, at)], all_of=False)
    assert set(skin.stay) == {2} and len(skin.pieces) == 3


@pytest.mark.parametrize("way", ["nothing comes of it", "it grows"])
def test_recovery_that_leads_nowhere_ends(monkeypatch, way):
    """A boundary of which two triangles are always missed, however many nodes it gets."""
    body = prism(rectangle(0, 0, 4, 3), 2.0)
    surface = surface_mesh((body,), size_field((body,), SizeRules(1.0)))
    turns, rng = [], np.random.default_rng(0)
    first = len(surface.nodes)

    def add(mesh, *_):
        turns.append(len(mesh.nodes))
        face = mesh.faces[0]
        points, _, _ = body_mesh(body)
        low, high = points.min(axis=0), points.max(axis=0)
        for _ in range(5 if way == "nothing comes of it" else 400):
            mesh.add_inner(face, face.surface.project(rng.uniform(low, high)[None])[0])
        return True

    fewer = iter(range(1000, 0, -1))
    missed = (lambda: 2) if way == "nothing comes of it" else (lambda: next(fewer))
    monkeypatch.setattr(recovery, "_missing", lambda *_: np.arange(missed()))
    monkeypatch.setattr(recovery, "_add_nodes", add)
    monkeypatch.setattr(recovery, "_failures", lambda *_: [recovery.Failure("lost", None, (0.0, 0.0, 0.0), "other")])
    monkeypatch.setattr(Tetrahedra, "add", lambda self, points: np.ones(len(points), dtype=bool))
    _, failures = recovery.recover(surface, SILENT)
    assert failures
    if way == "nothing comes of it":
        assert len(turns) < 10
    else:
        assert turns[-1] <= 1.5 * first + 500 < turns[-1] + 400
    monkeypatch.undo()
    mesh = what_can(Model.of([body]), SizeRules(1.0))
    assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, abs=1e-9)


@pytest.mark.parametrize("seed", seeds(2))
def test_a_corner_off_one_face_costs_a_fine_block_little(seed):
    """Its six sides are six planes still, and what stays facets is beside the corner."""
    points, corners, patches = parts_of(lambda x, y: 2.0 + 0.0 * x, 14)
    flat = [Patch(Plane.of(np.array([0, 0, 2.0]), np.array([0, 0, 1.0])), p.rows, 0.0) if p.surface is None else p
            for p in patches]  # fmt: skip
    rng = np.random.default_rng(seed)
    corner = int(np.linalg.norm(points - points.max(axis=0), axis=1).argmin())
    points = points.copy()
    points[corner] += [0.0, 0.0, 30.0 * NEAR * (1.0 + rng.random())]
    points[corner] += rng.normal(0.0, 20.0 * NEAR, 3)
    made = solid_of(points, corners, flat, TOLERANCE, mixed=True)
    total = float(triangle_areas(points, corners).sum())
    assert not flaws(made.body, TOLERANCE) and 0.0 < sum(left.area for left in made.left) < 0.05 * total
    large = [f for f in made.body.faces if f.surface.kind == "plane" and len(list(f.edges())) >= 4]
    assert len(large) == 6
    for left in made.left:
        assert np.linalg.norm(left.place - points[corner]) < 1.5
