"""Needles taken out of triangles: nothing moves further than is told, what is closed stays so, what is left meshes."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box
from dice import examples
from hypothesis import given, settings
from hypothesis import strategies as st
from solids import frame as frame_of

from lithon import do
from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.cleaning import side_pairs
from lithon.brep.faceted import Triangles, bodies_of, enclosed, regrouped
from lithon.brep.measures import area, face_centroid, face_width, volume
from lithon.brep.needles import without_needles
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Model, new_uid
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.mesh.verdict import verdict
from lithon.operations.cures import cured
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, Round, prism, revolved
from lithon.survey.findings import findings


def heights(points, corners):
    v = points[corners]
    long = np.linalg.norm(v - np.roll(v, 1, axis=1), axis=2).max(axis=1)
    return np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1) / long


def shape(kind, frame):
    if kind == "bar":
        return prism([Piece(p) for p in ((0, 0), (20, 0), (20, 6), (12, 10), (0, 10))], 12.0, frame)
    if kind == "can":
        return prism(Round((0.0, 0.0), 6.0), 9.0, frame)
    return revolved([Piece((4.0, 0.0)), Piece((9.0, 0.0)), Piece((7.0, 6.0)), Piece((4.0, 6.0))], frame)


def spoiled(kind, seed, near):
    """A skin of triangles with points put beside sides and corners of it, off it by less than they are beside them:
    points, triangles, and how many there were."""
    dice = np.random.default_rng(seed)
    body = shape(kind, frame_of(dice))
    mesh = surface_mesh((body,), size_field((body,), SizeRules(3.0, ignore=None)))
    points, corners = list(mesh.points()), [list(map(int, row)) for row in mesh.triangles()[0]]
    count = len(corners)
    for k in dice.choice(count, 12, replace=False).tolist():
        a, b, c = corners[k]
        share = np.array([0.5, 0.5, 0.0]) if dice.random() < 0.5 else np.array([1.0, 0.0, 0.0])
        way = np.array(points[c]) - share @ np.array([points[a], points[b], points[c]])
        spot = share @ np.array([points[a], points[b], points[c]]) + near * way / np.linalg.norm(way)
        points.append(spot + 0.2 * near * dice.uniform(-1.0, 1.0, 3))
        n = len(points) - 1
        corners[k] = [a, b, n]
        corners += [[b, c, n], [c, a, n]]
    return np.array(points), np.array(corners, dtype=np.int64), count


def off(points, corners, others, triangles):
    """How far (mm) a skin is off another at the most, at its corners, the middles of its sides and its own middles."""
    v = points[corners]
    spots = np.concatenate([points, v.mean(axis=1), *(0.5 * (v[:, k] + v[:, k - 1]) for k in range(3))])
    return float(np.linalg.norm(BoxTree.of(others, triangles).nearest(spots)[1] - spots, axis=1).max())


@settings(max_examples=examples(20))
@given(kind=st.sampled_from(["bar", "can", "ring"]), seed=st.integers(0, 999), near=st.sampled_from([1e-3, 0.02, 0.1]))
def test_needles_go_and_nothing_moves_further_than_is_told(kind, seed, near):
    points, corners, count = spoiled(kind, seed, near)
    height = 2.5 * near
    made = without_needles(points, corners, height)
    # Where two were put side by side, or across the chords of a round wall, one can have to stay.
    left = int((heights(made.points, made.corners) <= height).sum())
    assert made.gone >= 9 and left <= 6
    assert len(made.corners) <= count + 24
    i, _, alike = side_pairs(made.corners, len(made.points))
    assert 2 * len(i) == 3 * len(made.corners) and not alike.any()  # each side twice, once each way
    # What was put beside a side can have passed through what is beyond it; nothing else does afterwards.
    assert len(cutting_pairs(made.points, made.corners)) <= len(cutting_pairs(points, corners))
    far = max(off(made.points, made.corners, points, corners), off(points, corners, made.points, made.corners))
    assert far <= made.moved <= height
    assert enclosed(made.points, made.corners) == pytest.approx(enclosed(points, corners), rel=2e-3 + near * 0.1)
    if not left:
        again = without_needles(made.points, made.corners, height)
        assert again.gone == 0 and again.points is made.points
    assert without_needles(points, corners, 1e-7).gone == 0


@settings(max_examples=examples(6))
@given(seed=st.integers(0, 999))
def test_what_is_held_and_what_is_torn_stays(seed):
    """Triangles between points that are held are there afterwards, and so are those that pass through others."""
    points, corners, _ = spoiled("bar", seed, 0.05)
    held = np.zeros(len(points), dtype=bool)
    held[corners[heights(points, corners) < 0.1].ravel()] = True
    assert without_needles(points, corners, 0.1, held=held).gone == 0
    one, two = points[corners[0]].mean(axis=0), points.mean(axis=0)
    spike = np.array([one + 3.0 * (one - two), two, two + [0.01, 0.0, 0.0]])
    torn = np.vstack([points, spike]), np.vstack([corners, [[len(points), len(points) + 1, len(points) + 2]]])
    crossing = set(np.unique(cutting_pairs(*torn).ravel()).tolist())
    assert crossing
    made = without_needles(*torn, 0.1)
    left = {tuple(sorted(map(tuple, t.tolist()))) for t in made.points[made.corners]}
    assert all(tuple(sorted(map(tuple, torn[0][torn[1][k]].tolist()))) in left for k in crossing)


def lipped():
    """A bar of triangles along whose edge a lip of some hundredths stands, as no mesh follows well."""
    outline = [(0, 0), (20, 0), (20, 9.98), (20.03, 10.01), (19.96, 10.0), (0, 10)]
    bar = prism([Piece(p) for p in outline], 30.0)
    points, corners, _ = body_mesh(bar)
    return Model.of(bodies_of([Triangles(points.astype(np.float32).astype(float), corners, "bar")])[0])


@pytest.mark.parametrize("ignore", [None, 0.2])
def test_a_card_offers_it_and_what_is_left_meshes(ignore):
    """Whether the mesh follows the lip, badly, or goes over it."""
    state = run(State(lipped()), do.element_size(4.0)).state
    state = run(state, do.ignore_below(ignore)).state if ignore else state
    kind = "not followed" if ignore else "narrow face"
    (card,) = [f for f in findings(state.model, 4.0, rules=state.rules()) if f.kind == kind]
    assert card.offer is not None and card.offer.operation == "take-out-needles"
    out = cured(state, 2.0)
    assert [o.operation.name for _, o, _ in out.taken] == ["take-out-needles"]
    (bar,) = out.state.model.bodies
    assert len(bar.faces) == 6 and volume(bar) == pytest.approx(6000.0, rel=3e-3)
    before, mesh = (mesh_of(s.model, state.rules(), "tet") for s in (state, out.state))
    assert verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=1e-9)
    assert ignore or (len(before.elements) > 9 * len(mesh.elements) and not verdict(before).good)
    left = {f.kind for f in findings(out.state.model, 4.0, rules=state.rules())}
    assert not left & {"not followed", "narrow face"}


def test_names_stay_and_what_touches_another_body_is_left_as_it_is():
    """A bar with a tiny chamfer on top of which a block stands: the chamfer under the block stays, that below goes."""
    outline = [(0, 0), (19.9, 0), (20, 0.1), (20, 9.9), (19.9, 10), (0, 10)]
    bar = replace(prism([Piece(p) for p in outline], 30.0), name="bar")
    on = box(0, 10, 20, 14, 0, 30, "on")
    soups = [Triangles(*body_mesh(b)[:2], b.name) for b in (bar, on)]
    state = State(Model.of(bodies_of(soups)[0]))
    (foot,) = [f for f in state.model.bodies[0].faces if np.abs(face_mesh(f).points[:, 1]).max() == 0.0]
    state = run(state, do.name(foot, "foot")).state
    out = run(state, do.take_out_needles(height=0.3))
    now, was = out.model.bodies[0], state.model.bodies[0]
    assert out.model.bodies[1] is state.model.bodies[1]
    assert len(was.faces) - len(now.faces) == 1 and "needles out" in out.words
    assert area(now) == pytest.approx(area(was) + 30.0 * (0.2 - 0.1 * 2**0.5) + 0.01, abs=1e-3)  # flanks and ends
    assert [f.label for f in now.faces if f.label] == ["foot"]


def test_only_needles_of_chosen_faces_go_and_a_torn_body_is_left():
    """Of two tiny chamfers the one that is chosen; nothing of a bar that another passes through, one body with it."""
    outline = [(0, 0), (19.9, 0), (20, 0.1), (20, 9.9), (19.9, 10), (0, 10)]
    points, corners, _ = body_mesh(prism([Piece(p) for p in outline], 30.0))
    state = State(Model.of(bodies_of([Triangles(points, corners, "bar")])[0]))
    (tiny, other) = sorted((f for f in state.model.faces() if face_width(f) < 0.2), key=lambda f: face_centroid(f)[1])
    out = run(state, do.take_out_needles(faces=[tiny], height=0.3)).model
    narrow = [f for f in out.faces() if face_width(f) < 0.2]
    assert len(narrow) == 1 and face_centroid(narrow[0]) == pytest.approx(face_centroid(other))
    with pytest.raises(Refusal, match="no triangle lower"):
        flank = next(f for f in state.model.faces() if np.abs(face_mesh(f).points[:, 0]).max() == 0.0)
        run(state, do.take_out_needles(faces=[flank], height=0.3))
    through, more, _ = body_mesh(box(5, 4, 15, 6, -5, 35, "through"))
    soup = Triangles(np.vstack([points, through]), np.vstack([corners, more + len(points)]), "torn")
    uses, _ = regrouped(soup.points, soup.corners, np.repeat([0, 1], [len(corners), len(more)]))
    torn = replace(state.model.bodies[0], uses=tuple(uses), name="torn", uid=new_uid())
    with pytest.raises(Refusal, match="torn passes through itself") as told:
        run(State(Model.of([torn])), do.take_out_needles(height=0.3))
    assert "clean" in told.value.remedy
