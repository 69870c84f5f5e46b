"""Bodies of many triangles that lie on nothing simple: they become free-form faces, parted where they turn sharply."""

import json
import os
import subprocess
import sys

import numpy as np
import pytest
from dice import seeds
from solids import motion
from test_parted_patches import parts_of
from test_smooth_patches import A, B, ball, block, opened, waved

from lithon import do
from lithon.arrays import triangle_areas
from lithon.brep import measures
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.measures import area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws, widest_gap
from lithon.geometry.splines import BSplineSurface
from lithon.mend.freeform import corner_normals, fails, sagitta, unfolded
from lithon.mend.giving_way import pieces_of
from lithon.mend.patch import DEGREE, uniform_knots
from lithon.mend.segments import Patch
from lithon.mend.slicing import by_creases
from lithon.mend.solid import solid_of
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.mesh.verdict import verdict
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


def egg(way):
    """An ellipsoid around the origin, of three axes."""
    return 12.0 / np.linalg.norm(way / [1.0, 1.25, 0.8], axis=1)


@pytest.mark.parametrize("radius", [waist, egg])
@pytest.mark.parametrize("n", [14, 20])
def test_few_triangles_of_what_is_smooth_become_few_faces(tmp_path, n, radius):
    """Corners far apart say enough where they are exact: no facets stay, and what it holds is ten times as near to what
    it was made from as what its triangles do."""
    work = opened(tmp_path, *rings(n, radius), "pebble")
    (body,) = work.model.bodies
    told = solid(work, "smooth", None, tmp_path / "pebble.step", seconds=120.0)
    (made,) = work.model.bodies
    assert told["valid"] and told["closed"] and not told["left"]
    assert set(told["faces"]) == {"b-spline"} and told["faces"]["b-spline"] <= 12
    assert not flaws(made, work.model.tolerance) and not self_intersections(made, work.model.tolerance)
    assert abs(volume(made) - inside(radius)) < 0.1 * abs(volume(body) - inside(radius))


@pytest.mark.parametrize("seed", seeds(6))
def test_free_form_faces_are_meshed_by_their_own_skins(tmp_path, seed):
    """However it lies in space and its triangles are in order: nothing of a surface comes back to where its face ends,
    so that each point of a border has one place on it, and elements are no smaller for that."""
    rng = np.random.default_rng(seed)
    points, corners = rings(int(rng.integers(13, 24)), egg)
    points = points @ motion(seed)[:3, :3].T
    work = opened(tmp_path, points, corners[rng.permutation(len(corners))], "pebble")
    work.take(do.solid(kind="smooth"))
    (made,) = work.model.bodies
    assert len(made.faces) <= 12
    for face in made.faces:
        for edge in face.edges():
            there = edge.curve.point(np.linspace(edge.t0, edge.t1, 400))
            ahead = np.linalg.norm(np.diff(face.surface.parameters(there), axis=0), axis=1)
            assert ahead.max() < 12.0 * np.median(ahead)
    for size in (3.0, 5.0):
        mesh = tetrahedral_mesh(work.model, SizeRules(size))
        assert verdict(mesh).good and mesh.conformal() and len(mesh.elements) < 12_000
        assert mesh.volumes.sum() == pytest.approx(inside(egg), rel=0.02)


def test_the_command_line_makes_few_faces_of_few_triangles(tmp_path):
    """What an engineer types for a pebble of 728 triangles; what is written is what is told."""
    from click.testing import CliRunner

    import lithon
    from lithon.cli import cli
    from lithon.exchange.deliver import write_triangles

    work = opened(tmp_path, *rings(14, egg), "pebble")
    write_triangles(work.model, tmp_path / "pebble.stl")
    asked = ["solid", str(tmp_path / "pebble.stl"), "--out", str(tmp_path / "p.step"), "--kind", "smooth", "--json"]
    done = CliRunner().invoke(cli, [*asked, "--unit", "mm"])
    assert done.exit_code == 0, done.output
    told = json.loads(done.stdout)
    assert told["closed"] and told["valid"] and not told["left"] and sum(told["faces"].values()) <= 12
    assert told["volume_mm3"] == pytest.approx(inside(egg), rel=5e-3)
    read = lithon.open(tmp_path / "p.step").model
    (made,) = read.bodies
    assert volume(made) == pytest.approx(told["volume_mm3"], rel=1e-6)
    # Its faces miss each other by more than those of exact parts: the file says how much that may be.
    assert widest_gap(made) > 10.0 * Model.of([made]).tolerance and not flaws(made, read.tolerance)


@pytest.mark.parametrize("n", [12, 30])
def test_normals_and_heights_over_sides_of_a_ball(n):
    """Of whatever triangles its corners make; of a half of it where the other half tells of the rim, and only so."""
    points, corners = rings(n, lambda way: np.full(len(way), 7.0))
    out = points / np.linalg.norm(points, axis=1)[:, None]
    assert np.abs(corner_normals(points, corners) - out).max() < 1e-9
    upper = points[corners][:, :, 2].mean(axis=1) > 0.0
    own = np.unique(corners[upper])
    assert np.abs(corner_normals(points, corners[upper])[own] - out[own]).max() > 0.01
    assert np.abs(corner_normals(points, corners[upper], corners[~upper])[own] - out[own]).max() < 1e-9
    ends = points[np.unique(np.sort(corners[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)]
    chord = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    assert sagitta(points, corners) == pytest.approx(np.median(7.0 - np.sqrt(49.0 - chord**2 / 4.0)), rel=0.02)


def test_beyond_a_crease_nothing_tells_of_normals():
    """A cylinder's wall looks outwards at its rims, lids beside it or not."""
    k = 16
    way = np.stack([np.cos(2.0 * np.pi * np.arange(k) / k), np.sin(2.0 * np.pi * np.arange(k) / k)], axis=1)
    points = np.concatenate([np.insert(3.0 * way, 2, z, axis=1) for z in (0.0, 1.0)] + [[[0, 0, 0.0], [0, 0, 1.0]]])
    a, b = np.arange(k), np.roll(np.arange(k), -1)
    wall = np.concatenate([np.stack([a, b, b + k], axis=1), np.stack([a, b + k, a + k], axis=1)])
    lids = np.concatenate(
        [np.stack([b, a, a * 0 + 2 * k], axis=1), np.stack([a + k, b + k, a * 0 + 2 * k + 1], axis=1)]
    )
    alone, beside = corner_normals(points, wall), corner_normals(points, wall, lids)
    assert np.array_equal(alone, beside)
    assert np.abs(beside[: 2 * k, 2]).max() < 1e-12
    assert ((beside[: 2 * k, :2] * np.tile(way, (2, 1))).sum(axis=1) > 0.99).all()
    assert sagitta(*rings(3, lambda w: 1.0 / np.abs(w).max(axis=1))) >= 0.0  # what bends nowhere smoothly


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
