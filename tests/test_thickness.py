"""Walls that are not straight across: inscribed balls against closed forms and against a dense look at all that is
there."""

import numpy as np
import pytest
from dice import seeds
from solids import bracket, frame, on_its_own

import lithon
from lithon.arrange.boolean import combine
from lithon.brep.analysis import thickness as field
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import inside, triangle_normals
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, prism


def block(corners, length: float, at: Frame) -> Body:
    """A prism over a polygon (n,2)."""
    return prism([Piece((float(x), float(y))) for x, y in corners], length, at)


@pytest.mark.parametrize("degrees", [10.0, 25.0, 40.0, 55.0])
def test_a_wedge_is_as_thick_as_the_ball_that_fits_in(degrees):
    """A tapered rib: at a distance s from where its sides would meet a ball is 2 s tan(a/2) wide and a ray s tan a."""
    angle, (near, far) = np.radians(degrees), (3.0, 30.0)
    rng = np.random.default_rng(int(degrees))
    at = frame(rng)
    low, high = near * np.array([1.0, np.tan(angle)]), far * np.array([1.0, np.tan(angle)])
    rib = block([(near, 0.0), (far, 0.0), high, low], 100.0, at)
    spots, wall, own, far_side, facing = field.thickness(rib)
    lean = [abs(float(u.face.surface.frame.z @ at.y)) for u in rib.uses]  # of the ends and sides 0 or 1
    base = next(k for k, x in enumerate(lean) if x > 1.0 - 1e-9)
    roof = next(k for k, x in enumerate(lean) if abs(x - np.cos(angle)) < 1e-9)
    s = at.local(spots)[:, 0]
    beneath = (s * np.cos(angle) > near) & (s < far)  # a ball touches the roof as far from the apex as the floor
    rows = np.flatnonzero((own == base) & (far_side == roof) & beneath)
    assert len(rows) > 100
    ball, ray = 2.0 * s[rows] * np.tan(angle / 2.0), s[rows] * np.tan(angle)
    widest = np.linalg.norm(np.ptp(body_mesh(rib)[0], axis=0)) / 12.0
    told = wall[rows]
    assert np.minimum(np.abs(told - ball), np.abs(told - ray)).max() < 1e-6  # both are what they say
    fits = (ball < 0.96 * widest) & (ball < 0.96 * ray)
    assert told[fits] == pytest.approx(ball[fits], rel=1e-6)
    assert fits.sum() > 30 or degrees < 25.0  # ever less than the ray where the wall is nearly straight across
    assert facing[rows] == pytest.approx(-np.cos(angle), abs=1e-6)


@pytest.mark.parametrize("seed", seeds(4))
def test_a_bore_off_the_middle_leaves_the_walls_of_the_closed_form(seed):
    rng = np.random.default_rng(seed)
    at = frame(rng)
    big, small = 10.0, rng.uniform(3.0, 6.0)
    off = rng.uniform(0.3, 0.8) * (big - small)
    rod = prism(Round((0.0, 0.0), big), 60.0, at)
    bore = prism(Round((off, 0.0), small), 80.0, Frame.of(at.origin - 10.0 * at.z, at.z, at.x))
    (tube,) = combine(rod, bore, "subtract", 1e-6)
    spots, wall, own, far, _facing = field.thickness(tube)
    p = at.local(spots)
    radius = [getattr(u.face.surface, "radius", 0.0) for u in tube.uses]
    outer = int(np.argmax(radius))
    inner = next(k for k, r in enumerate(radius) if r == pytest.approx(small))
    rows = np.flatnonzero((own == outer) & (far == inner))
    cosine = np.cos(np.arctan2(p[rows, 1], p[rows, 0]))
    exact = (big**2 + off**2 - small**2 - 2.0 * big * off * cosine) / (big + small - off * cosine)
    widest = float(np.linalg.norm(np.ptp(body_mesh(tube)[0], axis=0))) / 12.0
    fits = exact < 0.9 * widest
    assert fits.sum() > 100
    # Rays stand a little askew on the chords of the outside, of ten degrees each.
    assert wall[rows][fits] == pytest.approx(exact[fits], rel=0.08, abs=0.1)
    assert wall[rows].min() == pytest.approx(big - small - off, rel=0.03)


