"""Sheets: sections as regions that share their edges, mid-surfaces, sheets cut and scored, flat elements on them."""

from collections import Counter

import meshio
import numpy as np
import pytest
from solids import motion

import lithon
import lithon.do as do
from lithon.bond.share import bond
from lithon.brep.area import off_edge
from lithon.brep.copies import moved
from lithon.brep.measures import area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.sheets import mid_surfaces, regions, walls_between
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mesh.make import mesh_of
from lithon.mesh.quality import Quality, flat_areas
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules
from lithon.operations.operation import Chosen
from lithon.operations.questions import ask
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.operations.table import fitting
from lithon.project.ledger import Ledger
from lithon.project.wire import Wire
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved, sink
from lithon.samples.sheet_parts import BEAM, JOINT, culvert_joint, lock_beam
from lithon.survey.findings import findings


def polygon(*corners):
    return [Piece(c) for c in corners]


def angle(a=40.0, b=30.0, t=4.0, long=50.0):
    """An L: its middles meet in the corner."""
    return prism(polygon((0, 0), (a, 0), (a, t), (t, t), (t, b), (0, b)), long, name="angle")


def pipe(inner=10.0, outer=12.0, long=40.0):
    return revolved(
        polygon((inner, 0), (outer, 0), (outer, long), (inner, long)), Frame.of((0, 0, 0), (0, 0, 1)), "pipe"
    )


def drilled():
    """A plate 40 x 30 x 4 with a hole of radius 5."""
    body = prism(rectangle(0, 0, 40, 30), 4.0, name="plate")
    top = Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0))
    return sink(body, face_toward(body, (0, 0, 1)), top, Round((15, 15), 5.0), 4.0, face_toward(body, (0, 0, -1)))


def free_edges(sheets):
    """The edges that one face alone has."""
    count = Counter(e for b in sheets for f in b.faces for e in f.edges())
    return [e for e, n in count.items() if n == 1]


def sheet_state(size=4.0):
    """The drilled plate's middle."""
    return run(State(Model.of([drilled()]), settings=Settings(size)), do.mid_surface()).state


@pytest.mark.parametrize("seed", [0, 3])
def test_the_middle_of_an_angle_meets_in_its_corner(seed):
    place = motion(seed) if seed else np.eye(4)
    body = moved(angle(), place)
    walls = walls_between(body, 1e-6)
    sheets = mid_surfaces(body, walls, 1e-6)
    assert sorted(round(area(s), 9) for s in sheets) == [28.0 * 50.0, 38.0 * 50.0]
    (joint,) = set(sheets[0].edges()) & set(sheets[1].edges())
    assert joint.length == pytest.approx(50.0) and all(s.thickness == pytest.approx(4.0) and s.sheet for s in sheets)
    assert len(free_edges(sheets)) == 6 and not [f for s in sheets for f in flaws(s, 1e-6)]


def test_a_pipe_has_a_cylinder_for_its_middle_and_a_solid_block_none():
    (sheet,) = mid_surfaces(pipe(), walls_between(pipe(), 1e-6), 1e-6)
    assert area(sheet) == pytest.approx(2.0 * np.pi * 11.0 * 40.0) and sheet.thickness == pytest.approx(2.0)
    block = Model.of([prism(rectangle(0, 0, 10, 10), 10.0, name="block")])
    with pytest.raises(Refusal, match="no wall"):
        run(State(block), do.mid_surface())
    # What is asked for by its sides is a wall however thick it is.
    faces = [face_toward(block.bodies[0], (0, 0, s)) for s in (1, -1)]
    made = run(State(block), do.mid_surface(sides=faces, most=11.0)).model
    assert [round(b.thickness, 9) for b in made.bodies] == [10.0] and area(made.bodies[0]) == pytest.approx(100.0)


def test_a_rib_that_ends_within_a_plate_is_joined_to_it():
    """The line in which a short rib stands on a plate leads nowhere; the plate is parted along it all the way."""
    plate = prism(rectangle(0, 0, 60, 40), 4.0, name="plate")
    rib = prism(rectangle(28, 10, 32, 30), 20.0, Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)), "rib")
    joined = run(State(Model.of([plate, rib])), do.unite(["plate"], ["rib"])).state
    made = run(joined, do.mid_surface()).model
    a, b = sorted(made.bodies, key=area)
    assert area(a) == pytest.approx(22.0 * 20.0) and area(b) == pytest.approx(60.0 * 40.0)
    (foot,) = set(a.edges()) & set(b.edges())
    assert foot.length == pytest.approx(20.0)
    assert mesh_of(made, SizeRules(5.0), "tri").conformal()


