"""Creases of bodies of triangles in meshes from a lattice."""

from dataclasses import replace

import numpy as np
import pytest
from dice import seeds
from solids import motion as any_motion
from test_stuffing import body_of, plate, potato, spiked

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.faceted import Triangles, bodies_of, soup_of
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Model
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.mesh import creases, parting, partly, stuffing
from lithon.mesh.between import skins_of
from lithon.mesh.drapes import between_walls
from lithon.mesh.partly import what_can
from lithon.mesh.quality import tet_volumes
from lithon.mesh.sizing import SizeRules
from lithon.mesh.stuffing import stuffed
from lithon.operations.cures import cured
from lithon.operations.prove.mesh import from_lattice
from lithon.operations.state import Settings, State
from lithon.progress import SILENT
from lithon.samples.build import Piece, prism, rectangle
from lithon.survey.findings import findings


def turned(body: Body, seed: int) -> Body:
    """A body as triangles, anywhere."""
    soup, motion = soup_of(body), any_motion(np.random.default_rng(seed))
    return body_of(soup.points @ motion[:3, :3].T + motion[:3, 3], soup.corners)


def block(seed: int) -> Body:
    a, b, c = np.random.default_rng(seed).uniform(4.0, 9.0, 3)
    return turned(prism(rectangle(0, 0, a, b), c), seed)


def bracket(seed: int) -> Body:
    """An L: one of its edges is concave."""
    a = np.random.default_rng(seed).uniform(2.5, 5.0, 4)
    outline = [(0, 0), (a[0] + a[1], 0), (a[0] + a[1], a[2]), (a[0], a[2]), (a[0], a[2] + a[3]), (0, a[2] + a[3])]
    return turned(prism([Piece(p) for p in outline], 6.0), seed)


def wedge(seed: int) -> Body:
    """A prism over a triangle with an angle of 40 degrees."""
    t = np.radians(40.0)
    return turned(prism([Piece((0, 0)), Piece((9, 0)), Piece((9 * np.cos(t), 9 * np.sin(t)))], 7.0), seed)


