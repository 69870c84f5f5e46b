"""Rods and bores that cross: of one radius, where two ellipses part the skin, of nearly one, beside each other."""

import sys
from pathlib import Path

import numpy as np
import pytest
from dice import seeds
from everyday import at, one
from scipy.integrate import quad
from solids import motion

from lithon.arrange.boolean import combine
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.curves import Circle
from lithon.geometry.meet import closed_form, where_they_cross
from lithon.geometry.splines import BSplineCurve
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules
from lithon.mesh.verdict import verdict
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, Round, prism, rectangle, revolved

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from returns import divided

ALONG_X, ALONG_Y = (1.0, 0.0, 0.0), (0.0, 1.0, 0.0)
BIG, LONG = 4.0, 40.0


def rod(origin, way, radius, long=LONG):
    return prism(Round((0.0, 0.0), radius), long, at(origin, way, ALONG_X if abs(way[0]) < 0.5 else ALONG_Y))


def in_both(radius, off):
    """What two long rods at right angles have in common, their axes so far (mm) apart: slices square to both ways."""
    low, high = max(-BIG, off - radius), min(BIG, off + radius)
    slice_at = lambda z: 4.0 * np.sqrt(max(radius**2 - (z - off) ** 2, 0.0) * max(BIG**2 - z * z, 0.0))  # noqa: E731
    return quad(slice_at, low, high, limit=400)[0]


def sound(bodies, tolerance=1e-6):
    return all(closed(b) and not flaws(b, tolerance) for b in bodies)


@pytest.mark.parametrize("radius,off", [(4.0, 0.0), (3.999, 0.0), (3.9, 0.0), (3.0, 0.0), (3.0, 0.5), (4.0, 0.01),
                                        (4.0, 7.99), (1.0, 2.99), (1.0, 0.0)])  # fmt: skip
def test_rods_that_cross_are_united_reduced_and_limited(radius, off):
    """Whatever their radii and however long they are drawn: the volumes are those of slices."""
    common, whole = in_both(radius, off), np.pi * BIG**2 * LONG
    for seed in seeds(5, 1):
        a = moved(rod((-20.0, 0.0, 0.0), ALONG_X, BIG), motion(seed))
        b = moved(rod((0.0, -20.0, off), ALONG_Y, radius), motion(seed))
        wanted = {
            "union": whole + np.pi * radius**2 * LONG - common, "intersect": common, "subtract": whole - common,
        }  # fmt: skip
        for way, true in wanted.items():
            made = combine(a, b, way, 1e-7)
            assert sound(made) and sum(map(volume, made)) == pytest.approx(true, abs=1e-6 * whole)


def ball(radius):
    return revolved([Piece((0.0, -radius), (0.0, 0.0)), Piece((0.0, radius))], at((0.0, 0.0, 0.0)))


def cone(origin, way, wide, narrow, long):
    profile = [Piece((0.0, 0.0)), Piece((wide, 0.0)), Piece((narrow, long)), Piece((0.0, long))]
    return revolved(profile, at(origin, way, ALONG_X if abs(way[0]) < 0.5 else ALONG_Y))


def drawn_on(way, angle, low, high):
    """A cone about a way through the origin on which a ball of the big radius there touches, between two heights."""
    way = np.asarray(way, dtype=float) / np.linalg.norm(way)
    wide = lambda h: (BIG / np.sin(angle) - h) * np.tan(angle)  # noqa: E731
    return cone(low * way, tuple(way), wide(low), wide(high), high - low), wide


