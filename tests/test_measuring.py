"""Measuring between picked things, against closed forms and against dense sampling."""

import numpy as np
import pytest
from dice import examples, seeds
from hypothesis import given, settings
from hypothesis import strategies as st
from solids import bracket, frame, simple_solid

from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Model, Vertex
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.mend.facet_faces import line_between
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved
from lithon.survey.measuring import between, distance, measures, of_body, of_edge, of_face, wall


def said(found):
    return {m.what: m.value for m in found}


def test_single_things_are_measured():
    place = frame(np.random.default_rng(1))
    bar = prism(Round((0, 0), 3.0), 12.0, place)
    side = next(f for f in bar.faces if f.surface.kind == "cylinder")
    assert said(of_face(side)) == pytest.approx({"radius": 3.0, "area": 72 * np.pi})
    ring = next(e for e in bar.edges() if isinstance(e.curve, Circle))
    assert said(of_edge(ring)) == pytest.approx({"length": 6 * np.pi, "radius": 3.0})
    assert said(of_body(Model.of([bar]), side)) == pytest.approx({"volume of its body": 108 * np.pi})
    cone = revolved([Piece((0, 0)), Piece((6, 0)), Piece((0, 8))], place)
    wall_of = next(f for f in cone.faces if f.surface.kind == "cone")
    assert abs(said(of_face(wall_of))["half angle"]) == pytest.approx(np.degrees(np.arctan2(6, 8)))


@pytest.mark.parametrize("sides", [7, 11, 13, 17, 101])
def test_angles_have_all_the_digits_that_a_division_of_the_circle_needs(sides):
    turn = 2 * np.pi * np.arange(sides) / sides
    column = prism([Piece((10 * np.cos(t), 10 * np.sin(t))) for t in turn], 5.0, frame(np.random.default_rng(sides)))
    walls = [f for f in column.faces if len(f.loops[0]) == 4]
    model = Model.of([column])
    (angle,) = (m for m in measures(model, walls[:2], [], []) if m.unit == "°")
    assert angle.value == pytest.approx(360 / sides, abs=1e-11)
    assert float(angle.words(14).removeprefix("angle ").rstrip("°")) == pytest.approx(360 / sides, abs=1e-11)
    assert float(angle.words(3).removeprefix("angle ").rstrip("°")) == pytest.approx(360 / sides, rel=5e-3)


def test_parallel_walls_axes_and_skew_edges():
    place = frame(np.random.default_rng(4))
    block = prism(rectangle(0, 0, 30, 20), 8.0, place)
    top, bottom = face_toward(block, place.z), face_toward(block, -place.z)
    assert said(between(top, bottom)) == pytest.approx({"parallel, apart by": 8.0})
    edges = [e for e in block.edges() if abs(abs(e.direction(0.5) @ place.x) - 1) < 1e-9]
    low = min(edges, key=lambda e: e.at(0.5) @ (place.y + place.z))
    high = max(edges, key=lambda e: e.at(0.5) @ (place.y + place.z))
    assert said(between(low, high)) == pytest.approx({"distance": np.hypot(20, 8)})
    upright = next(e for e in block.edges() if abs(abs(e.direction(0.5) @ place.z) - 1) < 1e-9)
    found = said(between(upright, top))
    assert found == pytest.approx({"angle": 90.0, "distance": 0.0}, abs=1e-9)
    a = prism(Round((0, 0), 2.0), 9.0, place)
    b = prism(Round((9, 12), 4.0), 9.0, place)
    pair = [next(f for f in x.faces if f.surface.kind == "cylinder") for x in (a, b)]
    assert said(between(*pair)) == pytest.approx({"axes apart by": 15.0, "distance": 9.0})


def test_balls_rings_and_points():
    one = revolved([Piece((0, -3), (0, 0)), Piece((0, 3))], Frame.of((0, 0, 0), (0, 0, 1)))
    two = revolved([Piece((0, -2), (0, 0)), Piece((0, 2))], Frame.of((6, 8, 5), (1, 2, 3)))
    away, p, q = distance(one.faces[0], two.faces[0])
    assert away == pytest.approx(np.sqrt(125) - 5.0, abs=1e-9)
    assert np.linalg.norm(p) == pytest.approx(3.0) and np.linalg.norm(q - [6, 8, 5]) == pytest.approx(2.0)
    assert distance(one.faces[0], np.array([0.0, 0.0, 10.0]))[0] == pytest.approx(7.0)
    assert distance(np.zeros(3), np.array([3.0, 4.0, 0.0]))[0] == pytest.approx(5.0)


