"""Solids with round and conical faces: closed forms, STEP, blends undone, booleans, meshes."""

import numpy as np
import pytest
from dice import seeds
from proof import sound
from solids import simple_solid

import lithon
from lithon.arrange.boolean import combine
from lithon.brep.measures import mass_properties, volume
from lithon.brep.tessellation.tessellate import body_mesh, open_edges
from lithon.brep.topology import Body, Face, FaceUse, Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.exchange.step_read import parse_step
from lithon.exchange.step_write import step_text
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere, Torus
from lithon.samples.build import (
    Piece,
    Round,
    Section,
    face_toward,
    prism,
    raised,
    rectangle,
    revolved,
    rounded_floor,
    rounded_root,
    rounded_top,
    sink,
)  # fmt: skip
from lithon.samples.outline import SPANDREL, SPANDREL_CENTRE, band, rounded
from lithon.trim.clear import clear

F = Frame.of((1.0, 2.0, 3.0), (1.0, 1.0, 2.0), (1.0, 0.0, 0.0))
TOP = Frame.of(F.origin + 10 * F.z, F.z, F.x)


def block(section: Section | None = None, corner: float = 0.0) -> Body:
    return prism(rectangle(-30, -20, 30, 20, corner), 10, F, "block", section)


def lid(r: float, corner: float) -> float:
    """Volume of the block with a fillet around its upper edge."""
    return rounded(60, 40, corner) * 10 - band(60, 40, corner, SPANDREL * r * r, SPANDREL_CENTRE * r)


def drilled() -> Body:
    tip = Section.through((-4, -8 - 4 / np.tan(np.radians(59))), (0, -8), (0, -1), (1, 0))
    body = prism(rectangle(-30, -20, 30, 20), 20, F, "drilled")
    up = Frame.of(F.origin + 20 * F.z, F.z, F.x)
    return sink(body, face_toward(body, F.z), up, Round((10, 0), 4), 0, None, tip)


BALL = Body((FaceUse(Face(Sphere.of((1, 2, 3), 4), ())),), "ball")
RING = Body((FaceUse(Face(Torus.of((1, 2, 3), (1, 0, 1), 7, 4), ())),), "ring")
CONE_HOLE = np.pi * 16 * (7 + 4 / np.tan(np.radians(59)) / 3) + np.pi / 3 * (16 + 20 + 25)
SOLIDS = {
    "ball": (lambda: BALL, 4 / 3 * np.pi * 64, 1),
    "ring": (lambda: RING, 2 * np.pi**2 * 7 * 16, 1),
    "cone": (lambda: revolved([Piece((0, 0)), Piece((5, 0)), Piece((0, 9))], F), np.pi * 25 * 3, 2),
    "half ball": (lambda: revolved([Piece((0, 0)), Piece((5, 0), (0, 0)), Piece((0, 5))], F), 2 / 3 * np.pi * 125, 2),
    "frustum": (lambda: revolved([Piece((2, 0)), Piece((6, 0)), Piece((3, 8)), Piece((2, 8))], F),
                np.pi * 8 / 3 * (36 + 18 + 9) - np.pi * 4 * 8, 4),
    "torus": (lambda: revolved([Piece((12, 0), (10, 0)), Piece((8, 0), (10, 0))], F), 2 * np.pi**2 * 10 * 4, 2),
    "lid": (lambda: block(rounded_top(0, 10, 2), 6), lid(2, 6), 18),
    "ball corners": (lambda: block(rounded_top(0, 10, 2), 2), lid(2, 2), 18),
    "chamfered": (lambda: block(Section.through((0, 0), (0, 8), (-2, 10))),
                  60 * 40 * 8 + 2 / 6 * (2400 + 4 * 58 * 38 + 2016), 10),
    "drilled": (drilled, 48000 - CONE_HOLE, 9),
}  # fmt: skip


@pytest.mark.parametrize("name", SOLIDS)
def test_closed_forms_step_and_triangles(name):
    make, exact, faces = SOLIDS[name]
    body = make()
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and len(body.faces) == faces
    mass = mass_properties(body)
    assert mass.volume == pytest.approx(exact, rel=1e-9)
    points, triangles, _ = body_mesh(body)
    assert open_edges(triangles) == 0
    v = points[triangles]
    inside = np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0
    assert inside == pytest.approx(exact, rel=0.02)
    # What is written reads back equal, with no seam left.
    back = parse_step(step_text(model)).model.bodies[0]
    again = mass_properties(back)
    counts = [(len(b.faces), len(b.edges()), len(b.vertices())) for b in (body, back)]
    assert counts[0] == counts[1] and not flaws(back, model.tolerance)
    assert again.volume == pytest.approx(mass.volume, rel=1e-12) and again.area == pytest.approx(mass.area, rel=1e-12)
    assert np.allclose(again.inertia, mass.inertia, rtol=1e-9, atol=1e-9 * np.abs(mass.inertia).max())


@pytest.mark.parametrize("name", ["ball", "ring", "cone", "half ball", "frustum", "lid", "ball corners", "drilled"])
def test_meshes_of_round_solids_are_sound(name):
    make, _, _ = SOLIDS[name]
    mesh = lithon.tetrahedral_mesh(Model.of([make()]), lithon.SizeRules(2.0 if name != "lid" else 4.0))
    sound(mesh)
    assert mesh.quality.smallest_angle.min() > 10.0
    curved, straight = lithon.quadratic(mesh)
    assert straight <= 0.005 * len(curved.points)
    mids = curved.points[np.unique(curved.elements[:, 4:])]
    assert len(mids) == len(curved.points) - len(mesh.points)


