"""Free-form patches that no face follows, cut in parts that some do; and what that stands on."""

import threading
import time

import numpy as np
import pytest
import shapely
from test_smooth_patches import A, B, block

from lithon.arrays import triangle_areas
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.measures import volume
from lithon.brep.validate import flaws, outline_flaws
from lithon.errors import Refusal, Spent
from lithon.geometry.spline_kernels import plain_feet
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.mend import solid as making
from lithon.mend.freeform import _lines, _within, bent, corner_normals
from lithon.mend.giving_way import Skin
from lithon.mend.patch import DEGREE, uniform_knots
from lithon.mend.segments import Patch
from lithon.mend.slicing import halved
from lithon.mend.solid import MostlyFacets, solid_of
from lithon.mesh.delaunay import Tetrahedra
from lithon.progress import Progress, pulse, seconds_left
from lithon.threads import each_of

TOLERANCE = 1e-5


def rolling(x, y):
    return 2.0 + 0.3 * np.sin(0.8 * x) * np.cos(0.5 * y)


def burred(x, y):
    """What is rolling, with a burr in one place that no smooth surface follows."""
    z = rolling(x, y)
    burr = (x - 4.6) ** 2 + (y - 2.4) ** 2 < 0.45**2
    return z + np.where(burr, np.random.default_rng(1).uniform(-0.8, 0.8, x.shape), 0.0)


def parts_of(height, n, at=None):
    """A block under a function: points, corners and patches, the top's on nothing simple, in two along x = `at`."""
    points, corners = block(height, n)
    normal = np.cross(*(points[corners[:, k]] - points[corners[:, 0]] for k in (1, 2)))
    middle = points[corners].mean(axis=1)
    flat = abs(normal).argmax(axis=1)
    patches = []
    for axis, side in ((0, 0.0), (0, A), (1, 0.0), (1, B), (2, 0.0)):
        rows = np.flatnonzero((flat == axis) & (abs(middle[:, axis] - side) < 1e-9))
        patches.append(Patch(Plane.of(middle[rows[0]], normal[rows[0]]), rows, 0.0))
    top = np.setdiff1d(np.arange(len(corners)), np.concatenate([p.rows for p in patches]))
    sides = [top] if at is None else [top[middle[top, 0] < at], top[middle[top, 0] > at]]
    return points, corners, [*patches, *(Patch(None, rows, 0.0) for rows in sides)]


def under(height):
    at = (np.arange(1500) + 0.5) / 1500
    return float(height(*np.meshgrid(A * at, B * at, indexing="ij")).mean()) * A * B


@pytest.mark.slow
def test_what_no_face_follows_is_cut_until_it_does_but_for_the_burr():
    """Uncut the patch with the burr stays facets; cut in parts little but the burr does, and what it holds is what is
    under the function. What has a face once is not fitted again between the same curves."""
    points, corners, patches = parts_of(burred, 15, at=2.05)
    fitted = []
    through = making.through

    def counted(sheet, around, *more, **spans):
        out = through(sheet, around, *more, **spans)
        fitted.append(b"".join(p.tobytes() for p in (sheet.points, *around)))
        return out

    near = 1e-3
    whole = solid_of(points, corners, patches, TOLERANCE, free=near, mixed=True)
    top = sum(float(triangle_areas(points, corners[p.rows]).sum()) for p in patches if p.surface is None)
    assert sum(left.area for left in whole.left) > 0.5 * top
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(making, "through", counted)
        parted = solid_of(points, corners, patches, TOLERANCE, free=near, mixed=True, parted=3.0 * near)
    assert len(fitted) > 3 and len(set(fitted)) == len(fitted)
    assert sum(left.area for left in parted.left) < 0.25 * top
    kinds = [f.surface.kind for f in parted.body.faces]
    assert kinds.count("b-spline") > 3
    assert not flaws(parted.body, TOLERANCE) and not self_intersections(parted.body, TOLERANCE)
    assert volume(parted.body) == pytest.approx(under(rolling), rel=1e-3)
    assert parted.off <= 3.0 * near
    with pytest.raises(MostlyFacets):
        solid_of(points, corners, patches, TOLERANCE, free=near, mixed=True, most=0.2 * top)


