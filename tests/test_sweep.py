"""Hexahedra: volumes, matching contacts, second order, and a reason where a body cannot be swept."""

import meshio
import numpy as np
import pytest
from dice import seeds

import lithon
from lithon.bond.share import bond
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mesh.hexahedra import plan_of, verdict
from lithon.mesh.hexes import EDGES, hex_scaled_jacobian, hex_volumes
from lithon.mesh.mesh import Mesh
from lithon.mesh.sweep import sweep_of
from lithon.mesh.turns import Sides, Turn
from lithon.samples.build import Piece, Round, Section, face_toward, prism, raised, rectangle, revolved, sink

F = Frame.of((1.0, 2.0, 3.0), (1.0, 1.0, 2.0), (1.0, 0.0, 0.0))


def plate_with_hole():
    body = prism(rectangle(-30, -20, 30, 20, 5), 10, F)
    top = Frame.of(F.origin + 10 * F.z, F.z, F.x)
    return sink(body, face_toward(body, F.z), top, Round((10, 3), 4), 10, face_toward(body, -F.z))


def pipe():
    return revolved([Piece((5, 0)), Piece((8, 0)), Piece((8, 20)), Piece((5, 20))], F, "pipe")


def good(mesh: Mesh, loss: float) -> None:
    """Conformal, no folded element, volume within what chords lose, every quad on its face."""
    assert mesh.conformal() and mesh.kind == "hexahedra"
    assert mesh.quality.scaled_jacobian.min() > 0.25
    assert hex_volumes(mesh.points, mesh.elements).min() > 0.0
    assert mesh.volume_ratio == pytest.approx(1.0, abs=loss)
    for k, face in enumerate(mesh.faces):
        quads = mesh.triangles[mesh.face == k]
        assert np.abs(face.surface.signed_distance(mesh.points[np.unique(quads)])).max() < 1e-6
        v = mesh.points[quads]
        cross = np.cross(v[:, 2] - v[:, 0], v[:, 3] - v[:, 1])
        assert ((cross * face.normal(v.mean(axis=1))).sum(axis=1) > 0.0).all()


CASES = {
    "block": (lambda: prism(rectangle(0, 0, 20, 10), 6), 2.0, 1e-12),
    "rod": (lambda: prism(Round((0, 0), 6), 20), 2.0, 0.05),
    "plate": (plate_with_hole, 3.0, 0.02),
    "pipe": (pipe, 2.0, 0.05),
    "L": (lambda: prism([Piece(p) for p in ((0, 0), (9, 0), (9, 3), (3, 3), (3, 8), (0, 8))], 5), 1.5, 1e-9),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_one_profile_along_a_line(name):
    make, size, loss = CASES[name]
    good(lithon.hexahedral_mesh(Model.of([make()]), lithon.SizeRules(size)), loss)


def test_around_an_axis_and_bonded():
    model = Model.of([pipe()])
    halves = split(model, model.bodies, Plane.of(F.origin, F.x))
    mesh = lithon.hexahedral_mesh(halves, lithon.SizeRules(2.0))
    good(mesh, 0.02)
    bonded, _ = bond(halves)
    together = lithon.hexahedral_mesh(bonded, lithon.SizeRules(2.0))
    good(together, 0.02)
    assert len(together.points) < len(mesh.points) and len(bonded.shared()) == 2
    for face in bonded.shared():
        a, b = (set(np.unique(together.corners[together.body == k]).tolist()) for k in (0, 1))
        assert set(together.face_nodes(face).tolist()) == a & b & set(together.face_nodes(face).tolist())


def test_a_chain_of_bodies_and_a_split_source():
    plate = prism(rectangle(-10, -10, 10, 10), 4, name="plate")
    post = prism(Round((0, 0), 4), 8, Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)), "post")
    cap = prism(Round((0, 0), 4), 3, Frame.of((0, 0, 12), (0, 0, 1), (1, 0, 0)), "cap")
    model, contacts = bond(Model.of([plate, post, cap]))
    assert len(contacts) == 2
    mesh = lithon.hexahedral_mesh(model, lithon.SizeRules(2.0))
    good(mesh, 0.03)
    assert [verdict(b)[0] for b in model.bodies] == ["swept", "mapped", "mapped"]


