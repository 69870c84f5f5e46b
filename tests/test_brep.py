"""Topology, triangulation, tessellation, measures and validity against closed forms."""

from dataclasses import replace

import numpy as np
import pytest
import shapely
from dice import examples
from hypothesis import given, settings
from hypothesis import strategies as st

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.boxes import box
from lithon.brep.measures import angle_between, mass_properties, volume
from lithon.brep.tessellation.tessellate import body_mesh, open_edges
from lithon.brep.tessellation.triangulate import Tangled, triangulate
from lithon.brep.topology import Body, Coedge, FaceUse, vertex_at
from lithon.brep.validate import check, flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.samples import ANCHOR
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink

PROFILE = settings(max_examples=examples(40), deadline=None)


def star(radii):
    angle = np.linspace(0.0, 2.0 * np.pi, len(radii), endpoint=False)
    return np.c_[np.cos(angle), np.sin(angle)] * np.array(radii)[:, None]


@PROFILE
@given(st.lists(st.floats(0.2, 1.0), min_size=5, max_size=40))
def test_triangulation_covers_a_star_with_a_hole(radii):
    outer = star(radii)
    hole = 0.08 * star([1.0] * 7)
    n, m = len(outer), len(hole)
    ring = lambda base, k: np.c_[base + np.arange(k), base + (np.arange(k) + 1) % k]  # noqa: E731
    region = triangulate(np.vstack([outer, hole]), np.vstack([ring(0, n), ring(n, m)]))
    tri, p = region.triangles, region.plane
    shape = shapely.Polygon(outer, [hole])
    v = p[tri]
    area = 0.5 * np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    assert area.min() > 0.0
    assert area.sum() == pytest.approx(shape.area, rel=1e-6)
    assert len(tri) == n + m  # Euler: a ring of n+m boundary points
    assert all(shape.buffer(1e-6).contains(shapely.Polygon(t)) for t in v)


@pytest.mark.parametrize("wild", [np.nan, np.inf, 1e12, -1e300, 4.0, -0.5])
def test_what_lies_beyond_a_region_or_nowhere_is_not_inserted(wild):
    square = np.array([[0.0, 0.0], [3.0, 0.0], [3.0, 3.0], [0.0, 3.0]])
    region = triangulate(square, np.array([[0, 1], [1, 2], [2, 3], [3, 0]]))
    for _ in range(3):
        goals = np.array([[wild, 1.0], [1.1, wild], [1.5, 1.2], [wild, wild], [0.7, 2.1]])
        near = np.full(len(goals), np.flatnonzero(region.tri[: region.count, 0] >= 0)[0])
        region.add(goals, near, np.full(len(goals), 0.1))
    assert {tuple(np.round(p, 6)) for p in region.plane[4:]} == {(1.5, 1.2), (0.7, 2.1)}
    a, b, c = (region.plane[region.triangles[:, k]] for k in range(3))
    areas = 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    assert areas.min() > 0.0 and areas.sum() == pytest.approx(9.0, rel=1e-6)


def test_triangulation_names_what_is_tangled():
    bow = np.array([[0.0, 0.0], [1.0, 1.0], [1.0, 0.0], [0.0, 1.0]])
    with pytest.raises(Tangled):
        triangulate(bow, np.array([[0, 1], [1, 2], [2, 3], [3, 0]]))
    with pytest.raises(Tangled):
        triangulate(np.array([[0.0, 0], [1, 0], [1, 0], [0, 1]]), np.array([[0, 1], [1, 2], [2, 3], [3, 0]]))


def test_measures_of_a_block_and_a_tube():
    block = prism(rectangle(0, 0, 2, 3), 4.0)
    mass = mass_properties(block)
    assert mass.volume == pytest.approx(24.0, rel=1e-12)
    assert mass.area == pytest.approx(52.0, rel=1e-12)
    assert np.allclose(mass.centroid, [1.0, 1.5, 2.0])
    assert np.allclose(np.diag(mass.inertia), [24 / 12 * (9 + 16), 24 / 12 * (4 + 16), 24 / 12 * (4 + 9)])
    tilted = Frame.of((3, -2, 5), (1, 2, 3), (1, 0, 0))
    tube = sink(
        rod := prism(Round((0, 0), 5.0), 7.0, tilted),
        face_toward(rod, tilted.z),
        Frame(tilted.origin + 7.0 * tilted.z, tilted.x, tilted.y, tilted.z),
        Round((0, 0), 2.0),
        7.0,
        face_toward(rod, -tilted.z),
    )
    mass = mass_properties(tube)
    assert mass.volume == pytest.approx(np.pi * (25 - 4) * 7, rel=1e-12)
    assert mass.area == pytest.approx(2 * np.pi * (21 + 7 * 7), rel=1e-12)
    assert np.allclose(mass.centroid, tilted.origin + 3.5 * tilted.z)
    axial = tilted.z @ mass.inertia @ tilted.z
    assert axial == pytest.approx(mass.volume * (25 + 4) / 2, rel=1e-10)
    assert not flaws(tube, 1e-6)