@pytest.mark.parametrize("angle", [5.0, 15.0, 30.0, 45.0, 60.0])
def test_a_reducer_on_a_pipe_parts_it_into_plane_conics(angle):
    """A cone and a rod of one inscribed sphere (Monge): what they have in common is slices of a disc by a strip."""
    angle = np.radians(angle)
    high = min(14.0, 0.8 * BIG / np.sin(angle))
    tapered, wide = drawn_on((0.0, 0.0, 1.0), angle, -8.0, high)

    def slice_at(z):
        r, half = wide(z), np.sqrt(BIG**2 - z * z)
        return np.pi * r * r if half >= r else 2.0 * (half * np.sqrt(r * r - half**2) + r * r * np.arcsin(half / r))

    common = quad(slice_at, -BIG, min(BIG, high), limit=400)[0]
    whole, cone_whole = np.pi * BIG**2 * LONG, quad(lambda z: np.pi * wide(z) ** 2, -8.0, high)[0]
    for seed in seeds(5, 1):
        a, b = moved(rod((-20.0, 0.0, 0.0), ALONG_X, BIG), motion(seed)), moved(tapered, motion(seed))
        wanted = {"union": whole + cone_whole - common, "intersect": common, "subtract": whole - common}
        for way, true in wanted.items():
            made = combine(a, b, way, 1e-7)
            assert sound(made) and sum(map(volume, made)) == pytest.approx(true, abs=1e-6 * whole)
            assert all(e.curve.kind != "crossing" for body in made for e in body.edges())


@pytest.mark.parametrize("first,second,way", [(15, 15, (0, 0, 1)), (15, 30, (0, 0, 1)), (30, 30, (0, 0.5, 1)),
                                              (10, 40, (1, 0, 0.4)), (45, 45, (0, 0, 1))])  # fmt: skip
def test_cones_of_one_inscribed_sphere(first, second, way):
    """Ellipses and hyperbolas, of one nappe each; what they make together adds up."""
    a, b = (drawn_on(w, np.radians(g), -10.0, min(14.0, 0.8 * BIG / np.sin(np.radians(g))))[0]
            for w, g in ((ALONG_X, first), (way, second)))  # fmt: skip
    made = {w: combine(a, b, w, 1e-7) for w in ("union", "intersect", "subtract")}
    assert all(map(sound, made.values()))
    size = {w: sum(map(volume, bodies)) for w, bodies in made.items()}
    assert size["union"] + size["intersect"] == pytest.approx(volume(a) + volume(b), rel=1e-9)
    assert size["subtract"] + size["intersect"] == pytest.approx(volume(a), rel=1e-9)


def test_a_line_written_as_a_parabola_lies_in_no_one_plane():
    """Files have such; where other curves cross it is not asked of its plane."""
    knots = np.array([0.0, 0.0, 0.0, 1.0, 1.0, 1.0])
    straight = BSplineCurve(knots, 2, np.array([[-5.0, 0.0, 0.0], [0.0, 0.0, 0.0], [5.0, 0.0, 0.0]]))
    around = [Circle.about(at((0.0, 0.0, 0.0), z, ALONG_X), 3.0) for z in ((0.0, 0.0, 1.0), (0.0, 1.0, 0.0))]
    assert not len(where_they_cross([straight, around[0]], 1e-6))
    spots = where_they_cross([straight, *around], 1e-6)
    assert sorted(spots[:, 0]) == pytest.approx([-3.0, 3.0]) and np.abs(spots[:, 1:]).max() < 1e-9


def union_of_bores(heights, across):
    """The volume of a bore of 4 to a height of 14 and two of 2 that come down on its bottom aslant, in a block of 20:
    the lengths of three stretches at every height and place across, laid together."""
    z, y = (x.ravel() for x in np.meshgrid((np.arange(heights) + 0.5) * 20.0 / heights,
                                           (np.arange(across) + 0.5) * 8.0 / across - 4.0))  # fmt: skip
    half = np.sqrt(np.maximum(np.stack([np.where(z < 14.0, 16.0 - y * y, 0.0), 8.0 - 2.0 * y * y, 8.0 - 2.0 * y * y]),
                              0.0))  # fmt: skip
    middle = np.stack([0.0 * z, z - 14.0, 14.0 - z])
    ends = np.clip(np.stack([middle - half, middle + half], axis=-1), -10.0, 10.0)
    ends = np.take_along_axis(ends, np.argsort(ends[..., 0], axis=0)[..., None], axis=0)
    total, reached = np.zeros_like(z), np.full_like(z, -10.0)
    for low, high in np.moveaxis(ends, 2, 1):
        total += np.maximum(high - np.maximum(low, reached), 0.0)
        reached = np.maximum(reached, high)
    return float(total.sum()) * (20.0 / heights) * (8.0 / across)


