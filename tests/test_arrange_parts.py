"""Two bodies laid over each other: fragments cover what they were cut of, what coincides is one thing, needless edges
go; and the surfaces that triangles and poles make."""

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import bracket

from lithon.arrange.boolean import combine
from lithon.arrange.overlay import cut_at, inner_point, overlay
from lithon.arrange.tidy import tidied
from lithon.brep.area import area_of, off_edge
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model, Vertex
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.curves import TURN, Circle, Line
from lithon.geometry.facets import Facets
from lithon.geometry.frames import Frame
from lithon.geometry.poles import poles_of
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Revolution
from lithon.samples.build import Piece, Round, prism, rectangle, revolved
from lithon.survey.features import features
from lithon.trim.blends import unblended
from lithon.trim.clear import clear

TOLERANCE = 1e-6


def boxes(seed):
    """Two boxes along the axes that overlap, and the volume of what both fill."""
    rng = np.random.default_rng(seed)
    low = rng.uniform(-3, 3, (2, 3))
    high = low + rng.uniform(4, 9, (2, 3))
    if seed % 3 == 0:  # a face of one in the plane of one of the other's
        low[1, 2] = low[0, 2]
    made = [box(a[0], a[1], b[0], b[1], a[2], b[2], n) for a, b, n in zip(low, high, "ab", strict=True)]
    common = np.clip(np.minimum(*high) - np.maximum(*low), 0.0, None).prod()
    return made[0], made[1], float(common)


@pytest.mark.parametrize("seed", seeds(12))
def test_fragments_cover_what_they_were_cut_of(seed):
    a, b, common = boxes(seed)
    made = overlay(a, b, TOLERANCE)
    for body in (a, b):
        cut = made.applied(body)
        for face in body.faces:
            pieces = made.fragments.get(face, [face])
            assert sum(map(face_area, pieces)) == pytest.approx(face_area(face), rel=1e-9)
            for piece in pieces:
                at = inner_point(piece)[None]
                assert area_of(face).side(at, TOLERANCE)[0] >= 0 and area_of(piece).side(at, TOLERANCE)[0] > 0
        assert volume(cut) == pytest.approx(volume(body), rel=1e-9) and not flaws(cut, TOLERANCE)
    # Where both have a piece with the very same edges, it is the same place.
    for piece, (twin, same) in made.twins.items():
        at = inner_point(piece)[None]
        assert abs(float(twin.surface.signed_distance(at)[0])) < 1e-6
        assert same == (float((twin.normal(at) * piece.normal(at)).sum()) > 0.0)
    assert overlay(a, b, TOLERANCE) is made  # it is kept
    sizes = {way: sum(map(volume, combine(a, b, way, TOLERANCE))) for way in ("union", "subtract", "intersect")}
    assert sizes["intersect"] == pytest.approx(common, rel=1e-9, abs=1e-9)
    assert sizes["union"] == pytest.approx(volume(a) + volume(b) - common, rel=1e-9)
    assert sizes["subtract"] == pytest.approx(volume(a) - common, rel=1e-9)


@pytest.mark.parametrize("seed", seeds(4))
def test_needless_edges_go_and_nothing_else(seed):
    """A body that was cut and united again is tidied to what it was: as many faces, edges and vertices."""
    known = bracket(seed, straight=True)
    whole = known.body
    middle = np.mean([v.point for v in whole.vertices()], axis=0) + [0.1, 0.2, 0.0]
    halves = split(Model.of([whole]), [whole], Plane.of(middle, (1.0, 0.4, 0.0))).bodies
    (again,) = combine(halves[0], halves[1], "union", TOLERANCE)
    assert volume(again) == pytest.approx(known.volume, rel=1e-9)
    assert (len(again.faces), len(again.edges()), len(again.vertices())) == (
        len(whole.faces), len(whole.edges()), len(whole.vertices()),
    )  # fmt: skip
    assert tidied(whole, TOLERANCE) is whole


