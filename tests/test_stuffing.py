"""Tetrahedra from a lattice: sound whatever the skin is like, and taken only where that cannot be held."""

import json

import numpy as np
import pytest
from blocks import box
from click.testing import CliRunner
from dice import seeds
from solids import motion as any_motion
from test_smooth_patches import ball

import lithon
from lithon import do
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, bodies_of, soup_of
from lithon.brep.measures import face_area, volume
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import inside, inside_triangles, tree_of, triangle_normals
from lithon.brep.topology import Body, Model
from lithon.cli import cli
from lithon.errors import Refusal
from lithon.exchange.deliver import write_triangles
from lithon.exchange.step_write import write_step
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.frames import Frame
from lithon.mesh import partly
from lithon.mesh.partly import what_can
from lithon.mesh.quality import tet_volumes
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules
from lithon.mesh.stuffing import Stuffed, stuffed
from lithon.mesh.verdict import verdict
from lithon.operations.prove.mesh import MakeMesh
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples import cast_anchor, collar_anchor
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink


def body_of(points, corners) -> Body:
    return bodies_of([Triangles(points, corners, "part")])[0][0]


def facets(body: Body) -> Body:
    soup = soup_of(body)
    return body_of(soup.points, soup.corners)


def plate(thick, seed):
    """A plate with a hole, anywhere."""
    body = prism(rectangle(0, 0, 30, 20), thick)
    top = face_toward(body, (0, 0, 1))
    model = sink(body, top, Frame.of((0, 0, thick), (0, 0, 1), (1, 0, 0)), Round((12, 9), 4.0), thick,
                 face_toward(body, (0, 0, -1)))  # fmt: skip
    soup = soup_of(model.bodies[0] if isinstance(model, Model) else model)
    motion = any_motion(np.random.default_rng(seed))
    return body_of(soup.points @ motion[:3, :3].T + motion[:3, 3], soup.corners)


def potato(seed):
    """Round all over, with dents."""
    rng = np.random.default_rng(seed)
    waves = rng.normal(size=(3, 3))
    return body_of(*ball(700, lambda way: 6.0 + sum(0.6 * np.sin(way @ w * 2.0 + k) for k, w in enumerate(waves))))


def needles(seed):
    """A prism whose long sides are cut in slivers: the triangles that skins are made of by others."""
    a = np.sort(np.random.default_rng(seed).uniform(0.0, 2.0 * np.pi, 60))
    return facets(prism([Piece((8.0 * np.cos(x), 5.0 * np.sin(x))) for x in a], 30.0))


@pytest.mark.parametrize("seed", seeds(41, 2))
@pytest.mark.parametrize(
    ("make", "size", "euler"),
    [(potato, 2.0, 2), (needles, 3.0, 2), (lambda s: plate(6.0, s), 3.0, 0), (lambda s: plate(0.8, s), 3.0, 0)],
    ids=["potato", "needles", "plate", "thin plate"],
)
def test_what_comes_from_a_lattice_is_sound(make, size, euler, seed):
    """No flat element, no gap; every node of the skin on the true one; the volume, and as many holes as the body."""
    body = make(seed)
    found = stuffed([body], size)
    mesh = found.mesh
    assert mesh.conformal() and (tet_volumes(mesh.points, mesh.elements) > 0.0).all()
    assert mesh.quality.smallest_angle.min() > 10.0 and mesh.quality.scaled_jacobian.min() > 0.1
    assert mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
    soup = soup_of(body)
    own = np.unique(mesh.triangles)
    tree = BoxTree.of(soup.points, soup.corners)
    assert np.linalg.norm(tree.nearest(mesh.points[own])[1] - mesh.points[own], axis=1).max() < 1e-9
    sides = np.unique(np.sort(mesh.triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
    assert len(own) - len(sides) + len(mesh.triangles) == euler
    skin = BoxTree.of(mesh.points, mesh.triangles)
    off = np.linalg.norm(skin.nearest(soup.points)[1] - soup.points, axis=1).max()
    edges = np.concatenate([e.curve.point(np.linspace(e.t0, e.t1, 400)) for e in body.edges()])
    most = max(off, np.linalg.norm(skin.nearest(edges)[1] - edges, axis=1).max())
    assert off - 1e-9 <= found.off <= 1.02 * most + 1e-9 and found.off < size
    # The triangles of the skin look outwards, and lie on the face that they say.
    v = mesh.points[mesh.triangles]
    assert (np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]) * v.mean(axis=1)).sum() / 6.0 > 0.0
    far = [np.abs(mesh.faces[k].surface.signed_distance(v[mesh.face == k].mean(axis=1))).max(initial=0.0)
           for k in range(len(mesh.faces))]  # fmt: skip
    assert max(far) < size


