"""Where sizes are bounded, where lattice points lie, what is too large: against brute force; and what a mesh keeps."""

import numpy as np
import pytest
from blocks import box, plate
from dice import seeds

from lithon.brep.measures import face_area, volume
from lithon.brep.tessellation.trees import inside_lattice
from lithon.brep.topology import Model
from lithon.mesh.delaunay import Tetrahedra, spatial_order
from lithon.mesh.fill import _LARGE, _perhaps_large, circumspheres
from lithon.mesh.improve import Cells, improve
from lithon.mesh.make import mesh_of
from lithon.mesh.recover import recover, wall_off
from lithon.mesh.sizing import SizeField, SizeRules, size_field
from lithon.mesh.stars import quality, quality_at, star_quality
from lithon.mesh.surface import surface_mesh
from lithon.mesh.tetrahedra import _cells
from lithon.progress import SILENT
from lithon.samples import collar_anchor


def _field(seed, steep=False):
    rng = np.random.default_rng(seed)
    spots = tuple((*p, s) for p, s in zip(rng.uniform(0, 10, (4, 3)).tolist(), rng.uniform(0.1, 0.4, 4), strict=True))
    rules = SizeRules(2.0, growth=float(rng.uniform(0.1, 0.5)), steep=spots if steep else ())
    return SizeField(rules, rng.uniform(0, 10, (30, 3)), rng.uniform(0.1, 1.5, 30)), rng


@pytest.mark.parametrize("steep", [False, True])
@pytest.mark.parametrize("seed", seeds(20))
def test_a_field_is_nowhere_in_a_ball_finer_than_its_bound(seed, steep):
    field, rng = _field(seed, steep)
    centres, radius = rng.uniform(-5, 15, (200, 3)), float(rng.uniform(0.1, 2.0))
    bound = field.least_about(centres, radius)
    way = rng.normal(size=(200, 40, 3))
    way *= radius * rng.random((200, 40, 1)) ** (1 / 3) / np.linalg.norm(way, axis=2, keepdims=True)
    sizes = field.at((centres[:, None] + way).reshape(-1, 3)).reshape(200, 40)
    assert (bound <= 1.0001 * sizes.min(axis=1)).all()
    # Where nothing rules for further than the ball it says the size itself: no lattice is made finer for nothing.
    far = centres + 1e3
    assert field.least_about(far, radius) == pytest.approx(2.0)


@pytest.mark.parametrize("steep", [False, True])
@pytest.mark.parametrize("seed", seeds(20))
def test_sizes_differ_by_no_more_than_the_steepest_growth(seed, steep):
    field, rng = _field(seed, steep)
    a, b = rng.uniform(0, 10, (2, 500, 3))
    slack = 0.011 * np.maximum(field.at(a), field.at(b))  # a field is good to a hundredth
    assert (np.abs(field.at(a) - field.at(b)) <= field.steepest * np.linalg.norm(a - b, axis=1) + slack).all()
    assert field.steepest == (1.2 if steep else field.rules.growth)


@pytest.mark.parametrize("steep", [False, True])
@pytest.mark.parametrize("seed", seeds(10))
def test_what_is_too_large_is_among_what_may_be(seed, steep):
    field, rng = _field(seed, steep)
    points = rng.uniform(0, 10, (300, 3))
    space = Tetrahedra.box(points.min(axis=0), points.max(axis=0))
    space.add(points)
    world, live = space.world(), space.live
    tets = space.tet[live]
    radius = circumspheres(world, tets)[1]
    large = radius > _LARGE * field.at(world[tets].mean(axis=1))
    perhaps = _perhaps_large(world, space.tet, live, field.at(world), field.steepest, _LARGE)
    assert set(live[large].tolist()) <= set(perhaps.tolist()) <= set(live.tolist())


