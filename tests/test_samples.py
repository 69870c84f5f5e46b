"""The made-up parts: their truths, as built and after every step of a scripted preparation."""

import numpy as np
import pytest

import lithon
from lithon.bond.share import bond
from lithon.brep.measures import mass_properties, volume
from lithon.brep.validate import flaws
from lithon.exchange.step_read import parse_step
from lithon.exchange.step_write import step_text
from lithon.project.ledger import Ledger, Source
from lithon.samples import (
    CAST,
    FRAME,
    SAMPLES,
    STRAP,
    TRIANGLE_FILES,
    WHEEL,
    cast_anchor,
    hinge_strap,
    paddle_frame,
    sluice_wheel,
)
from lithon.samples.cast_anchor import STAMP
from lithon.samples.outline import rounded
from lithon.survey.features import features


def opened(model) -> Ledger:
    return Ledger.of(Source("sample.step", step_text(model).encode()))


def total(model) -> float:
    return sum(volume(b) for b in model.bodies)


#: Those that are sound and exact; the others have their truths in the tests of wounds.
EXACT = [s for s in SAMPLES if s[1] != "pintle-shoe" and s[1] not in TRIANGLE_FILES]


@pytest.mark.parametrize("title,_name,make,_words", EXACT)
def test_every_sample_is_sound_and_goes_through_step(title, _name, make, _words):
    model = make()
    assert all(not flaws(b, model.tolerance) for b in model.bodies)
    back = parse_step(step_text(model)).model
    assert [len(b.faces) for b in back.bodies] == [len(b.faces) for b in model.bodies]
    assert [b.name for b in back.bodies] == [b.name for b in model.bodies]
    for a, b in zip(model.bodies, back.bodies, strict=True):
        one, other = mass_properties(a), mass_properties(b)
        assert other.volume == pytest.approx(one.volume, rel=1e-11) and other.area == pytest.approx(one.area, rel=1e-11)
        assert len(a.edges()) == len(b.edges())


def test_the_cast_anchor_step_by_step():
    work = opened(cast_anchor())
    assert len(work.model.faces()) == CAST.faces and total(work.model) == pytest.approx(CAST.volume, rel=1e-11)
    count = {
        k: sum(f.kind == k for f in features(work.model.bodies[0])) for k in ("hole", "fillet", "chamfer", "pocket")
    }
    assert count == {"hole": 6, "fillet": 10, "chamfer": 1, "pocket": 3}
    exact, faces = CAST.volume, CAST.faces
    for question, gained, lost in (
        ("pockets where depth < 1 mm", CAST.stamp_volume, sum(len(c) + 1 for c in STAMP)),
        ("holes where diameter = 4 mm", CAST.drill_volume, 2),
        ("fillets where radius = 2 mm", CAST.edge_round_volume, 8),
        ("fillets where radius = 3 mm", -CAST.root_round_volume, 8),
        ("chamfers where width <= 3 mm", CAST.chamfer_volume, 8),
    ):
        work.take(lithon.do.clear(question))
        exact, faces = exact + gained, faces - lost
        assert total(work.model) == pytest.approx(exact, rel=1e-10), question
        assert len(work.model.faces()) == faces, question
        assert not flaws(work.model.bodies[0], work.model.tolerance)
    for question in ("fillets where radius = 8 mm", "fillets where radius = 5 mm", "holes where diameter = 11 mm"):
        work.take(lithon.do.clear(question))
    plate, lug = CAST.length * CAST.width * CAST.thickness, CAST.lug_length * CAST.lug_width * CAST.lug_height
    assert total(work.model) == pytest.approx(plate + lug - CAST.pin_volume, rel=1e-10)
    work.take(lithon.do.carve(lithon.do.Cut.at((0.0, 0.0, 0.0), (0.0, 1.0, 0.0))))
    a, b = (mass_properties(body) for body in work.model.bodies)
    assert a.volume == pytest.approx(b.volume, rel=1e-12) and np.allclose(a.centroid * [1, -1, 1], b.centroid)
    work.take(lithon.do.bond())
    assert len(work.model.shared()) == 1


