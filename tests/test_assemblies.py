"""Assemblies out and in again: the tree, the names, parts at several places written once."""

import re
from dataclasses import replace

import numpy as np
import pytest
from dice import seeds
from solids import bracket, motion

import lithon
from lithon import do
from lithon.bond.share import bond
from lithon.brep.analysis.same import same_at
from lithon.brep.analysis.twins import motion_between
from lithon.brep.copies import moved
from lithon.brep.measures import mass_properties
from lithon.brep.topology import Body, Face, Model
from lithon.brep.validate import flaws
from lithon.geometry.frames import Frame
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import paddle_frame
from lithon.samples.build import Round, face_toward, prism, rectangle, sink
from lithon.survey.features import features


def solids_in(text: str) -> int:
    return len(re.findall(r"=(?:MANIFOLD_SOLID_BREP|BREP_WITH_VOIDS)\(", text))


def alike(one: Model, two: Model) -> None:
    """The same bodies by name, with their places, sizes, colours and paths; none has a flaw."""
    assert sorted(b.name for b in one.bodies) == sorted(b.name for b in two.bodies)
    there = {b.name: b for b in two.bodies}
    for body in one.bodies:
        other = there[body.name]
        assert other.path == body.path and other.colour == pytest.approx(body.colour)
        a, b = mass_properties(body), mass_properties(other)
        assert b.volume == pytest.approx(a.volume, rel=1e-9) and b.area == pytest.approx(a.area, rel=1e-9)
        size = 1e-7 * float(np.abs(a.inertia).max())
        assert b.centroid == pytest.approx(a.centroid, abs=1e-7) and b.inertia == pytest.approx(a.inertia, abs=size)
        assert not flaws(other, two.tolerance)


def test_the_paddle_frame_keeps_its_tree_and_its_bolts_are_written_once():
    model = paddle_frame()
    text = lithon.step_text(model, "paddle frame")
    assert solids_in(text) == 6  # two plates, a bolt, a bush, the pin and the stop
    assert len(re.findall("=NEXT_ASSEMBLY_USAGE_OCCURRENCE", text)) == 5 + 12 + 2 + 1
    back = lithon.parse_step(text)
    assert not back.notes
    alike(model, back.model)
    assert {b.path for b in back.model.bodies} == {
        ("lower plate",), ("upper plate",), ("fasteners", "bolt"), ("bearing", "bush"), ("bearing", "pin"), ("stop",)
    }  # fmt: skip
    again = lithon.step_text(back.model, "paddle frame")
    assert solids_in(again) == 6
    alike(model, lithon.parse_step(again).model)


def test_a_tree_that_is_bonded_keeps_what_it_shares():
    model, _ = bond(paddle_frame())
    back = lithon.parse_step(lithon.step_text(model)).model
    alike(model, back)
    assert len(back.shared()) == len(model.shared()) > 10


@pytest.mark.parametrize("seed", seeds(6))
def test_random_parts_anywhere(seed):
    """Brackets turned and shifted, one of them mirrored and one with another colour: what can be written once is."""
    part = bracket(seed).body
    red = (0.8, 0.1, 0.1)
    bodies = [replace(part, name="bracket", path=("left", "bracket"), colour=red)]
    bodies += [
        replace(moved(part, motion(10 * seed + k)), name=f"bracket {k + 1}", path=(side, "bracket"), colour=red)
        for k, side in ((1, "left"), (2, "right"), (3, "right"))
    ]
    bodies.append(replace(moved(part, motion(seed, mirrored=True)), name="hand", path=("left", "hand"), colour=red))
    bodies.append(replace(moved(part, motion(seed + 99)), name="plain", path=("right", "bracket")))
    bodies.append(replace(moved(part, motion(seed + 77)), name="loose"))
    model = Model.of(bodies)
    text = lithon.step_text(model, "rack")
    assert solids_in(text) == 4
    back = lithon.parse_step(text)
    assert not back.notes
    alike(model, back.model)


def test_names_that_a_reader_would_not_give_back_are_written_out():
    block = prism(rectangle(0, 0, 4, 3), 2.0, name="left hand")
    other = replace(moved(block, motion(4)), name="right hand")
    model = Model.of([replace(b, path=("block",)) for b in (block, other)])
    text = lithon.step_text(model)
    assert solids_in(text) == 2
    alike(model, lithon.parse_step(text).model)


