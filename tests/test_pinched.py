"""Solids of triangles that touch along sides, as plates that cross at a corner do: each edge has two faces."""

from collections import Counter

import numpy as np
import pytest
from dice import seeds
from solids import motion as any_motion

from lithon import do
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.mend.pinches import unpinched
from lithon.operations.running import run
from lithon.operations.state import State

#: Blocks on a base that touch along an upright edge: free at its top; under a lid; and two such edges in a row.
COLUMNS = ["10 01", "10 01 lid", "101 010"]


def blocks(kind, fine=4):
    """Squares of two triangles each around blocks of a side 1, divided `fine` times; and how many blocks there are."""
    rows = kind.removesuffix(" lid")
    full = np.array([[int(c) for c in row] for row in rows.split()])
    solid = np.stack([np.ones_like(full), full, *([np.ones_like(full)] if " lid" in kind else [])], axis=2)
    whole = np.kron(solid, np.ones((fine, fine, fine), dtype=int))
    inside = np.pad(whole, 1)
    points, corners = [], []
    for axis in range(3):
        out, u, v = np.roll(np.eye(3), -axis, axis=0)
        for way in (1, -1):
            at = np.argwhere((inside == 1) & (np.roll(inside, -way, axis=axis) == 0)) + (out if way > 0 else 0.0)
            squares = np.stack([at, at + u, at + u + v, at + v], axis=1)[:, ::way]
            first = 4 * np.arange(len(squares))[:, None, None] + sum(map(len, points))
            points.append(squares.reshape(-1, 3))
            corners.append((first + [[0, 1, 2], [0, 2, 3]]).reshape(-1, 3))
    return Triangles(np.concatenate(points) / fine, np.concatenate(corners), "columns"), int(solid.sum())


def crowded(corners):
    sides = np.sort(np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    return Counter(np.unique(sides, axis=0, return_counts=True)[1].tolist())


def joined(soup):
    points, corners = np.unique(soup.points, axis=0, return_inverse=True)
    return points, corners[soup.corners]


def areas(points, corners):
    a, b, c = (points[corners[:, k]] for k in range(3))
    return 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)


@pytest.mark.parametrize("kind", COLUMNS)
def test_no_side_has_more_than_two_triangles(kind):
    soup, _ = blocks(kind)
    points, corners = joined(soup)
    assert set(crowded(corners)) == {2, 4}
    p, t, parent = unpinched(points, corners)
    assert set(crowded(t)) == {2}
    assert len(t) == len(corners) + 4 * crowded(corners)[4] and set(parent) == set(range(len(corners)))
    np.testing.assert_allclose(np.bincount(parent, weights=areas(p, t)), areas(points, corners))
    again = unpinched(p, t)
    assert again[0] is p and again[1] is t  # nothing more to do


@pytest.mark.parametrize("scatter", [0.0, 0.02])
@pytest.mark.parametrize("kind", COLUMNS)
@pytest.mark.parametrize("seed", seeds(1))
def test_they_become_solids(kind, scatter, seed):
    soup, count = blocks(kind, 6)
    points, corners = joined(soup)
    m = any_motion(seed)
    points = points @ m[:3, :3].T + m[:3, 3]
    points = points + np.random.default_rng(seed).normal(0.0, scatter / 6.0 / np.sqrt(3.0), points.shape)
    (body,), _ = bodies_of([Triangles(points, corners, "columns")])
    out = run(State(Model.of([body])), do.solid())
    (made,) = out.model.bodies
    assert all(f.surface.kind == "plane" for f in made.faces) and not flaws(made, out.model.tolerance)
    assert set(map(len, adjacency(made).uses.values())) == {2}
    assert volume(made) == pytest.approx(count, rel=1e-9 if scatter == 0.0 else 5e-3)
