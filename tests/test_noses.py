"""Sectors of noses and of spindles: faces that reach the poles of a turned or free-form surface, or lead through them,
wherever the surface's own angle begins; and cuts through those poles."""

import numpy as np
import pytest
import scipy
from dice import seeds

import lithon
from lithon.brep.measures import face_area, volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Revolution
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules

KNOTS = np.array([0.0, 0, 0, 0, 1, 1, 1, 1])
ROUND = np.array([0.0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 4])
EIGHT = np.array([(1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0), (-1, -1), (0, -1), (1, -1), (1, 0)], dtype=float)
HALF = np.sqrt(0.5)


def profile(rng, spindle):
    """Control points (4,2) of a cubic from the axis outwards, or from the axis back to it: radius and height."""
    wide, high = rng.uniform(2.0, 6.0), rng.uniform(5.0, 15.0)
    out = np.array([(0.0, high), (rng.uniform(0.2, 0.9) * wide, rng.uniform(0.5, 0.95) * high),
                    (wide, rng.uniform(0.1, 0.4) * high), (0.0 if spindle else wide, 0.0)])  # fmt: skip
    return out[::-1] if rng.integers(2) else out


def whole(net):
    """The volume of all that the profile turns around, and the area of its walls."""
    curve = scipy.interpolate.BSpline(KNOTS, net, 3)
    slope = curve.derivative()
    filled = scipy.integrate.quad(lambda t: np.pi * curve(t)[0] ** 2 * slope(t)[1], 0.0, 1.0, epsrel=1e-12)[0]
    wall = scipy.integrate.quad(lambda t: 2.0 * np.pi * curve(t)[0] * np.hypot(*slope(t)), 0.0, 1.0, epsrel=1e-12)[0]
    return abs(filled), wall


def meridian(net, frame, angle):
    way = np.cos(angle) * frame.x + np.sin(angle) * frame.y
    return BSplineCurve(KNOTS, 3, frame.origin + np.outer(net[:, 0], way) + np.outer(net[:, 1], frame.z))


def surface_of(net, frame, begins, kind):
    """The wall, its own angle beginning anywhere; turned, or free-form with either parameter around."""
    if kind == "turned":
        return Revolution.of(meridian(net, frame, begins), frame.origin, frame.z)
    way = np.array([np.cos(begins) * frame.x + np.sin(begins) * frame.y,
                    np.cos(begins) * frame.y - np.sin(begins) * frame.x])  # fmt: skip
    control = frame.origin + np.einsum("j,ik->ijk", net[:, 0], EIGHT @ way)
    control = control + np.einsum("j,k->jk", net[:, 1], frame.z)[None]
    weights = np.repeat(np.where(np.arange(9) % 2, HALF, 1.0)[:, None], 4, axis=1)
    if kind == "around v":
        return BSplineSurface(KNOTS, ROUND, 3, 2, control.transpose(1, 0, 2), weights.T)
    return BSplineSurface(ROUND, KNOTS, 2, 3, control, weights)


def along_of(surface, point, outward):
    return bool(surface.normal(surface.project(point[None]))[0] @ outward > 0.0)


def straight(a, b):
    return Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b)


def sector(net, frame, begins, span, kind):
    """The part of such a body over an angle, between two half planes; where the profile does not come back to the
    axis, on a flat foot."""
    surface = surface_of(net, frame, begins, kind)
    low = 0.0 if net[0, 1] < net[-1, 1] else 1.0
    foot, tip = (0, -1) if low == 0.0 else (-1, 0)
    top = Vertex(frame.origin + net[tip, 1] * frame.z)
    middle = Vertex(frame.origin + net[foot, 1] * frame.z)
    lone = net[foot, 0] == 0.0
    curves = [meridian(net, frame, a) for a in (0.0, span)]
    below = [middle if lone else Vertex(c.point(np.array([low]))[0]) for c in curves]
    sides = [Edge(c, 0.0, 1.0, *((v, top) if low == 0.0 else (top, v))) for c, v in zip(curves, below, strict=True)]

    def up(edge, upwards=True):
        return Coedge(edge, (low == 0.0) == upwards)

    axis = straight(middle, top)
    way = [np.cos(a) * frame.x + np.sin(a) * frame.y for a in (0.0, 0.5 * span, span)]
    wall = [up(sides[1]), up(sides[0], False)]
    faces, radii = [], []
    if not lone:
        ring = Edge(Circle.about(frame.shifted(net[foot, 1] * frame.z), float(net[foot, 0])), 0.0, span, *below)
        wall = [Coedge(ring, True), *wall]
        radii = [straight(middle, v) for v in below]
        bottom = (Coedge(radii[1], True), Coedge(ring, False), Coedge(radii[0], False))
        faces.append(Face(Plane.of(middle.point, -frame.z), (bottom,)))
    inner = surface.project((0.5 * (top.point + middle.point) + 0.5 * net[:, 0].max() * way[1])[None])[0]
    faces.append(Face(surface, (tuple(wall),), along_of(surface, inner, way[1])))
    for k, normal in enumerate((np.cross(way[0], frame.z), np.cross(frame.z, way[2]))):
        out = k == 0
        more = [Coedge(radii[k], out)] if radii else []
        loop = [*more, up(sides[k], out), Coedge(axis, not out)]
        if not out:
            loop = [Coedge(axis, True), up(sides[k], False), *more]
        faces.append(Face(Plane.of(middle.point, normal), (tuple(loop),)))
    return Body(tuple(FaceUse(f) for f in faces), "sector")


