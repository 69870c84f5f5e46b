"""Promises that were once found broken: each stays kept."""

import numpy as np
import pytest
from blocks import box, pair
from solids import bracket

import lithon
from lithon import do
from lithon.brep.gate import worse
from lithon.brep.measures import volume
from lithon.brep.rewrite import rewrite
from lithon.brep.topology import Face, Model, new_uid
from lithon.errors import BadFile, Cancelled, Fault, Refusal, Spent
from lithon.mend.drop import dropped
from lithon.operations.recorded import read
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.progress import Progress
from lithon.samples import cast_anchor


def test_a_hold_by_a_question_is_recorded_and_holds(anchor_file, tmp_path):
    work = lithon.open(anchor_file)
    work.take(do.keep("holes where diameter = 3 mm", "it may matter"))
    (face,) = work.state.marks.all("hold")
    assert face.surface.radius == pytest.approx(1.5)
    lithon.save_project(work, tmp_path / "a.lithon")
    again, troubles = lithon.load_project(tmp_path / "a.lithon")
    assert not troubles and len(again.state.marks.all("hold")) == 1


def test_gates_compare_flaw_by_flaw():
    """A body that is open in one place may stay so, but no second opening passes, nor faces through each other."""
    block = box(0, 0, 10, 10, 0, 10, "block")
    open_ = block.with_uses(block.uses[1:])
    more = block.with_uses(block.uses[2:])
    assert not worse(open_, [open_], 1e-6) and not worse(block, [open_], 1e-6)
    found = worse(more, [open_], 1e-6)
    assert found and {f.kind for f in found} == {"open edge"}
    assert all(f.entity in block.uses[1].face.edges() for f in found)
    # A sheet hangs within; dropping it is right, and the opening that was there is no reason to refuse.
    loose = prism_sheet()
    both = open_.with_uses([*open_.uses, *loose.uses])
    left = dropped(both, [loose.uses[0].face], 1e-6)
    assert left is not None and len(left.uses) == 5
    # A face that passes through the rest is a flaw like any other.
    through = block.with_uses([*block.uses, *box(4, 4, 6, 6, 5, 15, "spike").uses])
    assert {f.kind for f in worse(through, [block], 1e-6)} == {"passes through"}


def prism_sheet():
    whole = box(4, 4, 6, 6, 4, 6, "sheet")
    return whole.with_uses(whole.uses[:1])


def test_a_second_bad_face_does_not_pass_because_there_is_one_already():
    """Replace by another surface: a gap of an edge elsewhere is no excuse for a new one."""
    block = box(0, 0, 10, 10, 0, 10, "block")

    def off(body, k):
        face = body.faces[k]
        n = face.surface.frame.z
        motion = np.eye(4)
        motion[:3, 3] = 0.01 * n
        moved = face.surface.moved(motion)
        return rewrite(body, faces={face: (Face(moved, face.loops, face.along, uid=new_uid()), True)})

    one = off(block, 0)
    two = off(one, 1)
    assert {f.kind for f in worse(one, [block], 1e-6)} == {"gap"}
    assert {f.kind for f in worse(two, [one], 1e-6)} == {"gap"} and not worse(two, [two], 1e-6)


def test_a_search_keeps_to_its_budget_and_says_what_it_was_at():
    known = bracket(3)
    state = State(known.model)
    question = do.clear("holes") if known.holes else do.clear("fillets")
    asked = iter(range(10**6))
    with pytest.raises(Spent, match="no answer was found within"):
        run(state, question, Progress(budget=0.0))
    told = []

    def stop() -> bool:
        return next(asked) > 6

    with pytest.raises(Cancelled):
        run(State(cast_anchor()), do.carve("z = 6"), Progress(lambda share, what: told.append(what), stop))
    assert any(told)
    assert run(state, question).faces_change < 0


