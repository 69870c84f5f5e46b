"""Carve and bond: pieces add up, close, and share; a random plane is as good as a straight one."""

import numpy as np
import pytest
from dice import examples
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from lithon.bond.share import bond
from lithon.brep.area import area_of
from lithon.brep.charts import chart_of
from lithon.brep.measures import face_area, mass_properties, volume
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.samples import ANCHOR, collar_anchor
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved, sink


def halves_agree(model: Model, cut: Model, plane: Plane) -> None:
    before = [mass_properties(b) for b in model.bodies]
    after = [mass_properties(b) for b in cut.bodies]
    total = sum(m.volume for m in before)
    assert sum(m.volume for m in after) == pytest.approx(total, rel=1e-9)
    middle = sum(m.volume * m.centroid for m in before) / total
    assert np.allclose(sum(m.volume * m.centroid for m in after) / total, middle, atol=1e-7)
    for body in cut.bodies:
        assert not flaws(body, cut.tolerance)
        side = np.concatenate([plane.signed_distance(e.curve.point(np.linspace(e.t0, e.t1, 9))) for e in body.edges()])
        assert side.min() > -1e-4 or side.max() < 1e-4
    section = sum(face_area(f) for b in cut.bodies for f in b.faces if f.label == "cut") / 2.0
    assert sum(m.area for m in after) == pytest.approx(sum(m.area for m in before) + 2 * section, rel=1e-9)


PLANES = [
    ((0, 0, 0), (0, 1, 0)), ((0, 0, 4), (0, 0, 1)), ((3, 0, 0), (1, 0, 0)), ((46, 0, 0), (1, 0, 0)),
    ((0, 0, 12), (0, 0, 1)), ((0, -13, 0), (0, 1, 0)), ((0, 0, 8), (0, 0, 1)), ((-3, 0, 34), (1, 0, 1)),
]  # fmt: skip


@pytest.mark.parametrize("origin,normal", PLANES)
def test_straight_cuts_of_the_collar_anchor(anchor, origin, normal):
    plane = Plane.of(origin, normal)
    cut = split(anchor, anchor.bodies, plane)
    halves_agree(anchor, cut, plane)
    bonded, contacts = bond(cut)
    assert contacts and all(c.verdict == "shared" for c in contacts)
    shared = bonded.shared()
    assert sum(face_area(f) for f in shared) == pytest.approx(sum(c.area for c in contacts), rel=2e-2)
    for face in shared:
        a, b = bonded.owners(face)
        assert {u.forward for body in (a, b) for u in body.uses if u.face is face} == {True, False}
    assert all(not flaws(b, bonded.tolerance) for b in bonded.bodies)


def test_the_mirror_plane_gives_equal_halves(anchor):
    cut = split(anchor, anchor.bodies, Plane.of((0, 0, 0), (0, 1, 0)))
    a, b = (mass_properties(body) for body in cut.bodies)
    assert a.volume == pytest.approx(ANCHOR.volume / 2, rel=1e-12) == b.volume
    assert np.allclose(a.centroid * [1, -1, 1], b.centroid)
    assert [len(x.faces) for x in cut.bodies] == [26, 26]


REFUSED: list[object] = []


@settings(max_examples=examples(14), deadline=None)
@given(
    st.tuples(st.floats(-50, 50), st.floats(-30, 30), st.floats(2, 45)),
    st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.2),
)
def test_any_plane(origin, normal):
    # A plane that leans by less than a milliradian against the part's own directions may be refused.
    lean = np.abs(np.array(normal)) / np.linalg.norm(normal)
    assume(bool(((lean == 0.0) | (lean > 1e-3)).all()))
    model = collar_anchor()
    plane = Plane.of(origin, normal)
    try:
        cut = split(model, model.bodies, plane)
    except Refusal as refusal:
        if "does not pass" not in refusal.what:
            # A plane that just touches a round face is refused as yet; more than that must not be.
            REFUSED.append((origin, normal))
            assert len(REFUSED) <= 2, f"too many cuts refused: {REFUSED}"
        return
    halves_agree(model, cut, plane)
    bonded, contacts = bond(cut)
    assert {c.verdict for c in contacts} == {"shared"}
    twice = sum(len(b.faces) for b in bonded.bodies) - len(bonded.faces())
    assert twice == len(bonded.shared()) == len(contacts)