def test_a_single_part_has_no_assembly():
    text = lithon.step_text(Model.of([prism(rectangle(0, 0, 4, 3), 2.0, name="block")]), "block")
    assert "NEXT_ASSEMBLY" not in text and lithon.parse_step(text).model.bodies[0].path == ()


@pytest.mark.parametrize("seed", seeds(6))
def test_motions_between_congruent_bodies_are_exact(seed):
    """Found to the last digits from the bodies alone; what is a hair different is not the same."""
    part, there = bracket(seed).body, motion(seed)
    found = same_at(part, moved(part, there))
    assert found is not None
    points = np.array([v.point for v in part.vertices()])
    placed, again = (points @ m[:3, :3].T + m[:3, 3] for m in (there, found))
    # A bracket with a symmetry of its own may come onto itself another way: as a set its corners agree.
    gap = np.linalg.norm(placed[:, None] - again[None], axis=2)
    assert gap.min(axis=0).max() < 1e-8 and gap.min(axis=1).max() < 1e-8
    assert same_at(part, moved(part, motion(seed, mirrored=True))) is None or motion_between(part, part) is not None


def test_what_only_looks_alike_is_not_the_same():
    def plate(radius: float) -> Body:
        return prism(rectangle(0, 0, 30, 20, radius), 5.0)

    assert same_at(plate(3.0), moved(plate(3.0), motion(1))) is not None
    assert same_at(plate(3.0), moved(plate(3.00001), motion(1))) is None
    pin = prism(Round((0, 0), 3.0), 10.0)
    assert same_at(pin, moved(pin, motion(2))) is not None
    assert same_at(pin, moved(prism(Round((0, 0), 3.0), 10.00001), motion(2))) is None


def lug() -> Body:
    """A block with two blind bores of one size and a wider one; no turn takes it onto itself or its mirror image."""
    block = prism(rectangle(0.0, 0.0, 30.0, 20.0), 8.0, name="lug")
    top = Frame.of((0.0, 0.0, 8.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    for x, y, r in ((6.0, 5.0, 2.0), (22.0, 14.0, 2.0), (20.0, 5.0, 3.0)):
        block = sink(block, face_toward(block, (0.0, 0.0, 1.0)), top, Round((x, y), r), 5.0)
    return block


def lugs() -> Model:
    """Three lugs anywhere, one mirrored, and a plain block."""
    first = lug()
    others = [replace(moved(first, motion(k, k == 3)), name=f"lug {k}") for k in (1, 2, 3)]
    return Model.of([first, *others, replace(prism(rectangle(200.0, 0.0, 230.0, 20.0), 8.0), name="plain")])


def feature_with(body: Body, radius: float) -> tuple[Face, ...]:
    return next(f.faces for f in features(body) if f.size == pytest.approx(2.0 * radius))


@pytest.mark.parametrize("way", ["first of them", "last of them"])
def test_a_step_on_one_is_done_to_its_twins(way):
    model = lugs()
    sizes = [mass_properties(b).volume for b in model.bodies]
    body = model.bodies[0 if way == "first of them" else 2]
    bore, small = (feature_with(body, r) for r in (3.0, 2.0))
    one = do.clear(bore)
    outcome = run(State(model), one.on_twins(True))
    assert outcome.words.endswith("on twins")
    gains = [mass_properties(b).volume - v for b, v in zip(outcome.model.bodies, sizes, strict=True)]
    assert gains == pytest.approx([45.0 * np.pi] * 3 + [0.0, 0.0], abs=1e-6)  # a mirror image is no twin
    assert motion_between(outcome.model.bodies[0], outcome.model.bodies[2]) is not None
    assert all(not flaws(b, model.tolerance) for b in outcome.model.bodies)
    # The one of two like bores that was chosen goes everywhere, not the other.
    after = run(State(model), do.clear(small).on_twins(True)).model
    assert motion_between(after.bodies[0], after.bodies[1]) is not None
    assert motion_between(after.bodies[1], after.bodies[2]) is not None
    # Switched off again it is the step that it was.
    assert one.on_twins(True).on_twins(False) == one
    assert run(State(model), one).volume_change == pytest.approx(45.0 * np.pi, rel=1e-9)
