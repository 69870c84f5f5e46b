"""What a cut leaves that touches only along an edge: solids of their own, which have nothing in common."""

import numpy as np
import pytest
from dice import seeds
from solids import motion

from lithon.arrange.boolean import combine
from lithon.bond.share import bond
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules
from lithon.samples.build import Piece, prism, rectangle, revolved

UP = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))


def stand_alone(bodies, tolerance=1e-6):
    """Sound, and without anything in common."""
    seen = set()
    for body in bodies:
        assert closed(body) and not flaws(body, tolerance)
        own = {*body.vertices(), *body.edges(), *body.faces}
        assert seen.isdisjoint(own)
        seen |= own


@pytest.mark.parametrize("seed", seeds(30))
def test_an_angle_cut_through_its_inner_corner(seed):
    """A plane through the inner corner of an angle leaves the angle's heel and both ends of its legs."""
    rng = np.random.default_rng(seed)
    wide, high, thick, deep = rng.uniform(6, 12), rng.uniform(6, 12), rng.uniform(1, 4), rng.uniform(1, 8)
    ends = [(0, 0), (wide, 0), (wide, thick), (thick, thick), (thick, high), (0, high)]
    place = motion(seed)
    body = moved(prism([Piece(p) for p in ends], deep, UP), place)
    # The plane falls from the inner corner to both legs' outer sides.
    fall = rng.uniform(0.3, 3.0)
    plane = Plane.of(place[:3, :3] @ [thick, thick, 0.0] + place[:3, 3], place[:3, :3] @ [fall, 1.0, 0.0])
    model = split(Model.of([body]), [body], plane)
    stand_alone(model.bodies, model.tolerance)

    def beyond(leg, slope):
        """The part of a leg beyond a line that leaves the inner corner and comes to its outer side after `slope`."""
        out = leg - thick
        return thick * out - 0.5 * thick * slope if slope <= out else 0.5 * out**2 * thick / slope

    right, top = deep * beyond(wide, thick / fall), deep * beyond(high, thick * fall)
    whole = volume(body)
    assert sorted(volume(b) for b in model.bodies) == pytest.approx(sorted([whole - right - top, right, top]), rel=1e-9)
    bonded, contacts = bond(model)
    assert len(contacts) == 2 and all(c.verdict == "shared" for c in contacts)
    assert all(not flaws(b, bonded.tolerance) for b in bonded.bodies)


@pytest.mark.parametrize("way", ["union", "subtract", "intersect"])
def test_blocks_that_touch_along_an_edge(way):
    a = prism(rectangle(-5.0, -5.0, 5.0, 5.0), 5.0, UP)
    b = prism(rectangle(-5.0, -5.0, 5.0, 5.0), 5.0, Frame.of((10, 10, 0), (0, 0, 1), (1, 0, 0)))
    made = combine(a, b, way, 1e-7)
    assert [round(volume(x), 6) for x in made] == {"union": [500.0, 500.0], "subtract": [500.0], "intersect": []}[way]
    stand_alone(made)


def test_rings_that_touch_along_a_circle():
    """A ring of triangular section from which a groove takes just as much that two rings are left."""
    ring = revolved([Piece((4, 0)), Piece((10, 0)), Piece((7, 3))], UP)
    groove = revolved([Piece((5, -1)), Piece((9, -1)), Piece((7, 3))], UP)
    made = combine(ring, groove, "subtract", 1e-7)
    assert len(made) == 2
    stand_alone(made)
    whole, gone = volume(ring), volume(combine(ring, groove, "intersect", 1e-7)[0])
    assert sum(map(volume, made)) == pytest.approx(whole - gone, rel=1e-9)


def test_a_block_pinched_along_an_edge_stays_one():
    """Two holes that meet in an edge pinch the block between them; what they leave hangs together elsewhere."""
    block = prism(rectangle(-10.0, -10.0, 10.0, 10.0), 5.0, UP)
    for x in (-3.0, 3.0):
        hole = prism(rectangle(-3.0, -3.0, 3.0, 3.0), 9.0, Frame.of((x, x, -2.0), (0, 0, 1), (1, 0, 0)))
        (block,) = combine(block, hole, "subtract", 1e-7)
    assert volume(block) == pytest.approx(5.0 * (400.0 - 72.0), rel=1e-12)
    assert max(len(uses) for uses in _uses(block).values()) == 4


def _uses(body):
    out = {}
    for face in body.faces:
        for edge in face.edges():
            out.setdefault(edge, []).append(face)
    return out


def test_pieces_that_touched_are_meshed_each_by_itself():
    ends = [(0, 0), (10, 0), (10, 4), (4, 4), (4, 10), (0, 10)]
    body = prism([Piece(p) for p in ends], 5.0, UP)
    model = split(Model.of([body]), [body], Plane.of((4, 4, 0), (1, 1, 0)))
    mesh = mesh_of(model, SizeRules(2.0), "tet")
    assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, rel=1e-9)
