"""Bodies that touch themselves, and skins that were folded onto themselves: what is between is nothing."""

from dataclasses import replace

import numpy as np
import pytest
from dice import seeds
from solids import motion

import lithon
from lithon import do
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws, touching_edges
from lithon.errors import Refusal
from lithon.mesh import tetrahedra
from lithon.mesh.delaunay import FACE
from lithon.mesh.improve import Cells
from lithon.mesh.partly import what_can
from lithon.mesh.quality import tet_volumes
from lithon.mesh.sizing import SizeRules
from lithon.mesh.slide import FIXED
from lithon.mesh.stars import commit
from lithon.mesh.verdict import verdict
from lithon.operations.places import Cut
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, prism


@pytest.mark.parametrize("size", [4.0, 3.0, 2.5, 1.5])
def test_a_body_that_touches_itself_along_a_line_is_meshed(size):
    """A wedge hangs from the upper arm of a clip, its edge on the lower: nodes there are of both, none moves, and no
    element is anywhere but inside."""
    clip = prism([Piece(p) for p in [(0, 0), (30, 0), (30, 4), (4, 4), (4, 16), (30, 16), (30, 20), (0, 20)]], 20.0)
    up = np.eye(4)
    up[2, 3] = 6.0
    wedge = moved(prism([Piece(p) for p in [(14, 18), (17, 4), (20, 18)]], 8.0), up)
    model = Model.of([clip, wedge])
    model = run(State(model), do.unite([clip], [wedge])).model
    (body,) = model.bodies
    true = 30.0 * 20.0 * 20.0 - 26.0 * 12.0 * 20.0 + 0.5 * (6.0 * 12.0 / 14.0) * 12.0 * 8.0
    assert volume(body) == pytest.approx(true, rel=1e-12) and not flaws(body, model.tolerance)
    model = Model.of([moved(body, motion(7))])
    mesh = what_can(model, SizeRules(size))
    assert not mesh.failures and not mesh.rounded and mesh.conformal() and verdict(mesh).good
    assert mesh.volumes.sum() == pytest.approx(true, rel=1e-9) and lithon.patch_test(mesh).passed
    line = np.array([[17.0, 4.0, 6.0, 1.0], [17.0, 4.0, 14.0, 1.0]]) @ motion(7).T
    way = line[1, :3] - line[0, :3]
    share = (mesh.points - line[0, :3]) @ way / (way @ way)
    on = np.linalg.norm(mesh.points - line[0, :3] - share[:, None] * way, axis=1) < 1e-7
    assert (on & (share > -1e-9) & (share < 1.0 + 1e-9)).sum() >= 3
    around = [np.isin(mesh.triangles[mesh.face == k], np.flatnonzero(on)).any() for k in range(len(mesh.faces))]
    assert sum(around) >= 3  # two flanks of the wedge and what its edge lies on


def test_two_sides_over_the_same_corners_are_no_skin():
    """Two elements that share a side, of which each was told to be a wall: there is nothing between them."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0.2, 0.2, 1], [0.2, 0.2, -1]], dtype=float)
    tets = np.array([[0, 1, 2, 3], [0, 2, 1, 4]])
    assert (tet_volumes(points, tets) > 0.0).all()

    def cells(nbr, wall):
        fixed, places = np.full(5, FIXED), np.zeros((5, 8))
        return Cells(points, tets, np.array(nbr), np.array(wall), np.zeros(2, dtype=np.int64), fixed, places,
                     np.zeros(0, dtype=np.int64), np.full((1, 8), np.nan))  # fmt: skip

    alone = [[-1] * 4] * 2
    folded = cells(alone, [[0] * 4] * 2).skin()
    assert len(folded[0]) == 6  # eight sides, two of which are over the same corners
    assert all(set(tets[t][[k for k in range(4) if k != i]]) != {0, 1, 2} for t, i in zip(*folded, strict=True))
    shared = cells([[-1, -1, -1, 1], [-1, -1, -1, 0]], [[0] * 4] * 2).skin()
    assert len(shared[0]) == 7  # a wall between two elements is told once
    none = cells([[-1, -1, -1, 1], [-1, -1, -1, 0]], [[0, 0, 0, -1], [0, 0, 0, -1]]).skin()
    assert len(none[0]) == 6


def test_where_a_body_touches_itself_nothing_is_cleared_that_makes_it_touch_further():
    """Two blocks on a plate that touch along an edge up to where a corner is cut off each: one of these may
    come back, but not the other, for its edge would run along the first one's."""
    blocks = [prism([Piece(p) for p in [(x, x), (x + 10, x), (x + 10, x + 10), (x, x + 10)]], 8.0) for x in (0, 10)]
    model = Model.of([replace(b, name=name) for b, name in zip(blocks, ("near", "far"), strict=True)])
    for name, way, at in (
        ("near", (1, 1, 1), (10, 10, 5)),
        ("far", (-1, -1, 1), (10, 10, 5)),
        ("near", (-1, 1, 1), (0, 10, 5)),
    ):
        whole = next(b for b in model.bodies if b.name.startswith(name))
        model = run(State(model), do.carve(Cut.at(at, way), [whole])).model
        model = Model.of([b for b in model.bodies if volume(b) > 100.0])
    assert len(model.bodies) == 2
    down = np.eye(4)
    down[2, 3] = -3.0
    model = Model.of([moved(prism([Piece(p) for p in [(0, 0), (20, 0), (20, 20), (0, 20)]], 3.0), down), *model.bodies])
    for _ in range(2):
        model = run(State(model), do.unite([model.bodies[0]], [model.bodies[1]])).model
    (body,) = model.bodies
    assert len(touching_edges(body)) == 1 and not flaws(body, model.tolerance)
    corners = sorted((f for f in body.faces if len(list(f.edges())) == 3), key=lambda f: f.surface.frame.origin[0])
    assert len(corners) == 3
    for face, refused in zip(corners, (False, False, True), strict=True):
        (before,) = model.bodies
        if refused:
            with pytest.raises(Refusal, match="touch itself further"):
                run(State(model), do.clear([face]))
        else:
            model = run(State(model), do.clear([face])).model
            assert volume(model.bodies[0]) == pytest.approx(volume(before) + 27.0 / 6.0, rel=1e-9)
    assert len(touching_edges(model.bodies[0])) == 1