def test_what_lies_beyond_a_rounded_edge_is_not_on_its_round():
    """A tip cut off slantwise beside a rounded edge shares its cut with the rest and does not run into it; of the round
    that is left, points a quarter turn on are outside, however long its straight sides are."""
    model = collar_anchor()
    plane = Plane.of((-49.0, 0.0, 33.29874880585956), (0.551629849692258, 1.0, -0.22851673955220497))
    cut = split(model, model.bodies, plane)
    halves_agree(model, cut, plane)
    _, contacts = bond(cut)
    assert [c.verdict for c in contacts] == ["shared"] * 2 and len(cut.bodies) == 3
    rounds = [f for b in cut.bodies for f in b.faces if f.surface.kind == "cylinder" and f.surface.radius == 1.5]
    assert rounds
    for face in rounds:
        flat = chart_of(face).flat(face_mesh(face).points)
        low, high = flat.min(axis=0), flat.max(axis=0)
        if high[0] - low[0] > 3.0:
            continue  # a bore, all around
        u = np.linspace(0.05, np.pi, 30) * face.surface.radius
        inside = np.linspace(low[1], high[1], 9)
        for beyond in (high[0] + u, low[0] - u):
            at = np.stack(np.meshgrid(beyond, inside, indexing="ij"), axis=-1).reshape(-1, 2)
            assert (area_of(face).side(chart_of(face).point(at), 1e-6) == -1).all()


def test_a_pipe_cut_along_and_across():
    rod = prism(Round((0, 0), 6.0), 20.0)
    top = Frame.of((0, 0, 20), (0, 0, 1), (1, 0, 0))
    pipe = sink(rod, face_toward(rod, (0, 0, 1)), top, Round((0, 0), 4.0), 20.0, face_toward(rod, (0, 0, -1)))
    model = Model.of([pipe])
    across = split(model, model.bodies, Plane.of((0, 0, 5), (0, 0, 1)))
    assert [volume(b) for b in across.bodies] == pytest.approx([20 * np.pi * 15, 20 * np.pi * 5])
    along = split(across, across.bodies, Plane.of((0, 0, 0), (1, 0, 0)))
    assert len(along.bodies) == 4
    bonded, contacts = bond(along)
    # Two rings of contact between upper and lower quarters, four walls between left and right.
    assert len(contacts) == 6 and len(bonded.shared()) == 6
    slant = split(model, model.bodies, Plane.of((0, 0, 10), (1, 0, 2)))
    halves_agree(model, slant, Plane.of((0, 0, 10), (1, 0, 2)))


def test_refusals():
    block = prism(rectangle(0, 0, 10, 10), 5.0, name="block")
    model = Model.of([block])
    for origin in ((0, 0, 5), (0, 0, 9)):
        with pytest.raises(Refusal, match="does not pass"):
            split(model, model.bodies, Plane.of(origin, (0, 0, 1)))
    with pytest.raises(Refusal, match="touch"):
        bond(model)
    _bonded, _ = bond(split(model, model.bodies, Plane.of((5, 0, 0), (1, 0, 0))))
    sunk = prism(rectangle(2, 2, 4, 4), 3.0, Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)), "sunk")
    with pytest.raises(Refusal, match="run into each other"):
        bond(Model.of([block, sunk]))
    with pytest.raises(Refusal, match="run into each other"):
        bond(Model.of([block, prism(rectangle(2, 2, 12, 4), 4.0, Frame.of((0, 0, 1), (0, 0, 1)), "key")]))