def test_loads_pass_through_it_in_either_order():
    """A linear field is met exactly, in elements with straight sides and with bent ones."""
    mesh = stuffed([potato(3)], 2.5).mesh
    for made in (mesh, quadratic(mesh)[0]):
        proof = lithon.patch_test(made)
        assert proof.passed and proof.nodes > 50


def test_a_skin_that_cannot_be_held_is_meshed_from_a_lattice_and_said_so(monkeypatch, tmp_path):
    good, bad = needles(1), potato(2)
    model = Model.of([good, bad])
    known = partly.tetrahedral_mesh

    def fails(part, *rest):
        if bad in part.bodies:
            raise Refusal("the volume could not be meshed: 3 boundary triangles could not be recovered")
        return known(part, *rest)

    monkeypatch.setattr(partly, "tetrahedral_mesh", fails)
    mesh = what_can(model, SizeRules(3.0))
    assert mesh.bodies == model.bodies and not mesh.failures and list(mesh.rounded) == [1]
    assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
    off = mesh.rounded[1]
    assert 0.0 < off < 3.0
    told = run(State(model, settings=Settings(3.0)), MakeMesh())
    assert "part from a lattice: creases are cut off by up to" in told.words
    path = tmp_path / "two.stl"
    write_triangles(model, path)
    monkeypatch.setattr(partly, "tetrahedral_mesh", lambda *_: (_ for _ in ()).throw(Refusal("it could not be held")))
    done = CliRunner().invoke(cli, ["mesh", str(path), "--size", "3", "--out", str(tmp_path / "two.vtu"), "--json"])
    assert done.exit_code == 0, done.output
    facts = json.loads(done.output[done.output.index("{") :])
    assert len(facts["rounded"]) == 2 and not facts["failures"] and facts["min_dihedral_degrees"] > 10.0
    done = CliRunner().invoke(cli, ["mesh", str(path), "--size", "3", "--out", str(tmp_path / "two.vtu")])
    assert "2 bodies from a lattice" in done.stderr


@pytest.mark.parametrize("make", [cast_anchor, collar_anchor])
def test_exact_bodies_whose_skins_cannot_be_held_come_from_a_lattice(monkeypatch, make):
    """Their nodes lie on the very faces that they are said to be of; what is not sound, or would lose more than an
    element of its creases, is left to who can mend it."""
    model = make()
    (body,) = model.bodies
    size = 0.05 * float(np.linalg.norm(np.ptp(body_mesh(body)[0], axis=0)))

    def fails(*_):
        raise Refusal(
            "the volume could not be meshed: 3 boundary triangles could not be recovered", entities=(body.faces[0],)
        )

    monkeypatch.setattr(partly, "tetrahedral_mesh", fails)
    mesh = what_can(model, SizeRules(size))
    assert mesh.bodies == model.bodies and not mesh.failures and 0.0 <= mesh.rounded[0] <= size
    assert mesh.conformal() and verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
    assert set(mesh.faces) == set(body.faces) and lithon.patch_test(mesh).passed
    skin = mesh.points[np.unique(mesh.triangles)]
    off = np.min([np.abs(face.surface.signed_distance(skin)) for face in body.faces], axis=0)
    assert np.mean(off < 1e-9 * size) > 0.9 and off.max() < 0.02 * size
    known = partly.failing
    monkeypatch.setattr(partly, "stuffed", lambda *_: Stuffed(mesh, 1.5 * size))
    left = what_can(model, SizeRules(size))
    assert left.shape.flat and left.failures[0].face is body.faces[0]
    assert what_can(model, SizeRules(size), lattice=2.0 * size).rounded == {0: 1.5 * size}
    monkeypatch.setattr(
        partly, "failing", lambda own, _, near: known(own, Refusal("torn", entities=(body.faces[0],)), near)
    )
    monkeypatch.setattr(partly, "stuffed", lambda *_: Stuffed(mesh, 0.0))
    left = what_can(model, SizeRules(size))
    assert left.shape.flat and left.failures[0].face is body.faces[0]


