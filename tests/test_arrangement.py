"""Triangles that pass through each other: what is left is skin, and goes around what the whole went around."""

import json

import meshio
import numpy as np
import pytest
import scipy
from dice import seeds
from test_cli import within
from test_smooth_patches import block, waved

import lithon
from lithon import do
from lithon.brep.arrangement import skin_of
from lithon.brep.cleaning import winding_number
from lithon.brep.faceted import Triangles, bodies_of, enclosed
from lithon.brep.measures import volume
from lithon.brep.meeting import may_meet
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.frames import Frame
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.survey.findings import findings


def box(low, high):
    low, high = np.array(low, dtype=float), np.array(high, dtype=float)
    at = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)]) * (high - low) + low
    faces = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return at, np.array([t for a, b, c, d in faces for t in ((a, b, c), (a, c, d))])


def together(*soups):
    starts = np.cumsum([0, *(len(p) for p, _ in soups)])
    return np.concatenate([p for p, _ in soups]), np.concatenate(
        [t + start for (_, t), start in zip(soups, starts, strict=False)]
    )


def hull(points):
    made = scipy.spatial.ConvexHull(points)
    t = made.simplices.copy()
    a, b, c = (points[t[:, k]] for k in range(3))
    inward = (np.cross(b - a, c - a) * made.equations[:, :3]).sum(axis=1) < 0.0
    t[inward] = t[inward][:, ::-1]
    return points, t.astype(np.int64), made


def sealed(t):
    """Every side is walked once each way."""
    sides = np.concatenate([t[:, [k, (k + 1) % 3]] for k in range(3)])
    return len(np.unique(sides, axis=0)) == len(sides) and {*map(tuple, sides)} == {(b, a) for a, b in sides.tolist()}


BOXES = {
    "corner in corner": ((1, 1, 1), (3, 3, 3), 15.0),
    "in one plane on four sides": ((1, 0, 0), (3, 2, 2), 12.0),
    "right through": ((0.5, 0.5, -1), (1.5, 1.5, 3), 10.0),
    "inside, on one face": ((0.5, 0.5, 1), (1.5, 1.5, 2), 8.0),
    "beside": ((2, 0, 0), (3, 2, 2), 12.0),
    "the same": ((0, 0, 0), (2, 2, 2), 8.0),
}


@pytest.mark.parametrize("name", BOXES)
def test_two_boxes_become_what_they_fill_together(name):
    low, high, filled = BOXES[name]
    points, corners, count = skin_of(*together(box((0, 0, 0), (2, 2, 2)), box(low, high)))
    if name != "beside":
        assert count and sealed(corners) and skin_of(points, corners)[2] == 0
    assert enclosed(points, corners) == pytest.approx(filled, abs=1e-8)


@pytest.mark.parametrize("seed", seeds(10))
def test_random_solids_obey_the_volume_identity(seed):
    """Of two convex solids their halfspaces tell what both hold; a third cuts both where they cut each other."""
    rng = np.random.default_rng(seed)
    one, two = (rng.normal(size=(40, 3)) + shift for shift in (np.zeros(3), rng.normal(size=3) * 0.6))
    (p, t, a), (q, s, b) = hull(one), hull(two)
    middle = 0.5 * (p[a.vertices].mean(axis=0) + q[b.vertices].mean(axis=0))
    both = scipy.spatial.HalfspaceIntersection(np.concatenate([a.equations, b.equations]), middle)
    common = scipy.spatial.ConvexHull(both.intersections).volume
    points, corners, count = skin_of(*together((p, t), (q, s)))
    assert count and sealed(corners)
    assert enclosed(points, corners) == pytest.approx(a.volume + b.volume - common, rel=1e-8)
    r, u, _ = hull(rng.normal(size=(30, 3)))
    soup = together((p, t), (q, s), (r, u))
    points, corners, _ = skin_of(*soup)
    assert sealed(corners) and skin_of(points, corners)[2] == 0
    spots = rng.uniform(-1.5, 1.5, (60, 3))
    assert ((winding_number(*soup, spots) > 0.5) == (winding_number(points, corners, spots) > 0.5)).all()


def crossed():
    """Two blocks through each other."""
    p, t = block(waved, 8)
    turn = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    return together((p, t), (p @ turn.T + [4.0, -1.0, 0.3], t))


def test_a_skin_that_passes_through_itself_is_a_card_whose_cure_holds():
    points, corners = crossed()
    one = bodies_of([Triangles(points, corners, "cross")])[0]
    # As a file has it that knows of one body only.
    body = one[0].with_uses([*one[0].uses, *one[1].uses])
    state = State(Model.of([body]), settings=Settings(2.0))
    (card,) = [f for f in findings(state.model, 2.0) if f.kind == "self-intersection"]
    assert card.offer is not None and card.offer.operation == "clean-triangles"
    out = run(state, do.clean_triangles([body]))
    (made,) = out.model.bodies
    assert "passed through each other" in out.words and closed(made)
    assert not [f for f in findings(out.model, 2.0) if f.severity == "stops"]
    spots = np.random.default_rng(1).uniform(points.min(axis=0), points.max(axis=0), (20000, 3))
    held = float((winding_number(points, corners, spots) > 0.5).mean()) * float(np.ptp(points, axis=0).prod())
    assert volume(made) == pytest.approx(held, rel=0.02)
    with pytest.raises(Refusal, match="nothing to clean"):
        run(State(out.model), do.clean_triangles())


