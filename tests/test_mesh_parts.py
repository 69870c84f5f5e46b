"""The steps of a mesh one by one: faces divided and triangulated, the boundary recovered, the volume filled, elements
improved; faces mapped and paved with quads."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box, plate, stack
from dice import seeds
from plain_quality import tet_dihedral_degrees, tet_edge_ratio, tet_scaled_jacobian

import lithon
from lithon import do
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.measures import face_area, face_width, volume
from lithon.brep.topology import Model
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mesh.delaunay import FACE, Tetrahedra
from lithon.mesh.fill import circumspheres, fill, inner_lattice
from lithon.mesh.improve import improve
from lithon.mesh.make import mesh_of
from lithon.mesh.quads import four_sided, mapped, opposite, paved, sides_of
from lithon.mesh.quality import Quality, tet_volumes
from lithon.mesh.recover import EDGE, _Held, _missing, _opposite, recover, tet_faces, wall_off
from lithon.mesh.sizing import SizeRules, divide_edge, size_field
from lithon.mesh.skin import Skin
from lithon.mesh.stars import quality
from lithon.mesh.surface import SurfaceMesh, surface_mesh
from lithon.mesh.tetrahedra import _cells, tetrahedral_mesh
from lithon.mesh.verdict import verdict
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.progress import SILENT
from lithon.samples.build import Piece, Round, Section, face_toward, prism, raised, rectangle, sink

PARTS = {
    "plate": lambda: plate(),
    "rod": lambda: Model.of([prism(Round((0, 0), 3.0), 12.0, Frame.of((1, 2, 3), (1, 1, 2)), "rod")]),
    "rounded": lambda: Model.of([prism(rectangle(0, 0, 20, 12, 4.0), 6.0, name="rounded")]),
    "bonded": lambda: run(State(stack()), do.bond()).model,
}
every = pytest.mark.parametrize("name", PARTS)


def made(name, size=3.0):
    model = PARTS[name]()
    sizes = size_field(model.bodies, SizeRules(size))
    return model, sizes, surface_mesh(model.bodies, sizes)


@every
def test_the_surface_mesh_lies_on_its_faces_and_closes(name):
    model, _, surface = made(name)
    points = surface.points()
    corners, of = surface.triangles()
    for k, face in enumerate(surface.faces):
        own = corners[of == k]
        assert np.abs(face.surface.signed_distance(points[np.unique(own)])).max() < 1e-9
        v = points[own]
        cross = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
        assert ((cross * face.normal(v.mean(axis=1))).sum(axis=1) > 0.0).all()  # none is folded
        area = 0.5 * np.linalg.norm(cross, axis=1).sum()
        exact = face_area(face)
        assert area <= exact * 1.02 and area >= 0.9 * exact  # chords of round rims take away, or add, a little
    # Every side is shared: by two triangles of a body's skin, or by more where bodies share a face.
    sides = np.sort(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]), axis=1)
    count = np.unique(sides, axis=0, return_counts=True)[1]
    assert count.min() >= 2 and (name == "bonded" or count.max() == 2)
    assert len(model.bodies) >= 1


@every
def test_edges_are_divided_by_the_size_and_evenly(name):
    model, sizes, surface = made(name)
    for edge in model.edges():
        t = divide_edge(edge, sizes)
        assert t[0] == edge.t0 and t[-1] == edge.t1 and (np.diff(t) > 0.0).all()
        pieces = np.linalg.norm(np.diff(edge.curve.point(t), axis=0), axis=1)
        assert pieces.max() < 1.6 * 3.0 and pieces.max() < 3.0 * pieces.min() + 1e-9
        ids, at = surface.divide(edge)
        assert len(ids) == len(t) - (1 if edge.ring else 0) and np.allclose(at[0], edge.curve.point(t[:1])[0])


@every
def test_the_boundary_is_recovered_triangle_by_triangle(name):
    _, _, surface = made(name)
    space, failures = recover(surface, SILENT)
    assert not failures and not wall_off(surface, space)
    corners, _ = surface.triangles()
    wanted = {tuple(sorted(t)) for t in (corners + 8).tolist()}
    live = space.live
    faces = {tuple(sorted(f)) for f in tet_faces(space.tet[live]).reshape(-1, 3).tolist()}
    assert wanted <= faces
    edges = {tuple(sorted(e)) for e in space.tet[live][:, EDGE].reshape(-1, 2).tolist()}
    sides = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]) + 8
    assert {tuple(sorted(s)) for s in sides.tolist()} <= edges
    # Asked the quick way, of what is there and of what is not.
    n, rng = space.points, np.random.default_rng(len(corners))
    for known, width in ((faces, 3), (edges, 2)):
        some = rng.integers(8, n, (3000, width))
        some = some[(np.diff(np.sort(some, axis=1), axis=1) > 0).all(axis=1)]
        every = np.concatenate([some, np.array(sorted(known))[:2000]])
        told = _Held(space).of(every - 8).tolist()
        assert told == [tuple(sorted(row)) in known for row in every.tolist()] and any(told)


def test_what_the_tetrahedra_held_is_asked_again_only_where_nodes_came():
    for seed in seeds(4):
        rng = np.random.default_rng(seed)
        space = Tetrahedra.box(np.zeros(3), np.ones(3))
        points = rng.random((400, 3))
        space.add(points)
        held = _Held(space)
        faces = tet_faces(space.tet[space.live])
        asked = faces[(faces >= 8).all(axis=1)] - 8
        assert held.of(asked).all()
        for turn in range(5):
            middle = rng.random(3)
            space.add(middle + 0.05 * rng.random((1 + 3 * turn, 3)))  # close together: cavities run into cavities
            if turn == 2:  # and some that nobody asked for before
                asked = np.concatenate([asked, rng.integers(0, space.points - 8, (500, 3))])
            now = {tuple(sorted(f)) for f in tet_faces(space.tet[space.live]).tolist()}
            told = held.of(asked)
            assert told.tolist() == [tuple(sorted(f)) in now for f in (asked + 8).tolist()]
            sides = {tuple(sorted(f)) for f in space.tet[space.live][:, EDGE].reshape(-1, 2).tolist()}
            assert held.of(asked[:, :2]).tolist() == [tuple(sorted(s)) in sides for s in (asked[:, :2] + 8).tolist()]
        assert not told.all()


@every
def test_improving_keeps_boundary_and_volume_and_makes_nothing_worse(name):
    model, sizes, surface = made(name)
    space, _ = recover(surface, SILENT)
    wall_off(surface, space)
    corners, of = surface.triangles()
    fill(space, inner_lattice(surface.points(), corners, sizes), sizes, SILENT)
    cells = _cells(surface, space, of)
    before = tet_volumes(cells.points, cells.tet)
    angle = np.sort(tet_dihedral_degrees(cells.points, cells.tet).min(axis=1))
    row, side = np.nonzero(cells.wall >= 0)
    walls = len(np.unique(np.sort(cells.tet[row[:, None], FACE[side]], axis=1), axis=0))
    after = improve(cells, SILENT)
    now = tet_volumes(after.points, after.tet)
    assert (now > 0.0).all()
    flat = all(f.surface.kind == "plane" for f in model.faces())
    assert now.sum() == pytest.approx(before.sum(), rel=1e-9 if flat else 0.02)
    better = np.sort(tet_dihedral_degrees(after.points, after.tet).min(axis=1))
    assert better[0] >= angle[0] - 1e-9 and better[0] > 9.0
    assert walls == len(corners) and (after.wall >= 0).any()
    # A neighbour knows its neighbour, and they share three nodes.
    t, i = np.nonzero(after.nbr >= 0)
    other = after.nbr[t, i]
    shared = (after.tet[t][:, :, None] == after.tet[other][:, None, :]).sum(axis=(1, 2))
    assert (shared == 3).all() and ((after.nbr[other] == t[:, None]).sum(axis=1) == 1).all()


def test_nodes_crowded_on_a_skin_give_way_and_every_face_keeps_its_area():
    """A block of which one edge is cut far too fine, and one face holds a line that stays: nodes of that edge are drawn
    together along it, diagonals are turned, none is moved off its face and no corner is lost."""
    block = Model.of([box(0, 0, 20, 12, 0, 8, "block")])
    sizes = size_field(block.bodies, SizeRules(4.0))
    crowded = next(e for e in block.edges() if abs(e.length - 20.0) < 1e-9)
    surface = SurfaceMesh(block.bodies, sizes, block.faces(), finer={crowded: 90})
    for face in surface.faces:
        surface.mesh_face(face)
    space, failures = recover(surface, SILENT)
    assert not failures and not wall_off(surface, space)
    corners, of = surface.triangles()
    fill(space, inner_lattice(surface.points(), corners, sizes), sizes, SILENT)
    cells = _cells(surface, space, of)
    before = tet_dihedral_degrees(cells.points, cells.tet).min(axis=1)
    after = improve(cells, SILENT)
    angle = tet_dihedral_degrees(after.points, after.tet).min(axis=1)
    assert before.min() < 6.0 and angle.min() > 12.0
    assert tet_volumes(after.points, after.tet).min() > 0.0
    assert tet_volumes(after.points, after.tet).sum() == pytest.approx(20 * 12 * 8, rel=1e-12)
    t, i = np.nonzero(after.wall >= 0)
    v = after.points[after.tet[t[:, None], FACE[i]]]
    areas = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
    for k, face in enumerate(surface.faces):
        own = after.wall[t, i] == k
        assert areas[own].sum() == pytest.approx(face_area(face), rel=1e-12)
        assert np.abs(face.surface.signed_distance(v[own].reshape(-1, 3))).max() < 1e-12
    used = after.points[np.unique(after.tet)]
    for vertex in block.bodies[0].vertices():
        assert np.linalg.norm(used - vertex.point, axis=1).min() == 0.0
    along = len(surface.edge_nodes[crowded])
    t = (used - crowded.at(0.0)) @ (crowded.at(1.0) - crowded.at(0.0)) / 400.0
    off = np.linalg.norm(used - (crowded.at(0.0) + t[:, None] * (crowded.at(1.0) - crowded.at(0.0))), axis=1)
    left = int(((off < 1e-9) & (t > -1e-9) & (t < 1.0 + 1e-9)).sum())
    assert along == 91 and 4 < left < 60
    # An edge that is asked to be divided so stays as it is.
    surface.sizes = size_field(block.bodies, replace(sizes.rules, divisions=((crowded, 90),)))
    kept = improve(_cells(surface, space, of), SILENT)
    assert {tuple(p) for p in surface.points()[surface.edge_nodes[crowded]]} <= {tuple(p) for p in kept.points}


@pytest.mark.parametrize("follows", [False, True])
def test_a_diagonal_is_turned_but_not_an_edge_that_is_followed(follows):
    """Four corners of a square are one circle's, and the tetrahedra have the other diagonal: the surface takes it, but
    where its own is a piece of an edge with one face on both sides, as where that is draped over."""
    block = Model.of([box(0, 0, 2, 2, 0, 2, "block")])
    top = next(f for f in block.faces() if f.surface.frame.z[2] > 0.5)
    points = np.array([[0, 0, 2], [2, 0, 2], [2, 2, 2], [0, 2, 2], [1.0, 1.0, 0.0]])
    space = Tetrahedra.box(points.min(axis=0) - 5.0, points.max(axis=0) + 5.0)
    space.add(points)
    held = _Held(space)
    one, two = (np.array(t) for t in ([[0, 1, 2], [0, 2, 3]], [[1, 2, 3], [1, 3, 0]]))
    there, lost = (one, two) if held.of(one).all() else (two, one)
    assert held.of(there).all() and not held.of(lost).any()
    sizes = size_field(block.bodies, SizeRules(4.0))
    diagonal = tuple(sorted(set(lost[0].tolist()) & set(lost[1].tolist())))
    edges = {diagonal: block.edges()[0]} if follows else {}
    skin = Skin(block.bodies, sizes, (top,), list(points), segments=edges, tri=lost.copy(), of=np.zeros(2, dtype=int))
    assert _missing(skin, held).tolist() == ([0, 1] if follows else [])
    assert {frozenset(t) for t in skin.tri.tolist()} == {frozenset(t) for t in (lost if follows else there).tolist()}


def quality_of(corners):
    return quality(np.ascontiguousarray(corners), 0, 1, 2, 3)


def test_quality_in_closed_form():
    """A regular tetrahedron, a corner of a cube, one turned inside out, a flat one."""
    regular = np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]], dtype=float)
    sine = np.sqrt(8.0) / 3.0
    assert quality_of(regular) == pytest.approx(sine) or quality_of(regular[[1, 0, 2, 3]]) == pytest.approx(sine)
    corner = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], dtype=float)
    assert quality_of(corner) == pytest.approx(np.sin(np.arccos(1.0 / np.sqrt(3.0))))
    assert quality_of(corner[[1, 0, 2, 3]]) < 0.0
    flat = corner.copy()
    flat[3] = (0.3, 0.3, 0.0)
    assert abs(quality_of(flat)) < 1e-8
    rng = np.random.default_rng(1)
    for _ in range(50):
        p = rng.normal(size=(4, 3))
        if tet_volumes(p, np.array([[0, 1, 2, 3]]))[0] < 0.0:
            p = p[[1, 0, 2, 3]]
        angles = np.radians(tet_dihedral_degrees(p, np.array([[0, 1, 2, 3]])))
        both = Quality.of(p, np.array([[0, 1, 2, 3], [1, 0, 2, 3]]))
        for row, sign in ((0, 1.0), (1, -1.0)):
            t = np.array([[[0, 1, 2, 3], [1, 0, 2, 3]][row]])
            assert both.scaled_jacobian[row] == pytest.approx(sign * abs(tet_scaled_jacobian(p, t)[0]), rel=1e-9)
            assert both.edge_ratio[row] == pytest.approx(tet_edge_ratio(p, t)[0])
            assert both.smallest_angle[row] == pytest.approx(np.degrees(angles.min()), abs=1e-6)
            assert both.largest_angle[row] == pytest.approx(np.degrees(angles.max()), abs=1e-6)
        # A needle's dihedral angles are fine, its scaled Jacobian is not: 0.12 counts as 16 degrees.
        needle = np.sin(np.radians(16.0)) / 0.12 * tet_scaled_jacobian(p, np.array([[0, 1, 2, 3]]))[0]
        assert quality_of(p) == pytest.approx(min(np.sin(angles).min(), needle), abs=1e-9)
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        turn *= np.sign(np.linalg.det(turn))
        assert quality_of(2.5 * p @ turn.T + 3.0) == pytest.approx(quality_of(p), rel=1e-9)
    upright = regular if quality_of(regular) > 0.0 else regular[[1, 0, 2, 3]]
    assert tet_scaled_jacobian(upright, np.array([[0, 1, 2, 3]]))[0] == pytest.approx(1.0)


def test_circumspheres_pass_through_all_corners():
    rng = np.random.default_rng(2)
    corners = rng.normal(size=(40, 4, 3))
    centre, radius = circumspheres(corners.reshape(-1, 3), np.arange(160).reshape(40, 4))
    assert np.allclose(np.linalg.norm(corners - centre[:, None], axis=2), radius[:, None], rtol=1e-6)


@pytest.mark.parametrize("seed", seeds(3))
def test_quads_fill_their_faces(seed):
    """Mapped on four-sided faces, paved on others: they cover the face once, all look along its normal."""
    rng = np.random.default_rng(seed)
    w, d = rng.uniform(8, 20, 2)
    model = Model.of([prism(rectangle(0, 0, w, d), 5.0), prism(Round((50, 0), 6.0), 5.0)])
    sizes = size_field(model.bodies, SizeRules(2.0))
    surface, covered = surface_mesh(model.bodies, sizes), 0
    for face in model.faces():
        if face.surface.kind != "plane":
            continue
        points: dict[int, np.ndarray] = {}

        def nodes(edge, points=points):
            ids, at = surface.divide(edge)
            points.update(zip(ids.tolist(), at, strict=True))
            return ids, at

        if four_sided(face):
            assert len(sides_of(face)) == 4 and len(opposite(face)) == 2
            even = all(len(surface.divide(a.edge)[0]) == len(surface.divide(b.edge)[0]) for a, b in opposite(face))
            if not even:
                continue
            x, quads = mapped(face, nodes)
        elif sum(len(surface.divide(e)[0]) for e in face.edges()) % 2 == 0:
            x, quads = paved(face, nodes, 2.0)
        else:
            continue
        v = np.array([[points[n] if n >= 0 else x[-1 - n] for n in quad] for quad in quads.tolist()])
        parts = [np.cross(v[:, k] - v[:, 0], v[:, k + 1] - v[:, 0]) for k in (1, 2)]
        area = 0.5 * sum(np.linalg.norm(p, axis=1) for p in parts)
        assert area.sum() == pytest.approx(face_area(face), rel=0.05)
        covered += 1
        toward = np.array([face.normal(q.mean(axis=0)[None])[0] for q in v])
        assert all(((p * toward).sum(axis=1) > 0.0).all() for p in parts)
    assert covered >= 2


def test_the_worst_elements_come_first():
    model = plate()
    mesh = lithon.tetrahedral_mesh(model, SizeRules(4.0))
    q: Quality = mesh.quality
    order = q.worst(10)
    assert len(order) == 10
    least = [q.smallest_angle.min(), q.scaled_jacobian.min()]
    assert q.smallest_angle[order[0]] == least[0] or q.scaled_jacobian[order[0]] == least[1]
    filled = sum(tet_volumes(mesh.points, mesh.elements))
    assert mesh.volume_ratio == pytest.approx(filled / sum(map(volume, model.bodies)))


def test_sizes_grow_away_from_what_asks_for_them():
    model = Model.of([box(0, 0, 40, 40, 0, 40, "block")])
    (face,) = (f for f in model.faces() if f.surface.kind == "plane" and f.surface.frame.z[2] > 0.9)
    field = size_field(model.bodies, SizeRules(8.0, growth=0.25, local=((face, 1.0),)))
    z = np.linspace(0.0, 39.0, 14)
    at = np.stack([np.full(14, 20.0), np.full(14, 20.0), 40.0 - z], axis=1)
    found = field.at(at)
    expected = np.minimum(8.0, 1.0 + 0.25 * z)
    assert (found >= expected * 0.98).all() and (found <= expected + 0.35).all()
    wide = size_field(model.bodies, SizeRules(8.0, local=((face, 50.0),)))
    assert np.allclose(wide.at(at), 8.0)  # a size of its own only refines


def test_a_point_that_sees_everything_finds_room():
    """The centre of a sphere of points makes tetrahedra with all of them at once, however little room there was."""
    rng = np.random.default_rng(5)
    around = rng.standard_normal((4000, 3))
    around *= 100.0 / np.linalg.norm(around, axis=1)[:, None]
    space = Tetrahedra.box(around.min(axis=0), around.max(axis=0))
    assert space.add(around).all()
    space.tet, space.nbr, space.wall = (a[: space.state[0] + 2].copy() for a in (space.tet, space.nbr, space.wall))
    space.lab, space.free, space.stamp = (a[: space.state[0] + 2].copy() for a in (space.lab, space.free, space.stamp))
    assert space.add(np.zeros((1, 3))).all()
    p, tet = space.world(), space.tet[space.live]
    volumes = np.linalg.det(p[tet[:, 1:]] - p[tet[:, :1]]) / 6.0
    box = np.ptp(p[:8], axis=0)
    assert (volumes != 0.0).all() and np.abs(volumes).sum() == pytest.approx(box.prod(), rel=1e-9)
    assert (tet == space.points - 1).any(axis=1).sum() > 4000


def test_the_verdict_counts_places_and_says_why():
    """A block has no poor element; one with a splinter along an edge has them at the splinter, and is told so; what is
    ignored there makes it good. Every poor element is told of once."""
    block = Model.of([box(0, 0, 20, 20, 0, 10, "block")])
    fine = verdict(tetrahedral_mesh(block, SizeRules(4.0)))
    assert fine.good and not fine.places and "none below" in fine.words()
    outline = [Piece((x, y)) for x, y in ((0.0, 0.0), (20.0, 0.0), (20.0, 9.998), (19.9985, 10.0), (0.0, 10.0))]
    thin = Model.of([prism(outline, 20.0, name="thin")])
    (chamfer,) = (f for f in thin.bodies[0].faces if face_width(f) < 0.1)
    mesh = tetrahedral_mesh(thin, SizeRules(4.0))
    told = verdict(mesh)
    q = mesh.quality
    assert told.strict == ((q.scaled_jacobian < 0.1) | (q.smallest_angle < 12.0)).sum()
    assert told.strict == sum(p.elements for p in told.places)
    assert told.lenient == ((q.scaled_jacobian < 0.05) | (q.smallest_angle < 8)).sum() <= told.strict
    assert not told.good and {p.face for p in told.places} & {chamfer, *adjacency(thin.bodies[0]).neighbours(chamfer)}
    assert all(p.cause for p in told.places)
    assert any("mm stands beside" in p.cause or "mm wide beside" in p.cause for p in told.places)
    assert str(told.strict) in told.words() and len(told.where()) <= len(told.places)
    assert sum(int(line.split()[0].replace("one", "1")) for line in told.where()) == told.strict
    assert verdict(tetrahedral_mesh(thin, SizeRules(4.0, ignore=0.3))).good
    # Two edges that meet at eight degrees, all of them long; and a mesh of which a node is put beside another.
    t = np.radians(8.0)
    wedge = Model.of([prism([Piece((0, 0)), Piece((40, 0)), Piece((40 * np.cos(t), 40 * np.sin(t)))], 20.0)])
    causes = {p.cause for p in verdict(tetrahedral_mesh(wedge, SizeRules(4.0))).places}
    assert causes and all("8°" in cause or "mm" in cause for cause in causes)
    fine = tetrahedral_mesh(block, SizeRules(4.0))
    points, (a, b) = fine.points.copy(), fine.elements[0, :2]
    points[a] = points[b] + 0.02 * (points[a] - points[b])
    moved = replace(fine, points=points, quality=Quality.of(points, fine.elements))
    places = verdict(moved).places
    assert places and all("nodes stand" in p.cause or p.face is None for p in places)


@pytest.mark.parametrize("top", [0.3, 0.45])
def test_the_tip_of_a_pin_is_drawn_together_where_it_is_below_what_is_ignored(top):
    """A square pin with a pyramid that ends in a face of less than an ignore size: its four corners are one node, or,
    above it, four about which elements grow."""
    pin = Model.of([box(-1, -1, 1, 1, 0, 12, "pin")])
    upper = 12.0
    for way in ((1, 0), (-1, 0), (0, 1), (0, -1)):
        foot = np.array([*way, 0.0]) + np.array([0.0, 0.0, upper - 1.5])
        outward = Plane.of(foot, np.array([1.5 * way[0], 1.5 * way[1], 1.0 - top / 2.0]))
        pieces = split(pin, list(pin.bodies), outward).bodies
        pin = Model.of([max(pieces, key=volume)])
    small = [f for f in pin.bodies[0].faces if f.surface.kind == "plane" and face_area(f) < 1.1 * top**2]
    assert len(small) == 1 and face_area(small[0]) == pytest.approx(top**2)
    mesh = tetrahedral_mesh(pin, SizeRules(3.0, ignore=0.4))
    high = mesh.points[mesh.points[:, 2] > upper - 1e-6]
    assert len(high) == (1 if top < 0.4 else 4) and mesh.conformal()
    assert float(mesh.quality.scaled_jacobian.min()) > 0.1 and float(mesh.quality.smallest_angle.min()) > 12.0
    assert abs(mesh.volume_ratio - 1.0) < 0.01


@pytest.mark.slow
@pytest.mark.parametrize("gap", [0.02, 0.1])
def test_circles_close_to_one_another_are_cut_fine_enough_not_to_cross(gap):
    """A tube with a wall far thinner than what the chords of its circles stand off them."""
    outer = 5.0
    ring = prism(Round((0.0, 0.0), outer), 3.0, name="ring")
    top = Frame.of((0, 0, 3.0), (0, 0, 1), (1, 0, 0))
    up, under = face_toward(ring, (0, 0, 1)), face_toward(ring, (0, 0, -1))
    ring = sink(ring, up, top, Round((0.4 * gap, 0.0), outer - gap), 3.0, under)
    model = Model.of([ring])
    mesh = tetrahedral_mesh(model, SizeRules(4.0, around=8, smallest=0.2))
    assert mesh.conformal() and float(mesh.quality.scaled_jacobian.min()) > 0.0
    for edge in ring.edges():  # the nodes of both circles lie on them, and no chord of one reaches the other
        if edge.curve.kind == "circle" and edge.curve.radius == outer:
            on = np.abs(np.hypot(*mesh.points[:, :2].T) - outer) < 1e-9
            assert outer * (1.0 - np.cos(np.pi / (on & (mesh.points[:, 2] == 3.0)).sum())) < gap
    asked = [(e, 9 if e.curve.radius == outer else 10) for e in ring.edges() if e.curve.kind == "circle"]
    with pytest.raises(Refusal):  # who says how often an edge is cut is not overruled
        tetrahedral_mesh(model, SizeRules(4.0, divisions=tuple(asked)))


def _flared_pin(gap):
    """A plate with a wall and beside it a pin, whose widest rim stands so far (mm) off the wall."""
    up, plate = (0.0, 0.0, 1.0), prism(rectangle(0, 0, 30, 20), 4.0)
    top = Frame.of((0.0, 0.0, 4.0), up, (1.0, 0.0, 0.0))
    body = raised(plate, face_toward(plate, up), top, rectangle(4, 2, 8, 18), 12.0)
    flare = Section.through((0.0, 0.0), (0.0, 3.0), (1.5, 6.0), (0.0, 9.0))
    ground = face_toward(body, up, (0.0, 0.0, 4.0))
    return raised(body, ground, top, Round((11.0 + gap, 10.0), 1.5), 9.0, flare)


@pytest.mark.slow
def test_walls_that_nearly_touch_are_meshed_as_well_as_others():
    """A node of one side's has its foot in the other: how near they stand does not matter to the elements."""
    worst = []
    for gap in (0.1, 2e-4):
        mesh = mesh_of(Model.of([_flared_pin(gap)]), SizeRules(2.0), "tet")
        assert not mesh.failures and mesh.volume_ratio == pytest.approx(1.0, abs=5e-3)
        worst.append(float(mesh.quality.scaled_jacobian.min()))
    assert worst[1] > 0.85 * worst[0] > 0.15


def test_the_foot_of_what_stands_close_before_a_triangle():
    corners = np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    triangle = np.array([[0, 1, 2]])
    for point, foot in (((0.3, 0.3, 0.01), True), ((0.3, 0.3, -0.01), True), ((0.3, 0.3, 0.6), False),
                        ((0.7, 0.7, 0.01), False), ((0.004, 0.5, 0.01), False), ((2.0, 2.0, 0.01), False)):  # fmt: skip
        found = _opposite(np.vstack([corners, point]), triangle)[0][0]
        assert np.isfinite(found).all() == foot
        if foot:
            assert found == pytest.approx((point[0], point[1], 0.0), abs=1e-12)
    # Of two the nearer, wherever the triangle stands.
    turn = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]
    two = np.vstack([corners, (0.2, 0.3, 0.03), (0.4, 0.3, -0.01)]) @ turn.T + 5.0
    found, touched = _opposite(two, triangle)
    assert touched == [-1] and found[0] == pytest.approx(turn @ [0.4, 0.3, 0.0] + 5.0, abs=1e-12)
    # One that stands on the triangle is told itself.
    assert _opposite(np.vstack([corners, (0.3, 0.3, 1e-9)]), triangle)[1] == [3]
