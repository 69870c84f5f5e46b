"""Cuts that free: told beforehand, they hold when they are made; the window offers them where they are needed."""

import json
from itertools import pairwise

import numpy as np
import pytest
from hands import button_of, labels, press, ready, settled
from test_cli import within
from test_desk_operations import laid_out

import lithon
from lithon import do
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.carve.freeing import candidates, freeing, proposed
from lithon.errors import Cancelled
from lithon.geometry.frames import Frame
from lithon.mesh.hexahedra import verdict
from lithon.operations.places import Cut
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.progress import Progress
from lithon.samples.build import Round, face_toward, prism, raised, rectangle

pytestmark = pytest.mark.slow


def plate(name="plate"):
    return prism(rectangle(0, 0, 40, 30), 10.0, name=name)


def with_boss(body, radius=4.0, height=6.0, at=(12.0, 15.0)):
    top = max((f for f in body.faces if f.surface.kind == "plane" and abs(f.surface.frame.z[2]) > 0.9
               and abs(f.surface.frame.origin[2] - 10.0) < 1e-9), key=face_area)  # fmt: skip
    return raised(body, top, Frame.of((0.0, 0.0, 10.0), (0, 0, 1), (1, 0, 0)), Round(at, radius), height)


def with_two(body):
    """A boss upwards, and a square one to the side: two profiles change in two directions."""
    body = with_boss(body)
    side = face_toward(body, (1.0, 0.0, 0.0))
    frame = Frame.of((40.0, 0.0, 0.0), (1, 0, 0), (0, 1, 0))
    return raised(body, side, frame, rectangle(8, 2, 20, 8), 5.0)


def made(model: Model, way) -> State:
    """The cuts one after another, each through what cannot be swept yet."""
    state = State(model, settings=Settings(2.0))
    for face in way.cuts:
        rest = [b for b in state.model.bodies if verdict(b)[0] == "tetrahedra"]
        state = run(state, do.carve(_at(face), rest)).state
    return state


def _at(face):
    frame = face.surface.frame
    return Cut.at(frame.origin, frame.z)


def test_one_cut_frees_a_plate_from_its_boss():
    body = with_boss(plate())
    assert verdict(body)[0] == "tetrahedra"
    (best, *_) = freeing(body, 1e-6)
    assert len(best.cuts) == 1 and (best.pieces, best.swept, best.share) == (2, 2, pytest.approx(1.0))
    assert abs(float(best.cuts[0].surface.frame.z[2])) == pytest.approx(1.0)
    out = made(Model.of([body]), best)
    assert sorted(map(volume, out.model.bodies)) == pytest.approx([np.pi * 16.0 * 6.0, 12000.0])
    mesh = lithon.mesh_of(out.model, lithon.SizeRules(2.0), "hex")
    assert mesh.kind == "hexahedra" and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)


@pytest.mark.parametrize("build", [with_two, lambda b: with_boss(with_two(b), 3.0, 4.0, (28.0, 20.0))])
def test_what_is_told_of_several_cuts_holds_when_they_are_made(build):
    model = Model.of([build(plate())])
    ways = freeing(model.bodies[0], model.tolerance)
    assert ways[0].share == pytest.approx(1.0) and len(ways[0].cuts) == 2
    assert all(a.share >= b.share - 1e-9 for a, b in pairwise(ways))
    for way in ways:
        bodies = made(model, way).model.bodies
        swept = [b for b in bodies if verdict(b)[0] != "tetrahedra"]
        assert (len(bodies), len(swept)) == (way.pieces, way.swept)
        assert sum(map(volume, swept)) / sum(map(volume, bodies)) == pytest.approx(way.share, rel=1e-9)


def test_what_can_be_swept_or_is_out_of_time_gets_no_cuts():
    assert freeing(plate(), 1e-6) == [] and candidates(plate(), 1e-6) == []
    body = with_two(plate())
    assert freeing(body, 1e-6, budget=0.0) == []
    with pytest.raises(Cancelled):
        freeing(body, 1e-6, Progress(None, lambda: True))


def test_twins_are_looked_at_once_and_the_largest_first():
    one, far = with_boss(plate("one")), with_two(prism(rectangle(100, 0, 140, 30), 10.0, name="big"))
    found = proposed(Model.of([one, plate("good"), far]), budget=20.0)
    assert {b.name for b in found} <= {"one", "big"} and found[one][0].share == pytest.approx(1.0)


def test_the_survey_tells_cuts_on_the_command_line(tmp_path, capfd, monkeypatch):
    lithon.write_step(Model.of([with_boss(plate())]), tmp_path / "boss.step", "boss")
    done = within(capfd, monkeypatch, "survey", tmp_path / "boss.step", "--cuts", "--json")
    (told,) = json.loads(done.stdout)["cuts"]
    assert told["body"] == "plate" and told["ways"][0]["swept"] == told["ways"][0]["pieces"] == 2
    assert told["ways"][0]["at"] == ["at z = 10"] and told["ways"][0]["share"] == pytest.approx(1.0)


@pytest.mark.window
@pytest.mark.usefixtures("display")
def test_carve_offers_the_cut_that_frees_and_it_is_taken(desk, qtbot):
    from PySide6.QtCore import Qt

    laid_out(desk, qtbot, Model.of([with_boss(plate())]))
    desk.work.go("Carve")
    qtbot.waitUntil(lambda: "2 of 2 pieces can be swept, all of the volume" in labels(desk.docket), timeout=30000)
    assert "plate cannot be swept" in labels(desk.docket)
    button_of(desk.docket, "Cut at z = 10").click()
    ready(desk, qtbot)
    press(desk, qtbot, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert len(desk.work.model.bodies) == 2
    qtbot.waitUntil(lambda: "cannot be swept" not in labels(desk.docket), timeout=30000)