def spiked(long=12.0):
    """A block of triangles with a needle of a ridge across its top, and a crumb of no thickness to speak of."""
    ridge = [(0, 0), (20, 0), (20, 10), (10.02, 10), (10.01, 10.5), (10, 10), (0, 10)]
    return facets(prism([Piece(p) for p in ridge], long)), facets(prism(rectangle(40, 0, 40.1, 0.1), 1e-7))


def test_poor_triangles_are_meshed_from_a_lattice_where_that_is_asked_for(monkeypatch):
    """By itself the ridge stays, needles and all, and it is told that a lattice would be better; asked for, none is
    left. What is good, or whose lattice is refused, is not told to be better; what fails beside it is closed over."""
    body, crumb = spiked()
    model = Model.of([body])
    plain = what_can(model, SizeRules(4.0))
    assert not plain.rounded and plain.quality.smallest_angle.min() < 12.0 and list(plain.better) == [0]
    assert not what_can(Model.of([needles(1)]), SizeRules(3.0)).better
    monkeypatch.setattr(partly, "stuffed", lambda *_: (_ for _ in ()).throw(Refusal("its walls are too thin")))
    same = what_can(Model.of([needles(1), body]), SizeRules(4.0), lattice=np.inf)
    assert not same.rounded and not same.better
    assert np.bincount(same.body)[1] == len(plain.elements)
    monkeypatch.undo()
    model, known = Model((body, crumb), 1e-9), partly.tetrahedral_mesh

    def refused(part, *rest):
        if crumb in part.bodies:
            raise Refusal("the volume could not be meshed: 3 boundary triangles could not be recovered")
        return known(part, *rest)

    monkeypatch.setattr(partly, "tetrahedral_mesh", refused)
    made = what_can(model, SizeRules(4.0), approximate=True, lattice=np.inf)
    assert made.quality.smallest_angle[made.body == 0].min() > 12.0
    assert list(made.rounded) == [0] and made.rounded[0] < 2.0
    assert made.volume_ratio == pytest.approx(1.0, abs=0.02)


@pytest.mark.parametrize(("radius", "size"), [(1.0, 2.5), (2.0, 3.0), (0.8, 4.0)])
def test_a_rod_of_triangles_keeps_its_volume(radius, size):
    """As a round one does: chords of elements that are as large as it is cut off a fifth."""
    a = 2.0 * np.pi * np.arange(48) / 48
    rod = facets(prism([Piece((radius * np.cos(x), radius * np.sin(x))) for x in a], 40.0))
    mesh = what_can(Model.of([rod]), SizeRules(size))
    assert mesh.volume_ratio == pytest.approx(1.0, abs=0.02) and not mesh.rounded


def test_a_finer_mesh_that_is_refused_costs_nothing(monkeypatch):
    """The coarse one that was there is kept, and no lattice taken in its stead."""
    a = 2.0 * np.pi * np.arange(48) / 48
    rod = facets(prism([Piece((np.cos(x), np.sin(x))) for x in a], 40.0))
    known, size = partly.tetrahedral_mesh, 2.5

    def only_coarse(part, rules, *rest):
        if rules.size < size:
            raise Refusal("it could not be held")
        return known(part, rules, *rest)

    monkeypatch.setattr(partly, "tetrahedral_mesh", only_coarse)
    mesh = what_can(Model.of([rod]), SizeRules(size))
    assert not mesh.rounded and abs(mesh.volume_ratio - 1.0) > 0.02 and mesh.conformal()