def test_where_it_is_late_nothing_is_cut_any_more():
    points, corners, patches = parts_of(burred, 15, at=2.05)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(making, "seconds_left", lambda: 0.0)
        patched.setattr(Skin, "_cut", lambda *_: pytest.fail("it is cut"))
        out = solid_of(points, corners, patches, TOLERANCE, free=1e-3, mixed=True, parted=3e-3)
    assert out.left and not flaws(out.body, TOLERANCE)


@pytest.mark.parametrize("seed", range(3))
def test_halves_are_the_whole(seed):
    """Every triangle has its parts, as large as it was; those that are parted hang together on one side each; what was
    not asked for is in no part, and new points are on the sides they are told to be on."""
    rng = np.random.default_rng(seed)
    slope = rng.normal(size=2)
    points, corners, patches = parts_of(lambda x, y: 3.0 + 0.2 * (slope[0] * x + slope[1] * y) / np.hypot(*slope), 12)
    rows = patches[-1].rows
    every, made, of, part, sides = halved(points, corners, rows)
    assert (every[: len(points)] == points).all() and len(every) == len(points) + len(sides)
    before, now = triangle_areas(points, corners), triangle_areas(every, made)
    assert np.bincount(of, now, len(corners)) == pytest.approx(before, rel=1e-9)
    assert set(of[part >= 0].tolist()) == set(rows.tolist()) and set(part[np.isin(of, rows)].tolist()) == {0, 1}
    shares = np.bincount(part[part >= 0], now[part >= 0]) / before[rows].sum()
    assert shares.min() > 0.1
    a, b, fresh = points[sides[:, 0]], points[sides[:, 1]], every[len(points) :]
    assert np.linalg.norm(np.cross(fresh - a, b - a), axis=1) == pytest.approx(np.zeros(len(sides)), abs=1e-9)
    directed = {(int(p), int(q)) for t in made for p, q in zip(t, np.roll(t, -1), strict=True)}
    assert len(directed) == 3 * len(made) and all((q, p) in directed for p, q in directed)
    assert (halved(points, corners, rows[:5])[3] == -1).all()  # too few


def test_sides_bend_as_a_ball_does():
    """Between corners of a ball, with its normals, a side follows its great circle; flat where normals part widely."""
    rng = np.random.default_rng(4)
    one = rng.normal(size=(200, 3))
    one /= np.linalg.norm(one, axis=1)[:, None]
    two = one + 0.3 * rng.normal(size=one.shape)
    two /= np.linalg.norm(two, axis=1)[:, None]
    points, low = np.concatenate([one, two]), np.arange(200)
    t = rng.random(200)
    on = bent(points, points, low, low + 200, t)
    angle = np.arccos((one * two).sum(axis=1))
    curved = np.cos(angle) > 0.7
    off = abs(np.linalg.norm(on, axis=1) - 1.0)
    assert off[curved].max() < 1e-2 and off[angle < 0.4].max() < 1e-3 and (angle < 0.4).sum() > 20
    straight = one + t[:, None] * (two - one)
    assert on[~curved] == pytest.approx(straight[~curved]) and (~curved).any()
    corners = np.array([[0, 1, 2]])
    assert corner_normals(np.eye(3), corners) == pytest.approx(np.full((3, 3), 3.0**-0.5))