def test_second_order_lies_on_the_solid(tmp_path):
    mesh = lithon.hexahedral_mesh(Model.of([pipe()]), lithon.SizeRules(3.0))
    curved, kept = lithon.quadratic(mesh)
    assert kept == 0 and curved.elements.shape[1] == 20
    for k, face in enumerate(mesh.faces):
        quads = mesh.triangles[mesh.face == k]
        pairs = {tuple(sorted(p)) for q in quads.tolist() for p in zip(q, q[1:] + q[:1], strict=True)}
        table = {tuple(sorted(e[[i, j]].tolist())): e[8 + n] for e in curved.elements for n, (i, j) in enumerate(EDGES)}
        mids = curved.points[[table[p] for p in pairs]]
        assert np.abs(face.surface.signed_distance(mids)).max() < 1e-9
    lithon.write_vtu(curved, tmp_path / "pipe.vtu")
    read = meshio.read(tmp_path / "pipe.vtu")
    assert read.cells[0].type == "hexahedron20" and len(read.cells[0].data) == len(mesh.elements)


def test_measures_of_a_cube_and_a_sheared_one():
    cube = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0, 0, 1], [1, 0, 1], [1, 1, 1], [0, 1, 1.0]])
    one = np.arange(8)[None]
    assert hex_volumes(cube, one)[0] == pytest.approx(1.0) and hex_scaled_jacobian(cube, one)[0] == pytest.approx(1.0)
    sheared = cube + cube[:, 2:] * [1.0, 0.0, 0.0]
    assert hex_volumes(sheared, one)[0] == pytest.approx(1.0)
    assert hex_scaled_jacobian(sheared, one)[0] == pytest.approx(np.sqrt(0.5))


def test_what_cannot_be_swept_says_why():
    block = prism(rectangle(0, 0, 20, 20), 6, name="step")
    up = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    stepped = raised(block, face_toward(block, (0, 0, 1)), up, rectangle(5, 5, 15, 15), 4)
    with pytest.raises(Refusal, match="step is not one profile") as caught:
        sweep_of(stepped)
    assert caught.value.where and caught.value.remedy and caught.value.entities[0] in stepped.faces
    ball = revolved([Piece((0, -5), (0, 0)), Piece((0, 5))], F, "ball")
    with pytest.raises(Refusal, match="ball has no two opposite"):
        sweep_of(ball)
    drill = Section.through((-3, -4), (0, -2), (0, 0))
    pocket = sink(block, face_toward(block, (0, 0, 1)), up, Round((10, 10), 3), 0, None, drill)
    with pytest.raises(Refusal, match="cone face breaks it"):
        sweep_of(pocket)
    assert verdict(pocket)[0] == "tetrahedra" and volume(pocket) > 0


def tower(x0, x1, y0, y1):
    """A smaller block on a larger one, flush with some of its sides."""
    low = prism(rectangle(0, 0, 24, 16), 8, F, "low")
    top = Frame.of(F.origin + 8 * F.z, F.z, F.x)
    return Model.of([low, prism(rectangle(x0, y0, x1, y1), 6, top, "high")])


@pytest.mark.parametrize("box", [(6, 15, 0, 16), (0, 9, 0, 16), (5, 24, 4, 11), (0, 7, 0, 9)])
def test_blocks_flush_with_each_others_sides(box):
    """The upper block's corners lie on edges of the lower one: those are divided alike at both ends of a wall."""
    model, contacts = bond(tower(*box))
    assert [c.verdict for c in contacts] == ["shared"]
    mesh = lithon.mesh_of(model, lithon.SizeRules(2.5), "hex")
    good(mesh, 1e-12)
    exact = 24 * 16 * 8 + (box[1] - box[0]) * (box[3] - box[2]) * 6
    assert hex_volumes(mesh.points, mesh.elements).sum() == pytest.approx(exact, rel=1e-9)
    assert mesh.faces == model.faces() and mesh.bodies == model.bodies
    (shared,) = model.shared()
    assert len(mesh.face_nodes(shared)) > 4