@pytest.mark.parametrize("seed", seeds(61, 4))
@pytest.mark.parametrize("make", [block, bracket, wedge])
def test_edges_and_corners_of_a_polyhedron_are_all_there(make, seed):
    """The volume to rounding, a node at each corner, and each edge from end to end in sides of the skin; and none of
    the elements is poor for that."""
    body = make(seed)
    found = stuffed([body], 1.3)
    mesh = found.mesh
    scale = float(np.linalg.norm(np.ptp(mesh.points, axis=0)))
    assert mesh.conformal() and (tet_volumes(mesh.points, mesh.elements) > 0.0).all()
    assert mesh.quality.smallest_angle.min() > 12.0 and mesh.quality.scaled_jacobian.min() > 0.1
    if make is bracket and found.off > 1e-9 * scale:  # a hollow edge is left at a place or two where nothing else fits
        assert found.off < 0.3 * 1.3 and mesh.volume_ratio == pytest.approx(1.0, abs=1e-3)
        return
    assert found.off < 1e-9 * scale and "creases and all" in from_lattice(replace(mesh, rounded={0: found.off}))
    assert mesh.volume_ratio == pytest.approx(1.0, abs=1e-9)
    assert tet_volumes(mesh.points, mesh.elements).sum() == pytest.approx(volume(body), rel=1e-9)
    sides = np.unique(np.sort(mesh.triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
    for edge in body.edges():
        a, b = edge.at(0.0), edge.at(1.0)
        way = (b - a) / np.linalg.norm(b - a)
        off = np.linalg.norm(np.cross(mesh.points - a, way), axis=1)
        on = (off < 1e-9 * scale)[sides].all(axis=1)
        assert np.abs(np.diff(mesh.points[sides[on]] @ way, axis=1)).sum() == pytest.approx(edge.length, rel=1e-9)
    # The triangles of each face fill it, and lie in its plane.
    for k, face in enumerate(mesh.faces):
        corners = mesh.points[mesh.triangles[mesh.face == k]]
        assert np.abs(face.surface.signed_distance(corners.reshape(-1, 3))).max() < 1e-9 * scale


@pytest.mark.parametrize("seed", seeds(62, 2))
def test_rims_of_holes_are_kept_where_elements_allow(seed, monkeypatch):
    """Of a plate with a hole less is cut off than without, no element is flat, and what is round stays as it is."""
    body, round_ = plate(1.5, seed), potato(seed)
    points = soup_of(body).points

    def off(mesh):
        skin = BoxTree.of(mesh.points, mesh.triangles)
        return float(np.linalg.norm(skin.nearest(points)[1] - points, axis=1).max())

    kept = stuffing._meshed(skins_of((body,)), 0.9, SILENT)
    same = stuffed([round_], 2.0).mesh
    monkeypatch.setattr(stuffing, "creased", lambda points, tets, *_: (points, tets, np.full((len(points), 6), np.nan)))
    cut_off = stuffing._meshed(skins_of((body,)), 0.9, SILENT)
    assert off(kept) < 0.5 * off(cut_off)
    assert abs(kept.volume_ratio - 1.0) < 0.3 * abs(cut_off.volume_ratio - 1.0)
    assert partly.verdict(kept).strict <= partly.verdict(cut_off).strict
    plain = stuffed([round_], 2.0).mesh
    np.testing.assert_array_equal(same.elements, plain.elements)


def test_nothing_is_moved_that_would_leave_an_element_flat():
    """Each move and each new node by itself: elements stay above the limit, or nothing has changed."""
    body, step = bracket(3), 1.1
    for least in (3.0, 25.0, 80.0):
        points, half, tets = stuffing.lattice(body, step)
        sign = np.concatenate([np.where(stuffing.inside_lattice(body, p, step), 1, -1)
                               for p in (points[:half], points[half:])])  # fmt: skip
        points, tets = stuffing.cut(points, half, tets[(sign[tets] > 0).any(axis=1)], sign, stuffing.tree_of(body))
        turned_ = tet_volumes(points, tets) < 0.0
        tets[turned_] = tets[turned_][:, [1, 0, 2, 3]]
        limit = float(np.sin(np.radians(least)))
        more, made, _ = creases.creased(points, tets, body, step, limit)
        was, now = (parting._worst(p, t, np.arange(len(t))) for p, t in ((points, tets), (more, made)))
        assert now >= min(was, limit)
        assert tet_volumes(more, made).sum() == pytest.approx(volume(body), rel=0.05)
        if least == 80.0:  # no element is so good: nothing could be done
            assert len(more) == len(points)
            np.testing.assert_array_equal(more, points)


def test_a_lattice_is_taken_by_itself_where_it_gives_up_no_more_than_is_ignored():
    body, _ = spiked(3.0)
    model = Model.of([body])
    asked = what_can(model, SizeRules(4.0), lattice=np.inf)
    off = asked.rounded[0]
    assert off > 0.0 and not partly.verdict(asked).strict
    taken = what_can(model, SizeRules(4.0, ignore=1.01 * off))
    assert taken.rounded == asked.rounded and not taken.better
    left = what_can(model, SizeRules(4.0, ignore=0.3 * off))
    assert not left.rounded


def test_triangles_that_are_inside_out_are_refused_until_they_are_turned():
    """No elements of what is outside; the cure that the card offers makes it a part that is meshed."""
    soup = soup_of(block(5))
    body = body_of(soup.points, soup.corners[:, ::-1])
    assert volume(body) < 0.0
    state = State(Model.of([body]), settings=Settings(1.5))
    with pytest.raises(Refusal, match="inside out"):
        what_can(state.model, SizeRules(1.5))
    out = cured(state, 0.75)
    assert out.tally["inside-out"]["taken"] == 1
    mesh = what_can(out.state.model, SizeRules(1.5))
    assert mesh.volume_ratio == pytest.approx(1.0, abs=1e-6) and not mesh.rounded


def test_a_face_without_any_side_is_no_strip_between_walls():
    """A triangle that is a line, torn from all others: looked at like any other, and said to be empty."""
    soup = soup_of(block(6))
    line = np.array([[20.0, 0, 0], [21.0, 0, 0], [23.0, 0, 0]])
    n = len(soup.points)
    bodies, _ = bodies_of([Triangles(np.concatenate([soup.points, line]),
                                     np.concatenate([soup.corners, [[n, n + 1, n + 2]]]), "part")])  # fmt: skip
    for body in bodies:
        adj = adjacency(body)
        for face in body.faces:
            if not any(len(adj.uses[e]) == 2 for e in face.edges()):
                assert between_walls(adj, face) == ""
    found = findings(Model.of(bodies), 1.5)
    assert found and all(np.isfinite(f.size) for f in found)