@pytest.mark.parametrize("angle", [0.3, 0.03, 0.003])
@pytest.mark.parametrize("seed", seeds(2))
def test_what_runs_nearly_side_by_side_is_measured_where_it_is_nearest(angle, seed, monkeypatch):
    """Lines that pass each other 5 apart, and walls of a slot that narrows: back and forth leads there in small steps,
    so small that for the least angles it would take thousands."""
    from lithon.survey import measuring

    rng = np.random.default_rng(seed)
    place = frame(rng)
    asked = []
    onto = measuring._onto
    monkeypatch.setattr(measuring, "_onto", lambda item, p: asked.append(item) or onto(item, p))

    def line(a, b):
        return line_between(*(Vertex(place.world(np.array(p))) for p in (a, b)))

    meet, c, s = rng.uniform(-8, 8), np.cos(angle), np.sin(angle)
    one = line((-30, 0, 0), (30, 0, 0))
    other = line((meet - 25 * c, -25 * s, 5), (meet + 25 * c, 25 * s, 5))
    away, p, _ = distance(one, other)
    assert away == pytest.approx(5.0, abs=1e-8) and len(asked) < 2000
    assert place.local(p) == pytest.approx([meet, 0, 0], abs=1e-3 / angle)
    low = prism([Piece((0, 0)), Piece((30, 0)), Piece((30, 6)), Piece((0, 6))], 4.0, place)
    high = prism([Piece((0, 9)), Piece((30, 9 - 30 * np.tan(angle) / 9)), Piece((30, 20)), Piece((0, 20))], 4.0, place)
    wall_of = face_toward(low, place.y)
    facing = min(high.faces, key=lambda f: float(high.outward(f, f.surface.frame.origin[None])[0] @ place.y))
    # The farther end of the slanting wall is the nearer: its foot is on the other.
    assert distance(wall_of, facing)[0] == pytest.approx(3.0 - 30 * np.tan(angle) / 9, abs=1e-8)


@settings(max_examples=examples(25))
@given(st.integers(0, 10**9))
@pytest.mark.slow
def test_no_sample_is_nearer_than_the_distance_found(seed):
    rng = np.random.default_rng(seed)
    a, b = simple_solid(rng, "bcks"), simple_solid(rng, "bcks")
    one, two = a.faces[int(rng.integers(len(a.faces)))], b.faces[int(rng.integers(len(b.faces)))]
    away, p, q = distance(one, two)
    assert np.linalg.norm(p - q) == pytest.approx(away, abs=1e-9)
    for face, at in ((one, p), (two, q)):
        assert abs(float(face.surface.signed_distance(at[None])[0])) < 1e-7
    from scipy.spatial import cKDTree

    clouds = [f.surface.project(face_mesh(f).points) for f in (one, two)]
    assert away <= cKDTree(clouds[1]).query(clouds[0])[0].min() + 1e-9


@pytest.mark.parametrize("seed", seeds(4))
def test_the_wall_behind_a_point(seed):
    known = bracket(seed)
    body = known.body
    place = max(body.faces, key=lambda f: len(f.loops))
    corner = place.loops[0][0].edge.at(0.5)
    inward = -body.outward(place, corner[None])[0]
    side = np.cross(place.loops[0][0].edge.direction(0.5), inward)
    at = corner + 0.3 * (side if place.loops[0][0].forward else -side)
    measured = 0
    for spot in (at, 2 * corner - at):  # one of them lies on the face
        found = wall(known.model, place, spot)
        if found and found[0].value > 1e-6:
            measured += 1
            far = spot + found[0].value * inward
            assert min(abs(float(f.surface.signed_distance(far[None])[0])) for f in body.faces) < 1e-6
    assert measured >= 1
    pipe = revolved([Piece((4, 0)), Piece((6, 0)), Piece((6, 20)), Piece((4, 20))], Frame.of((0, 0, 0), (0, 0, 1)))
    outer = max((f for f in pipe.faces if f.surface.kind == "cylinder"), key=lambda f: f.surface.radius)
    (thick,) = wall(Model.of([pipe]), outer, np.array([6 * np.cos(0.3), 6 * np.sin(0.3), 7.7]))
    assert thick.value == pytest.approx(2.0, abs=1e-9)