def nose(net, frame, begins, kind):
    """All of such a body on its foot: a wall with nothing but a ring."""
    surface = surface_of(net, frame, begins, kind)
    foot = net[net[:, 1].argmin()]
    ring = Edge(Circle.about(frame.shifted(foot[1] * frame.z), float(foot[0])), 0.0, 2.0 * np.pi)
    middle = frame.origin + net[:, 1].mean() * frame.z
    out = surface.project((middle + net[:, 0].max() * frame.x)[None])[0]
    wall = Face(surface, ((Coedge(ring, True),),), along_of(surface, out, frame.x))
    bottom = Face(Plane.of(frame.origin + foot[1] * frame.z, -frame.z), ((Coedge(ring, False),),))
    return Body((FaceUse(wall), FaceUse(bottom)), "nose")


def drawn_volume(body):
    p, t, _ = body_mesh(body)
    return float(np.einsum("ij,ij->i", p[t[:, 0]], np.cross(p[t[:, 1]], p[t[:, 2]])).sum() / 6.0)


def about(rng):
    return Frame.of(rng.uniform(-5, 5, 3), rng.normal(size=3), rng.normal(size=3))


@pytest.mark.parametrize("kind", ["turned", "around u", "around v"])
@pytest.mark.parametrize("seed", seeds(60))
def test_a_sector_from_pole_to_pole_or_to_a_foot(seed, kind):
    rng = np.random.default_rng(seed)
    net, frame = profile(rng, spindle=bool(seed % 2)), about(rng)
    span, begins = float(rng.uniform(0.3, 5.9)), float(rng.uniform(0.0, 7.0))
    body = sector(net, frame, begins, span, kind)
    filled, wall = (x * span / (2.0 * np.pi) for x in whole(net))
    assert closed(body) and not flaws(body, 1e-6)
    assert volume(body) == pytest.approx(filled, rel=1e-7)
    (round_face,) = (f for f in body.faces if not isinstance(f.surface, Plane))
    assert face_area(round_face) == pytest.approx(wall, rel=1e-7)
    assert drawn_volume(body) == pytest.approx(filled, rel=0.05)

    (again,) = lithon.parse_step(lithon.step_text(Model.of([body]))).model.bodies
    assert not flaws(again, 1e-6)
    assert volume(again) == pytest.approx(filled, rel=1e-6)


@pytest.mark.parametrize("kind", ["turned", "around u", "around v"])
@pytest.mark.parametrize("seed", seeds(20))
def test_a_plane_through_a_pole_parts_a_nose(seed, kind):
    rng = np.random.default_rng(seed + 500)
    net, frame = profile(rng, spindle=bool(seed % 2)), about(rng)
    span = float(rng.uniform(1.0, 5.5))
    model = Model.of([sector(net, frame, float(rng.uniform(0.0, 7.0)), span, kind)])
    turn = float(rng.uniform(0.2, 0.8)) * span
    normal = np.cos(turn) * frame.y - np.sin(turn) * frame.x
    halves = split(model, list(model.bodies), Plane.of(frame.origin, normal)).bodies
    assert all(closed(b) and not flaws(b, model.tolerance) for b in halves)
    # Where the sector is wider than what the plane leaves on the far side, it is parted in three.
    share = whole(net)[0] / (2.0 * np.pi)
    ends = sorted({0.0, span, *(a for a in (turn, turn - np.pi, turn + np.pi) if 0.0 < a < span)})
    assert sorted(volume(b) for b in halves) == pytest.approx(sorted(share * np.diff(ends)), rel=1e-6)


@pytest.mark.parametrize("kind", ["turned", "around u", "around v"])
@pytest.mark.parametrize("seed", seeds(40))
def test_a_plane_through_the_tip_of_a_nose(seed, kind):
    """Along the axis it leaves halves; leaning, it cuts off a part, or misses the nose but for its tip; lower down it
    passes beside the tip."""
    rng = np.random.default_rng(seed)
    net, frame = profile(rng, False), about(rng)
    body, (filled, _) = nose(net, frame, float(rng.uniform(0.0, 7.0)), kind), whole(net)
    assert volume(body) == pytest.approx(filled, rel=1e-7) and not flaws(body, 1e-6)
    turn, lean = rng.uniform(0.0, 7.0), rng.uniform(-0.5, 0.5)
    way, tip = np.cos(turn) * frame.x + np.sin(turn) * frame.y, frame.origin + net[:, 1].max() * frame.z
    model = Model.of([body])
    halves = split(model, [body], Plane.of(tip, way)).bodies
    assert [volume(b) for b in halves] == pytest.approx([0.5 * filled] * 2, rel=1e-6)
    for at in (tip, frame.origin + 0.6 * net[:, 1].max() * frame.z):
        plane = Plane.of(at, way + lean * frame.z)
        sides = plane.signed_distance(body_mesh(body)[0])
        if at is tip and sides.min() * sides.max() > -1e-3:
            with pytest.raises(Refusal):
                split(model, [body], plane)
            continue
        parts = split(model, [body], plane).bodies
        assert all(closed(b) and not flaws(b, model.tolerance) for b in (*halves, *parts))
        assert sum(map(volume, parts)) == pytest.approx(filled, rel=1e-6)


@pytest.mark.parametrize("kind", ["turned", "around u", "around v"])
def test_half_a_nose_is_meshed(kind):
    net = np.array([(4.0, 0.0), (4.0, 3.0), (2.5, 8.0), (0.0, 11.0)])
    body = nose(net, Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)), 1.0, kind)
    halves = split(Model.of([body]), [body], Plane.of((0, 0, 0), (0.3, 1.0, 0.0)))
    for half in halves.bodies:
        mesh = mesh_of(Model.of([half]), SizeRules(1.0), "tet")
        assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
        assert mesh.quality.scaled_jacobian.min() > 0.05