def test_a_bonded_body_cut_alone_keeps_its_bonds():
    block = prism(rectangle(0, 0, 10, 10), 5.0, name="block")
    bonded, _ = bond(split(Model.of([block]), [block], Plane.of((5, 0, 0), (1, 0, 0))))
    cut = split(bonded, bonded.bodies[:1], Plane.of((0, 4, 0), (0, 1, 0)))
    assert len(cut.bodies) == 3 and len(cut.shared()) == 3
    assert sorted(round(face_area(f), 9) for f in cut.shared()) == [20, 25, 30]
    assert all(not flaws(b, cut.tolerance) for b in cut.bodies)


def test_unlike_outlines_are_imprinted():
    block = prism(rectangle(0, 0, 10, 10), 5.0, name="block")
    lift = Frame.of((0, 0, 5), (0, 0, 1), (1, 0, 0))
    pad = prism(rectangle(-2, 2, 4, 4), 3.0, lift, "pad")
    post = prism(Round((7, 7), 2.0), 9.0, lift, "post")
    ring = revolved(
        [Piece((3, 0)), Piece((4, 0)), Piece((4, 2)), Piece((3, 2))], Frame.of((7, 7, 5), (0, 0, 1)), "ring"
    )
    model, contacts = bond(Model.of([block, pad, post]))
    assert sorted(c.area for c in contacts) == pytest.approx([8.0, 4 * np.pi])
    assert {c.verdict for c in contacts} == {"shared"} and len(model.shared()) == 2
    assert [volume(b) for b in model.bodies] == pytest.approx([500.0, 36.0, 36 * np.pi])
    assert len(model.bodies[0].faces) == 8 and all(not flaws(b, model.tolerance) for b in model.bodies)
    sleeve = Model.of([prism(Round((7, 7), 3.0), 1.0, lift, "hub"), ring])
    model, contacts = bond(sleeve)
    assert [c.area for c in contacts] == pytest.approx([6 * np.pi]) and len(model.shared()) == 1


def test_cuts_by_cylinder_sphere_and_cone():
    block = prism(rectangle(-10, -8, 10, 8), 12.0, name="block")
    model = Model.of([block])
    bore = split(model, model.bodies, Cylinder.of((0, 0, 0), (0, 0, 1), 5.0))
    assert [volume(b) for b in bore.bodies] == pytest.approx([20 * 16 * 12 - 300 * np.pi, 300 * np.pi], rel=1e-12)
    ball = split(model, model.bodies, Sphere.of((0, 0, 12), 6.0))
    assert sorted(volume(b) for b in ball.bodies)[0] == pytest.approx(2 / 3 * np.pi * 216, rel=1e-9)
    cone = split(model, model.bodies, Cone.of((0, 0, 12), (0, 0, 1), 6.0, np.pi / 4))
    assert sorted(volume(b) for b in cone.bodies)[0] == pytest.approx(np.pi / 3 * 216, rel=1e-9)
    slant = split(model, model.bodies, Cylinder.of((0, 0, 6), (1, 0.3, 0.2), 3.0))
    assert sum(volume(b) for b in slant.bodies) == pytest.approx(20 * 16 * 12, rel=1e-9)
    bonded, contacts = bond(slant)
    # The oblique cylinder wall, which only the two halves have in common.
    assert len(bonded.shared()) == 1 and contacts[0].area == pytest.approx(face_area(bonded.shared()[0]))
    for m in (bore, ball, cone, bonded):
        assert all(not flaws(b, m.tolerance) for b in m.bodies)


def test_untouched_bodies_stay_the_same_objects():
    a = prism(rectangle(0, 0, 10, 10), 5.0, name="a")
    b = prism(rectangle(20, 0, 30, 10), 5.0, name="b")
    model = Model.of([a, b])
    cut = split(model, model.bodies, Plane.of((5, 0, 0), (1, 0, 0)))
    assert cut.bodies[2] is b
    assert isinstance(cut.bodies[0], Body) and [x.name for x in cut.bodies] == ["a A", "a B", "b"]
