"""Sharp edges and corners, cuts, spikes and kinks are found with their true angle, and nothing else is."""

import numpy as np
import pytest
from dice import seeds
from solids import bracket, frame

from lithon.brep.measures import volume
from lithon.brep.topology import Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.curves import Line
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.samples import SAMPLES
from lithon.samples.build import Piece, face_toward, prism, rectangle
from lithon.survey.corners import turns
from lithon.survey.findings import findings

KINDS = {"knife edge", "cut", "kink", "small angle", "spike"}


def cards(body, size=4.0):
    return [f for f in findings(Model.of([body]), size) if f.kind in KINDS]


def angle_in(text):
    return float(text.split("°")[0].split()[-1])


@pytest.mark.parametrize("angle", [3.0, 8.0, 11.0])
@pytest.mark.parametrize("seed", seeds(2))
def test_a_wedge_ends_in_a_knife_edge(angle, seed):
    place = frame(np.random.default_rng(seed))
    wedge = prism([Piece((0, 0)), Piece((40, 0)), Piece((40, 40 * np.tan(np.radians(angle))))], 10.0, place)
    (card,) = cards(wedge)
    assert card.kind == "knife edge" and angle_in(card.text) == pytest.approx(angle, abs=0.06)
    assert np.allclose(card.place, place.origin + 5.0 * place.z, atol=1e-6) and card.severity == "costs"
    blunt = prism([Piece((0, 0)), Piece((40, 0)), Piece((40, 40 * np.tan(np.radians(15))))], 10.0, place)
    assert not cards(blunt)


def test_a_cut_a_kink_and_a_spike():
    place = frame(np.random.default_rng(7))
    half = 10 * np.tan(np.radians(3.0))
    cut = prism([Piece(p) for p in ((0, 0), (40, 0), (40, 20), (20 + half, 20), (20, 10), (20 - half, 20), (0, 20))],
                10.0, place)  # fmt: skip
    (card,) = (c for c in cards(cut) if c.kind == "cut")
    assert angle_in(card.text) == pytest.approx(6.0, abs=0.06) and card.severity == "note"
    kinked = prism(
        [Piece(p) for p in ((0, 0), (20, 0), (40, 20 * np.tan(np.radians(3))), (40, 20), (0, 20))], 9.0, place
    )
    (card,) = cards(kinked)
    assert card.kind == "kink" and angle_in(card.text) == pytest.approx(3.0, abs=0.06) and card.size == pytest.approx(9)
    # A sliver of a face beside an arc: the face's own corner is sharp although no edge of the solid is.
    plate = prism(rectangle(0, 0, 30, 20), 10.0, place)
    top = face_toward(plate, place.z)
    loop = top.loops[0]
    k = next(i for i, c in enumerate(loop) if c.edge.length == pytest.approx(30))
    a, b = loop[k].first, loop[k].last
    far = next(c.last for c in loop[k + 1 :] + loop[:k] if c.last not in (a, b))
    inner = Vertex(0.5 * (a.point + b.point) + 0.02 * (far.point - b.point))

    def line(p, q):
        return Edge(Line.through(p.point, q.point), 0.0, float(np.linalg.norm(q.point - p.point)), p, q)

    one, two = line(a, inner), line(inner, b)
    flake = Face(top.surface, ((loop[k], Coedge(two, False), Coedge(one, False)),), top.along)
    rest = top.with_loops(((*loop[:k], Coedge(one, True), Coedge(two, True), *loop[k + 1 :]),))
    uses = [u for u in plate.uses if u.face is not top]
    forward = next(u.forward for u in plate.uses if u.face is top)
    body = plate.with_uses([*uses, FaceUse(flake, forward), FaceUse(rest, forward)])
    sharp = [c for c in cards(body) if c.kind in ("small angle", "spike")]
    assert len(sharp) == 2 and all(c.faces == (flake,) for c in sharp)
    exact = np.degrees(np.arctan2(0.02 * 20, 15))
    assert angle_in(sharp[0].text) == pytest.approx(exact, abs=0.06)


def test_turns_agree_with_the_angles_of_a_polygon():
    rng = np.random.default_rng(3)
    turn = np.sort(rng.random(9)) * 2 * np.pi
    column = prism([Piece((10 * np.cos(t), 10 * np.sin(t))) for t in turn], 5.0, frame(rng))
    found = sorted(float(t.angle[2]) for t in turns(column) if t.edge.length == pytest.approx(5.0))
    p = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    d = np.roll(p, -1, axis=0) - p
    way = np.degrees(np.arctan2(d[:, 1], d[:, 0]))
    exact = np.sort(np.mod(np.roll(way, -1) - way + 180, 360) - 180)
    assert np.allclose(found, exact, atol=1e-6) and all(t.convex.all() for t in turns(column))


def test_sound_parts_have_none():
    for _, _, make, _ in SAMPLES[:5]:
        model = make()
        assert not [f for f in findings(model, 4.0) if f.kind in KINDS - {"kink"}]
    for seed in range(8):
        assert not cards(bracket(seed).body)


@pytest.mark.parametrize("seed", seeds(12))
def test_planes_that_touch_walls_cut_or_are_refused_with_their_place(seed):
    """Tangent to a hole's or boss' wall, at the four quarters and anywhere."""
    known = bracket(seed)
    body, rng = known.body, np.random.default_rng(seed)
    for face in [f for f in body.faces if isinstance(f.surface, Cylinder)][:4]:
        s = face.surface
        angle = rng.choice([0.0, np.pi / 2, np.pi, rng.uniform(0, 6.28)])
        out = np.cos(angle) * s.frame.x + np.sin(angle) * s.frame.y
        plane = Plane.of(s.frame.origin + s.radius * out, out)
        try:
            model = split(known.model, known.model.bodies, plane)
        except Refusal as refusal:
            if "no thickness" in refusal.what:
                place = np.array([float(x) for x in refusal.where.strip("() m").split(",")])
                assert abs(float(plane.signed_distance(place))) < 1e-2
                (wall,) = refusal.entities
                assert abs(float(wall.surface.signed_distance(place))) < 1e-2
                # By a little to either side the same plane cuts.
                for by in (-0.05, 0.05):
                    moved = split(known.model, known.model.bodies, plane.offset(by * s.radius))
                    assert sum(volume(b) for b in moved.bodies) == pytest.approx(known.volume, rel=1e-9)
            else:
                assert "does not pass" in refusal.what
            continue
        assert sum(volume(b) for b in model.bodies) == pytest.approx(known.volume, rel=1e-9)
        assert all(not flaws(b, model.tolerance) for b in model.bodies)
