"""Parts turned on a lathe and rods that cross, of triangles as they are drawn and as scans have them: each face comes
back by its kind, and the solid is of the volume that is known."""

import sys
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from everyday import at, bellows, mug, ring_with_rods, three_rods
from solids import motion
from test_scans_parted_anew import areas_and_normals, scan_of

from lithon.brep.copies import moved
from lithon.brep.faceted import soup_of, welded
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.mend.noise import noise_of
from lithon.mend.scans import parted_scan
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, revolved

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from returns import divided


def solid_of(body, fineness, scatter):
    """What triangles of a body become, and whether they are told to scatter."""
    soup = divided(moved(body, motion(5)), fineness, scatter, 3)
    flat = soup_of(soup)
    model = run(State(Model.of([soup])), SolidFromTriangles(soup, kind="simple")).model
    (made,) = model.bodies
    assert closed(made) and not flaws(made, model.tolerance)
    return made, noise_of(*welded(flat.points, flat.corners)) > 0.0


def kinds_of(body):
    return Counter(f.surface.kind for f in body.faces)


def test_a_cup_with_a_handle():
    """Most of its triangles are of the ring, as it is drawn; its round flats have all their corners on the wall."""
    body, kinds = mug()
    made, scatters = solid_of(body, 0, 0.0)
    assert kinds_of(made) == kinds and not scatters
    assert volume(made) == pytest.approx(volume(body), rel=1e-6)


@pytest.mark.parametrize("fineness,scatter", [(0, 0.0), (30, 0.0), (30, 0.02)])
def test_waves_of_a_thin_wall_are_cones(fineness, scatter):
    """Not the ring that passes through three circles; nor, where it scatters, cylinders one beside the other."""
    body, true, kinds = bellows(2)
    assert volume(body) == pytest.approx(true, rel=1e-9)
    made, scatters = solid_of(body, fineness, scatter)
    assert kinds_of(made) == kinds and scatters == (scatter > 0.0)
    assert volume(made) == pytest.approx(true, rel=2e-3 if scatter else 1e-6)


@pytest.mark.parametrize("fineness,scatter", [(0, 0.0), (30, 0.02)])
def test_a_ring_with_rods_through_it(fineness, scatter):
    body, kinds = ring_with_rods()
    made, scatters = solid_of(body, fineness, scatter)
    assert kinds_of(made) == kinds and scatters == (scatter > 0.0)
    assert volume(made) == pytest.approx(volume(body), rel=1e-3 if scatter else 1e-6)


@pytest.mark.parametrize("fineness", [0, 40])
def test_what_three_rods_have_in_common(fineness):
    """Sixty triangles a face, most of their corners at creases."""
    body, true = three_rods(5.0)
    assert volume(body) == pytest.approx(true, rel=1e-9)
    made, scatters = solid_of(body, fineness, 0.0)
    assert kinds_of(made) == {"cylinder": 12} and not scatters
    assert volume(made) == pytest.approx(true, rel=1e-6)


def test_ridges_one_triangle_wide_are_no_rings():
    """A cone, a cylinder and a cone, each a strip around: a torus passes through any three of their four rims."""
    profile = [(0.0, 0.0), (3.0, 0.0)]
    for k in range(6):
        profile += [(r, 1.0 + 1.2 * k + up) for r, up in ((3.0, 0.0), (3.3, 0.17), (3.3, 0.5), (3.0, 0.67))]
    profile += [(3.0, 10.0), (0.0, 10.0)]
    made, scatters = solid_of(revolved([Piece(p) for p in profile], at((0.0, 0.0, 0.0))), 16, 0.02)
    assert kinds_of(made) == {"plane": 2, "cylinder": 13, "cone": 12} and scatters


@pytest.mark.parametrize("scatter", [0.02, 0.05])
def test_what_opens_slowly_is_one_cone(scatter):
    """A cone of five degrees from its axis, ten times as long as wide: by pieces it lies on cylinders."""
    rng = np.random.default_rng(7)
    around, up = 48, 120
    angle, height = np.meshgrid(np.arange(around) * 2.0 * np.pi / around, np.linspace(0.0, 40.0, up))
    radius = 3.0 + np.tan(np.radians(5.0)) * height
    points = np.stack([radius * np.cos(angle), radius * np.sin(angle), height], axis=-1).reshape(-1, 3)
    i, j = (x.ravel() for x in np.meshgrid(np.arange(around), np.arange(up - 1)))
    a, b = j * around + i, j * around + (i + 1) % around
    corners = np.concatenate([np.stack([a, b, b + around], 1), np.stack([a, b + around, a + around], 1)])
    noise = scatter * 40.0 / up
    points += rng.normal(0.0, noise, points.shape)
    area, _ = areas_and_normals(points, corners)
    label, surfaces = parted_scan(scan_of(points, corners, noise))
    used = [surfaces[k] for k in np.unique(label[label >= 0]).tolist()]
    assert [s.kind for s in used] == ["cone"] and area[label >= 0].sum() == pytest.approx(area.sum())
    assert used[0].angle == pytest.approx(np.radians(5.0), rel=0.01)