def linked(cells):
    """Whether each element knows what is beside it: links look back, over the same three corners."""
    t, i = np.nonzero(cells.nbr >= 0)
    other = cells.nbr[t, i]
    three = cells.tet[t[:, None], FACE[i]]
    common = (three[:, :, None] == cells.tet[other][:, None, :]).any(axis=2).all(axis=1)
    back = (cells.nbr[other] == t[:, None]).any(axis=1)
    return bool(common.all() and back.all() and ((cells.nbr >= 0) | (cells.wall >= 0)).all())


@pytest.mark.parametrize("seed", seeds(12))
def test_elements_know_what_is_beside_them_when_they_have_been_improved(seed, monkeypatch):
    """Of steps, tails and tips that are closed below what is ignored, where skins come to lie on themselves."""
    rng = np.random.default_rng(seed)
    parts, at = [], 0.0
    for _ in range(5):
        wide, high = rng.uniform(2.0, 6.0), 5.0 + rng.choice([0.0, 0.05, 1.0]) + rng.uniform(0.0, 0.004)
        foot = [(at, 0), (at + wide, 0), (at + wide, rng.uniform(6.0, 12.0)), (at, rng.uniform(6.0, 12.0))]
        parts.append(prism([Piece(p) for p in foot], high))
        at += wide
    model = Model.of(parts)
    while len(model.bodies) > 1:
        model = run(State(model), do.unite([model.bodies[0]], [model.bodies[1]])).model
    done = []
    improve = tetrahedra.improve

    def looked_at(cells, progress):
        assert linked(cells)
        done.append(improve(cells, progress))
        assert linked(done[-1])
        return done[-1]

    monkeypatch.setattr(tetrahedra, "improve", looked_at)
    mesh = what_can(Model.of([moved(model.bodies[0], motion(seed))]), SizeRules(1.5, ignore=0.15))
    assert done and mesh.conformal() and not mesh.failures
    assert mesh.volumes.sum() == pytest.approx(volume(model.bodies[0]), rel=0.01)


def test_elements_are_not_exchanged_where_something_would_be_left_over():
    """A ring of three elements around an axis for two above each other, and back; not for one, and not where another
    element is beside what would be gone. What is refused changes nothing."""
    ring = np.array([[0, 1, 2, 3], [0, 2, 4, 3], [0, 4, 1, 3]])  # around 0 and 3
    pair = np.array([[2, 1, 4, 0], [1, 2, 4, 3]])
    beside = np.array([1, 4, 3, 5])  # over a side of the ring

    def arrays(nbr):
        tet = np.full((40, 4), -1)
        tet[:4] = [*ring, beside]
        links, wall = np.full((40, 4), -1), np.full((40, 4), -1)
        links[:4] = nbr
        wall[:4] = np.where(links[:4] < 0, 0, -1)
        return tet, links, wall, np.zeros(40, dtype=np.int64), np.zeros(40, dtype=np.int64), np.array([4, 0, 0])

    def links():
        out = np.full((4, 4), -1)
        every = [*ring, beside]
        for s, one in enumerate(every):
            for k in range(4):
                side = {*one.tolist()} - {int(one[k])}
                out[s, k] = next((t for t, two in enumerate(every) if t != s and side <= {*two.tolist()}), -1)
        return out

    state = arrays(links())
    new = np.full((8, 8), -1)
    new[:2, :4] = pair
    new[:2, 4:] = 0
    before = [a.copy() for a in state]
    old = np.arange(3)
    assert not commit(*state[:4], state[4], state[5], old, 3, new, 1, 0)  # the side that another is beside is not in it
    assert all((a == b).all() for a, b in zip(before, state, strict=True))
    assert commit(*state[:4], state[4], state[5], old, 3, new, 2, 0)
    live = state[0][:, 0] >= 0
    assert live.sum() == 3 and state[1][3].max() in np.flatnonzero(live)
