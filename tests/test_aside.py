"""Bodies set aside leave named faces where they lay; triangles are put in place before work begins."""

import numpy as np
import pytest
from click.testing import CliRunner
from dice import seeds
from solids import frame

import lithon
from lithon import do
from lithon.bond.aside import set_aside
from lithon.brep.boxes import box
from lithon.brep.faceted import Triangles
from lithon.brep.measures import face_area, mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.cli import cli
from lithon.errors import BadFile, Refusal, Unresolved
from lithon.exchange.intake import parse_model
from lithon.exchange.placement import ORIGINS, UPS, Placement
from lithon.exchange.stl import stl_binary
from lithon.geometry.frames import Frame
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.project.files import load_project, save_project
from lithon.project.ledger import Ledger, Source
from lithon.samples import paddle_frame
from lithon.samples.build import Round, prism, rectangle


def shifted(place, by):
    return Frame(place.origin + by * place.z, place.x, place.y, place.z)


def plate_and_bolts(place):
    plate = prism(rectangle(0, 0, 60, 40), 8.0, place, "plate")
    heads = [prism(Round((x, 20), 5.0), 4.0, shifted(place, 8.0), f"bolt {k}") for k, x in enumerate((15, 45))]
    foot = prism(rectangle(10, 10, 50, 30), 6.0, shifted(place, -6.0), "foot")
    return Model.of([plate, *heads, foot])


@pytest.mark.parametrize("seed", seeds(4))
def test_contacts_become_named_faces_of_the_right_size(seed):
    model = plate_and_bolts(frame(np.random.default_rng(seed)))
    gone = [b for b in model.bodies if b.name.startswith("bolt")]
    out, labels = set_aside(model, gone)
    assert [b.name for b in out.bodies] == ["plate", "foot"]
    assert [(x.name, x.body) for x in labels] == [("contact bolt 0", "plate"), ("contact bolt 1", "plate")]
    plate = out.bodies[0]
    named = {f.label: face_area(f) for f in plate.faces if f.label}
    assert named == pytest.approx({"contact bolt 0": 25 * np.pi, "contact bolt 1": 25 * np.pi})
    assert volume(plate) == pytest.approx(60 * 40 * 8) and not flaws(plate, out.tolerance)
    back = lithon.parse_step(lithon.step_text(out)).model
    assert sorted(f.label for f in back.faces() if f.label) == sorted(named)
    without, none = set_aside(model, gone, labels=False)
    assert not none and len(without.bodies[0].faces) == 6
    mesh = lithon.tetrahedral_mesh(Model(out.bodies[:1], out.tolerance), lithon.SizeRules(5.0))
    assert {f.label for f in mesh.faces} >= set(named)


@pytest.mark.slow
def test_as_a_step_with_its_refusals():
    model = plate_and_bolts(Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)))
    done = run(State(model), do.set_aside(["foot"]))
    assert done.words == "set foot aside, 1 contact named" and done.details[0]["area_mm2"] == pytest.approx(800)
    with pytest.raises(Refusal, match="nothing would be left"):
        set_aside(model, model.bodies)
    with pytest.raises(Unresolved, match="washer"):
        run(State(model), do.set_aside(["washer"]))
    # Bodies that run into each other leave no label; the rest of the frame stays as it is.
    frame_model = paddle_frame()
    first = frame_model.bodies[0]
    out, _ = set_aside(frame_model, [first])
    assert {b.name for b in out.bodies} == {b.name for b in frame_model.bodies} - {first.name}
    assert all(not flaws(b, out.tolerance) for b in out.bodies)


# ---- placement


def block_stl():
    body = prism(rectangle(1, 2, 11, 22), 30.0)
    from lithon.brep.tessellation.tessellate import body_mesh

    points, corners, _ = body_mesh(body)
    return stl_binary([Triangles(points, corners)])


@pytest.mark.parametrize("up", list(UPS))
@pytest.mark.parametrize("origin", list(ORIGINS))
def test_every_placement_keeps_the_solid(up, origin):
    place = Placement(2.5, up, origin)
    model = parse_model(block_stl(), "block.stl", "mm", place).model
    (body,) = model.bodies
    assert volume(body) == pytest.approx(6000 * 2.5**3, rel=1e-6)  # a mirror would be negative
    low, high = box(body)
    spans = {"x": (20, 30, 10), "y": (10, 30, 20), "z": (10, 20, 30)}[up[-1]]
    assert np.allclose(high - low, 2.5 * np.array(spans), atol=1e-4)
    share = ORIGINS[origin]
    if share is not None:
        assert np.allclose(low + np.array(share) * (high - low), 0.0, atol=1e-4)
    else:
        turn = 2.5 * np.array(UPS[up], dtype=float)
        assert np.allclose(mass_properties(body).centroid, turn @ [6, 12, 15], atol=1e-4)


def test_a_placement_is_kept_in_the_project_and_bad_ones_are_refused(tmp_path):
    place = Placement(3.0, "-y", "middle of the foot")
    ledger = Ledger.of(Source("block.stl", block_stl(), "cm", place))
    save_project(ledger, tmp_path / "a.lithon")
    back, troubles = load_project(tmp_path / "a.lithon")
    assert not troubles and back.source.placement == place and back.source.unit == "cm"
    assert volume(back.model.bodies[0]) == pytest.approx(6000 * 30.0**3, rel=1e-6)
    for bad in (
        {"scale": 0, "up": "z", "origin": "as drawn"},
        {"scale": 1, "up": "w", "origin": "as drawn"},
        {"up": 3},
    ):
        with pytest.raises(BadFile):
            Placement.from_json(bad)
    (tmp_path / "block.stl").write_bytes(block_stl())
    run = CliRunner().invoke(cli, ["survey", str(tmp_path / "block.stl"), "--scale", "2", "--up", "y", "--json"])
    assert run.exit_code == 0 and '"volume_mm3": 48000' in run.stdout.replace("47999.9", "48000")
