"""Bodies that share nothing are meshed by themselves, whatever they do to each other; those that share have nodes in
common; the nodes in faces keep the sizes that are asked for."""

import numpy as np
import pytest
from dice import seeds
from scipy.spatial import cKDTree

import lithon
import lithon.do as do
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.mesh.face_nodes import _too_large
from lithon.mesh.make import mesh_of
from lithon.mesh.partly import _together
from lithon.mesh.quality import tet_volumes
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.progress import Progress
from lithon.samples.build import Round, prism, rectangle, revolved
from lithon.samples.sill_ramp import sill_ramp


def block(x, name, y=0.0, height=8.0):
    return prism(rectangle(x, y, x + 10.0, y + 10.0), height, name=name)


@pytest.mark.parametrize("gap", [3.0, 1e-9, 0.0, -4.0, -10.0])
def test_two_blocks_are_meshed_however_they_stand_to_each_other(gap):
    """Apart, a hair apart, side by side, through each other, in the same place: each is whole and by itself."""
    model = Model.of([block(0.0, "one"), block(10.0 + gap, "two", height=6.0)])
    shares = []
    mesh = mesh_of(model, SizeRules(3.0), "tet", Progress(lambda share, what: shares.append(share)))
    assert not mesh.failures and mesh.conformal() and mesh.bodies == model.bodies
    sizes = tet_volumes(mesh.points, mesh.elements)
    for k, body in enumerate(model.bodies):
        assert sizes[mesh.body == k].sum() == pytest.approx(volume(body), rel=1e-9)
    ours = [set(mesh.elements[mesh.body == k].ravel().tolist()) for k in (0, 1)]
    assert ours[0].isdisjoint(ours[1])
    # The triangles on a face look away from its own body.
    for k, face in enumerate(mesh.faces):
        a, b, c = (mesh.points[mesh.triangles[mesh.face == k][:, j]] for j in range(3))
        assert (np.cross(b - a, c - a) @ face.surface.frame.z * (1.0 if face.along else -1.0) > 0.0).all()
    assert shares == sorted(shares) and shares[0] >= 0.0 and shares[-1] <= 1.0


def test_what_is_bonded_has_nodes_in_common_and_a_third_block_through_both_has_not():
    state = State(Model.of([block(0.0, "one"), block(10.0, "two")]), settings=Settings(size=3.0))
    bonded = run(state, do.bond()).state.model
    third = block(5.0, "three", 2.0)
    model = Model.of([bonded.bodies[0], third, bonded.bodies[1]])
    assert [[b.name for b in group] for group in _together(model)] == [["one", "two"], ["three"]]
    mesh = mesh_of(model, SizeRules(3.0), "tet")
    assert not mesh.failures and sorted(b.name for b in mesh.bodies) == ["one", "three", "two"]
    own = {b.name: set(mesh.elements[mesh.body == k].ravel().tolist()) for k, b in enumerate(mesh.bodies)}
    both = mesh.points[sorted(own["one"] & own["two"])]
    assert len(both) > 8 and np.abs(both[:, 0] - 10.0).max() < 1e-9
    assert own["three"].isdisjoint(own["one"] | own["two"])
    sizes = tet_volumes(mesh.points, mesh.elements)
    for k, body in enumerate(mesh.bodies):
        assert sizes[mesh.body == k].sum() == pytest.approx(volume(body), rel=1e-9)


def test_many_bodies_in_a_heap_of_which_one_cannot_be_meshed(monkeypatch):
    """What fails is told by its name, and the mesh is that of the others."""
    import lithon.mesh.partly as partly
    from lithon.errors import Refusal

    bodies = [block(7.0 * k, f"block {k}", 3.0 * (k % 2)) for k in range(5)]
    whole = partly.tetrahedral_mesh

    def fails(model, *rest):
        if model.bodies[0].name == "block 3":
            raise Refusal("it will not be meshed today", remedy="come again")
        return whole(model, *rest)

    monkeypatch.setattr(partly, "tetrahedral_mesh", fails)
    monkeypatch.setattr(partly, "_instead", lambda *_: None)
    mesh = mesh_of(Model.of(bodies), SizeRules(3.0), "tet")
    (failure,) = mesh.failures
    assert "block 3" in failure.what and "today" in failure.what and failure.remedy == "come again"
    assert [b.name for b in mesh.bodies] == ["block 0", "block 1", "block 2", "block 4"]
    assert mesh.volume_ratio == pytest.approx(1.0, rel=1e-9)