@pytest.mark.parametrize("order", [(0, 1, 2), (1, 2, 0), (2, 0, 1)])
def test_bores_that_meet_in_the_plane_of_a_bottom(order):
    """Of the two conics of slanted bores one lies in the plane in which the upright one ends: three faces share it."""
    block = prism(rectangle(-10.0, -10.0, 10.0, 10.0), 20.0)
    bores = [rod((0.0, 0.0, -1.0), (0.0, 0.0, 1.0), 4.0, 15.0), rod((-14.0, 0.0, 0.0), (1.0, 0.0, 1.0), 2.0, 30.0),
             rod((14.0, 0.0, 0.0), (-1.0, 0.0, 1.0), 2.0, 30.0)]  # fmt: skip
    for seed in seeds(5, 1):
        body = moved(block, motion(seed))
        for k in order:
            body = one(body, moved(bores[k], motion(seed)), "subtract")
        assert sound([body]) and 8000.0 - volume(body) == pytest.approx(union_of_bores(2000, 1600), rel=2e-4)


def test_a_tee_is_bored_from_where_the_axes_cross():
    """The end of the second bore touches the wall of the first in the two places at which the bores do; between its
    ends the wall is open from one to the other."""
    for seed in seeds(5, 1):
        tee = one(rod((-20.0, 0.0, 0.0), ALONG_X, 6.0), rod((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), 6.0, 18.0), "union")
        body = one(tee, rod((-21.0, 0.0, 0.0), ALONG_X, 4.5, 42.0), "subtract")
        body = moved(one(body, rod((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), 4.5, 20.0), "subtract"), motion(seed))
        whole = lambda r: np.pi * r * r * 58.0 - 8.0 * r**3 / 3.0  # noqa: E731
        assert sound([body]) and volume(body) == pytest.approx(whole(6.0) - whole(4.5), rel=1e-9)
        mesh = what_can(Model.of([body]), SizeRules(2.0))
        assert verdict(mesh).good and not mesh.failures


def ring(way):
    tube = [Piece((7.0, 0.0), (10.0, 0.0)), Piece((13.0, 0.0), (10.0, 0.0))]
    return revolved(tube, at((0.0, 0.0, 0.0), way, ALONG_X))


UP = (0.0, 0.0, 1.0)


@pytest.mark.parametrize("pair", [
    lambda: (rod((-20.0, 0.0, 0.0), ALONG_X, 4.0), rod((-17.32, 0.0, -10.0), (np.sqrt(0.75), 0.0, 0.5), 4.0)),
    lambda: (rod((-200.0, 0.0, 0.0), ALONG_X, 2.0, 400.0), rod((0.0, -200.0, 0.5), ALONG_Y, 1.9, 400.0)),
    lambda: (ball(10.0), rod((5.01, 0.0, -20.0), UP, 5.0)),
    lambda: (rod((-20.0, 0.0, 0.0), ALONG_X, 4.0), cone((0.0, 0.0, -20.0), UP, 7.0, 1.0, 40.0)),
    lambda: (cone((-20.0, 0.0, 0.0), ALONG_X, 7.0, 1.0, 40.0), cone((0.0, 0.0, -20.0), UP, 7.0, 1.0, 40.0)),
    lambda: (ring(UP), rod((-20.0, 0.0, 0.0), ALONG_X, 3.0)),
    lambda: (ring(UP), rod((-20.0, 0.0, 0.0), ALONG_X, 2.0)),
])  # fmt: skip
def test_what_crosses_at_right_angles_or_not_adds_up(pair):
    """What both have, and what only one has, are all there is."""
    a, b = (moved(body, motion(2)) for body in pair())
    got = {way: combine(a, b, way, 1e-7) for way in ("union", "intersect", "subtract")}
    union, common, less = (sum(map(volume, got[way])) for way in ("union", "intersect", "subtract"))
    assert all(map(sound, got.values())) and 0.0 < common < min(volume(a), volume(b))
    assert union + common == pytest.approx(volume(a) + volume(b), rel=1e-6)
    assert less + common == pytest.approx(volume(a), rel=1e-6)


