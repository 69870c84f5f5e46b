"""Bodies of triangles carved by planes and sharing what they have in common: sections by Green's theorem, areas of
rectangles, volumes."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import motion as any_motion
from test_stuffing import needles, plate, potato

from lithon import SizeRules, do, tetrahedral_mesh
from lithon.arrays import triangle_areas, unit
from lithon.brep.faceted import bodies_of, soup_of
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.operations.running import run
from lithon.operations.state import State


def section_area(body, middle, way):
    """The area within the lines in which a plane meets triangles: by Green's theorem, each line along its triangle."""
    soup, total = soup_of(body), 0.0
    off = (soup.points - middle) @ way
    for corners in soup.corners[(off[soup.corners].min(axis=1) < 0.0) & (off[soup.corners].max(axis=1) > 0.0)]:
        x, d = soup.points[corners] - middle, off[corners]
        ends = [x[i] + d[i] / (d[i] - d[j]) * (x[j] - x[i]) for i, j in ((0, 1), (1, 2), (2, 0)) if d[i] * d[j] < 0.0]
        p, q = ends
        along = np.cross(way, np.cross(x[1] - x[0], x[2] - x[0]))
        total += 0.5 * np.sign((q - p) @ along) * float(np.cross(p, q) @ way)
    return total


@pytest.mark.parametrize("seed", seeds(4))
def test_bodies_of_triangles_are_carved_by_planes(seed):
    """The pieces are sound, each on its side of the plane, and make up the whole; both have the section as a face, of
    the area that a slice of the body has. What passes it by is refused, and so is what is no plane, each in words."""
    rng = np.random.default_rng(seed)
    for whole in (plate(6.0, seed), potato(seed), needles(seed)):
        points = soup_of(whole).points
        middle, way = points.mean(axis=0) + rng.uniform(-0.5, 0.5, 3), unit(rng.normal(size=3))
        cut = do.Cut.at(middle.tolist(), way.tolist())
        state = State(Model.of([whole]))
        pieces = run(state, do.carve(cut)).model.bodies
        assert [b.name for b in pieces] == [f"part {chr(65 + k)}" for k in range(len(pieces))] and len(pieces) >= 2
        assert sum(volume(b) for b in pieces) == pytest.approx(volume(whole), rel=1e-7)
        assert not [f for b in pieces for f in flaws(b, 1e-6)]
        sections = {1.0: 0.0, -1.0: 0.0}
        for piece in pieces:
            soup = soup_of(piece)
            off = (soup.points - middle) @ way
            sense = 1.0 if off.max() > -off.min() else -1.0
            assert (sense * off).min() > -1e-6
            on = (np.abs(off[soup.corners]) < 1e-6).all(axis=1)
            sections[sense] += float(triangle_areas(soup.points, soup.corners[on]).sum())
        expected = pytest.approx(section_area(whole, middle, way), rel=1e-6)
        assert sections[1.0] == expected and sections[-1.0] == expected
        with pytest.raises(Refusal, match="does not pass through"):
            run(state, do.carve(do.Cut.at((middle + 500.0 * way).tolist(), way.tolist())))
        with pytest.raises(Refusal, match="made of triangles"):
            run(state, do.carve(do.Cut.round(do.Axis.at(middle.tolist(), way.tolist()), 1.0)))


def of_triangles(*blocks, motion=None):
    """Blocks in triangles; moved, as a file of single precision has them."""
    soups = [soup_of(b) for b in blocks]
    if motion is not None:
        soups = [
            replace(s, points=np.float32(s.points @ motion[:3, :3].T + motion[:3, 3]).astype(float)) for s in soups
        ]
    return State(Model.of([bodies_of([s])[0][0] for s in soups]))


def area_of_shared(model):
    return sum(face_area(f) for f in model.shared())


FOOT = (0, 0, 20, 20, 0, 10)
ON_IT = {
    "the whole face": ((0, 0, 20, 20, 10, 14), 400.0, 1),
    "within it": ((4, 4, 9, 9, 10, 22), 25.0, 1),
    "over its edge": ((15, 15, 30, 30, 10, 12), 25.0, 1),
    "beside it": ((20, 5, 25, 30, 2, 15), 15.0 * 8.0, 1),
}


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize("name", ON_IT)
def test_triangles_share_what_they_have_in_common(name, turned):
    """A block on another, both in triangles: they share the rectangle that both have, and are meshed as one; one more
    beside both shares with each of them what it has with it. So it is where they lie askew and are rounded, so that
    no two corners or planes are quite the same."""
    where, area, count = ON_IT[name]
    motion = any_motion(sum(map(ord, name))) if turned else None
    one, two = box(*FOOT, "a"), box(*where, "b")
    model = run(of_triangles(one, two, motion=motion), do.bond()).model
    assert len(model.shared()) == count and area_of_shared(model) == pytest.approx(area, rel=1e-5)
    assert [volume(b) for b in model.bodies] == pytest.approx([volume(one), volume(two)], rel=1e-5)
    assert not [f for b in model.bodies for f in flaws(b, 1e-6)]
    mesh = tetrahedral_mesh(model, SizeRules(5.0))
    assert mesh.volume_ratio == pytest.approx(1.0) and mesh.quality.smallest_angle.min() > 12.0
    third = box(-6, -6, 0, 40, 0, 12, "c")  # all along the left side
    more = of_triangles(third, motion=motion).model.bodies
    along = run(State(Model((*model.bodies, *more), model.tolerance)), do.bond()).model
    left = 10.0 * 20.0 + (40.0 if name == "the whole face" else 0.0)
    assert area_of_shared(along) == pytest.approx(area + left, rel=1e-5)
    assert not [f for b in along.bodies for f in flaws(b, 1e-6)]