def test_points_are_told_inside_and_outside_as_by_rays():
    body = collar_anchor().bodies[0]
    surface = surface_mesh((body,), size_field((body,), SizeRules(9.0)))
    space, failures = recover(surface, SILENT)
    assert not failures and not wall_off(surface, space)
    points = surface.points()
    low, high = points.min(axis=0), points.max(axis=0)
    step = float((high - low).max()) / 20.0
    axes = [np.arange(a + 0.37 * step, b, step) for a, b in zip(low, high, strict=True)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    told, rays = space.labels(grid) >= 0, inside_lattice(body, grid, step)
    # Between a chord and the arc, and in the cell of a wall, each may say its own.
    near = np.array([np.linalg.norm(points - p, axis=1).min() < 9.0 for p in grid[told != rays]])
    assert near.all() and (told != rays).mean() < 0.01 and 0.02 < told.mean() < 0.9
    before = space.points
    assert (space.labels(grid[::-1])[::-1] >= 0).tolist() == told.tolist() and space.points == before


@pytest.mark.parametrize("seed", seeds(5))
def test_an_order_in_space_has_every_point_once_and_stays_near(seed):
    rng = np.random.default_rng(seed)
    grid = rng.integers(-(2**26), 2**26, (4000, 3))
    order = spatial_order(grid)
    assert sorted(order.tolist()) == list(range(4000))
    late = grid[order[-2000:]]  # the last round has most of them, along a curve
    steps, chance = (np.linalg.norm(np.diff(p, axis=0), axis=1).mean() for p in (late, rng.permutation(late)))
    assert steps < 0.3 * chance


@pytest.mark.parametrize("seed", seeds(10))
def test_what_is_no_better_comes_first_and_the_worst_is_the_worst(seed):
    rng = np.random.default_rng(seed)
    x, tets = rng.random((12, 3)), np.array([rng.choice(12, 4, replace=False) for _ in range(20)])
    each = np.array([quality(x, *t) for t in tets.tolist()])
    assert each == pytest.approx([quality_at(x, *t[:3], *x[t[3]]) for t in tets.tolist()])
    star = np.arange(20)
    assert star_quality(x, tets, star, 20, -9.0) == each.min() and star.tolist() == list(range(20))
    stop = float(np.sort(each)[3])
    assert star_quality(x, tets, star, 20, stop) <= stop
    assert each[star[0]] <= stop and sorted(star.tolist()) == list(range(20))


@pytest.mark.parametrize("body", [box(0, 0, 12, 9, 0, 7, "box"), plate().bodies[0]], ids=["box", "plate"])
def test_improving_keeps_the_volume_and_the_area_of_every_face(body):
    """And makes nothing worse, with swaps offered before nodes are moved; on round faces nodes slide along them."""
    surface = surface_mesh((body,), size_field((body,), SizeRules(2.0)))
    space, failures = recover(surface, SILENT)
    assert not failures and not wall_off(surface, space)
    cells = _cells(surface, space, surface.triangles()[1])

    def told(c: Cells):
        q = np.array([quality(c.points, *t) for t in c.tet.tolist()])
        v = c.points[c.tet]
        six = ((v[:, 3] - v[:, 0]) * np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])).sum(axis=1)
        return q.min(), float(six.sum() / 6.0), len(c.tet)

    before, after = told(cells), told(improve(cells, SILENT))
    assert after[0] >= before[0] and after[1] == pytest.approx(before[1], rel=1e-9 if len(body.faces) == 6 else 1e-3)
    mesh = mesh_of(Model.of([body]), SizeRules(2.0), "tet")
    assert mesh.volumes.sum() == pytest.approx(volume(body), rel=0.01) and mesh.conformal()
    for k, face in enumerate(mesh.faces):
        a, b, c = (mesh.points[mesh.triangles[mesh.face == k][:, i]] for i in range(3))
        area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()
        assert area == pytest.approx(face_area(face), rel=0.03)
    keys = np.sort(mesh.triangles, axis=1)
    assert len(np.unique(keys, axis=0)) == len(keys)  # a wall is told once