# ---- blends


def _small(face: Face, r: float) -> bool:
    s = face.surface
    return getattr(s, "minor", getattr(s, "radius", None)) == pytest.approx(r)


@pytest.mark.parametrize("corner,r,what,exact", [
    (6.0, 2.0, lambda f: f.surface.kind == "torus" or _small(f, 2.0), rounded(60, 40, 6) * 10),
    (6.0, 2.0, lambda f: f.surface.kind != "plane", 24000.0),
    (2.0, 2.0, lambda f: f.surface.kind != "plane", 24000.0),
])  # fmt: skip
def test_chains_of_fillets_collapse_onto_their_edges(corner, r, what, exact):
    body = block(rounded_top(0, 10, r), corner)
    done = clear(body, [f for f in body.faces if what(f)], 1e-6)[0].body
    assert volume(done) == pytest.approx(exact, rel=1e-12) and not flaws(done, 1e-6)


def test_chamfers_roots_floors_and_countersinks():
    body = block(Section.through((0, 0), (0, 8), (-2, 10)))
    slopes = [f for f in body.faces if 0.5 < abs(f.surface.frame.z @ F.z) < 0.9]
    done = clear(body, slopes, 1e-6)[0].body
    assert volume(done) == pytest.approx(24000, rel=1e-12) and len(done.faces) == 6 and len(done.edges()) == 12
    plain = block()
    up = face_toward(plain, F.z)
    boss = raised(plain, up, TOP, rectangle(-20, -8, 0, 8, 3), 0, rounded_root(0, 7, 1.0))
    roots = [f for f in boss.faces if f.surface.kind == "torus" or _small(f, 1.0)]
    assert volume(clear(boss, roots, 1e-6)[0].body) == pytest.approx(24000 + rounded(20, 16, 3) * 7, rel=1e-12)
    pocket = sink(plain, up, TOP, rectangle(-20, -8, 0, 8, 3), 0, None, rounded_floor(-5, 0, 1.0))
    floor = [f for f in pocket.faces if f.surface.kind == "torus" or _small(f, 1.0)]
    assert volume(clear(pocket, floor, 1e-6)[0].body) == pytest.approx(24000 - rounded(20, 16, 3) * 5, rel=1e-12)
    whole = [f for f in pocket.faces if f not in set(plain.faces) and f.surface.frame.origin is not TOP.origin]
    whole = [f for f in whole if len(f.loops) == 1 and not any(e in set(plain.edges()) for e in f.edges())]
    assert volume(clear(pocket, whole, 1e-6)[0].body) == pytest.approx(24000, rel=1e-12)
    hole = drilled()
    sunk = next(f for f in hole.faces if f.surface.kind == "cone" and len(f.loops) == 2)
    straight = clear(hole, [sunk], 1e-6)[0].body
    assert volume(straight) == pytest.approx(48000 - np.pi * 16 * (8 + 4 / np.tan(np.radians(59)) / 3), rel=1e-12)
    every = [f for f in hole.faces if f.surface.kind in ("cone", "cylinder")]
    assert volume(clear(hole, every, 1e-6)[0].body) == pytest.approx(48000, rel=1e-12)


# ---- booleans


def test_random_pairs_obey_the_volume_identity():
    """Refusals are counted: fewer than one in a hundred. `tools/pairs.py` does the same by the thousand."""
    refused = []
    for seed in (300 + k for k in seeds(120, 40)):
        rng = np.random.default_rng(seed)
        a, b = simple_solid(rng, "bckb"), simple_solid(rng, "bcks")
        try:
            both, common, less = (combine(a, b, op, 1e-6) for op in ("union", "intersect", "subtract"))
        except Refusal:
            refused.append(seed)
            continue
        total = [sum(volume(x) for x in found) for found in (both, common, less)]
        scale = max(volume(a), volume(b))
        assert total[0] + total[1] == pytest.approx(volume(a) + volume(b), abs=1e-6 * scale)
        assert total[2] + total[1] == pytest.approx(volume(a), abs=1e-6 * scale)
        assert all(not flaws(x, 1e-6) for found in (both, common, less) for x in found)
    assert len(refused) <= 1


def test_flush_and_touching_solids():
    base = prism(rectangle(0, 0, 10, 10), 5, name="base")
    beside = prism(rectangle(10, 0, 16, 10), 5, name="beside")
    (one,) = combine(base, beside, "union", 1e-6)
    assert len(one.faces) == 6 and len(one.edges()) == 12 and volume(one) == pytest.approx(800)
    assert combine(base, beside, "intersect", 1e-6) == []
    assert volume(combine(base, beside, "subtract", 1e-6)[0]) == pytest.approx(500)
    (nothing_left,) = combine(base, base.with_uses(base.uses), "union", 1e-6)
    assert volume(nothing_left) == pytest.approx(500)
    bore = prism(Round((5, 5), 2), 9, Frame.of((0, 0, -2), (0, 0, 1)))
    (holed,) = combine(base, bore, "subtract", 1e-6)
    assert len(holed.faces) == 7 and volume(holed) == pytest.approx(500 - 20 * np.pi)
    flush = prism(Round((5, 5), 2), 5)
    (same,) = combine(base, flush, "subtract", 1e-6)
    assert len(same.faces) == 7 and volume(same) == pytest.approx(500 - 20 * np.pi)
    slot = prism(rectangle(4, -1, 6, 11), 9, Frame.of((0, 0, -2), (0, 0, 1)))
    assert [volume(b) for b in combine(base, slot, "subtract", 1e-6)] == pytest.approx([200, 200])