@pytest.mark.parametrize("seed", seeds(4))
def test_triangles_that_are_too_large_are_parted_at_their_circumcentres(seed):
    """Against their closed form, in a plane that lies anywhere in space and is drawn to another scale."""
    rng = np.random.default_rng(seed)
    flat = rng.uniform(0.0, 10.0, (60, 2))
    frame, scale = Frame.of(rng.normal(size=3), rng.normal(size=3), rng.normal(size=3)), 0.25
    space = frame.origin + scale * (flat @ np.stack([frame.x, frame.y]))
    tri = np.array([rng.choice(60, 3, replace=False) for _ in range(200)])
    size = np.full(200, 0.7)
    bad, worth, goal, spare = _too_large(flat, space, tri, size)
    a, b, c = (flat[tri[:, k]] for k in range(3))
    sides = scale * np.stack([np.linalg.norm(p - q, axis=1) for p, q in ((b, c), (c, a), (a, b))], axis=1)
    u, v = b - a, c - a
    twice = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) * scale**2
    radius = sides.prod(axis=1) / (2.0 * twice)
    even = 1.0 / np.sqrt(3.0)
    want = (radius > 1.25 * even * size) | ((radius > 1.35 * sides.min(axis=1)) & (radius > 0.8 * even * size))
    assert set(bad.tolist()) == set(np.flatnonzero(want).tolist()) and 0 < len(bad) < 200
    assert np.allclose(worth, (radius / size)[bad], rtol=1e-9)
    assert np.allclose(spare, np.minimum(0.72 * size, 0.9 * radius)[bad] / scale, rtol=1e-9)
    # A centre near by is the goal itself; one far outside is gone towards, no further than a size and a bit.
    det = 2.0 * (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
    uu, vv = (u * u).sum(axis=1), (v * v).sum(axis=1)
    centre = a + np.stack([v[:, 1] * uu - u[:, 1] * vv, u[:, 0] * vv - v[:, 0] * uu], axis=1) / det[:, None]
    middle = (a + b + c) / 3.0
    away = scale * np.linalg.norm(centre - middle, axis=1)[bad]
    gone = scale * np.linalg.norm(goal - middle[bad], axis=1)
    close = (away < 1.2 * size[bad]) & (away < sides[bad].max(axis=1))
    assert close.any() and np.allclose(goal[close], centre[bad][close], atol=1e-6)
    assert (gone <= 1.2 * size[bad] + 1e-9).all()


@pytest.mark.parametrize("size", [4.0, 1.3])
def test_nodes_in_faces_are_as_far_apart_as_is_asked(size):
    """On a plane, a cylinder, a cone and a ball: circles through triangles are no larger than a little over that of an
    even one, but for a few, and no inner node is nearer to another than about two thirds of a size."""
    drum = prism(Round((0.0, 0.0), 12.0), 20.0)
    cap = revolved([*lathe()], Frame.of((60.0, 0.0, 0.0), (0.0, 0.0, 1.0)))
    for body in (drum, cap):
        rules = SizeRules(size, around=12)
        surface = surface_mesh((body,), size_field((body,), rules))
        points = surface.points()
        for face in surface.faces:
            tri = surface.by_face[face]
            a, b, c = (points[tri[:, k]] for k in range(3))
            sides = np.stack([np.linalg.norm(p - q, axis=1) for p, q in ((b, c), (c, a), (a, b))], axis=1)
            twice = np.linalg.norm(np.cross(b - a, c - a), axis=1)
            radius = sides.prod(axis=1) / (2.0 * np.maximum(twice, 1e-300))
            asked = surface.sizes.at((a + b + c) / 3.0)
            assert np.quantile(radius / asked, 0.95) < 1.6 / np.sqrt(3.0)
            inner = points[surface.inner[face][0]]
            if len(inner) > 1:
                near = cKDTree(points).query(inner, 2)[0][:, 1]
                assert (near > 0.45 * surface.sizes.at(inner)).all()
            assert np.abs(face.surface.signed_distance(points[np.unique(tri)])).max() < 1e-8


def lathe():
    from lithon.samples.build import Piece

    return [Piece((0.0, 0.0)), Piece((9.0, 0.0)), Piece((6.0, 14.0)), Piece((0.0, 14.0))]


def test_a_mesh_of_overlapping_parts_is_told_of_by_the_survey():
    """Nothing is hidden by meshing each by itself: the card that they overlap stays."""
    model = Model.of([block(0.0, "one"), block(6.0, "two")])
    assert "overlap" in {f.kind for f in lithon.findings(model, 3.0)}


@pytest.mark.parametrize("away", [200.0, 0.0])
def test_what_is_closed_over_does_not_touch_a_sound_body_beside_it(away):
    """A torn ramp and a block apart from it, or in the same place: the ramp is closed over, the block exact."""
    (ramp,) = sill_ramp().bodies
    model = Model.of([ramp, block(away, "sound")])
    with_ramp = mesh_of(model, SizeRules(8.0), "tet", approximate=True)
    assert {b.name for b in with_ramp.bodies} == {ramp.name, "sound"} and with_ramp.failures
    sizes = tet_volumes(with_ramp.points, with_ramp.elements)
    own = {b.name: sizes[with_ramp.body == k].sum() for k, b in enumerate(with_ramp.bodies)}
    assert own["sound"] == pytest.approx(volume(model.bodies[1]), rel=1e-9) and own[ramp.name] > 0.0
    assert own[ramp.name] == pytest.approx(tet_volumes_alone(ramp), rel=1e-9)


def tet_volumes_alone(body):
    mesh = mesh_of(Model.of([body]), SizeRules(8.0), "tet", approximate=True)
    return tet_volumes(mesh.points, mesh.elements).sum()