def test_half_a_ring_on_a_pipe():
    """The rims of the pipe are parted on one side only."""
    ring = prism(Round((0, 0), 9), 10, F, "pipe")
    top = Frame.of(F.origin + 10 * F.z, F.z, F.x)
    ring = sink(ring, face_toward(ring, F.z), top, Round((0, 0), 5), 10, face_toward(ring, -F.z))
    cap = prism(Round((0, 0), 9), 4, top, "cap")
    far = Frame.of(top.origin + 4 * F.z, F.z, F.x)
    cap = sink(cap, face_toward(cap, F.z, far.origin), far, Round((0, 0), 5), 4, face_toward(cap, -F.z))
    halves = split(Model.of([cap]), [cap], Plane.of(F.origin, F.x)).bodies
    model, _ = bond(Model.of([ring, halves[0]]))
    mesh = lithon.mesh_of(model, lithon.SizeRules(2.0), "hex")
    good(mesh, 0.02)
    assert {verdict(b)[0] for b in model.bodies} <= {"swept", "mapped"}


def ring(*profile):
    return revolved([Piece(p) if isinstance(p[0], int | float) else Piece(*p) for p in profile], F, "ring")


def whole_torus(*radii):
    from lithon.brep.topology import Body, Face, FaceUse
    from lithon.geometry.rounds import Torus

    uses = [FaceUse(Face(Torus.of(F.origin, F.z, 10.0, r), ()), k == 0) for k, r in enumerate(radii)]
    return Body(tuple(uses), "torus")


TURNED = {
    "pipe": (pipe, "mapped"),
    "flanged pipe": (lambda: ring((5, 0), (12, 0), (12, 3), (8, 3), (8, 20), (5, 20)), "swept"),
    "grooved ring": (lambda: ring((5, 0), (12, 0), (12, 8), (9, 8), (9, 12), (12, 12), (12, 20), (5, 20)), "swept"),
    "conical ring": (lambda: ring((5, 0), (12, 0), (9, 8), (6, 8)), "mapped"),
    "rounded rim": (lambda: ring((5, 0), ((9, 0), (9, 2)), (9, 4), (5, 4)), "swept"),
    "torus": (lambda: whole_torus(3.0), "swept"),
    "hollow torus": (lambda: whole_torus(3.0, 1.5), "swept"),
}


@pytest.mark.parametrize("name", TURNED)
def test_all_the_way_round_an_axis(name):
    """A straight profile loses what the regular polygon loses against its circle, and nothing else."""
    make, kind = TURNED[name]
    body = make()
    assert verdict(body)[0] == kind and isinstance(plan_of(body, Sides()), Turn)
    mesh = lithon.hexahedral_mesh(Model.of([body]), lithon.SizeRules(1.2))
    good(mesh, 0.05)
    local = F.local(mesh.points)
    angles = np.arctan2(local[:, 1], local[:, 0])
    layers = len(np.unique(np.round(np.exp(1j * angles), 6)))
    assert len(mesh.elements) % layers == 0
    if all(e.curve.kind == "circle" for e in body.edges()) and name not in ("rounded rim", "torus", "hollow torus"):
        assert mesh.volume_ratio == pytest.approx(layers / (2 * np.pi) * np.sin(2 * np.pi / layers), rel=1e-9)