def test_what_is_thinner_than_any_lattice_is_refused():
    thin = facets(prism(rectangle(0, 0, 20, 20), 1e-4))
    with pytest.raises(Refusal, match="thinner"):
        stuffed([thin], 3.0)
    soup = soup_of(thin)
    flat = body_of(soup.points * [1.0, 1.0, 0.0], soup.corners)  # of no volume at all
    with pytest.raises(Refusal, match="thinner"):
        stuffed([flat], 3.0)


@pytest.mark.parametrize("seed", seeds(43, 3))
def test_bodies_that_share_faces_come_from_one_lattice(seed):
    """Three blocks of triangles, two faces of one shared: each has its volume, no element is flat, what is between two
    is told once, looks from one to the other and lies where they meet but for what is told to be off."""
    blocks = [box(0, 0, 20, 20, 0, 10, "foot"), box(0, 0, 20, 20, 10, 17, "top"), box(20, 0, 30, 20, 0, 10, "side")]
    motion = any_motion(np.random.default_rng(seed))
    model = run(State(Model.of([facets(moved(b, motion)) for b in blocks])), do.bond()).model
    assert len(model.shared()) == 2
    for size in (1.5, 2.5):
        found = stuffed(model.bodies, size)
        mesh = found.mesh
        assert mesh.conformal() and (tet_volumes(mesh.points, mesh.elements) > 0.0).all()
        assert not verdict(mesh).strict and mesh.quality.smallest_angle.min() > 10.0
        own = np.bincount(mesh.body, weights=mesh.volumes)
        np.testing.assert_allclose(own, [volume(b) for b in model.bodies], rtol=0.01)
        middle = mesh.points[mesh.elements].mean(axis=1)
        for k, body in enumerate(model.bodies):
            deep = np.linalg.norm(tree_of(body).nearest(middle)[1] - middle, axis=1) > found.off
            np.testing.assert_array_equal((mesh.body == k)[deep], inside(body, middle)[deep])
        sides = np.sort(mesh.elements[:, [[1, 2, 3], [0, 2, 3], [0, 1, 3], [0, 1, 2]]].reshape(-1, 3), axis=1)
        of = np.repeat(mesh.body, 4)
        table = {}
        for side, k in zip(sides.tolist(), of.tolist(), strict=True):
            table.setdefault(tuple(side), []).append(k)
        between = {side for side, own in table.items() if len(set(own)) == 2}
        shared = [k for k, face in enumerate(mesh.faces) if len(model.owners(face)) == 2]
        rows = np.isin(mesh.face, shared)
        assert {tuple(t) for t in np.sort(mesh.triangles[rows], axis=1).tolist()} == between
        for k in shared:
            v = mesh.points[mesh.triangles[mesh.face == k]]
            normal = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
            true = mesh.faces[k].normal(v.mean(axis=1))
            assert 0.5 * (normal * true).sum() == pytest.approx(face_area(mesh.faces[k]), rel=0.02)
            off = np.min([np.abs(mesh.faces[j].surface.signed_distance(v.reshape(-1, 3))) for j in shared], axis=0)
            assert (off < 1e-9).mean() > 0.9 and off.mean() < 0.02 * size
            assert off.max() <= found.off + 1e-9
        assert found.off < size