def test_triangles_are_drawn_together_over_a_gap():
    """A block that stands a little above another in triangles is drawn onto it where that is said, and not before."""
    state = of_triangles(box(*FOOT, "a"), box(4, 4, 9, 9, 10.02, 22, "b"), motion=any_motion(3))
    with pytest.raises(Refusal, match="lie on each other"):
        run(state, do.bond())
    model = run(state, do.bond(gap=0.05)).model
    assert len(model.shared()) == 1 and area_of_shared(model) == pytest.approx(25.0, rel=1e-5)
    assert [volume(b) for b in model.bodies] == pytest.approx([4000.0, 25.0 * 12.0], rel=1e-5)
    assert not [f for b in model.bodies for f in flaws(b, 1e-5)]


def test_triangles_that_share_nothing_are_told_why():
    apart, within = box(30, 0, 40, 20, 0, 10, "b"), box(4, 4, 9, 9, 9, 22, "c")
    with pytest.raises(Refusal, match="lie on each other") as told:
        run(of_triangles(box(*FOOT, "a"), apart), do.bond())
    assert "exact solids" in told.value.remedy
    with pytest.raises(Refusal, match="run into each other"):
        run(of_triangles(box(*FOOT, "a"), within), do.bond())


@pytest.mark.parametrize("seed", seeds(4))
def test_what_is_carved_in_triangles_can_be_bonded_and_carved_again(seed):
    """Any two planes through one of three kinds of bodies: the pieces of the first share its section, and all that is
    made of those by the second shares both, whole in what each holds; no node is anybody's alone on a shared face."""
    rng = np.random.default_rng(seed)
    for whole in (plate(6.0, seed), potato(seed), needles(seed)):
        middle = soup_of(whole).points.mean(axis=0) + rng.uniform(-0.5, 0.5, 3)
        first, second = (unit(rng.normal(size=3)) for _ in range(2))
        halves = run(State(Model.of([whole])), do.carve(do.Cut.at(middle.tolist(), first.tolist()))).state
        bonded = run(halves, do.bond()).state
        area = section_area(whole, middle, first)
        assert area_of_shared(bonded.model) == pytest.approx(area, rel=1e-6)
        quarters = run(bonded, do.carve(do.Cut.at(middle.tolist(), second.tolist()))).model
        assert len(quarters.bodies) > len(halves.model.bodies)
        assert area_of_shared(quarters) == pytest.approx(area + section_area(whole, middle, second), rel=1e-6)
        assert sum(volume(b) for b in quarters.bodies) == pytest.approx(volume(whole), rel=1e-7)
        assert not [f for b in (*bonded.model.bodies, *quarters.bodies) for f in flaws(b, 1e-6)]
        for body in quarters.bodies:  # each on its own side of both planes
            for way in (first, second):
                off = (soup_of(body).points - middle) @ way
                assert min(off.max(), -off.min()) < 1e-6


def test_a_round_cut_passes_triangles_by():
    """A body of triangles elsewhere does not keep exact ones from being cut; it is told where it is met, in the midst
    of a triangle, too."""
    exact, soup = box(0, 0, 9, 9, 0, 9, "exact"), box(0, 50, 9, 59, 0, 9, "soup")
    state = State(Model.of([exact, bodies_of([soup_of(soup)])[0][0]]))
    out = run(state, do.carve(do.Cut.round(do.Axis.at((0, 4, 4), (1, 0, 0)), 2.0))).model
    assert sorted(volume(b) for b in out.bodies) == pytest.approx([36 * np.pi, 729 - 36 * np.pi, 729])
    for bodies, z in ((["soup"], 4.5), (["soup"], 2.0)):
        with pytest.raises(Refusal, match="soup is made of triangles"):
            run(state, do.carve(do.Cut.round(do.Axis.at((0, 55, z), (1, 0, 0)), 1.0), bodies=bodies))
