"""Symmetry of a model: mirrors and turns of solids that have known ones, anywhere in space."""

import numpy as np
import pytest
from solids import frame

from lithon.arrange.boolean import combine
from lithon.brep.analysis.symmetry import symmetry
from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.samples import cast_anchor, collar_anchor, sluice_wheel
from lithon.samples.build import Piece, Round, prism, rectangle, revolved


def polygon(radii):
    turn = 2.0 * np.pi * np.arange(len(radii)) / len(radii)
    return [Piece((r * np.cos(a), r * np.sin(a))) for r, a in zip(radii, turn, strict=True)]


def about(at, z):
    return Frame.of(at.origin + z * at.z, at.z, at.x)


@pytest.mark.parametrize("n", [3, 5, 6, 17])
def test_a_regular_prism(n):
    at = frame(np.random.default_rng(n))
    found = symmetry(Model.of([prism(polygon([10.0] * n), 7.0, at)]))
    assert found.count == n and abs(float(found.axis @ at.z)) == pytest.approx(1.0, abs=1e-9)
    assert len(found.mirrors) == n + 1 and found.parts() == 4 + 4 * (n % 2 == 0)
    upright = np.abs(found.mirrors @ at.z)
    assert np.sort(upright)[-1] == pytest.approx(1.0) and np.sort(upright)[:-1].max() < 1e-6
    assert np.allclose(found.centre, at.origin + 3.5 * at.z, atol=1e-9)
    # The mirrors that hold the axis stand at equal angles.
    lying = found.mirrors[upright < 0.5]
    angle = np.sort(np.mod(np.degrees(np.arctan2(lying @ at.y, lying @ at.x)), 180.0))
    assert np.allclose(np.diff(angle), 180.0 / n, atol=1e-5)


@pytest.mark.parametrize("n", [4, 7])
def test_a_saw_turns_but_has_no_mirror_along_its_axis(n):
    at = frame(np.random.default_rng(n))
    found = symmetry(Model.of([prism(polygon([10.0, 13.0, 11.0] * n), 7.0, at)]))
    assert found.count == n
    assert len(found.mirrors) == 1 and abs(float(found.mirrors[0] @ at.z)) == pytest.approx(1.0)


@pytest.mark.parametrize("odd", [False, True])
def test_holes_about_an_axis(odd):
    """One that is wider than the others leaves the mirror through it and that across the axis, and their line a turn
    by half."""
    rng = np.random.default_rng(3)
    at = frame(rng)
    disc = prism(Round((0.0, 0.0), 20.0), 5.0, at)
    for k in range(6):
        a = 0.3 + k * np.pi / 3.0
        drill = prism(Round((13.0 * np.cos(a), 13.0 * np.sin(a)), 2.5 if odd and k == 2 else 2.0), 9.0, about(at, -2.0))
        (disc,) = combine(disc, drill, "subtract", 1e-6)
    found = symmetry(Model.of([disc]))
    assert (found.count, len(found.mirrors), found.parts()) == ((2, 2, 4) if odd else (6, 7, 8))


def test_blocks_cubes_and_round_bodies():
    at = frame(np.random.default_rng(8))
    block = symmetry(Model.of([prism(rectangle(0.0, 0.0, 4.0, 5.0), 6.0, at)]))
    assert (block.count, len(block.mirrors), block.parts()) == (2, 3, 8)
    cube = symmetry(Model.of([prism(rectangle(0.0, 0.0, 5.0, 5.0), 5.0, at)]))
    assert (cube.count, len(cube.mirrors), cube.parts()) == (4, 9, 8)
    lean = prism([Piece((0.0, 0.0)), Piece((6.0, 0.0)), Piece((8.0, 3.0)), Piece((2.0, 3.0))], 4.0, at)
    assert (symmetry(Model.of([lean])).count, len(symmetry(Model.of([lean])).mirrors)) == (2, 1)
    cup = revolved([Piece((2.0, 0.0)), Piece((5.0, 0.0)), Piece((5.0, 7.0)), Piece((4.0, 7.0))], at)
    assert symmetry(Model.of([cup])).round and abs(float(symmetry(Model.of([cup])).axis @ at.z)) == pytest.approx(1.0)


def test_a_model_is_as_symmetric_as_its_bodies_together():
    at = frame(np.random.default_rng(5))
    pair = [prism(rectangle(x, -2.0, x + 3.0, 2.0), 4.0, at) for x in (-8.0, 5.0)]
    assert symmetry(Model.of(pair)).parts() == 8
    assert symmetry(Model.of([*pair, prism(Round((0.0, 3.0), 1.0), 4.0, at)])).parts() == 4  # one mirror less


def test_the_samples():
    anchor = symmetry(collar_anchor())
    assert anchor.parts() == 2 and np.allclose(np.abs(anchor.mirrors[0]), (0.0, 1.0, 0.0), atol=1e-9)
    wheel = symmetry(sluice_wheel())
    assert wheel.count == 23 and np.allclose(np.abs(wheel.axis), (0.0, 0.0, 1.0), atol=1e-9)
    assert symmetry(cast_anchor()).parts() == 1  # its raised letters