@pytest.mark.parametrize(("size", "wide"), [(4.0, 1e-3), (3.0, 1e-4)])
def test_a_slot_far_narrower_than_what_is_ignored_is_filled_and_told(tmp_path, size, wide):
    """Its two sides stand so near to each other that no tetrahedra hold both: the mesh is that of the block without
    it, and says so by hand, on the command line and unattended. A slot as wide as an element stays open."""
    outline = [(0, 0), (40, 0), (40, 10), (8, 10), (8, 10 + wide), (40, 10 + wide), (40, 20 + wide), (0, 20 + wide)]
    clip = prism([Piece(p) for p in outline], 15.0, name="clip")
    model = Model.of([moved(clip, any_motion(5))])
    rules = SizeRules(size, ignore=0.1 * size)
    mesh = what_can(model, rules)
    assert list(mesh.rounded) == [0] and mesh.rounded[0] < 0.5 * size and mesh.filled == {0: 0.1 * size}
    assert mesh.conformal() and verdict(mesh).good and not mesh.failures and lithon.patch_test(mesh).passed
    assert mesh.volumes.sum() == pytest.approx(40.0 * 20.0 * 15.0, rel=2e-3)
    told = run(State(model, settings=Settings(size, ignore=0.1 * size)), MakeMesh())
    assert f"slots up to {0.1 * size:.2g} mm wide are filled" in told.words
    write_step(model, tmp_path / "clip.step", "clip")
    asked = ["mesh", str(tmp_path / "clip.step"), "--size", str(size), "--ignore", str(0.1 * size), "--elements", "tet",
             "--out", str(tmp_path / "clip.vtu"), "--json"]  # fmt: skip
    done = CliRunner().invoke(cli, asked)
    assert done.exit_code == 0, done.output
    (one,) = json.loads(done.stdout)["rounded"]
    assert one["slots_filled_mm"] == pytest.approx(0.1 * size) and one["off_mm"] < 0.5 * size
    open_wide = [(x, y + (size if y > 10 else 0.0)) for x, y in outline]
    open_one = what_can(Model.of([prism([Piece(p) for p in open_wide], 15.0)]), rules)
    assert not open_one.filled and not open_one.rounded
    assert open_one.volumes.sum() == pytest.approx(8.0 * (20.0 + wide + size) * 15.0 + 32.0 * 20.0 * 15.0, rel=1e-9)


def test_exact_bodies_that_share_faces_come_from_one_lattice(monkeypatch):
    """Bonded, and none of their skins to be held: elements of both meet node for node on the face between them, and
    what one holds the other does not."""
    one = prism(rectangle(0, 0, 20, 14), 8.0, name="sill")
    two = moved(prism(rectangle(3, 2, 15, 11), 6.0, name="block"), lifted(8.0))
    model = run(State(Model.of([one, two])), do.bond()).model
    assert model.shared()

    def fails(*_):
        raise Refusal("2 boundary triangles of a plane face could not be recovered")

    monkeypatch.setattr(partly, "tetrahedral_mesh", fails)
    mesh = what_can(model, SizeRules(3.0))
    assert len(mesh.rounded) == 2 and not mesh.filled and mesh.conformal() and verdict(mesh).good
    own = np.bincount(mesh.body, weights=mesh.volumes)
    assert own == pytest.approx([20 * 14 * 8.0, 12 * 9 * 6.0], rel=0.02)
    (between,) = model.shared()
    rows = mesh.triangles[[mesh.faces[k] is between for k in mesh.face]]
    flat = mesh.points[rows][:, :, 2]
    assert np.abs(flat - 8.0).max() <= mesh.rounded[0] + 1e-9
    assert lithon.patch_test(mesh).passed


def lifted(z):
    up = np.eye(4)
    up[2, 3] = z
    return up


@pytest.mark.parametrize("seed", seeds(10))
def test_within_triangles_is_as_within_the_body_that_they_are_of(seed):
    """Against distances to a ball's middle; points on neither side of a plane of it are told apart all the same."""
    rng = np.random.default_rng(seed)
    points, corners = ball(900, lambda way: np.full(len(way), 3.0))
    tree = BoxTree.of(points, corners)
    normals = triangle_normals(points, corners)
    probe = rng.uniform(-4.0, 4.0, (500, 3))
    far = np.linalg.norm(probe, axis=1)
    told = inside_triangles(tree, normals, probe)
    assert told[far < 2.9].all() and not told[far > 3.0].any()
    on_planes = points[corners[rng.integers(0, len(corners), 200)]].mean(axis=1) * rng.choice([0.5, 1.2], (200, 1))
    assert np.array_equal(inside_triangles(tree, normals, on_planes), np.linalg.norm(on_planes, axis=1) < 2.0)