@pytest.mark.parametrize("way", ["unite", "subtract", "intersect", "part"])
def test_bodies_of_triangles_are_combined(way):
    bodies = bodies_of([Triangles(*block(waved, 8), "one"), Triangles(*box((1, 1, -1), (3, 3, 5)), "two")])[0]
    one, two = bodies
    shared = run(State(Model.of([one, two])), do.intersect(one, two)).model.bodies
    both = sum(map(volume, shared))
    # Beneath the window the wave is what its own corners span: between these four lines of it exactly.
    soup = np.random.default_rng(4).uniform((1, 1, 0), (3, 3, 2.5), (40000, 3))
    held = float((winding_number(*block(waved, 8), soup) > 0.5).mean()) * 10.0
    assert both == pytest.approx(held, rel=0.01)
    out = run(State(Model.of([one, two])), getattr(do, way)(one, two)).model
    filled = {"unite": volume(one) + volume(two) - both, "subtract": volume(one) - both, "intersect": both,
              "part": volume(one) + volume(two) - both}[way]  # fmt: skip
    assert sum(map(volume, out.bodies)) == pytest.approx(filled, rel=1e-7) and all(closed(b) for b in out.bodies)
    assert not [f for f in findings(out, 2.0) if f.severity == "stops"]


def test_what_only_rounding_parts_is_put_back_and_what_encloses_nothing_goes(tmp_path, capfd, monkeypatch):
    p, t = block(waved, 10)
    left = p[t].mean(axis=1)[:, 0] < 3.0
    scrap = np.array([[1.0, 1.0, 1.0], [1.05, 1.0, 1.0], [1.0, 1.05, 1.0]])
    soup = together((p, t[left]), (p + [1e-6, -1e-6, 1e-6], t[~left]), (scrap, np.array([[0, 1, 2]])))
    meshio.Mesh(soup[0], [("triangle", soup[1])]).write(tmp_path / "torn.stl", binary=True)
    work = lithon.open(tmp_path / "torn.stl")
    assert len(work.model.bodies) == 3
    words = work.take(do.clean_triangles()).outcome.words
    (whole,) = work.model.bodies
    assert "1 torn off and put back" in words and closed(whole)
    assert volume(whole) == pytest.approx(enclosed(p, t), rel=1e-5)
    told = within(capfd, monkeypatch, "solid", tmp_path / "torn.stl", "--unit", "mm", "--kind", "facets", "--out",
                  tmp_path / "t.step", "--json")  # fmt: skip
    facts = json.loads(told.stdout)
    assert facts["closed"] and facts["valid"] and facts["healed"]["torn off and put back"] == 1


def test_a_dense_flat_skin_leaves_nothing_to_be_looked_at_exactly():
    """A plate of a fine lattice of triangles, shaken within it: none of the many whose boxes overlap may meet."""
    rng = np.random.default_rng(3)
    n = 40
    x, y = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
    points = np.stack([x, y, 0.0 * x], axis=-1).reshape(-1, 3) + np.append(0.3 * rng.random(2), 0.0)
    points[:, :2] += 0.2 * rng.random((n * n, 2))
    k = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    corners = np.concatenate([np.stack([k, k + n, k + 1], axis=1), np.stack([k + 1, k + n, k + n + 1], axis=1)])
    turn = Frame.of((1, 2, 3), rng.normal(size=3), rng.normal(size=3))
    points = points @ np.array([turn.x, turn.y, turn.z])
    pairs = BoxTree.of(points, corners).own_pairs(np.arange(len(corners)), 1e-9)
    assert len(pairs) > 10 * len(corners) / 2 and not may_meet(points, corners, pairs, 1e-8).any()


@pytest.mark.parametrize("seed", seeds(4))
@pytest.mark.parametrize("common", [0, 1])
def test_no_pair_that_meets_is_passed_over(common, seed):
    """Random triangles, with no corner or one in common: wherever a side of one runs through the other, told by its own
    equations, the pair is kept."""
    rng = np.random.default_rng(seed)
    m = 3000
    points = rng.random((6 * m, 3))
    first = np.arange(3 * m).reshape(m, 3)
    second = first + 3 * m
    if common:
        second[:, 0] = first[:, 0]
    corners = np.concatenate([first, second])
    pairs = np.stack([np.arange(m), m + np.arange(m)], axis=1)
    through = np.zeros(m, dtype=bool)
    for one, two in ((first, second), (second, first)):
        a, u, v = points[one[:, 0]], points[one[:, 1]] - points[one[:, 0]], points[one[:, 2]] - points[one[:, 0]]
        for i, j in ((0, 1), (1, 2), (2, 0)):
            p, q = points[two[:, i]], points[two[:, j]]
            s, t, share = np.linalg.solve(np.stack([u, v, p - q], axis=2), (p - a)[..., None])[..., 0].T
            through |= (np.minimum(s, t) > 1e-9) & (s + t < 1.0 - 1e-9) & (share > 1e-9) & (share < 1.0 - 1e-9)
    kept = may_meet(points, corners, pairs, 1e-9)
    assert through.sum() > 50 and kept[through].all() and kept.sum() < 0.6 * m
