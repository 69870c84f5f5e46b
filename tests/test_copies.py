"""Bodies at several places: stored once, made out only where somebody works on them, and what is known of one is true
of all."""

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from dice import LONG, seeds
from solids import bracket, motion, on_its_own

import lithon
from lithon import do
from lithon.app import scene
from lithon.bond.share import bond
from lithon.brep.analysis.same import same_at
from lithon.brep.analysis.symmetry import symmetry
from lithon.brep.analysis.thickness import thickness
from lithon.brep.analysis.twins import motion_between, twins
from lithon.brep.boxes import box
from lithon.brep.copies import copy_of, handles, moved, origin_of, root_of
from lithon.brep.measures import mass_properties
from lithon.brep.tessellation.tessellate import body_mesh, open_edges
from lithon.brep.topology import Body, Model, rough_box
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mesh import partly
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules
from lithon.operations.fingerprints import fingerprint, resolve
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.project.worker import WorkerHandle
from lithon.samples import collar_anchor
from lithon.samples.build import Round, prism, rectangle
from lithon.survey.costs import Costs, costs
from lithon.survey.features import features
from lithon.survey.sizes import LENSES, marks
from lithon.survey.standing import standings


def row_of(body: Body, many: int) -> Model:
    """A body and copies of it, each turned another way and clear of the others; every third one mirrored."""
    reach = 2.0 * float(np.linalg.norm(np.ptp(rough_box([body]), axis=0)))
    out = [body]
    for k in range(1, many):
        there = motion(k, mirrored=k % 3 == 2)
        middle = rough_box([body]).mean(axis=0)
        there[:3, 3] = middle + [k * reach, 0.0, 0.0] - there[:3, :3] @ middle
        out.append(replace(moved(body, there), name=f"{body.name} {k + 1}"))
    return Model.of(out)


def unfolded(model: Model) -> int:
    return sum(len(copy._made) for body in model.bodies if (copy := copy_of(body)) is not None)


def told(cards):
    """Cards by what they say, their size and their place; where exactly a wall is thinnest hangs on the samples."""
    return Counter(
        (c.kind, c.severity, round(c.size, 5), c.text, *np.round(np.array(c.place) + 0.0, 3).tolist())
        for c in cards
        if c.kind not in ("thin wall", "thin slot")
    )


@pytest.mark.parametrize("seed", seeds(8))
@pytest.mark.parametrize("mirrored", [False, True])
def test_what_is_known_of_a_body_is_true_of_its_copies(seed, mirrored):
    """Against the same solid out of faces of its own, about which nobody knows anything."""
    body = bracket(seed).body
    copy = replace(moved(body, motion(seed, mirrored)), name="other")
    alone = on_its_own(copy)
    assert copy_of(alone) is None and all(origin_of(f) is None for f in alone.faces)
    ours, theirs = Model((copy,), 1e-6), Model((alone,), 1e-6)
    a, b = mass_properties(copy), mass_properties(alone)
    assert (a.volume, a.area) == pytest.approx((b.volume, b.area), rel=1e-9)
    assert a.centroid == pytest.approx(b.centroid, abs=1e-8)
    assert a.inertia == pytest.approx(b.inertia, abs=1e-8 * float(np.abs(b.inertia).max()))
    assert [(f.kind, round(f.size, 6), f.through) for f in features(copy)] == [
        (f.kind, round(f.size, 6), f.through) for f in features(alone)
    ]
    for f, g in zip(features(copy), features(alone), strict=True):
        assert f.place == pytest.approx(g.place, abs=1e-6)
    size = 4.0
    assert told(lithon.findings(ours, size)) == told(lithon.findings(theirs, size))
    one, other = (lithon.forecast(m, size) for m in (ours, theirs))
    assert one.elements == pytest.approx(other.elements, rel=0.03)
    assert one.smallest_mm == pytest.approx(other.smallest_mm, rel=0.02)
    for lens in LENSES[:4]:
        assert [m.value for m in marks(ours, lens.key)] == pytest.approx([m.value for m in marks(theirs, lens.key)])
    mine, his = symmetry(ours), symmetry(theirs)
    assert (len(mine.mirrors), mine.count) == (len(his.mirrors), his.count)
    # Only now is it made out: its faces are sound, lie where they should and close.
    p, triangles, owner = body_mesh(copy)
    assert open_edges(triangles) == 0
    for k, use in enumerate(copy.uses):
        corners = p[triangles[owner == k]]
        assert np.abs(use.face.surface.signed_distance(corners.reshape(-1, 3))).max() < 1e-9
        across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        middle = corners.mean(axis=1)
        assert (np.einsum("nk,nk->n", across, use.outward(use.face.surface.project(middle))) > 0.0).all()
    assert not flaws(copy, 1e-6)
    assert box(copy) == pytest.approx(box(alone), abs=1e-9)
    where, wall, own, far, facing = thickness(copy)
    for k in np.unique(own).tolist():
        assert np.abs(copy.uses[k].face.surface.signed_distance(where[own == k])).max() < 0.1
    flat = np.array([u.face.surface.kind == "plane" for u in copy.uses])
    sure = flat[own] & (far >= 0) & flat[np.maximum(far, 0)] & (facing < -0.9999)
    opposite = np.array([copy.uses[int(k)].face.surface.signed_distance(w[None])[0] for k, w in
                         zip(far[sure], where[sure], strict=True)])  # fmt: skip
    assert np.abs(opposite) == pytest.approx(wall[sure], abs=1e-6)


