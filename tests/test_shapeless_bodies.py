"""Bodies of many triangles that lie on nothing simple: they become free-form faces, parted where they turn sharply."""

import os
import subprocess
import sys

import numpy as np
import pytest
from test_parted_patches import parts_of
from test_smooth_patches import A, B, ball, block, opened, waved

from lithon.arrays import triangle_areas
from lithon.brep import measures
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.measures import area, volume
from lithon.brep.validate import flaws
from lithon.geometry.splines import BSplineSurface
from lithon.mend.freeform import fails, unfolded
from lithon.mend.giving_way import pieces_of
from lithon.mend.patch import DEGREE, uniform_knots
from lithon.mend.segments import Patch
from lithon.mend.slicing import by_creases
from lithon.mend.solid import solid_of
from lithon.operations.mend.solid import shapeless
from lithon.project.solid import solid


def waist(way):
    """A smooth bean."""
    x, y, z = way.T
    return 20.0 * (1.0 + 0.18 * x * y + 0.12 * z**3 - 0.1 * np.cos(2.0 * z) * x**2)


def capped(way):
    """One whose upper half falls in, with a crease all around."""
    return waist(way) * (1.0 - 0.55 * np.sin(1.6 * np.maximum(way[:, 2], 0.0)))


def rings(n, radius):
    """Triangles around an axis, n rings from pole to pole, one of them the equator."""
    up, around = np.linspace(0.0, np.pi, n + 1)[1:-1], 2.0 * np.pi * np.arange(2 * n) / (2 * n)
    way = np.stack([np.outer(np.sin(up), np.cos(around)), np.outer(np.sin(up), np.sin(around)),
                    np.repeat(np.cos(up)[:, None], 2 * n, axis=1)], axis=-1).reshape(-1, 3)  # fmt: skip
    way = np.concatenate([way, [[0.0, 0.0, 1.0], [0.0, 0.0, -1.0]]])
    at = np.arange((n - 1) * 2 * n).reshape(n - 1, 2 * n)
    on = np.roll(at, -1, axis=1)
    a, b, c, d = at[:-1].ravel(), at[1:].ravel(), on[1:].ravel(), on[:-1].ravel()
    top, low = len(way) - 2, len(way) - 1
    corners = np.concatenate([
        np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1),
        np.stack([np.full(2 * n, top), at[0], on[0]], axis=1), np.stack([np.full(2 * n, low), on[-1], at[-1]], axis=1),
    ])  # fmt: skip
    return way * radius(way)[:, None], corners


def inside(radius):
    """What a body around the origin holds (mm3), by its radius in every direction."""
    z, weight = np.polynomial.legendre.leggauss(1200)
    around = 2.0 * np.pi * (np.arange(1200) + 0.5) / 1200
    flat = np.sqrt(1.0 - z**2)
    way = np.stack([np.outer(flat, np.cos(around)), np.outer(flat, np.sin(around)),
                    np.repeat(z[:, None], len(around), axis=1)], axis=-1)  # fmt: skip
    return float((radius(way.reshape(-1, 3)).reshape(len(z), -1) ** 3).mean(axis=1) @ weight * 2.0 * np.pi / 3.0)


@pytest.mark.slow
@pytest.mark.parametrize("radius", [waist, capped])
def test_a_body_that_lies_on_nothing_simple_is_free_form_faces(tmp_path, radius):
    """Closed, sound, and what it should hold, with few of its triangles left: unlooked-for, by `auto`."""
    points, corners = ball(2600, radius) if radius is waist else rings(36, radius)
    work = opened(tmp_path, points, corners, "bean")
    (body,) = work.model.bodies
    assert shapeless(body, work.state.marks, None)
    told = solid(work, "auto", None, tmp_path / "bean.step", seconds=300.0)
    (made,) = work.model.bodies
    assert told["valid"] and told["closed"]
    assert not flaws(made, work.model.tolerance) and not self_intersections(made, work.model.tolerance)
    assert sum(left["area_mm2"] for left in told["left"]) < 0.03 * area(body)
    assert 2 <= told["faces"]["b-spline"] < 120
    # Triangles hold less than what they were made from; faces go through their corners.
    assert volume(made) == pytest.approx(inside(radius), rel=2e-3)
    assert abs(volume(made) - inside(radius)) < 0.5 * abs(volume(body) - inside(radius))


def test_what_is_simple_is_not_shapeless(tmp_path):
    points, corners = ball(2600, lambda way: np.full(len(way), 20.0))
    work = opened(tmp_path, points, corners, "ball")
    assert not shapeless(work.model.bodies[0], work.state.marks, None)


@pytest.mark.parametrize("n", [17, 40])
def test_creases_part_a_block_into_its_sides(n):
    """One with a rolling top: six parts, each as large as it is drawn, whatever the order of the triangles."""
    points, corners = block(waved, n)
    order = np.random.default_rng(n).permutation(len(corners))
    part = by_creases(points, corners[order])
    size = triangle_areas(points, corners[order])
    assert len(set(part.tolist())) == 6
    normal = np.cross(*(points[corners[order][:, k]] - points[corners[order][:, 0]] for k in (1, 2)))
    middle = points[corners[order]].mean(axis=1)
    bottom = part[np.argmin(middle[:, 2])]
    assert size[part == bottom].sum() == pytest.approx(24.0)
    for k in set(part.tolist()):
        own = normal[part == k] / np.linalg.norm(normal[part == k], axis=1)[:, None]
        assert (own @ own.mean(axis=0)).min() > 0.5