def test_curves_are_cut_at_every_visit():
    line = Line.through(np.zeros(3), np.array([1.0, 0.0, 0.0]))
    marks = [(t, Vertex(np.array([t, 0.0, 0.0]))) for t in (0.0, 2.0, 5.0)]
    edges = cut_at(line, marks)
    assert [(e.t0, e.t1) for e in edges] == [(0.0, 2.0), (2.0, 5.0)]
    assert edges[0].end is edges[1].start is marks[1][1]
    ring = Circle.about(Frame.of((0, 0, 0), (0, 0, 1)), 2.0)
    (whole,) = cut_at(ring, [])
    assert whole.ring and whole.length == pytest.approx(2.0 * TURN)
    two = cut_at(ring, [(0.5, Vertex(ring.point(np.array([0.5]))[0])), (3.0, Vertex(ring.point(np.array([3.0]))[0]))])
    assert sum(e.length for e in two) == pytest.approx(2.0 * TURN) and two[0].end is two[1].start
    assert float(off_edge(two[0], ring.point(np.array([1.7])))[0]) < 1e-12


@pytest.mark.parametrize("seed", seeds(6))
def test_fillets_are_undone_in_one_go(seed):
    """A block with rounded corners: without its rounds it is the block, by one look or one after the other."""
    rng = np.random.default_rng(seed)
    w, d, h = rng.uniform(8, 20, 3)
    r = rng.uniform(0.5, 0.2 * min(w, d))
    body = prism(rectangle(0, 0, w, d, r), h)
    rounds = [f for f in body.faces if f.surface.kind == "cylinder"]
    from lithon.brep.analysis.adjacency import adjacency

    made = unblended(body, adjacency(body), rounds, TOLERANCE)
    assert volume(made) == pytest.approx(w * d * h, rel=1e-12) and len(made.faces) == 6
    assert not flaws(made, TOLERANCE)
    one = body
    for face in rounds:
        own = next(f for f in one.faces if f.surface is face.surface)
        ways = clear(one, [own], TOLERANCE)
        assert all(not flaws(way.body, TOLERANCE) for way in ways)
        one = ways[0].body
    assert volume(one) == pytest.approx(w * d * h, rel=1e-12)
    assert {f.kind for f in features(body)} >= {"fillet"} and not features(made)


@pytest.mark.parametrize("seed", seeds(4))
def test_a_corner_that_is_cut_off_grows_again(seed):
    """Regrow finds the corner in which three planes meet, wherever the cut was."""
    rng = np.random.default_rng(seed)
    size = rng.uniform(6, 12, 3)
    block = prism(rectangle(0, 0, size[0], size[1]), size[2])
    model = Model.of([block])
    normal = rng.uniform(0.4, 1.0, 3)
    plane = Plane.of(size - rng.uniform(0.5, 2.0), normal)
    pieces = split(model, [block], plane).bodies
    body = max(pieces, key=volume)
    (cut,) = (f for f in body.faces if f.label == "cut")
    found = clear(body, [cut], TOLERANCE)
    assert volume(found[0].body) == pytest.approx(float(size.prod()), rel=1e-10)
    assert len(found[0].body.vertices()) == 8
    assert found[0].volume_change == pytest.approx(float(size.prod()) - volume(body), rel=1e-9)


# ---- triangles as a surface


def bumpy(seed, n=14):
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(0, 10, n), np.linspace(0, 8, n), indexing="ij")
    z = 0.6 * np.sin(x * rng.uniform(0.4, 0.9)) * np.cos(y * rng.uniform(0.4, 0.9))
    points = np.stack([x, y, z], axis=-1).reshape(-1, 3)
    k = np.arange(n * n).reshape(n, n)
    a, b, c, d = (q.ravel() for q in (k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]))
    return Facets(points, np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)]))