def test_regions_have_the_areas_of_the_section_wherever_it_stands():
    place = motion(5)
    model = Model(tuple(moved(b, place) for b in culvert_joint().bodies), 1e-5)
    plane = Plane.of(place[:3, 3], place[:3, 1])
    model, _ = bond(model)
    made = regions(model, plane, (place[:3, 3], place[:3, 2]))
    got = {b.name: area(b) for b in made}
    assert got == pytest.approx({"spigot": JOINT.spigot_area, "bell": JOINT.bell_area, "seal": JOINT.seal_area})
    other = regions(model, plane, (place[:3, 3], -place[:3, 2]))
    mine, theirs = ({v.point.tobytes() for b in some for v in b.vertices()} for some in (made, other))
    assert not mine & theirs  # the other way the other side stays
    with pytest.raises(Refusal, match="does not lie in the plane"):
        regions(model, plane, (place[:3, 3], place[:3, 1]))


@pytest.mark.slow
def test_three_bodies_that_share_faces_share_them_still_after_one_is_cut():
    state = run(State(culvert_joint()), do.bond()).state
    before = len(state.model.shared())
    model = state.model
    for name in ("spigot", "bell", "seal"):
        bodies = [b for b in model.bodies if b.name.split()[0] == name]
        state = run(state, do.carve("y = 0", bodies)).state
        model = state.model
    assert len(model.shared()) == 2 * before + 6  # each contact in two, and six cuts
    assert mesh_of(model, SizeRules(12.0), "tet").conformal()


def test_a_sheet_is_cut_scored_named_and_moved_but_not_united():
    state = sheet_state()
    (sheet,) = state.model.bodies
    assert volume(sheet) == 0.0 and area(sheet) == pytest.approx(1200.0 - 25.0 * np.pi)
    cut = run(state, do.carve("x = 15")).model
    assert [round(area(b), 6) for b in cut.bodies] == [
        round(25.0 * 30.0 - 12.5 * np.pi, 6), round(15.0 * 30.0 - 12.5 * np.pi, 6),
    ]  # fmt: skip
    assert all(b.sheet and b.thickness == 4.0 for b in cut.bodies)
    with pytest.raises(Refusal, match="does not pass"):
        run(state, do.carve("x = 99"))
    scored = run(state, do.score("y = 4")).model
    assert len(scored.bodies) == 1 and len(scored.bodies[0].uses) == 2
    named = run(state, do.name("faces", "mid")).model
    assert named.bodies[0].sheet and named.faces()[0].label == "mid"
    assert area(run(state, do.turn(sheet, "x", 1.0)).model.bodies[0]) == pytest.approx(area(sheet))
    with pytest.raises(Refusal, match="is a sheet"):
        run(state, do.round(sheet.edges()[:1], 1.0))
    offered = {row.name for row in fitting(Chosen(state.model, faces=sheet.faces))}
    assert {"name", "size-on-faces", "carve"} <= offered and not offered & {
        "clear",
        "slide",
        "offset",
    }  # all of it is no wound


def test_the_survey_does_not_take_a_sheet_for_a_broken_solid():
    kinds = {f.kind for f in findings(sheet_state(1.0).model, 1.0)}
    assert not kinds & {"open boundary", "open edge", "gap", "hidden sheet"}
    spoiled = run(State(Model.of([angle()])), do.mid_surface()).model
    assert not [f for f in findings(spoiled, 5.0) if f.severity == "stops"]


def test_triangles_and_quads_of_both_orders_are_joined_up_and_lie_on_the_circle():
    state = sheet_state()
    for kind, corners in (("tri", 3), ("quad", 4)):
        made = mesh_of(state.model, SizeRules(3.0), kind)
        assert made.conformal() and made.corners.shape[1] == corners and made.order == 1
        # A polygon in the circle, of as many sides as there are nodes on it.
        ring = next(e for e in state.model.edges() if e.ring)
        n = int((off_edge(ring, made.points) < 1e-9).sum())
        hole = 0.5 * n * 25.0 * np.sin(2.0 * np.pi / n)
        assert made.volumes.sum() == pytest.approx(1200.0 - hole) and made.quality.scaled_jacobian.min() > 0.3
        second, straight = quadratic(made)
        assert second.order == 2 and straight == 0 and second.conformal()
        assert int((off_edge(ring, second.points) < 1e-9).sum()) == 2 * n
        # One slit that is not joined is seen.
        cells = made.elements.copy()
        used = int(np.bincount(cells.ravel()).argmax())
        row, column = np.argwhere(cells == used)[0]
        points = np.vstack([made.points, made.points[used]])
        cells[row, column] = len(points) - 1
        assert not type(made)(points, cells, made.body, cells, made.face, made.bodies, made.faces, made.quality,
                              shape=made.shape).conformal()  # fmt: skip


def test_solids_get_triangles_on_their_skin_and_sheets_no_tetrahedra():
    body = drilled()
    skin = mesh_of(Model.of([body]), SizeRules(3.0), "tri")
    assert skin.conformal() and skin.volume_ratio == pytest.approx(1.0, abs=5e-3)
    with pytest.raises(Refusal, match="carries triangles or quads"):
        mesh_of(sheet_state().model, SizeRules(3.0), "tet")
    with pytest.raises(Refusal, match="goes around"):
        mesh_of(Model.of([pipe()]), SizeRules(3.0), "quad")
    assert mesh_of(sheet_state().model, SizeRules(3.0), "auto").kind == "quads"
    with pytest.raises(Refusal, match="solid elements"):
        lithon.patch_test(skin)


