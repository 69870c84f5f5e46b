"""Survey: features, findings, sizes and the selection language on solids with known truths."""

import numpy as np
import pytest
from dice import seeds
from solids import hip_roof

import lithon
from lithon.brep.analysis.thickness import thickness
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.operations.questions import NotAQuestion, ask
from lithon.samples.build import Piece, Round, face_toward, polyhedron, prism, raised, rectangle, sink
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.survey.sizes import LENSES, marks
from lithon.trim.clear import clear


def test_features_of_the_collar_anchor(anchor):
    found = lithon.features(anchor.bodies[0])
    count = {kind: sum(f.kind == kind for f in found) for kind in ("hole", "fillet", "pocket", "boss")}
    assert count == {"hole": 8, "fillet": 12, "pocket": 1, "boss": 1}
    assert sorted({f.size for f in found if f.kind == "hole"}) == [2.5, 3.0, 11.0, 18.0]
    assert all(f.through for f in found if f.kind == "hole")


def test_findings_follow_the_element_size(anchor):
    coarse, fine = findings(anchor, 4.0), findings(anchor, 0.5)
    kinds = {f.kind: sum(g.kind == f.kind for g in coarse) for f in coarse}
    assert kinds["small hole"] == 3 and kinds["small fillet"] == 12 and kinds["pocket"] == 1
    assert kinds["thin wall"] == 1
    assert not [f for f in fine if f.kind != "thin wall"] and not fine
    wall = next(f for f in coarse if f.kind == "thin wall")
    assert wall.size == pytest.approx(60 - 56.4 - 1.5, rel=0.02)
    grease = next(f for f in coarse if f.kind == "small hole" and f.size == 3.0)
    assert "2.1" in grease.keep and np.allclose(grease.place, (56.4, 0, 6))
    assert not any(f.keep for f in coarse if f.kind == "small hole" and f.size == 2.5)


def test_what_is_broken_stops_the_mesh(anchor):
    (body,) = anchor.bodies
    torn = Model.of([body.with_uses(body.uses[1:])])
    found = findings(torn, 4.0)
    assert {f.severity for f in found} == {"stops"} and {f.kind for f in found} == {"open boundary"}
    # As many cards as the missing face had loops, each as long as its loop, at its place.
    lengths = sorted(sum(c.edge.length for c in loop) for loop in body.uses[0].face.loops)
    assert sorted(f.size for f in found) == pytest.approx(lengths)
    assert {f.station for f in found} == {"mend"}


def test_thickness_of_a_plate_and_beside_a_hole():
    plate = prism(rectangle(0, 0, 40, 30), 6.0)
    up = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    body = sink(plate, face_toward(plate, (0, 0, 1)), up, Round((36, 15), 2.5), 6.0, face_toward(plate, (0, 0, -1)))
    where, wall, own, far, _facing = thickness(body)
    assert np.isfinite(wall).all()
    top = next(
        k for k, u in enumerate(body.uses) if u.face.surface.kind == "plane" and u.outward(np.zeros((1, 3)))[0][2] > 0.9
    )
    assert np.allclose(wall[own == top], 6.0)
    beside = (own != far) & (wall < 3.0)
    assert wall[beside].min() == pytest.approx(1.5, rel=0.02)
    assert abs(where[beside][wall[beside].argmin()][1] - 15.0) < 1.0


def test_sizes_for_the_sieve(anchor):
    by_lens = {lens.key: [m.value for m in marks(anchor, lens.key)] for lens in LENSES}
    assert len(by_lens["edges"]) == 88 and len(by_lens["fillets"]) == 12 and len(by_lens["holes"]) == 8
    assert all(v == sorted(v) for v in by_lens.values())
    assert by_lens["edges"][0] == pytest.approx(np.pi / 2 * 1.5)


def test_the_survey_as_data(anchor_file):
    facts = lithon.survey_of(lithon.read_step(anchor_file).model, 4.0)
    (body,) = facts["bodies"]
    assert body["closed"] and body["faces"] == 36 and body["edges"] == 88 and body["representation"] == "exact"
    assert set(facts["findings"][0]) >= {"kind", "severity", "size_mm", "place_mm", "remedy"}