def test_nothing_of_forty_copies_is_made_out_until_somebody_works_on_one():
    body = replace(bracket(3).body, name="bracket", path=("rack", "bracket"))
    n = 41 if LONG else 17
    model = row_of(body, n)
    size = 4.0
    found = lithon.findings(model, size)
    assert len(found) == n * len(lithon.findings(Model((body,), model.tolerance), size)) > n
    price = Costs(costs(model, size))
    each = [sum(price.of(f) for f in found if f.body is b) for b in model.bodies]
    assert min(each) > 0.9 * max(each) > 0.0
    lithon.forecast(model, size)
    stood = standings(model)
    assert sorted(len(g) for g in stood.groups) == [n // 3, n - n // 3]  # a mirror image is no twin
    symmetry(model)
    for lens in LENSES:
        if lens.key != "gaps":
            marks(model, lens.key)
    assert not unfolded(model)
    gaps = marks(model, "gaps")  # the two faces of each gap between bodies are made, with what bounds them
    made = sum(len(b.made_faces()) for b in model.bodies[1:])
    between = [m for m in gaps if len(set(map(model.owners, m.faces))) > 1]
    assert len(between) > n // 3 and made <= 2 * len(between)
    model = row_of(body, n)
    pic = scene.picture(model, set())
    assert len(pic.faces) == n * len(body.uses) == model.face_count()
    text = lithon.step_text(model, "rack")
    assert text.count("=MANIFOLD_SOLID_BREP(") == 2
    assert unfolded(model) <= sum(1 for _ in (*body.faces, *body.edges(), *body.vertices()))  # the mirrored one's
    back = lithon.parse_step(text).model
    assert not unfolded(back) and len({root_of(b) for b in back.bodies}) == 2
    # A pick makes one face, with its edges; its fingerprint finds it again and nothing else.
    before = unfolded(model)
    last = model.bodies[-1]
    face = pic.faces[len(pic.faces) - 1]
    assert face is last.uses[len(last.uses) - 1].face and model.owners(face) == (last,)
    assert pic.faces.number(face) == len(pic.faces) - 1
    assert resolve(model, [fingerprint(model, face)]) == [face]
    corners = {v for e in face.edges() for v in (e.start, e.end) if v is not None}
    assert unfolded(model) - before == 1 + len(set(face.edges())) + len(corners)


@pytest.mark.parametrize("seed", [1, 4, 5])
def test_a_copy_is_worked_on_like_any_body(seed):
    body = bracket(seed).body
    model = row_of(body, 3)
    for target in model.bodies[1:]:
        hole = next(f for f in features(target) if f.kind in ("hole", "pocket", "boss"))
        outcome = run(State(model), do.clear(list(hole.faces)))
        new = next(b for b in outcome.model.bodies if b.name == target.name)
        assert not flaws(new, model.tolerance) and copy_of(new) is None
        kept = [f for f in new.faces if f in set(target.faces)]
        assert len(kept) > 0.5 * len(new.faces) and all(origin_of(f) is not None for f in kept)
        assert sum(b is a for a, b in zip(model.bodies, outcome.model.bodies, strict=True)) == 2
        fresh = on_its_own(new)
        assert mass_properties(new).volume == pytest.approx(mass_properties(fresh).volume, rel=1e-9)
        known, anew = (lithon.findings(Model((b,), model.tolerance), 4.0) for b in (new, fresh))
        assert told(known) == told(anew)
        # A copy of what was worked on is a copy of that.
        again = moved(new, motion(9))
        assert root_of(again) is new and mass_properties(again).volume == mass_properties(new).volume


def test_what_is_hidden_is_not_marked_and_all_else_is():
    model = row_of(bracket(1).body, 3)
    every = [e for m in marks(model, "edges") for e in handles(m.edges)]
    for hidden in (set(), {model.bodies[0]}, {model.bodies[1]}, set(model.bodies)):
        pic = scene.picture(model, hidden)
        lines = pic.marked(every, 0.0)
        assert lines.GetNumberOfLines() == len(pic.edges) == (3 - len(hidden)) * len(model.bodies[0].edges())
        assert pic.outlines().GetNumberOfLines() == len(pic.edges)
    assert not unfolded(model)


def test_a_copy_of_a_copy_is_one_of_the_first():
    body = bracket(2).body
    one = moved(body, motion(1))
    two = moved(one, motion(2, mirrored=True))
    assert root_of(two) is body
    at = np.array([v.point for v in body.vertices()])
    for m in (motion(1), motion(2, mirrored=True)):
        at = at @ m[:3, :3].T + m[:3, 3]
    assert {tuple(np.round(v.point, 6) + 0.0) for v in two.vertices()} == {tuple(p) for p in np.round(at, 6) + 0.0}
    back = motion_between(two, moved(body, motion(5, mirrored=True)))
    assert back is not None and np.linalg.det(back[:3, :3]) == pytest.approx(1.0)
    with pytest.raises(Refusal, match="stretched"):
        moved(body, np.diag([1.0, 1.0, 1.1, 1.0]))


@pytest.mark.parametrize("seed", seeds(12))
def test_twins_are_found_by_what_they_are(seed):
    """Bodies of faces of their own, anywhere: far from the origin too."""
    body = bracket(seed).body
    far = motion(seed + 40)
    far[:3, 3] *= 200.0
    other, hand = on_its_own(moved(body, far)), on_its_own(moved(body, motion(seed, mirrored=True)))
    found = motion_between(body, other)
    assert found is not None and same_at(body, other) is not None
    assert mass_properties(other).centroid == pytest.approx(
        found[:3, :3] @ mass_properties(body).centroid + found[:3, 3], abs=1e-5
    )
    groups = twins(Model.of([body, other, hand]))
    handed = not any(len(symmetry(Model.of([b])).mirrors) for b in (body,))
    assert [len(g) for g in groups] == ([2, 1] if handed else [3])


def test_another_process_has_the_very_same_copies():
    model = row_of(collar_anchor().bodies[0], 6)
    worker = WorkerHandle()
    try:
        worker.submit("survey", model, lithon.SizeRules(8.0))
        cards = answer(worker)
        assert {c.body for c in cards} <= set(model.bodies) and any(c.body is model.bodies[4] for c in cards)
        assert not unfolded(model)  # cards came without their faces
        card = next(c for c in cards if c.body is model.bodies[4] and c.kind == "small hole")
        assert all(any(f is own for own in model.bodies[4].faces) for f in card.faces)
        worker.submit("step", State(model), do.clear(list(card.faces)))
        outcome, ghost = answer(worker)
        new = outcome.model.bodies[4]
        assert [a is b for a, b in zip(model.bodies, outcome.model.bodies, strict=True)] == [True] * 4 + [False, True]
        stayed = [f for f in new.faces if any(f is own for own in model.bodies[4].faces)]
        assert len(stayed) >= len(new.faces) - 2 and all(origin_of(f) is not None for f in stayed)
        assert set(ghost.gone) <= set(card.faces)
        _, triangles, _ = body_mesh(new)
        assert open_edges(triangles) == 0
        worker.submit("forecast", outcome.model, lithon.SizeRules(40.0))
        assert answer(worker).elements > 0
    finally:
        worker.close()


def answer(worker):
    while True:
        kind, _, *rest = worker.receive()
        if kind == "failed":
            raise rest[0]
        if kind == "done":
            return rest[0]


def test_copies_are_meshed_and_bonded_like_other_bodies():
    """Three blocks in a row, the second and third copies of the first, touching: bonded, meshed, conformal."""
    block = prism(rectangle(0.0, 0.0, 10.0, 8.0), 6.0, name="block")
    bodies = [block]
    for k in (1, 2):
        there = np.eye(4)
        there[0, 3] = 10.0 * k
        bodies.append(replace(moved(block, there), name=f"block {k + 1}"))
    there = np.eye(4)
    there[2, 3] = 6.0
    pin = replace(moved(prism(Round((5.0, 4.0), 1.5), 4.0), there), name="pin")
    bonded, _ = bond(Model.of([*bodies, pin]))
    assert len(bonded.shared()) == 3
    mesh = lithon.tetrahedral_mesh(bonded, SizeRules(3.0))
    assert mesh.conformal()
    whole = 3 * 480.0 + np.pi * 1.5**2 * 4.0
    assert mesh.volumes.sum() == pytest.approx(whole, rel=0.01)


def test_copies_that_stand_alone_are_meshed_once_unless_one_is_asked_for_more(monkeypatch):
    """Every copy has the mesh of the first, on its own faces; a mirrored one that of the first mirrored one."""
    model = row_of(prism(rectangle(0.0, 0.0, 30.0, 20.0, 4.0), 8.0, name="pad"), 7)
    asked, mesh_of_part = [], partly.tetrahedral_mesh
    monkeypatch.setattr(partly, "tetrahedral_mesh", lambda part, *rest: asked.append(part) or mesh_of_part(part, *rest))
    mesh = what_can(model, SizeRules(6.0))
    assert len(asked) == 2 and mesh.bodies == model.bodies
    own = np.bincount(mesh.body, weights=mesh.volumes)
    assert mesh.volumes.min() > 0.0 and np.ptp(own[[0, 1, 3, 4, 6]]) < 1e-9 * own[0] and own[2] == pytest.approx(own[5])
    assert own.sum() == pytest.approx(sum(mass_properties(b).volume for b in model.bodies), rel=0.01)
    for k, face in enumerate(mesh.faces):
        rows = mesh.triangles[mesh.face == k]
        assert np.abs(face.surface.signed_distance(mesh.points[np.unique(rows)])).max() < 1e-9
        a, b, c = (mesh.points[rows[:, j]] for j in range(3))
        out = face.normal((a + b + c) / 3.0)
        assert (np.einsum("ij,ij->i", np.cross(b - a, c - a), out) > 0.0).all()
    finer = model.bodies[4]
    asked.clear()
    mesh = what_can(model, SizeRules(6.0, local=((finer.faces[0], 1.0),)))
    many = np.bincount(mesh.body)
    assert [finer in part.bodies for part in asked].count(True) == 1 and len(asked) == 3
    assert many[4] > 1.5 * many[1] and many[0] == many[1] == many[3] and many[2] == many[5]
