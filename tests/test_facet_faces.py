"""Single triangles beside exact faces: what they are made of, what of them is refused, and what they do to a solid."""

from collections import Counter

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import motion as any_motion

from lithon import do
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import face_area, volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Edge, Face, Model, Vertex
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.crossing import guide
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mend.facet_faces import FacetFaces
from lithon.mend.segments import segmented
from lithon.mend.solid import MostlyFacets, solid_of
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import hinge_strap
from lithon.samples.build import Piece, Round, face_toward, prism, raised


def over_an_arc(bow, lift, spans, turn=lambda p: p):
    """Faces of one triangle, 2 wide and 1.5 high, over whose base runs an arc of a circle: `bow` into it at the most,
    in a plane that leans by `lift`; and the exact points of that arc."""
    half = 1.0
    radius = (half**2 + bow**2) / (2.0 * abs(bow))
    reach = np.arcsin(half / radius)
    a = np.linspace(-reach, reach, 4001)
    rise = np.sign(bow) * (radius * np.cos(a) - radius * np.cos(reach))
    arc = np.column_stack([radius * np.sin(a), rise * np.cos(lift), rise * np.sin(lift)])
    points = turn(np.array([[-half, 0.0, 0.0], [half, 0.0, 0.0], [0.3, 1.5, 0.0]]))
    arc = turn(arc)
    made = {k: Vertex(points[k]) for k in range(2)}
    through = arc[np.round(np.linspace(0, 4000, spans + 1)).astype(int)]
    curve = guide(through, False)
    edge = Edge(curve, curve.low, curve.high, made[0], made[1])
    faces = FacetFaces(points, np.array([[0, 1, 2]]), made, {(0, 1): (edge, 0)}, {})
    return [use.face for use in faces.uses(0)], arc, points


@pytest.mark.parametrize("bow", [0.05, 0.4, -0.4])
@pytest.mark.parametrize("lift", [0.0, 0.25])
@pytest.mark.parametrize("spans", [16, 500])
def test_a_triangle_over_a_curved_side_is_the_cone_from_the_corner_opposite(bow, lift, spans):
    """Its area is what straight lines from the corner sweep, however many spans the curve has and wherever it is."""
    motion = any_motion(spans)
    (face,), arc, points = over_an_arc(bow, lift, spans, lambda p: p @ motion[:3, :3].T + motion[:3, 3])
    swept = 0.5 * np.linalg.norm(np.cross(arc[:-1] - points[2], arc[1:] - points[2]), axis=1).sum()
    assert abs(face_area(face)) == pytest.approx(swept, rel=1e-4 if spans < 100 else 1e-6)
    assert face_area(face) > 0.0
    off = face.surface.signed_distance(np.concatenate([arc[::40], 0.5 * (arc[::40] + points[2])]))
    assert np.abs(off).max() < 1e-3


@pytest.mark.parametrize(("bow", "lift"), [(0.95, 0.0), (0.5, 1.3), (-0.9, 1.4), (0.7, 0.0)])
def test_a_curve_that_runs_through_its_triangle_or_folds_the_cone_is_refused(bow, lift):
    with pytest.raises(Refusal, match="curved edge runs through the triangle") as caught:
        over_an_arc(bow, lift, 32)
    assert caught.value.where and caught.value.remedy


def knocked(body, share, seed):
    """Triangles of a body with one corner knocked off the faces that meet there."""
    points, corners, _ = body_mesh(body)
    rng = np.random.default_rng(seed)
    ends = np.array([v.point for v in body.vertices()])
    at = ends[int(rng.integers(len(ends)))]
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    near = np.linalg.norm(points - at, axis=1) < 1e-9 * scale
    points = points.copy()
    points[near] += share * scale * rng.normal(size=3)
    return bodies_of([Triangles(points, corners, "part")])[0], scale, at


@pytest.mark.parametrize("seed", seeds(3))
def test_a_dented_corner_costs_the_faces_beside_it_and_no_others(seed):
    bodies, scale, at = knocked(hinge_strap().bodies[0], 0.01, seed)
    whole = hinge_strap().bodies[0]
    out = run(State(Model.of(bodies)), do.solid())
    (made,) = out.model.bodies
    assert closed(made) and not flaws(made, out.model.tolerance)
    assert volume(made) == pytest.approx(volume(bodies[0]), rel=2e-3)
    (told,) = out.details
    beside = sum(any(np.allclose(v.point, at) for e in f.edges() for v in (e.start, e.end) if v) for f in whole.faces)
    exact = sum(count for kind, count in told["faces"].items() if kind != "facets")
    assert exact >= len(whole.faces) - beside
    assert all(left["why"] and left["area_mm2"] > 0.0 for left in told["left"])
    # What stays facets is beside the dent; flat triangles about it may be planes of their own.
    assert all(np.linalg.norm(np.array(left["place_mm"]) - at) < 0.6 * scale for left in told["left"])


def test_where_more_would_stay_facets_than_is_wanted_it_is_told_before_anything_is_made():
    block = box(0, 0, 40, 40, 0, 10, "b")
    top = Frame.of((20, 20, 10), (0, 0, 1), (1, 0, 0))
    body = raised(block, face_toward(block, (0, 0, 1)), top, Round((0, 0), 8.0), 12.0)
    points, corners, _ = body_mesh(body)
    found = segmented(points, corners, 1e-5)
    round_ones = [p for p in found if p.kind == "cylinder"]
    side = sum(face_area(f) for f in body.faces if f.surface.kind == "cylinder")
    free = [type(p)(None, p.rows, 0.0) if p in round_ones else p for p in found]
    made = solid_of(points, corners, free, 1e-6, mixed=True, most=1.01 * side)
    kinds = Counter(face.surface.kind for face in made.body.faces)
    assert not flaws(made.body, 1e-6) and kinds["plane"] > 7 and sum(left.area for left in made.left) < side
    with pytest.raises(MostlyFacets, match=r"\d+% of its skin would stay facets: it lies on no simple surface") as told:
        solid_of(points, corners, free, 1e-6, mixed=True, most=0.9 * side)
    assert told.value.where and told.value.remedy


def test_planes_are_made_where_all_sides_are_straight():
    body = moved(prism([Piece((0, 0)), Piece((3, 0)), Piece((1, 2))], 1.0), any_motion(5))
    points, corners, _ = body_mesh(body)
    faces = FacetFaces(points, corners, {}, {}, {})
    uses = [use for row in range(len(corners)) for use in faces.uses(row)]
    assert len(uses) == len(corners) and all(isinstance(use.face.surface, Plane) for use in uses)
    assert sum(face_area(use.face) for use in uses) == pytest.approx(sum(map(face_area, body.faces)), rel=1e-12)
    again = [use for row in range(len(corners)) for use in faces.uses(row)]
    assert all(isinstance(use.face, Face) and use.face is other.face for use, other in zip(again, uses, strict=True))