def test_questions(anchor):
    assert ask(anchor, "holes").items == 8
    assert ask(anchor, "holes where diameter <= 2.5 mm").items == 2
    assert ask(anchor, "holes where diameter > 2.5 and diameter < 11 mm").items == 1
    assert ask(anchor, 'fillets where radius = 1.5 mm in "collar anchor"').items == 8
    assert ask(anchor, 'fillets in "another"').items == 0
    assert ask(anchor, "edges where length < 3 mm").edges
    assert ask(anchor, "bodies where volume > 1000 mm3").items == 1
    for wrong in (
        "",
        "holes wher",
        "screws",
        "holes where colour = 3",
        "holes where depth <",
        "edges where radius < 2",
    ):
        with pytest.raises(NotAQuestion):
            ask(anchor, wrong)


def test_short_edges_and_narrow_faces_are_found():
    step = [Piece((0, 0)), Piece((30, 0)), Piece((30, 10)), Piece((12, 10)), Piece((12, 10.4)), Piece((0, 10.4))]
    found = findings(Model.of([prism(step, 8.0)]), 3.0)
    short = [f for f in found if f.kind == "short edge"]
    assert not short  # the ends of the narrow face are told with it
    (edge,) = [f for f in findings(Model.of([hip_roof(0.4)]), 3.0) if f.kind == "short edge"]
    assert edge.size == pytest.approx(0.4) and edge.place == pytest.approx((20.0, 15.0, 20.0)) and not edge.faces
    (narrow,) = [f for f in found if f.kind == "narrow face"]
    assert narrow.size == pytest.approx(2 * 0.4 * 8 / 16.8)
    assert narrow.faces and not any(f.kind == "thin wall" for f in found)


def test_pins_are_told_once_and_what_is_small_on_them_too():
    """Of pins half a millimetre thick under elements of two, all edges and sides are short and narrow: that is told
    once, for each pin; a nick in one of them is told by itself."""
    plate = prism(rectangle(0.0, 0.0, 40.0, 10.0), 6.0)
    top = face_toward(plate, (0, 0, 1))
    for k in range(6):
        plate = raised(
            plate, top, Frame.of((4.0 + 6.0 * k, 5.0, 6.0), (0, 0, 1)), rectangle(-0.25, -0.25, 0.25, 0.25), 5.0
        )
        top = face_toward(plate, (0, 0, 1), (0.5, 0.5, 6.0))
    found = [f for f in findings(Model.of([plate]), 2.0) if f.kind in ("thin wall", "short edge", "narrow face")]
    assert [f.kind for f in found] == 6 * ["thin wall"]
    assert all(f.size == pytest.approx(0.5) and len(f.faces) == 4 for f in found)
    assert len({f for wall in found for f in wall.faces}) == 24
    nick = [Piece(p) for p in ((-0.25, -0.25), (0.25, -0.25), (0.25, 0.2), (0.21, 0.2), (0.21, 0.25), (-0.25, 0.25))]
    nicked = raised(plate, top, Frame.of((20.0, 2.0, 6.0), (0, 0, 1)), nick, 5.0)
    small = [f for f in findings(Model.of([nicked]), 2.0) if f.kind in ("short edge", "narrow face")]
    assert small and all(abs(f.place[0] - 20.0) < 0.3 and f.size < 0.06 for f in small)


@pytest.mark.parametrize("turn", [0.0, 0.3, 1.1])
def test_a_wall_as_thick_as_elements_are_asked_to_be_is_not_thin(turn):
    """Whatever rounding makes of it where it stands askew; a hair thinner it is."""
    frame = Frame.of((3.0, 1.0, 7.0), (np.sin(turn), 0.2 * turn, np.cos(turn)))
    plate = prism(rectangle(0.0, 0.0, 60.0, 40.0), 4.0)
    way = np.eye(4)
    way[:3, :3], way[:3, 3] = np.stack([frame.x, frame.y, frame.z], axis=1), frame.origin
    plate = moved(plate, way)
    kinds = {size: [f.kind for f in findings(Model.of([plate]), size)] for size in (5.0, 5.001)}
    assert "thin wall" not in kinds[5.0] and kinds[5.001].count("thin wall") == 1