def test_the_sluice_wheel_and_its_roots():
    model = sluice_wheel()
    (body,) = model.bodies
    assert len(body.faces) == WHEEL.faces and volume(body) == pytest.approx(WHEEL.volume, rel=1e-12)
    roots = [f for f in features(body) if f.kind == "fillet"]
    assert len(roots) == 2 * WHEEL.blades and all(f.size == pytest.approx(WHEEL.root) for f in roots)
    inertia = mass_properties(body).inertia
    assert inertia[0, 0] == pytest.approx(inertia[1, 1], rel=1e-12)  # as for any count of blades above two
    work = opened(model)
    half = np.pi / WHEEL.blades
    for angle in (-half, half):
        n = (-float(np.sin(angle)), float(np.cos(angle)), 0.0)
        work.take(lithon.do.carve(lithon.do.Cut.at((0.0, 0.0, 0.0), n)))
    sector = min(work.model.bodies, key=volume)
    assert volume(sector) == pytest.approx(WHEEL.volume / WHEEL.blades, rel=1e-10)


def test_the_paddle_frame_is_bonded_but_for_the_gap_and_the_overlap():
    model = paddle_frame()
    by_name = {b.name: volume(b) for b in model.bodies}
    for name, exact in FRAME.volumes.items():
        for own, value in by_name.items():
            if own.split(" ")[0] == name.split(" ")[0] and (own == name or name in ("bolt", "bush")):
                assert value == pytest.approx(exact, rel=1e-12), own
    done, contacts = bond(model)
    shared = [c for c in contacts if c.verdict == "shared"]
    assert sum(c.area for c in shared) == pytest.approx(FRAME.contacts, rel=1e-9)
    assert {(c.first, c.second) for c in contacts if c.verdict == "overlap"} == {("upper plate", "stop")}
    assert not any("pin" in (c.first, c.second) for c in contacts)
    assert sum(volume(b) for b in done.bodies) == pytest.approx(sum(by_name.values()), rel=1e-12)
    assert all(not flaws(b, done.tolerance) for b in done.bodies)


def test_the_hinge_strap_becomes_a_mapped_mesh():
    work = opened(hinge_strap())
    assert len(work.model.faces()) == STRAP.faces and total(work.model) == pytest.approx(STRAP.volume, rel=1e-12)
    work.take(lithon.do.clear("fillets where radius <= 2 mm"))
    assert total(work.model) == pytest.approx(sum(STRAP.blocks), rel=1e-12)
    for x in STRAP.steps[1:-1]:
        work.take(lithon.do.carve(lithon.do.Cut.at((x, 0.0, 0.0), (1.0, 0.0, 0.0))))
    assert sorted(volume(b) for b in work.model.bodies) == pytest.approx(sorted(STRAP.blocks), rel=1e-12)
    work.take(lithon.do.bond())
    assert len(work.model.shared()) == 4
    mesh = lithon.hexahedral_mesh(work.model, lithon.SizeRules(3.0))
    assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, rel=1e-12)
    assert mesh.quality.scaled_jacobian.min() > 0.6
    assert rounded(2, 2, 1) == pytest.approx(np.pi)


def test_a_sample_file_is_made_once_and_again_when_it_was_touched(tmp_path, monkeypatch):
    from lithon.app.demo import sample_file

    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    made = []

    def make():
        made.append(1)
        return hinge_strap()

    path = sample_file("hinge-strap", make)
    text = path.read_text("ascii")
    assert tmp_path in path.parents and len(lithon.parse_step(text).model.bodies) == 1
    assert sample_file("hinge-strap", make) == path and len(made) == 1
    path.write_text("spoilt", "ascii")
    assert sample_file("hinge-strap", make) == path and len(made) == 2
    assert len(lithon.read_model(path).model.faces()) == len(hinge_strap().faces())
    path.with_name(path.name + ".made").write_text("of another program", "utf-8")
    sample_file("hinge-strap", make)
    assert len(made) == 3
