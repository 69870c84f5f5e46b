"""The patch test: every kind of element carries a linear field through; a spoiled mesh does not."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box, plate, stack
from click.testing import CliRunner
from solids import motion as any_motion

import lithon
from lithon import do
from lithon.brep.copies import moved
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.exchange.step_read import Arrival
from lithon.exchange.step_write import write_step
from lithon.mesh.compare import compared, facts
from lithon.mesh.patch_test import _quadrature, _slopes, patch_test, stiffness
from lithon.mesh.quality import Quality
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.project.ledger import Ledger, Source
from lithon.samples.build import Round, prism


@pytest.mark.parametrize(("k", "volume"), [(4, 1 / 6), (10, 1 / 6), (8, 8.0), (20, 8.0)])
def test_shapes_and_points_of_each_element(k, volume):
    """Weights fill the element; slopes are those of functions that sum to one and give back the coordinates."""
    points = _quadrature(k)
    assert sum(w for _, w in points) == pytest.approx(volume)
    corner = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], dtype=float)
    if k in (8, 20):
        corner = np.array([[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1],
                           [-1, 1, 1]], dtype=float)  # fmt: skip
    pairs = {10: [(0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3)], 20: [(0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6),
             (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)]}.get(k, [])  # fmt: skip
    nodes = np.vstack([corner, *(0.5 * (corner[[a]] + corner[[b]]) for a, b in pairs)])
    assert len(nodes) == k
    for at, _ in points:
        slope = _slopes(at, k)
        assert slope.sum(axis=0) == pytest.approx([0, 0, 0], abs=1e-12)
        assert nodes.T @ slope == pytest.approx(np.eye(3), abs=1e-12)
        if k in (10, 20):  # of second order: squares too
            assert (nodes[:, 0] ** 2) @ slope == pytest.approx([2 * at[0], 0, 0], abs=1e-12)


def test_a_matrix_that_no_rigid_motion_strains():
    mesh = lithon.tetrahedral_mesh(Model.of([moved(box(0, 0, 4, 5, 0, 6, "b"), any_motion(2))]), lithon.SizeRules(2.0))
    matrix = stiffness(mesh.points, mesh.elements, True)
    assert abs(matrix - matrix.T).max() < 1e-12
    x = mesh.points - mesh.points.mean(axis=0)
    for u in (np.ones_like(x) * [1, 0, 0], np.cross([0.3, -0.2, 0.9], x)):
        assert np.abs(matrix @ u.ravel()).max() < 1e-10
    # One pulled along x by a strain of one: its energy is that of the stress times the volume.
    energy = 0.5 * float((u := (x * [1, 0, 0]).ravel()) @ (matrix @ u))
    assert energy == pytest.approx(0.5 * 0.7 / (1.3 * 0.4) * 120.0, rel=1e-9)


@pytest.mark.slow
@pytest.mark.parametrize("order", ["1", "2"])
@pytest.mark.parametrize("kind", ["tet", "hex"])
def test_every_kind_passes(kind, order):
    # Of second order a plain block is large enough: its elements have thirty unknowns each.
    small = Model.of([box(0, 0, 12, 10, 0, 8, "b")])
    tets = plate() if order == "1" else small
    model = tets if kind == "tet" else run(State(stack()), do.bond()).model
    mesh = lithon.mesh_of(model, lithon.SizeRules(3.0), kind)
    if order == "2":
        mesh = lithon.quadratic(mesh)[0]
    proof = patch_test(mesh)
    assert proof.passed and proof.error < 1e-9 and proof.nodes > 20


def test_swept_rounds_of_second_order_pass():
    mesh = lithon.mesh_of(Model.of([prism(Round((0.0, 0.0), 5.0), 8.0)]), lithon.SizeRules(2.0), "hex")
    proof = patch_test(lithon.quadratic(mesh)[0])
    assert proof.passed and proof.nodes > 50


def test_what_is_spoiled_is_found():
    mesh = lithon.tetrahedral_mesh(Model.of([box(0, 0, 8, 8, 0, 8, "b")]), lithon.SizeRules(2.0))
    middle = int(np.linalg.norm(mesh.points[mesh.elements].mean(axis=1) - 4.0, axis=1).argmin())
    turned = mesh.elements.copy()
    turned[middle] = turned[middle][[1, 0, 2, 3]]
    with pytest.raises(Refusal, match="folded") as caught:
        patch_test(replace(mesh, elements=turned))
    assert caught.value.where
    # A mid-node of one element that is another node: the field does not come through.
    second = lithon.quadratic(mesh)[0]
    wrong = second.elements.copy()
    wrong[middle, [4, 5]] = wrong[middle, [5, 4]]
    try:
        assert not patch_test(replace(second, elements=wrong)).passed
    except Refusal as refusal:
        assert "folded" in refusal.what


def test_two_meshes_are_compared_by_what_can_be_counted():
    model = Model.of([box(0, 0, 8, 8, 0, 8, "b")])
    coarse, fine = (lithon.mesh_of(model, lithon.SizeRules(size), "hex") for size in (4.0, 2.0))
    a, b = facts(coarse), facts(fine)
    assert a.elements == len(coarse.elements) < b.elements == len(fine.elements) and a.nodes < b.nodes
    sides = {8.0 / n for n in range(1, 9)}  # a block in blocks: an edge is a whole part of its own
    assert all(min(abs(x - s) for s in sides) < 1e-9 for x in (a.smallest, a.largest, b.smallest, b.largest))
    assert b.median < a.median
    assert a.worst_jacobian == pytest.approx(1.0) and a.strict == a.lenient == 0
    lines = {what: (one, two) for what, one, two in compared(coarse, fine)}
    assert lines["elements"] == (f"{a.elements} hexahedra", f"{b.elements} hexahedra")
    assert lines["nodes"] == (str(len(coarse.points)), str(len(fine.points)))
    flat = replace(fine, quality=Quality.of(fine.points * [1, 1, 0.05], fine.elements))
    assert facts(flat).strict == facts(flat).lenient == 0  # square all the same
    skew = fine.points + 4.0 * np.outer(fine.points[:, 2], [4.0, 0, 0])
    assert facts(replace(fine, quality=Quality.of(skew, fine.elements))).strict == b.elements


def test_the_mesh_before_is_told_by_the_ledger():
    ledger = Ledger(Source("b.step", b""), Arrival(Model.of([box(0, 0, 8, 8, 0, 8, "b")]), []), Settings(4.0))
    ledger.take(do.mesh("hex"))
    assert ledger.mesh_before() is None
    first = ledger.mesh()
    ledger.take(do.element_size(2.0))
    assert ledger.mesh_before() is None  # there is none now
    ledger.take(do.mesh("hex"))
    assert ledger.mesh_before() is first and ledger.mesh() is not first


def test_on_the_command_line(tmp_path):
    from lithon.cli import cli

    write_step(Model.of([box(0, 0, 8, 8, 0, 8, "b")]), tmp_path / "b.step")
    where = [str(tmp_path / name) for name in ("b.step", "m.vtu")]
    told = ["mesh", where[0], "--size", "3", "--elements", "tet", "--prove", "--out", where[1]]
    out = CliRunner().invoke(cli, told)
    assert out.exit_code == 0 and "patch test passed" in out.output, out.output
