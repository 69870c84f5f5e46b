"""Cuts through the apex of a cone, where it has no normal, and along the torus that a body's own faces lie on."""

import numpy as np
import pytest
from everyday import EAST, at, less, one, ring_with_rods

from lithon.brep.measures import mass_properties, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.surfaces import Plane
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules
from lithon.samples.build import Piece, Round, prism, rectangle, revolved

FULL = np.pi * 25.0 * 10.0 / 3.0


def cone():
    return revolved([Piece((0, 0)), Piece((5, 0)), Piece((0, 10))], at((0, 0, 0)))


def sound(model):
    for body in model.bodies:
        assert closed(body) and not flaws(body, model.tolerance)
    return model.bodies


def share(body):
    return volume(body) / FULL


def sector(*angles):
    """A prism over a sector of these angles about the z-axis, beyond the cone."""
    far = [Piece((20.0 * np.cos(a), 20.0 * np.sin(a))) for a in angles]
    return prism([Piece((0, 0)), *far], 40.0, at((0, 0, -5.0)))


@pytest.mark.parametrize("turn", [0.0, 0.3, 1.1, 2.2, 2.9])
@pytest.mark.parametrize("lean", [0.0, 0.1, -0.25])
def test_a_plane_through_the_apex_parts_a_cone(turn, lean):
    normal = np.array([np.cos(turn), np.sin(turn), lean])
    halves = sound(split(Model.of([cone()]), [cone()], Plane.of((0, 0, 10.0), normal)))
    # The base is cut along a chord; both parts are cones of one height over the parts of it.
    half = np.arccos(10.0 * abs(lean) / 5.0)
    small = (half - np.sin(half) * np.cos(half)) / np.pi
    assert sorted(share(b) for b in halves) == pytest.approx(sorted([small, 1.0 - small]), rel=1e-9)


@pytest.mark.parametrize("angles", [(0.0, 1.5708), (0.4, 1.0), (2.0, 3.0, 4.0, 4.9), (0.4, 2.0, 4.0, 5.0)])
def test_a_sector_is_cut_out_of_a_cone(angles):
    wide = (angles[-1] - angles[0]) / (2.0 * np.pi)
    rest, piece = (one(cone(), sector(*angles), way) for way in ("subtract", "intersect"))
    sound(Model.of([rest, piece]))
    assert (share(rest), share(piece)) == pytest.approx((1.0 - wide, wide), rel=1e-9)


def test_planes_that_meet_in_the_axis_leave_sectors():
    model = Model.of([cone()])
    turns = np.array([0.1, 0.9, 1.7, 2.6])
    for turn in turns:
        model = split(model, list(model.bodies), Plane.of(np.zeros(3), (-np.sin(turn), np.cos(turn), 0.0)))
    wide = np.diff(np.append(turns, turns[0] + np.pi)) / (2.0 * np.pi)
    assert sorted(share(b) for b in sound(model)) == pytest.approx(sorted([*wide, *wide]), rel=1e-9)
    for body in model.bodies:
        mesh = mesh_of(Model.of([body]), SizeRules(1.0), "tet")
        assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
        assert mesh.quality.scaled_jacobian.min() > 0.05


def drilled():
    """A block with bores that end in points and meet, as a drill leaves them."""

    def bore(origin, way, radius, deep):
        across = EAST if abs(way[0]) < 0.5 else (0.0, 1.0, 0.0)
        tip = Piece((0, deep + 0.6 * radius))
        return revolved([Piece((0, -1.0)), Piece((radius, -1.0)), Piece((radius, deep)), tip], at(origin, way, across))

    block = prism(rectangle(-30, -20, 30, 20), 25.0)
    bores = [
        bore((-30, 0, 12), (1.0, 0, 0), 4.0, 50.0),
        bore((-15, -20, 12), (0, 1.0, 0), 3.0, 20.0),
        bore((0, 0, 25.0), (0, 0, -1.0), 2.5, 14.0),
        bore((18, 0, 25.0), (0, 0, -1.0), 4.0, 13.0),
        prism(Round((0, 0), 6.0), 3.0, at((-30.0, 0, 12), (1.0, 0, 0), (0, 1.0, 0))),
    ]
    return less(block, bores)


def test_a_drilled_block_is_cut_through_the_axes_of_its_bores():
    block = drilled()
    for origin, normal in (((0, 0, 0), (0, 1.0, 0)), ((0, 0, 12.0), (0, 0, 1.0)), ((18.0, 0, 0), (1.0, 0, 0))):
        halves = sound(split(Model.of([block]), [block], Plane.of(origin, normal)))
        assert len(halves) == 2
        assert sum(volume(b) for b in halves) == pytest.approx(volume(block), rel=1e-8)
        sides = [float((mass_properties(b).centroid - origin) @ normal) for b in halves]
        assert min(sides) < 0.0 < max(sides)


def test_rods_are_parted_from_the_ring_that_they_run_through():
    body = ring_with_rods()[0]
    ring = next(f.surface for f in body.faces if f.surface.kind == "torus")
    parts = sound(split(Model.of([body]), [body], ring))
    assert len(parts) == 5
    assert sum(volume(b) for b in parts) == pytest.approx(volume(body), rel=1e-8)
    # What lies within the tube is the whole ring, rods and all.
    assert max(volume(b) for b in parts) == pytest.approx(2.0 * np.pi**2 * ring.major * ring.minor**2, rel=1e-6)