def nearest_on(triangle, p):
    """The closest point of a triangle by a dense look at it."""
    u = np.linspace(0.0, 1.0, 60)
    s, t = np.meshgrid(u, u)
    keep = s + t <= 1.0
    at = triangle[0] + np.outer(s[keep], triangle[1] - triangle[0]) + np.outer(t[keep], triangle[2] - triangle[0])
    return float(np.linalg.norm(at - p, axis=1).min())


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(4))
def test_closest_points_and_charts_of_triangles(seed):
    surface = bumpy(seed)
    rng = np.random.default_rng(seed)
    p = rng.uniform((0, 0, -3), (10, 8, 3), (12, 3))
    found = np.abs(surface.signed_distance(p))
    for k in range(len(p)):
        seen = min(nearest_on(surface.points[t], p[k]) for t in surface.triangles)
        assert found[k] <= seen + 1e-9 and found[k] >= seen - 0.05
    on = surface.project(p)
    assert np.abs(surface.signed_distance(on)).max() < 1e-9
    above = on + 0.01 * surface.normal(on)
    assert (surface.signed_distance(above) > 0.0).all()
    chart = surface.chart([surface.points[:14]])
    inner = surface.points[surface.triangles].mean(axis=1)
    assert np.allclose(chart.point(chart.flat(inner)), inner, atol=1e-9)
    motion = np.eye(4)
    motion[:3, 3] = (3.0, -2.0, 1.0)
    there = surface.moved(motion)
    assert np.allclose(there.signed_distance(p + [3.0, -2.0, 1.0]), surface.signed_distance(p))
    assert surface.same_as(bumpy(seed), 1e-9, 10.0) and not surface.same_as(there, 1e-9, 10.0)


# ---- poles


def cap(seed):
    """A spline profile that leaves the axis at right angles, turned about it."""
    from lithon.geometry.splines import BSplineCurve

    rng = np.random.default_rng(seed)
    r = np.sort(rng.uniform(0.5, 5.0, 4))
    control = np.array([[0.0, 0, 3.0], [r[0], 0, 3.0], [r[1], 0, 2.4], [r[2], 0, 1.0], [r[3], 0, 0.0]])
    knots = np.array([0, 0, 0, 0, 0.5, 1, 1, 1, 1.0])
    return Revolution.of(BSplineCurve(knots, 3, control), (0, 0, 0), (0, 0, 1))


@pytest.mark.parametrize("seed", seeds(5))
def test_a_pole_is_found_and_rolled_out_about(seed):
    surface = cap(seed)
    (pole,) = poles_of(surface, np.array([0.0, 0.0]), np.array([1.0, TURN]), (False, True))
    assert pole.around == 1 and pole.value == 0.0 and pole.inward == 1.0 and pole.closed
    assert np.allclose(pole.point, (0.0, 0.0, 3.0), atol=1e-9)
    rim = surface.at(np.stack([np.ones(40), np.linspace(0, TURN, 40, endpoint=False)], axis=1))[0]
    for outline in (rim, rim[::-1]):
        chart = surface.chart([outline])
        rng = np.random.default_rng(seed)
        at = surface.at(np.stack([rng.uniform(0.05, 0.95, 60), rng.uniform(0, TURN, 60)], axis=1))[0]
        assert np.abs(chart.point(chart.flat(at)) - at).max() < 1e-6
        frame = chart.tangents(chart.flat(at))
        normal = np.cross(frame[:, 0], frame[:, 1])
        facing = (normal * surface.normal(at)).sum(axis=1)
        assert (facing > 0.0).all() and np.allclose(facing, np.linalg.norm(normal, axis=1), rtol=1e-6)


def test_a_domed_pin_holds_what_it_should():
    """Down to its pole: the volume of a pin with half a ball on it, turned from an arc and as a sphere."""
    r = 2.0
    side = [Piece((0.0, -5.0)), Piece((r, -5.0)), Piece((r, 0.0), (0.0, 0.0), True), Piece((0.0, r))]
    body = revolved(side, Frame.of((1, 1, 1), (0.2, 0.3, 1.0)), "pin")
    exact = np.pi * r * r * 5.0 + 2.0 / 3.0 * np.pi * r**3
    assert volume(body) == pytest.approx(exact, rel=1e-12)
    rod = prism(Round((0.0, 0.0), r), 5.0)
    assert isinstance(next(f.surface for f in rod.faces if f.surface.kind != "plane"), Cylinder)
    assert volume(rod) == pytest.approx(np.pi * r * r * 5.0, rel=1e-12)