def test_the_bevelled_end_of_a_pin_is_a_chamfer():
    """Though its end is no wider than its bevels are; without them the pin is a whole block."""
    square, tip = ((-1, -1), (1, -1), (1, 1), (-1, 1)), 0.12
    points = [(0.3 * x, 0.3 * y, 0.0) for x, y in square] + [(0.3 * x, 0.3 * y, 5.0 - tip) for x, y in square]
    points += [((0.3 - tip) * x, (0.3 - tip) * y, 5.0) for x, y in square]
    around = [(a, (a + 1) % 4) for a in range(4)]
    sides = [(3, 2, 1, 0), (8, 9, 10, 11)] + [(a + k, b + k, b + k + 4, a + k + 4) for k in (0, 4) for a, b in around]
    pin = polyhedron(np.array(points), sides)
    (feature,) = features(pin)
    assert feature.kind == "chamfer" and len(feature.faces) == 4 and feature.size == pytest.approx(tip * 2**0.5)
    assert volume(clear(pin, feature.faces, 1e-6)[0].body) == pytest.approx(0.36 * 5.0, rel=1e-9)


def test_twins_of_the_paddle_frame():
    from lithon.brep.analysis.twins import twins
    from lithon.samples import paddle_frame

    groups = {tuple(sorted(b.name.rstrip(" 0123456789") for b in g)) for g in twins(paddle_frame())}
    assert ("bolt",) * 12 in groups and ("bush",) * 2 in groups and len(groups) == 6


@pytest.mark.parametrize("seed", seeds(6))
def test_a_moved_copy_is_a_twin_and_a_mirrored_one_is_not(seed):
    from lithon.brep.analysis.twins import motion_between
    from lithon.brep.copies import moved
    from lithon.brep.measures import mass_properties
    from lithon.samples import cast_anchor
    from lithon.samples.build import Piece

    dice = np.random.default_rng(seed)
    frame = Frame.of(dice.uniform(-50, 50, 3), dice.normal(size=3), dice.normal(size=3))
    motion = np.eye(4)
    motion[:3, :3], motion[:3, 3] = np.stack([frame.x, frame.y, frame.z], axis=1), frame.origin
    odd = prism([Piece((0, 0)), Piece((9, 0)), Piece((9, 2)), Piece((4, 2)), Piece((4, 5)), Piece((0, 5))], 3.0)
    chiral = sink(odd, face_toward(odd, (0, 0, 1)), Frame.of((0, 0, 3), (0, 0, 1), (1, 0, 0)), Round((2, 1), 0.6), 1.0)
    cube, rod = prism(rectangle(0, 0, 5, 5), 5.0), prism(Round((0, 0), 3.0), 7.0)
    for body in (chiral, cube, rod, cast_anchor().bodies[0]):
        copy = moved(body, motion)
        found = motion_between(body, copy)
        assert found is not None
        centre = mass_properties(body).centroid
        assert found[:3, :3] @ centre + found[:3, 3] == pytest.approx(mass_properties(copy).centroid, abs=1e-6)
    mirror = np.diag([-1.0, 1.0, 1.0, 1.0])
    assert motion_between(chiral, moved(chiral, motion @ mirror)) is None
    assert motion_between(cube, moved(cube, motion @ mirror)) is not None  # a cube is its own mirror image


@pytest.mark.parametrize("gap", [0.3, 0.9])
def test_a_thin_slot_is_found_where_it_is_narrowest(gap):
    """A saw cut that opens upwards; the two sides are neighbours of its floor, not of each other."""
    from lithon.samples.build import Piece
    from lithon.survey.sizes import marks
    from lithon.survey.walls import slots

    low, high = 15.0 - gap / 2, 15.0 + gap / 2
    outline = [(0, 0), (30, 0), (30, 12), (high, 12), (high, 5), (low, 5), (low, 12), (0, 12)]
    body = prism([Piece(p) for p in outline], 8.0)
    (slot,) = [f for f in findings(Model.of([body]), 4.0) if f.kind == "thin slot"]
    assert slot.size == pytest.approx(gap, rel=1e-9) and len(slot.faces) == 2
    assert abs(slot.place[0] - 15.0) == pytest.approx(gap / 2) and 5.0 < slot.place[1] < 12.0
    assert not [f for f in findings(Model.of([body]), 0.8) if f.kind == "thin slot"]  # narrower than three of these
    assert marks(Model.of([body]), "gaps")[0].value == pytest.approx(gap, rel=1e-9)
    assert not slots(prism(rectangle(0, 0, 30, 12), 8.0), np.inf)  # a block looks at itself nowhere
