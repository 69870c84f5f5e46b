"""Outlines that come nearer to each other than the chords stray that an arc is drawn with: they are drawn closer there,
and all that was drawn on the same edges again."""

import numpy as np
import pytest
from everyday import at, less, one
from solids import motion, on_its_own

from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import CrossesItself, body_mesh, face_mesh, leaks
from lithon.brep.topology import Coedge, Edge, Face, Model, Vertex
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.samples.build import Round, prism, rectangle

#: A chord of a rim of this radius strays by 0.19 mm from its arc.
RADIUS = 50.0


def slotted(gap, turn=0.137):
    """A disc with a square hole of which one corner is so far from the rim; and its volume."""
    frame = at((0, 0, -1.0), (0, 0, 1.0), (np.cos(turn), np.sin(turn), 0.0))
    corner = (RADIUS - gap) / np.sqrt(2.0)
    hole = prism(rectangle(corner - 20.0, corner - 20.0, corner, corner), 7.0, frame)
    return less(prism(Round((0, 0), RADIUS), 5.0), [hole]), 5.0 * (np.pi * RADIUS**2 - 400.0)


def watertight(body):
    points, triangles, _ = body_mesh(body)
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    there, count = np.unique(sides, axis=0, return_counts=True)
    assert count.max() == 1 and len(np.setdiff1d(there @ [len(points), 1], there @ [1, len(points)])) == 0
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6.0)


@pytest.mark.parametrize("gap", [0.15, 0.05, 0.01, 0.003])
def test_a_corner_that_nearly_reaches_a_rim(gap):
    body, exact = slotted(gap)
    fresh = on_its_own(body)
    rim = next(face for face in fresh.faces if isinstance(face.surface, Cylinder))
    before = len(face_mesh(rim).triangles)  # drawn on its edges before it is told that they run too near
    assert not flaws(fresh, 1e-7)
    assert volume(fresh) == pytest.approx(exact, rel=1e-9)
    assert watertight(fresh) == pytest.approx(exact, rel=2e-3)
    assert len(face_mesh(rim).triangles) > before
    assert not any(leaks(face) for face in fresh.faces)


def test_copies_that_were_drawn_before_are_drawn_as_what_they_were_made_from():
    body, exact = slotted(0.02)
    source = on_its_own(body)
    copies = [moved(source, motion(k, mirrored=k == 2)) for k in (1, 2)]
    for copy in copies:
        for edge in copy.edges():
            edge_points(edge)
    assert watertight(source) == pytest.approx(exact, rel=2e-3)
    for copy in copies:
        assert watertight(copy) == pytest.approx(exact, rel=2e-3)
        assert not flaws(copy, 1e-7)


def test_a_cut_that_passes_a_corner_by_little():
    block = one(
        prism(rectangle(-30, -30, 30, 30), 10.0), prism(rectangle(-5, -5, 5, 5), 20.0, at((0, 0, 5.0))), "union"
    )
    for short in (0.2, 0.02, 0.004):  # the corner of the post is within the rim of the cut by so much
        reach = np.hypot(25.0, 25.0)
        cut = Cylinder(Frame.of((-20.0, -20.0, 0.0), (0, 0, 1.0)), reach + short)
        halves = split(Model.of([block]), [block], cut).bodies
        assert len(halves) == 2 and not any(flaws(b, 1e-7) for b in halves)
        assert sum(volume(b) for b in halves) == pytest.approx(volume(block), rel=1e-9)
        for half in halves:
            assert watertight(half) == pytest.approx(volume(half), rel=0.02)


def test_arcs_that_do_cross_are_told_after_as_before():

    c, d = Vertex(np.array([40.0, 20.0, 0.0])), Vertex(np.array([0.0, 20.0, 0.0]))
    middle = np.array([20.0, 40.0, 0.0])  # its arc dips below the line from a to b
    radius = float(np.linalg.norm(c.point - middle))
    arc = Circle.about(Frame.of(middle, (0, 0, 1.0), (1.0, 0, 0)), radius)
    first, last = np.arctan2(-20.0, -20.0), np.arctan2(-20.0, 20.0)
    assert middle[1] - radius < 12.0

    def line(start, end):
        return Edge(
            Line.through(start.point, end.point), 0.0, float(np.linalg.norm(end.point - start.point)), start, end
        )

    for low in (0.0, middle[1] - radius + 0.5):
        p, q = Vertex(np.array([0.0, low, 0.0])), Vertex(np.array([40.0, low, 0.0]))
        loop = (
            Coedge(line(p, q), True),
            Coedge(line(q, c), True),
            Coedge(Edge(arc, float(first), float(last), d, c), False),
            Coedge(line(d, p), True),
        )
        face = Face(Plane.of((0, 0, 0), (0, 0, 1.0)), (loop,))
        if low == 0.0:
            assert not face_mesh(face).trouble
        else:
            with pytest.raises(CrossesItself):
                face_mesh(face)