def test_measures_of_flat_elements_are_the_closed_forms():
    points = np.array([[0, 0, 0], [2, 0, 0], [1, np.sqrt(3), 0], [0, 2, 0], [2, 2, 0], [2, 1, 0.0]])
    q = Quality.of_flat(points, np.array([[0, 1, 2], [0, 1, 3]]))
    assert q.scaled_jacobian == pytest.approx([1.0, np.sqrt(0.5) / np.sqrt(0.75)])
    assert q.smallest_angle == pytest.approx([60.0, 45.0]) and q.edge_ratio == pytest.approx([1.0, np.sqrt(2.0)])
    quads = np.array([[0, 1, 4, 3], [0, 1, 5, 3]])
    assert flat_areas(points, quads) == pytest.approx([4.0, 3.0])
    assert Quality.of_flat(points, quads).scaled_jacobian == pytest.approx([1.0, 2.0 / np.sqrt(5.0)])
    folded = Quality.of_flat(np.array([[0, 0, 0], [2, 0, 0], [0.5, 0.4, 0], [0, 2, 0.0]]), np.array([[0, 1, 2, 3]]))
    assert folded.scaled_jacobian[0] < 0.0 and folded.largest_angle[0] > 180.0


@pytest.mark.slow
def test_what_is_said_of_a_sheet_travels_is_written_and_done_again(tmp_path):
    path = tmp_path / "beam.step"
    lithon.write_step(lock_beam(), path)
    work = Ledger.open(path)
    for step in (do.clear("pockets"), do.mid_surface(), do.element_size(12.0), do.mesh("tri")):
        work.take(step)
    one, two = Wire(), Wire()
    assert two.unpack(one.pack(work.mesh())).shape is work.mesh().shape
    there = two.unpack(one.pack(work.model))
    assert [(b.sheet, b.thickness) for b in there.bodies] == [(b.sheet, b.thickness) for b in work.model.bodies]
    lithon.save_project(work, tmp_path / "beam.lithon")
    again, _ = lithon.load_project(tmp_path / "beam.lithon")
    assert sorted(area(b) for b in again.model.bodies) == pytest.approx(sorted(area(b) for b in work.model.bodies))
    assert again.settings.elements == "tri"
    lithon.write_vtu(work.mesh(), tmp_path / "beam.vtu")
    read = meshio.read(tmp_path / "beam.vtu")
    assert [c.type for c in read.cells] == ["triangle"] and "smallest_corner_degrees" in read.cell_data
    assert {f"body {b.name}" for b in work.model.bodies} <= set(read.cell_data)
    lithon.write_step(work.model, tmp_path / "sheets.step")
    assert sum(map(area, lithon.read_step(tmp_path / "sheets.step").model.bodies)) == pytest.approx(
        sum(map(area, work.model.bodies)))  # fmt: skip


def test_an_open_skin_is_taken_as_a_sheet_when_it_is_said():
    state = State(Model.of([angle()]))
    open_skin = state.model.bodies[0].with_uses(state.model.bodies[0].uses[1:])
    state = State(Model((open_skin,), 1e-6))
    assert "open boundary" in {f.kind for f in findings(state.model, 4.0)}
    out = run(state, do.sheet(open_skin, 2.0)).state
    assert out.model.bodies[0].sheet and out.model.bodies[0].thickness == 2.0
    assert (
        "open boundary" not in {f.kind for f in findings(out.model, 4.0)}
        and mesh_of(out.model, SizeRules(4.0), "tri").conformal()
    )


def test_windows_are_one_thing_from_rim_to_rim():
    state = State(lock_beam())
    found = ask(state.model, "windows")
    assert found.items == 3 and len(found.faces) == 8 + 8 + 4
    out = run(state, do.clear("windows where width < 20")).model
    slot = (BEAM.slot[0] - BEAM.slot[1]) * BEAM.slot[1] + np.pi * BEAM.slot[1] ** 2 / 4.0
    assert volume(out.bodies[0]) - BEAM.volume == pytest.approx(slot * BEAM.web)


def test_a_plate_of_two_thicknesses_about_one_middle_is_one_sheet():
    corners = [(0, -3), (30, -3), (30, -2), (60, -2), (60, 2), (30, 2), (30, 3), (0, 3)]
    state = State(Model.of([prism(polygon(*corners), 40.0, name="stepped")]))
    made = run(state, do.mid_surface()).model
    assert [round(area(b), 6) for b in made.bodies] == [2400.0] and mesh_of(made, SizeRules(5.0), "tri").conformal()