@pytest.mark.parametrize("seed", seeds(8))
def test_profiles_of_any_outline_are_paved_well(seed):
    """Random polygons with round holes: no corner of an element is sharp, and the volume is that of the polygons."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(5, 10))
    angle = 2.0 * np.pi * (np.arange(n) + rng.uniform(0.0, 0.5, n)) / n
    corners = rng.uniform(12.0, 24.0, n)[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    body = prism([Piece((float(x), float(y))) for x, y in corners], 6.0, F, "profile")
    x, y = corners.T
    area = 0.5 * float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())
    holes = [((-4.0 + 8.0 * k, 0.0), float(rng.uniform(1.5, 3.0))) for k in range(int(rng.integers(0, 3)))]
    top = Frame.of(F.origin + 6.0 * F.z, F.z, F.x)
    for centre, radius in holes:
        body = sink(body, face_toward(body, F.z), top, Round(centre, radius), 6.0, face_toward(body, -F.z))
    for size in (1.0, 2.0):
        mesh = lithon.hexahedral_mesh(Model.of([body]), lithon.SizeRules(size))
        good(mesh, 0.02)
        assert mesh.quality.scaled_jacobian.min() > 0.5 and np.median(mesh.quality.scaled_jacobian) > 0.85
        flat = F.local(mesh.points)
        flat = flat[np.abs(flat[:, 2]) < 1e-9, :2]
        meshed = area
        for centre, radius in holes:
            k = int((np.abs(np.linalg.norm(flat - centre, axis=1) - radius) < 1e-9).sum())
            meshed -= 0.5 * k * radius**2 * np.sin(2.0 * np.pi / k)
        assert mesh.volumes.sum() == pytest.approx(6.0 * meshed, rel=1e-9)


def test_rings_beside_what_is_swept_along():
    """A pin in a pipe, a wider ring and a plate on it: whoever is meshed first, the contacts match."""
    on_top = Frame.of(F.origin + 20 * F.z, F.z, F.y)
    cases = [
        [prism(Round((0, 0), 5), 20, F, "pin"), pipe()],
        [prism(Round((0, 0), 5), 9, F, "short pin"), pipe()],
        [pipe(), revolved([Piece((5, 0)), Piece((12, 0)), Piece((12, 4)), Piece((5, 4))], on_top, "wide")],
        [pipe(), prism(rectangle(-20, -20, 20, 20), 5, on_top, "plate")],
    ]
    for bodies in cases:
        model, contacts = bond(Model.of(bodies))[:2]
        assert [c.verdict for c in contacts] == ["shared"]
        good(lithon.hexahedral_mesh(model, lithon.SizeRules(1.5)), 0.02)


def test_what_is_not_round_is_not_told_to_lose_its_core(anchor):
    kind, reason = verdict(anchor.bodies[0])
    assert kind == "tetrahedra" and "reaches the axis" not in reason


def ball(*radii):
    from lithon.brep.topology import Body, Face, FaceUse
    from lithon.geometry.rounds import Sphere

    return Body(tuple(FaceUse(Face(Sphere.of(F.origin, r), ()), k == 0) for k, r in enumerate(radii)), "ball")


ON_AXIS = {
    "pin": (lambda: prism(Round((0, 0), 5), 20, F, "pin"), "mapped", True),
    "stepped shaft": (lambda: ring((0, 0), (8, 0), (8, 5), (4, 5), (4, 12), (0, 12)), "swept", True),
    "pulley": (lambda: ring((0, 0), (12, 0), (12, 8), (9, 8), (9, 12), (12, 12), (12, 20), (0, 20)), "swept", True),
    "frustum": (lambda: ring((0, 0), (8, 0), (4, 10), (0, 10)), "mapped", True),
    "cone": (lambda: ring((0, 0), (8, 0), (0, 10)), "swept", False),
    "dished pin": (lambda: ring((0, 3), (8, 0), (8, 10), (0, 7)), "mapped", False),
    "dome": (lambda: ring(((0, -8), (0, 0)), (8, 0), (0, 0)), "swept", False),
    "capsule": (lambda: ring(((0, -8), (0, 0)), (8, 0), ((8, 10), (0, 10)), (0, 18)), "swept", False),
    "ball": (lambda: ball(8.0), "swept", False),
    "hollow ball": (lambda: ball(8.0, 4.0), "mapped", False),
}


@pytest.mark.parametrize("name", ON_AXIS)
def test_a_profile_that_reaches_its_axis_has_a_core_of_discs(name):
    """Plane ends: the mesh loses what the polygon loses against its circle. Others: less with smaller elements, by
    the square of their size."""
    make, kind, plane = ON_AXIS[name]
    body = make()
    assert verdict(body)[0] == kind
    lost = []
    for size in (2.0, 1.0):
        mesh = lithon.hexahedral_mesh(Model.of([body]), lithon.SizeRules(size))
        good(mesh, 0.05)
        assert mesh.quality.scaled_jacobian.min() > 0.4
        sound_boundary(mesh)
        lost.append(1.0 - mesh.volume_ratio)
        if plane:
            local = F.local(mesh.points)
            outside = np.hypot(local[:, 0], local[:, 1]) > 0.999 * np.hypot(local[:, 0], local[:, 1]).max()
            layers = len(np.unique(np.round(np.exp(1j * np.arctan2(local[outside, 1], local[outside, 0])), 6)))
            assert mesh.volume_ratio == pytest.approx(layers / (2 * np.pi) * np.sin(2 * np.pi / layers), rel=1e-9)
    assert 0.0 < lost[1] < 0.5 * lost[0]


def sound_boundary(mesh):
    """The quads of the faces are just what the elements leave open."""
    sides = mesh.sides(np.arange(len(mesh.elements)))
    _, index, count = np.unique(np.sort(sides, axis=1), axis=0, return_index=True, return_counts=True)
    skin = {tuple(row) for row in np.sort(sides[index[count == 1]], axis=1).tolist()}
    assert skin == {tuple(row) for row in np.sort(mesh.triangles, axis=1).tolist()}


def test_cores_that_meet():
    """A shaft in two lengths, of other radii; a plate on a shaft; a shaft with its sleeve: they match."""
    at = [Frame.of(F.origin + h * F.z, F.z, F.x) for h in (12.0, 5.0)]
    shaft = ring((0, 0), (8, 0), (8, 5), (4, 5), (4, 12), (0, 12))
    cases = [
        [shaft, prism(Round((0, 0), 4), 6, at[0], "stub")],
        [shaft, prism(Round((0, 0), 9), 6, at[0], "disc")],
        [shaft, prism(rectangle(-15, -15, 15, 15), 4, at[0], "plate")],
        [shaft, revolved([Piece((4, 0)), Piece((8, 0)), Piece((8, 7)), Piece((4, 7))], at[1], "sleeve")],
    ]
    for bodies in cases:
        model, contacts = bond(Model.of(bodies))[:2]
        assert {c.verdict for c in contacts} == {"shared"}
        mesh = lithon.hexahedral_mesh(model, lithon.SizeRules(1.5))
        good(mesh, 0.02)


def revolved_spline(solid: bool):
    """A wall with a spline for its meridian between two plane ends, or a lid that closes on the axis."""
    from lithon.brep.sewing import righted, turned_alike
    from lithon.brep.topology import Body, Coedge, Edge, Face
    from lithon.geometry.curves import Circle
    from lithon.geometry.splines import BSplineCurve
    from lithon.geometry.surfaces import Cylinder
    from lithon.geometry.swept import Revolution

    open_, shut = [[9.0, 0.0], [11.0, 3.0], [6.0, 6.0], [7.0, 10.0]], [[9.0, 0.0], [9.5, 5.0], [5.0, 8.0], [0.0, 8.0]]
    flat = np.array(shut if solid else open_)
    lead = np.array([np.cos(0.7), np.sin(0.7)])  # the profile stands anywhere about the axis
    control = F.world(np.column_stack([np.multiply.outer(flat[:, 0], lead), flat[:, 1]]))
    wall = Revolution.of(BSplineCurve(np.array([0, 0, 0, 0, 1, 1, 1, 1.0]), 3, control), F.origin, F.z)

    def ring(radius, height):
        return Edge(Circle.about(F.shifted(height * F.z), radius), 0.0, 2.0 * np.pi)

    low, high = ring(9.0, 0.0), ring(7.0, 10.0)
    plane = Plane(Frame.of(F.origin, -F.z))
    if solid:
        faces = [Face(wall, ((Coedge(low, True),),)), Face(plane, ((Coedge(low, False),),))]
    else:
        bore = [ring(3.0, 0.0), ring(3.0, 10.0)]
        faces = [
            Face(wall, ((Coedge(low, True),), (Coedge(high, True),))),
            Face(plane, ((Coedge(low, True),), (Coedge(bore[0], True),))),
            Face(Plane(F.shifted(10.0 * F.z)), ((Coedge(high, True),), (Coedge(bore[1], True),))),
            Face(Cylinder(F, 3.0), ((Coedge(bore[0], True),), (Coedge(bore[1], True),))),
        ]
    body = Body(tuple(turned_alike([righted(f) for f in faces])), "vase")  # senses follow from where loops lie
    assert not flaws(body, 1e-5) and volume(body) > 0.0
    return body


@pytest.mark.parametrize("solid", [False, True])
def test_a_spline_for_a_meridian(solid):
    body = revolved_spline(solid)
    lost = []
    for size in (1.6, 0.8):
        mesh = lithon.hexahedral_mesh(Model.of([body]), lithon.SizeRules(size))
        good(mesh, 0.05)
        sound_boundary(mesh)
        lost.append(abs(1.0 - mesh.volume_ratio))
    assert lost[1] < 0.5 * lost[0]


def test_what_meets_its_axis_at_a_tip_of_a_torus_is_carved_first():
    """A lens-like body whose rim is the inner side of a torus that crosses its own axis."""
    from lithon.brep.topology import Body, Face, FaceUse
    from lithon.geometry.rounds import Torus

    lemon = Body((FaceUse(Face(Torus.of(F.origin, F.z, 3.0, 5.0), ())),), "lemon")
    with pytest.raises(Refusal, match="reaches the axis") as refusal:
        plan_of(lemon, Sides())
    assert "carve out the core" in refusal.value.remedy and refusal.value.entities


def test_a_core_cut_by_hand_matches_its_sleeve():
    shaft = ring((0, 0), (8, 0), (8, 5), (4, 5), (4, 12), (0, 12))
    core = prism(Round((0, 0), 3), 12, F, "core")
    from lithon.arrange.boolean import combine

    (sleeve,) = combine(shaft, core, "subtract", 1e-6)
    model = Model.of([sleeve, core])
    assert len(model.shared()) == 1  # what was cut keeps the face of what cut it
    with pytest.raises(Refusal, match="shared already"):
        bond(model)
    mesh = lithon.hexahedral_mesh(model, lithon.SizeRules(1.5))
    good(mesh, 0.02)
    assert sum(volume(b) for b in mesh.bodies) == pytest.approx(volume(shaft), rel=1e-12)


@pytest.mark.parametrize("seed", seeds(8))
def test_turned_parts_of_any_profile(seed):
    """Random steps and tapers on random axes, on the axis at both ends."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(2, 5))
    radius, height = rng.uniform(3.0, 9.0, n + 1), np.concatenate([[0.0], np.cumsum(rng.uniform(3.0, 8.0, n))])
    points = [(0.0, 0.0)]
    for k in range(n):
        taper = float(rng.choice([0.0, 0.6]))
        points += [(radius[k], height[k]), (radius[k] + taper, height[k + 1])]
    frame = Frame.of(rng.normal(size=3) * 10, rng.normal(size=3), rng.normal(size=3))
    part = revolved([Piece((float(r), float(z))) for r, z in [*points, (0.0, height[-1])]], frame, "turned")
    mesh = lithon.hexahedral_mesh(Model.of([part]), lithon.SizeRules(float(rng.uniform(0.8, 2.0))))
    good(mesh, 0.05)
    sound_boundary(mesh)