@pytest.mark.slow
def test_halves_that_were_just_cut_are_bonded_without_marching_again(monkeypatch):
    """An oblique cut through the cast anchor's fillets: the crossings stand on the halves' edges already."""
    import lithon.geometry.crossing as crossing

    state = State(cast_anchor())
    cut = run(state, do.carve("at 0.1 0.2 8 across 0.3 0.1 1"))
    steps = []
    follow = crossing._half

    def counted(*args):
        run_ = follow(*args)
        steps.append(len(run_[0]) if run_ is not None else 0)
        return run_

    monkeypatch.setattr(crossing, "_half", counted)
    bonded = run(cut.state, do.bond())
    assert len(bonded.model.shared()) >= 1 and sum(steps) < 500
    assert sum(map(volume, bonded.model.bodies)) == pytest.approx(volume(state.model.bodies[0]), rel=1e-8)


def test_bytes_without_sense_are_no_solid(tmp_path):
    """Random bytes are refused; a file that was damaged in places still arrives, with a note."""
    rng = np.random.default_rng(4)
    for seed in range(5):
        path = tmp_path / f"noise-{seed}.stl"
        path.write_bytes(rng.integers(0, 256, 5000, dtype=np.uint8).tobytes())
        with pytest.raises(BadFile, match="no sense"):
            lithon.read_model(path)
    path = tmp_path / "block.stl"
    lithon.write_triangles(Model.of([box(0, 0, 10, 10, 0, 10, "block")]), path)
    data = bytearray(path.read_bytes())
    data[84 + 12 : 84 + 16] = np.float32(3e30).tobytes()
    path.write_bytes(data)
    arrival = lithon.read_model(path)
    assert any("no sense" in note for note in arrival.notes) and len(arrival.model.bodies[0].uses) >= 5


def test_a_slip_of_ours_is_no_fault_of_the_file(monkeypatch, tmp_path, anchor):
    """Whatever reads a file: an error that no file can cause is told as ours."""
    from lithon.exchange import iges_read, step_read

    monkeypatch.setenv("LITHON_STATE", str(tmp_path))

    def slip(self):
        raise AttributeError("'NoneType' object has no attribute 'frame'")

    monkeypatch.setattr(step_read._Reader, "run", slip)
    with pytest.raises(Fault, match="our fault"):
        lithon.parse_step(lithon.step_text(anchor))
    monkeypatch.setattr(iges_read._Reader, "run", slip)
    monkeypatch.setattr(iges_read, "read_records", lambda text: None)
    monkeypatch.setattr(iges_read, "IgesGeometry", lambda records: None)
    with pytest.raises(Fault, match="our fault"):
        iges_read.parse_iges("")
    assert "Traceback" in (tmp_path / "lithon.log").read_text("utf-8")


def test_the_pages_have_their_fonts(anchor_file):
    from lithon.project.report import report_html

    page = report_html(lithon.open(anchor_file))
    style = page.split("<style>")[1].split("</style>")[0]
    assert '"DejaVu Sans"' in style and "&#34;" not in style


def test_plurals():
    from lithon.words import many

    assert [many(n, w) for n, w in ((1, "edge"), (2, "edge"), (1, "body"), (3, "body"), (2, "boss"))] == [
        "1 edge", "2 edges", "1 body", "3 bodies", "2 bosses",
    ]  # fmt: skip
    model = pair()
    assert run(State(model), do.divide(model.bodies[0].edges()[:1], 2)).words == "2 elements on 1 edge"


def test_a_refused_part_names_both():
    model = pair()
    with pytest.raises(Refusal) as caught:
        run(State(model), do.part(model.bodies[0], model.bodies[2]))
    assert "overlap" in caught.value.what and caught.value.remedy
    assert read(run(State(model), do.part(*model.bodies[:2])).operation.as_json()).name == "part"


def test_faces_turned_round_the_axis_keep_their_place():
    """What a sweep that starts on its own axis asks of angles divides by nothing."""
    from lithon.mesh.motion import Motion

    with np.errstate(all="raise"):
        motion = Motion(True, np.zeros(3), np.array([0.0, 0.0, 1.0]), np.pi)
        at, share = motion.back(np.array([[1.0, 0.0, 0.5]]), np.zeros(3))
    assert np.isfinite(at).all() and np.isfinite(share).all()