def test_where_curves_cross_the_surfaces_touch():
    """Two ellipses cross where the skins of two rods of one radius have one normal; and what is left by a wall of no
    thickness is refused, where it is."""
    a, b = rod((-20.0, 0.0, 0.0), ALONG_X, 4.0), rod((0.0, -20.0, 0.0), ALONG_Y, 4.0)
    one_skin, other = (next(f.surface for f in body.faces if f.surface.kind == "cylinder") for body in (a, b))
    nodes = where_they_cross(closed_form(one_skin, other, 1e-7), 1e-6)
    assert sorted(np.round(nodes, 9).tolist()) == [[0.0, 0.0, -4.0], [0.0, 0.0, 4.0]]
    thin = rod((0.0, -20.0, 3.0), ALONG_Y, 1.0)
    assert sound(combine(a, thin, "union", 1e-7))
    with pytest.raises(Refusal, match="touches"):
        combine(a, thin, "subtract", 1e-7)


def crossed(which):
    """A block with bores of one radius that cross, or two rods; its faces by kind and its volume."""
    block = prism(rectangle(-15.0, -12.0, 15.0, 12.0), 24.0, at((0.0, 0.0, -12.0)))
    bores = [rod((-20.0, 0.0, 0.0), ALONG_X, BIG), rod((0.0, -20.0, 0.0), ALONG_Y, BIG)]
    both = 16.0 / 3.0 * BIG**3
    if which == "rods":
        return one(*bores, "union"), {"cylinder": 4, "plane": 4}, 2.0 * np.pi * BIG**2 * LONG - both
    if which == "port":
        bores[1] = rod((0.0, 0.0, 0.0), UP, BIG, 20.0)
    for bore in bores:
        block = one(block, bore, "subtract")
    if which == "port":
        return block, {"cylinder": 2, "plane": 6}, 17280.0 - np.pi * BIG**2 * (30.0 + 12.0) + 0.5 * both
    return block, {"cylinder": 4, "plane": 6}, 17280.0 - np.pi * BIG**2 * 54.0 + both


@pytest.mark.parametrize("which", ["bores", "port", "rods"])
def test_bores_of_one_radius_are_built_meshed_and_known_again(which):
    """From triangles, too, with and without scatter, each part of a bore is one face up to the two ellipses."""
    body, kinds, true = crossed(which)
    body = moved(body, motion(4))
    assert sound([body]) and volume(body) == pytest.approx(true, rel=1e-9)
    mesh = what_can(Model.of([body]), SizeRules(1.7, ignore=0.17))
    assert not mesh.failures and verdict(mesh).good and mesh.quality.smallest_angle.min() > 12.0
    assert mesh.volume_ratio == pytest.approx(1.0, abs=5e-3)
    for fineness, scatter in ((30, 0.0), (40, 0.02)):
        soup = divided(body, fineness, scatter, 1)
        model = run(State(Model.of([soup])), SolidFromTriangles(soup, kind="simple")).model
        (made,) = model.bodies
        assert {kind: [f.surface.kind for f in made.faces].count(kind) for kind in kinds} == kinds
        assert len(made.faces) == sum(kinds.values()) and sound([made], model.tolerance)
        assert volume(made) == pytest.approx(true, rel=1e-3)
