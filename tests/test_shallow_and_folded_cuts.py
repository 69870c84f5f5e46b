"""Cuts that dip just below a face and come out again, and cuts whose sheet the body parts into bands with ends that
turn back on their way."""

import numpy as np
import pytest
from dice import seeds
from everyday import EAST, at, less

from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.geometry.meet import cross
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.samples.build import Piece, prism, rectangle, revolved

NORTH = (0.0, 1.0, 0.0)


def through_two(radius, height, small, gap):
    """A cylinder along x through the line at y = 0 and the one at y = -gap of a height."""
    return Cylinder(Frame.of((0.0, -0.5 * gap, height - np.sqrt(small**2 - 0.25 * gap**2)), EAST), small)


@pytest.mark.parametrize("seed", seeds(60))
def test_a_rim_is_met_where_it_begins_and_just_before(seed):
    """A ring that a cylinder passes at the very place where it begins, and again a little before it is back there."""
    rng = np.random.default_rng(seed)
    radius, height, small = rng.uniform(5.0, 30.0), rng.uniform(-5.0, 5.0), rng.uniform(0.5, 4.0)
    gap = float(small * 10.0 ** rng.uniform(-2.5, 0.0))
    ring = Circle.about(Frame.of((0, 0, height), (0, 0, 1), (1, 0, 0)), radius)
    found = cross(ring, through_two(radius, height, small, gap), 0.0, 2.0 * np.pi, 1e-6)
    turn = np.arcsin(gap / radius)
    away = found[:, None] - np.array([0.0, np.pi, np.pi + turn, 2.0 * np.pi - turn])
    away = np.abs(away - 2.0 * np.pi * np.round(away / (2.0 * np.pi)))
    assert len(found) == 4
    assert away.min(axis=0).max() < 1e-7


@pytest.mark.parametrize("gap", [0.02, 0.08, 0.5, 1.5])
def test_a_tunnel_just_below_the_top_of_a_ring(gap):
    """A cylinder along a ring's diameter whose top dips out of the ring's top face by next to nothing."""
    ring = revolved([Piece((20, 0)), Piece((24, 0)), Piece((24, 5)), Piece((20, 5))], at((0, 0, 0)))
    parts = split(Model.of([ring]), [ring], through_two(24.0, 5.0, 1.78, gap))
    assert all(closed(b) and not flaws(b, parts.tolerance) for b in parts.bodies)
    assert len(parts.bodies) == 3
    assert sum(map(volume, parts.bodies)) == pytest.approx(np.pi * (24.0**2 - 20.0**2) * 5.0, rel=1e-9)
    # Both pieces that fall out are alike: the tunnel's section, less what stands out above, over the ring's width.
    out = sorted(volume(b) for b in parts.bodies)[:2]
    assert out[0] == pytest.approx(out[1], rel=1e-7)


@pytest.mark.parametrize("seed", seeds(20))
def test_holes_stand_in_the_band_that_they_are_in(seed):
    """A grooved wheel with a keyway, a grub hole and holes all round, cut by a cylinder across: the ends of the cut's
    part in the wheel turn back at the keyway, and holes lie beside it."""
    rng = np.random.default_rng(seed)
    groove = [(4, 0), (18, 0), (18, 1.5), (13, 6), (18, 10.5), (18, 12), (4, 12)]
    wheel = revolved([Piece(p) for p in groove], at((0, 0, 0)))
    turns = np.arange(6) * np.pi / 3.0 + rng.uniform(0.0, 1.0)
    tools = [prism(rectangle(-1.5, 0.0, 1.5, 6.0), 20.0, at((0, 0, -2.0))), bar((0, 0, 6.0), NORTH, 1.2, 30.0)]
    tools += [bar((9.0 * np.cos(a), 9.0 * np.sin(a), -1.0), (0, 0, 1), 1.5, 20.0) for a in turns]
    wheel = less(wheel, tools)
    middle = np.array([rng.uniform(3.0, 6.0), 0.5, rng.uniform(5.0, 7.0)])
    cut = Cylinder(Frame.of(middle, NORTH), float(rng.uniform(4.0, 6.0)))
    model = Model.of([wheel])
    parts = split(model, [wheel], cut).bodies
    assert all(closed(b) and not flaws(b, model.tolerance) for b in parts)
    assert sum(map(volume, parts)) == pytest.approx(volume(wheel), rel=1e-8)


def bar(foot, way, radius, length, side=EAST):
    return revolved(
        [Piece((0, 0)), Piece((radius, 0)), Piece((radius, length)), Piece((0, length))], at(foot, way, side)
    )


def drill(foot, way, radius, deep, side):
    """A drill's way: it ends in a point."""
    return revolved([Piece((0, -1)), Piece((radius, -1)), Piece((radius, deep)), Piece((0, deep + 0.6 * radius))],
                    at(foot, way, side))  # fmt: skip


@pytest.mark.parametrize("more", [0.0, 2e-4, 1e-3, -1e-3, 0.01])
def test_a_cut_that_only_just_enters_a_bore_where_another_ends(more):
    """A round cut that comes into a bore by some thousandths, just where another one opens into it: no triangle of the
    bore's wall passes it, nor one of the cut's the bore."""
    block = prism(rectangle(-30.0, -20.0, 30.0, 20.0), 25.0, at((0, 0, 0)))
    down = (0.0, 0.0, -1.0)
    body = less(block, [drill((-30, 0, 12), EAST, 4.0, 50, NORTH), drill((0, 0, 25), down, 2.5, 14, NORTH),
                        drill((18, 0, 25), down, 4.0, 13, NORTH)])  # fmt: skip
    cut = Cylinder(Frame.of((2.9393, 9.6556, 16.8625), (0, 0, 1)), 21.888705601 + more)
    model = Model.of([body])
    parts = split(model, [body], cut).bodies
    assert all(closed(b) and not flaws(b, model.tolerance) for b in parts)
    assert sum(map(volume, parts)) == pytest.approx(volume(body), rel=1e-9)


@pytest.mark.parametrize("turn", [0.3, 0.9358, 1.3])
def test_a_hole_that_touches_the_end_of_its_band(turn):
    """A blind bore from above meets a bore along x where that is widest; a plane through the point where both rims
    come together."""
    block = prism(rectangle(-15.0, -12.0, 15.0, 12.0), 20.0, at((0, 0, 0)))
    body = less(block, [bar((-20.0, 0.0, 10.0), EAST, 4.0, 40.0, NORTH), bar((0.0, 4.0, 10.0), (0, 0, 1), 3.0, 40.0)])
    model = Model.of([body])
    parts = split(model, [body], Plane.of((-3.0, 4.0, 10.0), (np.sin(turn), -np.cos(turn), 0.0))).bodies
    assert all(closed(b) and not flaws(b, model.tolerance) for b in parts)
    assert sum(map(volume, parts)) == pytest.approx(volume(body), rel=1e-9)