@pytest.mark.parametrize("seed", range(4))
def test_what_is_within_lines_in_any_order(seed):
    """As of the polygon with its holes that they are the rims of."""
    rng = np.random.default_rng(seed)
    angle = np.sort(rng.uniform(0.0, 2.0 * np.pi, 40))
    outer = 0.5 + (0.3 + 0.15 * rng.random(40))[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    hole = 0.5 + 0.15 * np.stack([np.cos(angle[::5]), np.sin(angle[::5])], axis=1)
    around = [np.concatenate([outer[:15]]), np.concatenate([outer[14:], outer[:1]]), np.concatenate([hole, hole[:1]])]
    lines = _lines(np.concatenate(around), around)
    rng.shuffle(lines)
    at = rng.random((3000, 2))
    shape = shapely.Polygon(outer, [hole])
    assert (_within(lines, at) == shapely.contains_xy(shape, *at.T)).all()


def test_feet_are_where_the_surface_is_square_to_what_leads_to_them():
    rng = np.random.default_rng(9)
    knots = uniform_knots(5)
    greville = np.array([knots[k + 1 : k + 1 + DEGREE].mean() for k in range(5 + DEGREE)])
    u, v = np.meshgrid(greville, greville, indexing="ij")
    net = np.stack([4.0 * u, 3.0 * v, 0.3 * np.sin(4.0 * u) * np.cos(3.0 * v)], axis=-1)
    surface = BSplineSurface(knots, knots, DEGREE, DEGREE, net)
    start = rng.uniform(0.1, 0.9, (400, 2))
    points = surface.at(*start.T)[0] + rng.normal(0.0, 0.05, (400, 3))
    uv, far = plain_feet(knots, knots, DEGREE, net, start, points, 30, 0.05)
    at, du, dv = surface.frames(*uv.T)
    assert far == pytest.approx(np.linalg.norm(points - at, axis=1), rel=1e-12)
    assert far == pytest.approx(abs(surface.signed_distance(points)), abs=1e-9)
    for way in (du, dv):
        assert abs(((points - at) * way).sum(axis=1)).max() < 1e-7
    none, same = plain_feet(knots, knots, DEGREE, net, start, points, 0, 0.05)
    assert (none == start).all() and (same >= far - 1e-15).all()


def test_a_face_by_itself_is_told_to_be_wrong():
    points, corners, patches = parts_of(lambda x, y: 2.0 + 0.01 * x * y, 6)
    made = solid_of(points, corners, patches, TOLERANCE, free=1e-3)
    assert all(not outline_flaws(face, TOLERANCE) for face in made.body.faces)
    plane = next(f for f in made.body.faces if f.surface.kind == "plane")
    lifted = type(plane)(Plane.of(plane.surface.frame.origin + 0.1, plane.surface.frame.z), plane.loops, plane.along)
    assert {flaw.kind for flaw in outline_flaws(lifted, TOLERANCE)} == {"gap"}


def test_things_are_done_on_all_cores_in_their_order():
    """Each finds the progress of the operation under way; what one raises is raised."""
    seen, told = set(), []
    both = threading.Barrier(2, timeout=5.0)

    def once(k):
        pulse(f"at {k}")
        if k < 2:
            both.wait()  # the first two are under way at the same time
        seen.add(threading.get_ident())
        return k * k

    with Progress(lambda share, what: told.append(what)).under_way(), pytest.MonkeyPatch.context() as patched:
        patched.setattr("lithon.threads.os.cpu_count", lambda: 2)
        assert each_of(once, list(range(9))) == [k * k for k in range(9)]
        assert sorted(told) == [f"at {k}" for k in range(9)] and len(seen) == 2
        with pytest.raises(Refusal, match="not this one"):
            each_of(lambda k: (_ for _ in ()).throw(Refusal("not this one")) if k == 3 else k, list(range(5)))
    assert each_of(lambda k: k, []) == []


def test_what_was_found_in_time_is_brought_home():
    progress = Progress()
    with progress.under_way():
        assert seconds_left() == np.inf
        progress.bring_home(5.0)
        assert seconds_left() == np.inf
        with progress.within(0.05):
            part = progress.part(0.0, 0.5)
            assert part.seconds_left() <= 0.05
            time.sleep(0.2)  # of which a third counts at the least
            with pytest.raises(Spent):
                pulse()
            part.bring_home(30.0)
            pulse()
            assert 25.0 < seconds_left() <= 30.0
        assert seconds_left() == np.inf


def test_where_points_lie_does_not_depend_on_how_many_are_asked_for():
    """A ball in a box: labels of many, on both cores, are those of few at a time, and tell who is in the hull."""
    rng = np.random.default_rng(2)
    way = rng.normal(size=(400, 3))
    shell = way / np.linalg.norm(way, axis=1)[:, None]
    space = Tetrahedra.box(np.full(3, -1.5), np.full(3, 1.5))
    space.add(shell)
    live = space.live
    corner = space.tet[live]
    space.lab[live] = np.where((corner >= 8).all(axis=1), 0, -1)  # all but those at corners of the box
    points = rng.uniform(-1.2, 1.2, (40_000, 3))
    many = space.labels(points)
    few = np.concatenate([space.labels(own) for own in np.array_split(points, 11)])
    assert (many == few).all()
    far = np.linalg.norm(points, axis=1)
    assert (many[far > 1.0] == -1).all() and (many[far < 0.8] == 0).mean() > 0.99