def test_few_triangles_beyond_a_crease_go_to_what_they_border_on_most():
    """A pyramid of four triangles on a plane sheet is of the sheet."""
    points, corners = block(lambda x, y: np.full(x.shape, 2.0) + 0.0 * y, 15)
    top = np.flatnonzero(points[corners][:, :, 2].min(axis=1) > 1.0)
    hit = corners[top[np.argmin(np.linalg.norm(points[corners[top]].mean(axis=1)[:, :2] - [3.0, 2.0], axis=1))]]
    points = points.copy()
    points[hit[0], 2] += 1.5
    part = by_creases(points, corners)
    assert len(set(part.tolist())) == 6 and len(set(part[top].tolist())) == 1


def test_parts_are_such_as_a_trial_face_follows():
    """A ball cut until each part lies within a hundredth of a face of few spans; nothing is lost and all hang together
    as before."""
    points, corners = ball(1500, lambda way: 5.0 + 0.8 * np.sin(5.0 * way[:, 0]) * way[:, 1])
    made, triangles, pieces = pieces_of(points, corners, [Patch(None, np.arange(len(corners)), 0.0)], True, 0.01)
    assert sum(len(p.rows) for p in pieces) == len(triangles) and len(pieces) > 4
    follows = [fails(made, triangles[p.rows], 0.01) is None for p in pieces if len(p.rows) > 24]
    assert np.mean(follows) > 0.9
    assert all(unfolded(made, triangles[p.rows]) is not None for p in pieces)
    assert fails(points, corners, 1.0) is not None  # it closes on itself


@pytest.mark.parametrize(("along", "across"), [(2.6, 3.1), (2.3, 2.2)])
def test_fine_splines_are_integrated_with_fewer_nodes_as_well(along, across, monkeypatch):
    """A block under a spline of many spans holds the same with either rule, and what is under the function."""
    height = lambda x, y: 2.0 + 0.2 * np.sin(along * x) * np.cos(across * y)  # noqa: E731
    points, corners, patches = parts_of(height, 45)

    def made():
        return solid_of(points, corners, patches, 1e-6, free=1e-4).body

    few = made()
    (top,) = [f.surface for f in few.faces if isinstance(f.surface, BSplineSurface)]
    assert min(len(k) for k in top.inner_knots()) >= measures._FINE
    monkeypatch.setattr(measures, "_FINE", 10**9)
    monkeypatch.setattr(measures, "_MANY", 10**9)
    assert volume(made()) == pytest.approx(volume(few), rel=1e-9)
    wave = 0.2 * (1.0 - np.cos(along * A)) / along * np.sin(across * B) / across
    assert volume(few) == pytest.approx(2.0 * A * B + wave, rel=1e-4)


@pytest.mark.parametrize("seed", range(4))
def test_the_closest_point_of_an_uneven_surface_is_the_closest(seed):
    """Of a surface whose cells differ by far in size, folded back over itself: no sample is nearer than the foot."""
    rng = np.random.default_rng(seed)
    spans = 10
    knots = uniform_knots(spans)
    n = spans + DEGREE
    u = np.linspace(0.0, 1.0, n) ** 3
    x, y = np.meshgrid(6.0 * np.sin(3.0 * u), 4.0 * u, indexing="ij")
    z = np.cos(3.0 * u)[:, None] * 3.0 + 0.3 * np.sin(rng.uniform(2.0, 9.0) * x) * np.cos(rng.uniform(2.0, 9.0) * y)
    surface = BSplineSurface(knots, knots, DEGREE, DEGREE, np.stack([x, y, z], axis=-1))
    grid = np.linspace(0.0, 1.0, 160)
    at = np.stack(np.meshgrid(grid, grid, indexing="ij"), axis=-1).reshape(-1, 2)
    spots = surface.at(at[:, 0], at[:, 1])[0]
    probe = spots[rng.integers(0, len(spots), 300)] + rng.normal(0.0, 0.4, (300, 3))
    uv = surface.parameters(probe)
    found = np.linalg.norm(surface.at(uv[:, 0], uv[:, 1])[0] - probe, axis=1)
    best = np.linalg.norm(spots[None] - probe[:, None], axis=2).min(axis=1)
    assert (found <= best + 1e-9).all()


@pytest.mark.parametrize(("said", "found"), [(None, "1"), ("3", "3")])
def test_linear_algebra_has_one_thread_where_nothing_else_is_said(said, found):
    env = {k: v for k, v in os.environ.items() if k != "OPENBLAS_NUM_THREADS"}
    env |= {} if said is None else {"OPENBLAS_NUM_THREADS": said}
    line = "import os, lithon; print(os.environ['OPENBLAS_NUM_THREADS'])"
    told = subprocess.run([sys.executable, "-c", line], env=env, capture_output=True, text=True, check=True)
    assert told.stdout.strip() == found
