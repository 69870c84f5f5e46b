"""Bodies that touch themselves, and skins that were folded onto themselves: what is between is nothing."""

import numpy as np
import pytest
from solids import motion

import lithon
from lithon import do
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.mesh.improve import Cells
from lithon.mesh.partly import what_can
from lithon.mesh.quality import tet_volumes
from lithon.mesh.sizing import SizeRules
from lithon.mesh.slide import FIXED
from lithon.mesh.verdict import verdict
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