@pytest.mark.parametrize("seed", seeds(10))
def test_rings_of_any_profile(seed):
    """Random polygons around random axes: sound, conformal, and the volume of the polygon that goes round."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(3, 9))
    angle = 2 * np.pi * (np.arange(n) + rng.uniform(0.0, 0.6, n)) / n
    reach = rng.uniform(2.0, 6.0, n)
    frame = Frame.of(rng.normal(size=3) * 10, rng.normal(size=3), rng.normal(size=3))
    profile = [Piece((float(12 + r * np.cos(a)), float(r * np.sin(a)))) for r, a in zip(reach, angle, strict=True)]
    mesh = lithon.hexahedral_mesh(Model.of([revolved(profile, frame, "ring")]), lithon.SizeRules(rng.uniform(0.8, 3.0)))
    local = frame.local(mesh.points)
    layers = len(np.unique(np.round(np.exp(1j * np.arctan2(local[:, 1], local[:, 0])), 6)))
    assert mesh.conformal() and mesh.quality.scaled_jacobian.min() > 0.1
    assert mesh.volume_ratio == pytest.approx(layers / (2 * np.pi) * np.sin(2 * np.pi / layers), rel=1e-9)


def brick(low, high, name):
    return prism(
        rectangle(low[0], low[1], high[0], high[1]), high[2] - low[2], Frame.of((0, 0, low[2]), (0, 0, 1), (1, 0, 0)),
        name,
    )  # fmt: skip


SHELVES = {
    "two plates beside a post": [((0, 0, 0), (10, 20, 12)), ((10, 0, 0), (30, 20, 5)), ((10, 0, 5), (30, 20, 12))],
    "a shelf as wide as its post": [((0, 0, 0), (10, 20, 30)), ((10, 0, 12), (30, 20, 17))],
    "a narrower one": [((0, 0, 0), (10, 20, 30)), ((10, 6, 12), (30, 15, 17))],
    "one on either side": [((0, 0, 0), (10, 20, 30)), ((10, 6, 12), (30, 15, 17)), ((-15, 3, 9), (0, 12, 14))],
    "one in the corner": [((0, 0, 0), (10, 20, 30)), ((10, 6, 0), (30, 20, 17))],
}


@pytest.mark.parametrize("name", SHELVES)
def test_walls_that_neighbours_part_in_rows(name):
    """Every element is a box, whatever the imprints on the walls."""
    bodies = [brick(low, high, f"brick {k}") for k, (low, high) in enumerate(SHELVES[name])]
    model, _ = bond(Model.of(bodies))
    for size in (2.0, 1.3):
        mesh = lithon.hexahedral_mesh(model, lithon.SizeRules(size))
        good(mesh, 1e-9)
        assert mesh.quality.scaled_jacobian.min() == pytest.approx(1.0, abs=1e-9)


@pytest.mark.parametrize("seed", seeds(12))
def test_a_box_in_bricks(seed):
    """A box parted at random again and again, every brick touching others in parts of its faces."""
    rng = np.random.default_rng(seed)
    boxes = [np.array([[0.0, 0.0, 0.0], [24.0, 18.0, 12.0]])]
    many = int(rng.integers(3, 10))
    while len(boxes) < many:
        one = boxes.pop(int(rng.integers(len(boxes))))
        axis = int(np.argmax((one[1] - one[0]) * rng.uniform(0.5, 1.5, 3)))
        at = float(one[0, axis] + rng.uniform(0.3, 0.7) * (one[1, axis] - one[0, axis]))
        for k in (0, 1):
            part = one.copy()
            part[k, axis] = at
            boxes.append(part)
    model, _ = bond(Model.of([brick(b[0], b[1], f"brick {k}") for k, b in enumerate(boxes)]))
    mesh = lithon.hexahedral_mesh(model, lithon.SizeRules(float(rng.uniform(1.0, 3.0))))
    good(mesh, 1e-9)
    assert mesh.quality.scaled_jacobian.min() == pytest.approx(1.0, abs=1e-9)
    assert mesh.volumes.sum() == pytest.approx(24.0 * 18.0 * 12.0, rel=1e-12)


def test_collars_on_a_rod_and_a_shelf_on_a_sector():
    """Rows all round a wall, and rows on a wall that goes around an axis."""

    def collar(inner, outer, low, high):
        at = [Frame.of((0, 0, h), (0, 0, 1), (1, 0, 0)) for h in (low, high)]
        body = prism(Round((0, 0), outer), high - low, at[0], "collar")
        return sink(
            body, face_toward(body, at[0].z), at[1], Round((0, 0), inner), high - low, face_toward(body, -at[0].z)
        )

    rod = prism(Round((0, 0), 5), 30, Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)), "rod")
    model, contacts = bond(Model.of([rod, collar(5, 9, 10, 16), collar(5, 8, 16, 25)]))
    assert [c.verdict for c in contacts] == ["shared"] * 3
    good(lithon.hexahedral_mesh(model, lithon.SizeRules(1.5)), 0.02)
    whole = Model.of([collar(10, 14, 0, 20), collar(14, 18, 6, 11)])
    model, _ = bond(whole)
    for angle in (0.0, 1.1):
        plane = Plane.of((0, 0, 0), (np.sin(angle), np.cos(angle), 0.0))
        model = split(model, list(model.bodies), plane)
    assert len(model.bodies) == 8 and len(model.shared()) > 8  # what is bonded keeps its bonds when it is cut
    good(lithon.hexahedral_mesh(model, lithon.SizeRules(1.5)), 0.02)


def test_ends_that_are_parted_differently_are_refused_by_name():
    """A round post on one side and one that overlaps it on the other: no layers lead from one imprint to the other."""
    up = Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0))
    down = Frame.of((0, 0, 0), (0, 0, -1), (1, 0, 0))
    bodies = [brick((-10, -10, 0), (10, 10, 4), "plate"), prism(Round((0, 0), 4), 9, up, "upper"),
              prism(Round((3, 0), 4), 9, down, "lower")]  # fmt: skip
    model, _ = bond(Model.of(bodies))
    with pytest.raises(Refusal, match="parted differently") as refusal:
        lithon.hexahedral_mesh(model, lithon.SizeRules(1.5))
    assert refusal.value.entities and refusal.value.remedy
    assert verdict(model.bodies[0])[0] == "tetrahedra"