@pytest.mark.parametrize("seed", seeds(6))
@pytest.mark.parametrize("sense", [-1.0, 1.0])
def test_no_larger_ball_fits_and_nothing_is_in_it(seed, sense):
    """Against points all over the solid: what a ball touches is there, nothing that faces it reaches into it, and its
    middle sees the place."""
    body = on_its_own(bracket(seed).body)
    reach = np.inf if sense < 0.0 else 15.0
    _spots, _wall, _own, _far, _facing = field._across(body, sense, reach)
    p, triangles, owner = body_mesh(body)
    normals = triangle_normals(p, triangles)
    rng = np.random.default_rng(seed)
    share = rng.dirichlet((1.0, 1.0, 1.0), 60)
    dense = np.einsum("qk,mkc->mqc", share, p[triangles]).reshape(-1, 3)
    dense_owner, dense_normal = np.repeat(owner, 60), np.repeat(normals, 60, axis=0)
    rays = field._all(body, sense, reach)
    balls = np.flatnonzero(rays.held >= 0)
    for k in rng.permutation(balls)[:60].tolist():
        r, way = 0.5 * rays.wide[k], rays.ways[k]
        middle = rays.spots[k] + r * way
        opposed = -sense * dense_normal @ way > 0.5
        gap = np.linalg.norm(dense[opposed] - middle, axis=1)
        assert gap.min() > r * (1.0 - 1e-6)
        assert np.linalg.norm(rays.touch[k] - middle) == pytest.approx(r, rel=1e-6)
        on = dense_owner == rays.held[k]
        assert np.linalg.norm(dense[on] - rays.touch[k], axis=1).min() < 3.0
        assert abs(float(body.uses[int(rays.held[k])].face.surface.signed_distance(rays.touch[k][None])[0])) < 0.2
        assert (inside(body, middle[None])[0]) == (sense < 0.0)
        assert r < 0.5 * rays.distance[k] and rays.lean[k] < -0.49
    # And where none is told, none that is much narrower than the ray would do.
    without = np.flatnonzero((rays.held < 0) & rays.sure & np.isfinite(rays.distance))
    widest = np.linalg.norm(np.ptp(p, axis=0)) / 12.0
    for k in rng.permutation(without)[:60].tolist():
        d = dense[-sense * dense_normal @ rays.ways[k] > 0.5] - rays.spots[k]
        along = d @ rays.ways[k]
        ahead = along > 1e-9
        radius = ((d[ahead] ** 2).sum(axis=1) / (2.0 * along[ahead])).min(initial=np.inf)
        assert 2.0 * radius > 0.97 * min(rays.distance[k], widest, reach) * (1.0 - 1e-6)


@pytest.mark.parametrize("gap", [0.5, 1.0, 2.0])
def test_crossing_bores_leave_a_wall_as_thin_as_they_come_near(gap):
    """Two bores at right angles are nearest in a single point."""
    at = Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    cube = block([(-20.0, -20.0), (20.0, -20.0), (20.0, 20.0), (-20.0, 20.0)], 40.0, at)
    one = prism(Round((0.0, -4.0), 4.0), 60.0, Frame.of((0.0, 0.0, -10.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)))
    other = prism(Round((gap + 3.0, 20.0), 3.0), 60.0, Frame.of((-30.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0)))
    for bore in (one, other):
        (cube,) = combine(cube, bore, "subtract", 1e-6)
    cards = [c for c in lithon.findings(Model.of([cube]), 6.0) if c.kind == "thin wall"]
    (card,) = [c for c in cards if all(f.surface.kind == "cylinder" for f in c.faces)]
    assert gap <= card.size + 1e-9 and card.size < 1.25 * gap + 0.1
    assert card.place == pytest.approx((0.0, 0.5 * gap, 20.0), abs=1.6)  # on one of the bores
