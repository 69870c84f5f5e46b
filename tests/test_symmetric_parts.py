"""Halves, quarters and sectors: mirrors and turns that are found, on parts that stand anywhere."""

import numpy as np
import pytest
from blocks import box
from dice import seeds
from solids import motion as any_motion

from lithon import do
from lithon.brep.copies import moved
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.mirrors import agreement, best_start, mirrors, square, turns, zero
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import WHEEL, collar_anchor, sluice_wheel
from lithon.samples.build import Round, face_toward, prism, sink

UP = Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0))


def bored(count: int, radius: float = 2.0, extra: bool = False) -> Model:
    """A round plate with bores on a circle, and one more off it that spoils the symmetry."""
    body = prism(Round((0.0, 0.0), 20.0), 4.0, name="plate")
    places = [(12.0 * np.cos(2 * np.pi * k / count), 12.0 * np.sin(2 * np.pi * k / count)) for k in range(count)]
    for at in [*places, *([(3.0, 1.0)] if extra else [])]:
        top, under = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
        body = sink(body, top, UP, Round((float(at[0]), float(at[1])), radius), 4.0, under)
    return Model.of([body])


@pytest.mark.parametrize("count", [3, 5, 7, 8])
def test_a_sector_of_any_count_anywhere(count):
    model = bored(count)
    model = Model(tuple(moved(b, any_motion(count)) for b in model.bodies), model.tolerance)
    found = turns(model)
    assert found is not None and found.count == count
    out = run(State(model), do.sector())
    assert count * sum(map(volume, out.model.bodies)) == pytest.approx(volume(model.bodies[0]), rel=1e-12)
    assert all(not flaws(b, out.model.tolerance) for b in out.model.bodies)
    sides = [f for f in out.model.faces() if f.label.startswith(f"sector 1/{count} side")]
    areas = sorted((f.label, face_area(f)) for f in sides)
    assert len(sides) == 2 and areas[0][1] == pytest.approx(areas[1][1], rel=1e-12)
    between = np.arccos(np.clip(abs(float(sides[0].surface.frame.z @ sides[1].surface.frame.z)), 0, 1))
    turn = 2 * np.pi / count
    assert min(abs(between - turn), abs(between - (np.pi - turn))) < 1e-9
    walls = [f for f in out.model.faces() if f.surface.kind == "cylinder" and abs(f.surface.radius - 2.0) < 1e-9]
    assert len(walls) == 1 and len(walls[0].loops) == 2  # it begins where no bore is cut


def test_the_best_start_lies_between_the_bores():
    model = bored(6)
    found = turns(model)
    frame = zero(found).frame
    (bore,) = [f for f in model.faces() if f.surface.kind == "cylinder" and abs(f.surface.radius - 2) < 1e-9][:1]
    local = frame.local(bore.surface.frame.origin[None])[0]
    at = np.mod(np.arctan2(local[1], local[0]), np.pi / 3)
    off = abs(np.mod(best_start(model, found) - at + np.pi / 6, np.pi / 3) - np.pi / 6)
    assert off > np.arcsin(2.0 / 12.0)


@pytest.mark.slow
def test_the_sluice_wheel_of_a_prime_count():
    model = sluice_wheel()
    out = run(State(model), do.sector())
    assert out.details[0]["count"] == WHEEL.blades == 23
    assert 23 * sum(map(volume, out.model.bodies)) == pytest.approx(sum(map(volume, model.bodies)), rel=1e-12)
    given = run(State(model), do.sector(0.05))
    assert 23 * sum(map(volume, given.model.bodies)) == pytest.approx(sum(map(volume, model.bodies)), rel=1e-11)


def test_what_has_no_turns_is_refused():
    for model in (Model.of([box(0, 0, 1, 2, 0, 3, "b")]), bored(5, extra=True)):
        with pytest.raises(Refusal) as caught:
            run(State(model), do.sector())
        assert caught.value.remedy


@pytest.mark.parametrize("seed", seeds(6))
def test_mirrors_of_a_block_that_stands_anywhere(seed):
    rng = np.random.default_rng(seed)
    x, y, z = rng.uniform(5, 20, 3)
    model = Model.of([moved(box(0, 0, x, y, 0, z, "b"), any_motion(seed))])
    found = mirrors(model)
    assert sum(m.exact for m in found) == 3 and found[0].share == 1.0
    assert len(square(found)) == 3
    for part, share in (("half", 2), ("quarter", 4), ("eighth", 8)):
        out = run(State(model), do.halve(part))
        assert share * volume(out.model.bodies[0]) == pytest.approx(x * y * z, rel=1e-12)
        assert len([f for f in out.model.faces() if f.label.startswith("mirror")]) == {2: 1, 4: 2, 8: 3}[share]


def test_names_say_what_vanishes():
    out = run(State(Model.of([box(-5, -4, 5, 4, -3, 3, "b")])), do.halve("eighth"))
    assert {f.label for f in out.model.faces() if f.label} == {
        "mirror x: ux ry rz = 0", "mirror y: uy rx rz = 0", "mirror z: uz rx ry = 0",
    }  # fmt: skip


def test_a_plane_that_nearly_mirrors_tells_what_disagrees():
    """A plate with a bore to one side: the share that agrees by areas, and the faces that do not."""
    body = box(-20, -10, 20, 10, 0, 4, "plate")
    top, under = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
    r = 2.0
    body = sink(body, top, UP, Round((12.0, 3.0), r), 4.0, under)
    model = Model.of([body])
    told = agreement(model, Plane.of((0, 0, 0), (1, 0, 0)))
    whole = sum(face_area(f) for f in body.faces)
    bad = 2 * np.pi * r**2 + 2 * np.pi * r * 4.0  # the places that the bore's image covers, and its wall
    assert told.share == pytest.approx(1.0 - bad / whole, abs=0.02)
    assert any(f.surface.kind == "cylinder" for f in told.against) and not told.exact
    with pytest.raises(Refusal, match="exact") as caught:
        run(State(model), do.halve("quarter"))
    assert "%" in caught.value.remedy and caught.value.entities
    assert agreement(model, Plane.of((0, 0, 2), (0, 0, 1))).exact


def test_half_of_the_collar_anchor_and_the_other_half():
    model = collar_anchor()
    whole = volume(model.bodies[0])
    one, two = (run(State(model), do.halve("half", "y = 0", other)) for other in (False, True))
    assert volume(one.model.bodies[0]) + volume(two.model.bodies[0]) == pytest.approx(whole, rel=1e-12)
    assert volume(one.model.bodies[0]) == pytest.approx(whole / 2, rel=1e-12)
    assert one.model.bodies[0].name == model.bodies[0].name
    with pytest.raises(Refusal):
        run(State(model), do.halve("quarter", "y = 0"))
    with pytest.raises(Refusal):
        run(State(model), do.halve("half", "y = 900", True))
