"""Walls all round whose holes leave no straight way from end to end are opened on a bent one."""

import numpy as np
import pytest
import shapely
from dice import seeds
from everyday import at, less
from solids import on_its_own

from lithon.brep.measures import volume
from lithon.brep.tessellation.opening import Opening, along, choose_cut, legs_shared
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules
from lithon.samples.build import Piece, Round, prism, revolved


def strainer(rows, around, hole, height):
    """A tube of radii 8 and 10 with rows of radial holes, each turned by half a hole against the last."""
    tube = revolved([Piece((8, 0)), Piece((10, 0)), Piece((10, height)), Piece((8, height))], at((0, 0, 0)))
    bores = []
    for row in range(rows):
        for k in range(around):
            a = 2.0 * np.pi * (k + 0.5 * (row % 2)) / around
            out = np.array([np.cos(a), np.sin(a), 0.0])
            base = at((*(5.0 * out[:2]), (row + 0.5) * height / rows), out, (-out[1], out[0], 0.0))
            bores.append(prism(Round((0, 0), hole), 8.0, base))
    return less(tube, bores)


def bore_through(hole):
    """The volume that a radial bore takes from a tube of radii 8 and 10 between its walls."""
    y = np.linspace(-hole, hole, 200001)
    depth = np.sqrt(100.0 - y**2) - np.sqrt(64.0 - y**2)
    return float(np.trapezoid(2.0 * np.sqrt(hole**2 - y**2) * depth, y))


def test_a_strainer_is_drawn_measured_cut_and_meshed():
    body = on_its_own(strainer(3, 5, 4.6, 36.0))
    full = np.pi * 36.0 * 36.0
    assert not flaws(body, 1e-7)
    assert volume(body) == pytest.approx(full - 15 * bore_through(4.6), rel=1e-6)
    for face in body.faces:
        mesh = face_mesh(face)
        assert np.abs(face.surface.signed_distance(mesh.points)).max() < 1e-6
    mesh = mesh_of(Model.of([body]), SizeRules(2.0), "tet")
    assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
    assert mesh.quality.scaled_jacobian.min() > 0.05
    halves = split(Model.of([body]), [body], Plane.of((0, 0, 16.0), (0.3, 0.2, 1.0))).bodies
    assert sum(volume(b) for b in halves) == pytest.approx(volume(body), rel=1e-8)


def _ring(middle, radius, n=24):
    a = 2.0 * np.pi * np.arange(n)[::-1] / n
    return middle + radius * np.column_stack([np.cos(a), np.sin(a)])


@pytest.mark.parametrize("seed", seeds(12))
def test_a_bent_cut_keeps_clear_of_the_holes_and_of_its_own_copies(seed):
    rng = np.random.default_rng(seed)
    period, rows, many = 10.0, int(rng.integers(2, 6)), int(rng.integers(2, 5))
    radius = period / many * rng.uniform(0.36, 0.46)
    rise = 2.2 * radius
    turn = rng.uniform(0.3, 0.7)  # a row stands over the last one's gaps
    middles = np.array([((k + turn * i) * period / many, (i + 1) * rise) for i in range(rows) for k in range(many)])
    holes = [_ring(m, radius) for m in middles]
    x = period * np.arange(30) / 30.0
    wave = 0.2 * radius * np.sin(2.0 * np.pi * x / period)
    low = np.column_stack([x, wave])
    high = np.column_stack([x[::-1] + 3.0 * period, (rows + 1) * rise + wave])
    i, j, bends = choose_cut(low, high, holes, period)
    assert len(bends) or rows < 4  # over so many rows no straight way leads
    cut = Opening(0, 0, bends)
    top = high[j] + [cut.shift(low[i], high[j], period), 0.0]
    line = shapely.LineString(cut.path(low[i], top))
    assert line.is_simple
    for k in range(-12, 13):
        there = np.array([k * period, 0.0])
        assert k == 0 or not line.crosses(shapely.LineString(cut.path(low[i], top) + there))
        for hole in holes:
            assert line.distance(shapely.Polygon(hole + there)) > 0.0
    shares = legs_shared(cut.path(low[i], top), np.full(len(bends) + 1, 2))
    spots = along(cut.path(low[i], top), shares)
    assert len(spots) == 2 * len(bends) + 1
    assert max(line.distance(shapely.Point(s)) for s in spots) < 1e-9
    for bend in cut.path(low[i], top)[1:-1]:
        assert np.abs(spots - bend).max(axis=1).min() < 1e-9


def test_a_wall_that_its_holes_part_cannot_be_opened():
    x = np.arange(30) / 3.0
    low, high = np.column_stack([x, 0.0 * x]), np.column_stack([x[::-1], 0.0 * x + 9.0])
    part = _ring(np.array([5.0, 4.0]), 1.0)
    wide = np.column_stack([np.clip((part[:, 0] - 5.0) * 6.0, -5.5, 5.5) + 5.0, part[:, 1]])
    with pytest.raises(Refusal, match="cannot be cut open"):
        choose_cut(low, high, [wide], 10.0)