@PROFILE
@given(st.floats(5, 60), st.floats(5, 60), st.floats(0.1, 2.0), st.floats(1, 30), st.tuples(*[st.floats(-1, 1)] * 3))
def test_rounded_prisms_have_their_closed_form(a, b, r, h, z):
    if np.linalg.norm(z) < 0.1:
        z = (0.0, 0.0, 1.0)
    body = prism(rectangle(-a / 2, -b / 2, a / 2, b / 2, r), h, Frame.of((1, 2, 3), z))
    check(body, 1e-6)
    assert volume(body) == pytest.approx((a * b - (4 - np.pi) * r * r) * h, rel=1e-9)
    points, triangles, _ = body_mesh(body)
    assert open_edges(triangles) == 0
    v = points[triangles]
    inside = np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0
    # No triangle spans more than 16 degrees, so none comes nearer to the axis than r cos(8 degrees).
    corners = np.pi * (r * np.cos(np.radians(8.0))) ** 2
    assert (a * b - 4 * r * r + corners) * h * (1 - 1e-9) <= inside <= volume(body) * (1 + 1e-9)


def test_the_collar_anchor_has_its_truths(anchor):
    (body,) = anchor.bodies
    assert not flaws(body, anchor.tolerance)
    assert volume(body) == pytest.approx(ANCHOR.volume, rel=1e-12)
    assert len(body.faces) == ANCHOR.faces == 36
    assert np.allclose(box(body), [[-60, -40, 0], [60, 40, 54]])
    _, triangles, owner = body_mesh(body)
    assert open_edges(triangles) == 0 and set(owner) == set(range(36))


def test_turns_of_edges():
    plate = prism(rectangle(0, 0, 40, 30, 3.0), 10.0)
    up = Frame.of((0, 0, 10), (0, 0, 1), (1, 0, 0))
    body = raised(plate, face_toward(plate, (0, 0, 1)), up, rectangle(10, 10, 20, 20), 5.0)
    body = sink(body, face_toward(body, (0, 0, 1), (0, 0, 10)), up, rectangle(25, 10, 32, 20), 4.0)
    adj = adjacency(body)
    turns = {}
    for edge in body.edges():
        turns.setdefault(adj.turn(edge), []).append(edge)
    assert len(turns["smooth"]) == 8  # the rounds' straight edges
    # Concave: the boss's foot, the pocket's floor and its four upright edges.
    assert len(turns["concave"]) == 12
    assert all(adj.angle(e) == pytest.approx(np.pi / 2) for e in turns["convex"])


def test_angles_to_many_digits():
    a = np.array([1.0, 0.0, 0.0])
    turn = 2 * np.pi / 23
    assert angle_between(a, np.array([np.cos(turn), np.sin(turn), 0.0])) == pytest.approx(turn, rel=1e-14)


@pytest.fixture
def block() -> Body:
    return prism([Piece((0, 0)), Piece((4, 0)), Piece((4, 3)), Piece((0, 3))], 2.0)


def kinds(body: Body) -> set[str]:
    return {flaw.kind for flaw in flaws(body, 1e-6)}


def test_the_validator_names_what_is_wrong(block):
    assert kinds(block) == set()
    assert kinds(block.with_uses(block.uses[1:])) == {"open edge"}
    first = block.uses[0]
    assert "flipped face" in kinds(block.with_uses((FaceUse(first.face, False), *block.uses[1:])))
    assert "inside-out" in kinds(block.with_uses(FaceUse(u.face, False) for u in block.uses))
    assert "crowded edge" in kinds(block.with_uses((*block.uses, first)))
    edge = block.edges()[0]
    off = replace(edge, start=vertex_at(edge.start.point + [0, 0, 0.01]))
    loops = tuple(tuple(Coedge(off, c.forward) if c.edge is edge else c for c in loop) for loop in first.face.loops)
    broken = block.with_uses((FaceUse(first.face.with_loops(loops)), *block.uses[1:]))
    assert kinds(broken) & {"gap", "broken loop", "open edge"}
    with pytest.raises(Refusal, match="sound"):
        check(block.with_uses(block.uses[1:]), 1e-6)


def test_a_hole_that_crosses_the_outline_is_found(block):
    top = face_toward(block, (0, 0, 1))
    up = Frame.of((0, 0, 2), (0, 0, 1), (1, 0, 0))
    bad = sink(block, top, up, Round((4.0, 1.5), 0.5), 1.0)
    assert "tangled face" in kinds(bad)
