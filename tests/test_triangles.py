"""Triangle files: read as others read them, units, faces out of triangles, and files that are broken."""

import io
import random
import zipfile

import meshio
import numpy as np
import pytest
from dice import examples
from hypothesis import given
from hypothesis import strategies as st

import lithon
from lithon.brep.copies import moved
from lithon.brep.faceted import Triangles, as_planes, bodies_of, enclosed, welded
from lithon.brep.measures import mass_properties, volume
from lithon.brep.shells import shells
from lithon.brep.tessellation.tessellate import _part_mesh, body_mesh, face_mesh, open_edges, prepare_meshes
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import BadFile
from lithon.exchange.deliver import triangles_of, write_triangles
from lithon.exchange.stl import stl_binary
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.frames import Frame
from lithon.samples import cast_anchor, collar_anchor
from lithon.samples.build import Round, prism, rectangle

BLOCK = prism(rectangle(0, 0, 4, 3), 2.0, name="block")
ROD = prism(Round((10, 0), 2.0), 5.0, name="rod")


def soup(*bodies):
    return triangles_of(Model.of(bodies))


def independent_volume(path):
    """As another reader sees the file."""
    read = meshio.read(path)
    v = read.points[np.concatenate([c.data for c in read.cells if c.type == "triangle"])].astype(float)
    return float(np.einsum("ij,ij->", v[:, 0], np.cross(v[:, 1], v[:, 2])) / 6.0)


@pytest.mark.parametrize("suffix", [".stl", ".txt.stl", ".obj", ".ply", ".3mf"])
def test_there_and_back_with_a_second_reader(tmp_path, suffix):
    model = collar_anchor()
    path = tmp_path / f"part{suffix}"
    write_triangles(model, path, text=".txt" in suffix)
    p, tri, _ = body_mesh(model.bodies[0])
    exact = enclosed(p, tri)
    arrival = lithon.read_model(path)
    (body,) = arrival.model.bodies
    assert volume(body) == pytest.approx(exact, rel=1e-6)
    assert not flaws(body, arrival.model.tolerance)
    assert sum(len(f.surface.triangles) for f in body.faces) == len(tri)
    if suffix == ".3mf":
        assert arrival.unit is None  # it says its unit
    else:
        assert independent_volume(path) == pytest.approx(exact, rel=1e-6)
        assert arrival.unit.unit == "mm"


def test_other_peoples_readers_agree_on_the_binary_kinds(tmp_path):
    from vtkmodules.vtkFiltersCore import vtkMassProperties
    from vtkmodules.vtkIOGeometry import vtkOBJReader, vtkSTLReader
    from vtkmodules.vtkIOPLY import vtkPLYReader

    for suffix, kind in ((".stl", vtkSTLReader), (".obj", vtkOBJReader), (".ply", vtkPLYReader)):
        path = tmp_path / f"rod{suffix}"
        write_triangles(Model.of([ROD]), path)
        reader, mass = kind(), vtkMassProperties()
        reader.SetFileName(str(path))
        mass.SetInputConnection(reader.GetOutputPort())
        assert mass.GetVolume() == pytest.approx(volume(lithon.read_model(path).model.bodies[0]), rel=1e-6)


def test_faces_edges_and_mass_of_what_arrives():
    """A block is six faces, twelve edges and eight vertices again; a rod two plane caps and a wall in a few
    strips, each of which can be seen from one side."""
    (block, rod), notes = bodies_of(soup(BLOCK, ROD))
    assert not notes and (block.name, rod.name) == ("block", "rod")
    assert (len(block.faces), len(block.edges()), len(block.vertices())) == (6, 12, 8)
    flat = [f for f in rod.faces if np.ptp(f.surface.normals @ f.surface.frame.z) < 1e-9]
    assert len(flat) == 2 and 3 <= len(rod.faces) - 2 <= 6
    assert len(rod.vertices()) - len(rod.edges()) + len(rod.faces) == 2  # Euler: a ball's topology
    assert all((f.surface.normals @ f.surface.frame.z).min() > 0.15 for f in rod.faces)
    for made, exact in ((block, BLOCK), (rod, ROD)):
        a, b = mass_properties(made), mass_properties(exact)
        rel = 1e-12 if made is block else 0.02
        assert a.volume == pytest.approx(b.volume, rel=rel) and a.area == pytest.approx(b.area, rel=rel)
        assert a.centroid == pytest.approx(b.centroid, abs=1e-9)
        assert np.allclose(a.inertia, b.inertia, rtol=2 * rel, atol=1e-9 * float(np.abs(b.inertia).max()))


def test_a_hollow_ball_has_a_void_and_a_fragment_stays_a_body():
    def ball(radius, centre, inward=False):
        n = 24
        u, v = np.meshgrid(np.linspace(0, 2 * np.pi, n, endpoint=False), np.linspace(0, np.pi, 13)[1:-1])
        ring = np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], axis=-1).reshape(-1, 3)
        p = np.asarray(centre) + radius * np.vstack([ring, [[0, 0, 1], [0, 0, -1]]])
        k, rows = np.arange(n), []
        for r in range(10):
            a, b = r * n + k, r * n + (k + 1) % n
            rows += [np.stack([a, a + n, b], 1), np.stack([b, a + n, b + n], 1)]
        rows += [np.stack([np.full(n, 11 * n), k, (k + 1) % n], 1)]
        rows += [np.stack([np.full(n, 11 * n + 1), 10 * n + (k + 1) % n, 10 * n + k], 1)]
        c = np.concatenate(rows)
        return p, c[:, ::-1] if inward else c

    parts = [ball(10, (0, 0, 0)), ball(6, (0, 0, 0), inward=True), ball(1, (0, 0, 8))]
    base = np.cumsum([0, *(len(p) for p, _ in parts)])
    points = np.concatenate([p for p, _ in parts])
    corners = np.concatenate([c + base[k] for k, (_, c) in enumerate(parts)])
    bodies, _ = bodies_of([Triangles(points, corners, "ball")])
    assert len(bodies) == 2 and [len(shells(b)) for b in bodies] == [2, 1]
    assert all((f.surface.normals @ f.surface.frame.z).min() > 0.15 for b in bodies for f in b.faces)
    assert volume(bodies[0]) == pytest.approx(enclosed(points, np.concatenate([parts[0][1], parts[1][1] + base[1]])))
    assert not any(flaws(b, 1e-6) for b in bodies)


def test_wounds_stay_visible():
    """An open side, a doubled triangle and a flipped one are edges of the wrong kind at their places."""
    (part,) = soup(BLOCK)
    opened, _ = bodies_of([Triangles(part.points, part.corners[1:], "open")])
    assert {f.kind for f in flaws(opened[0], 1e-6)} == {"open edge"}
    turned = part.corners.copy()
    turned[0] = turned[0, ::-1]
    flipped, _ = bodies_of([Triangles(part.points, turned, "flipped")])
    assert "flipped face" in {f.kind for f in flaws(flipped[0], 1e-6)}
    doubled, _ = bodies_of([Triangles(part.points, np.vstack([part.corners, part.corners[:1]]), "doubled")])
    assert "crowded edge" in {f.kind for f in flaws(doubled[0], 1e-6)}


def test_plane_faces_of_three_sides_are_laid_out_together_as_each_alone():
    body = as_planes(bodies_of(soup(*collar_anchor().bodies))[0][0])
    some = body.faces[::13]
    alone = [_part_mesh(face) for face in some]
    prepare_meshes(body.faces)
    assert len(some) > 100
    for face, mesh in zip(some, alone, strict=True):
        now = face_mesh(face)
        assert now.tight and len(now.triangles) == 1 and set(now.keys.tolist()) == set(mesh.keys.tolist())
        corner = [now.points[now.triangles[0]], mesh.points[mesh.triangles[0]]]
        ways = [np.cross(v[1] - v[0], v[2] - v[0]) for v in corner]
        assert ways[0] == pytest.approx(ways[1], abs=1e-9) and float(ways[0] @ face.normal(corner[0][:1])[0]) > 0.0


def test_facets_go_out_as_plane_faces():
    body, other = bodies_of(soup(BLOCK, ROD))[0]
    for one in (body, other):
        planes = as_planes(one)
        assert {f.surface.kind for f in planes.faces} == {"plane"} and not flaws(planes, 1e-6)
        assert volume(planes) == pytest.approx(volume(one), rel=1e-12)
    text = lithon.step_text(Model.of([body, other]))
    back = lithon.parse_step(text).model
    assert [volume(b) for b in back.bodies] == pytest.approx([volume(body), volume(other)], rel=1e-9)


@given(st.tuples(*[st.floats(-50, 50)] * 3), st.tuples(*[st.floats(-1, 1)] * 3), st.booleans())
def test_moved_bodies_keep_their_measures(shift, lean, mirror):
    """Exact and faceted ones, mirrored too: volume and soundness as before, centroid moved along."""
    frame = Frame.of(shift, np.array(lean) + [0, 0, 1.5], (1, 0.2, 0))
    motion = np.eye(4)
    motion[:3, :3] = np.stack([frame.x, frame.y, -frame.z if mirror else frame.z], axis=1)
    motion[:3, 3] = shift
    for body in (ROD, bodies_of(soup(ROD))[0][0]):
        body_mesh(body)
        there = moved(body, motion)
        assert not flaws(there, 1e-6)
        a, b = mass_properties(body), mass_properties(there)
        assert b.volume == pytest.approx(a.volume, rel=1e-9)
        assert b.centroid == pytest.approx(motion[:3, :3] @ a.centroid + motion[:3, 3], abs=1e-7)
        p, tri, _ = body_mesh(there)
        assert open_edges(tri) == 0 and enclosed(p, tri) > 0.0


def test_a_mirrored_cast_part_is_sound():
    (body,) = cast_anchor().bodies
    motion = np.diag([1.0, -1.0, 1.0, 1.0])
    motion[:3, 3] = (3, 4, 5)
    there = moved(body, motion)
    assert not flaws(there, 1e-5) and volume(there) == pytest.approx(volume(body), rel=1e-9)


# ---- units


@pytest.mark.parametrize("scale, unit", [(1.0, "mm"), (1e-3, "m")])
def test_a_unit_is_chosen_by_size_and_can_be_overruled(scale, unit):
    p, tri, _ = body_mesh(collar_anchor().bodies[0])
    data = stl_binary([Triangles(p * scale, tri)])
    arrival = lithon.parse_model(data, "part.stl")
    exact = enclosed(p, tri)
    assert arrival.unit.unit == unit and volume(arrival.model.bodies[0]) == pytest.approx(exact, rel=1e-5)
    inch = lithon.parse_model(data, "part.stl", "inch")
    assert volume(inch.model.bodies[0]) == pytest.approx(exact * (scale * 25.4) ** 3, rel=1e-5)
    box = np.ptp(p, axis=0)
    for name, factor in (("mm", 1.0), ("cm", 10.0), ("m", 1e3), ("inch", 25.4)):
        assert arrival.unit.boxes[name] == pytest.approx(tuple(scale * factor * box), rel=1e-5)


def test_a_comment_that_names_the_unit_is_evidence():
    (part,) = soup(BLOCK)
    from lithon.exchange.obj import obj_text

    text = obj_text([part]).replace(b"# Lithon, millimetres", b"# units: inches")
    arrival = lithon.parse_model(text, "part.obj")
    assert arrival.unit.unit == "inch" and volume(arrival.model.bodies[0]) == pytest.approx(24 * 25.4**3)


# ---- what the formats allow

CUBE = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1\n"
SIDES = ["4 3 2 1", "5 6 7 8", "1 2 6 5", "2 3 7 6", "3 4 8 7", "4 1 5 8"]


def test_obj_polygons_negative_indices_groups_and_texture_slots():
    plain = CUBE + "".join(f"f {side}\n" for side in SIDES)
    backwards = CUBE + "".join("f " + " ".join(str(int(k) - 9) for k in side.split()) + "\n" for side in SIDES)
    slots = CUBE + "vt 0 0\n" + "".join("f " + " ".join(f"{k}/1/1" for k in side.split()) + "\n" for side in SIDES)
    for text in (plain, backwards, slots, plain.replace("f 4 3", "f \\\n4 3")):
        (body,) = lithon.parse_model(text.encode(), "cube.obj", "mm").model.bodies
        assert volume(body) == pytest.approx(1.0) and len(body.faces) == 6
    second = "".join("f " + " ".join(str(int(k) + 8) for k in side.split()) + "\n" for side in SIDES)
    two = "o left\n" + plain + "o right\n" + CUBE.replace("v 0", "v 5").replace("v 1", "v 6") + second
    assert [b.name for b in lithon.parse_model(two.encode(), "two.obj").model.bodies] == ["left", "right"]


def test_a_hollow_polygon_is_cut_where_it_should_be():
    """An L of six corners, as prism: its caps are not convex."""
    ring = [(0, 0), (3, 0), (3, 1), (1, 1), (1, 3), (0, 3)]
    points = "".join(f"v {x} {y} {z}\n" for z in (0, 1) for x, y in ring)
    caps = "f 6 5 4 3 2 1\nf 7 8 9 10 11 12\n"
    walls = "".join(f"f {k + 1} {(k + 1) % 6 + 1} {(k + 1) % 6 + 7} {k + 7}\n" for k in range(6))
    (body,) = lithon.parse_model((points + caps + walls).encode(), "l.obj").model.bodies
    assert volume(body) == pytest.approx(5.0) and mass_properties(body).area == pytest.approx(22.0)


def test_ply_text_and_big_endian_with_other_properties():
    head = (
        "ply\nformat {}\nelement vertex 8\nproperty float x\nproperty float y\nproperty float z\n"
        "property uchar red\nelement face 6\nproperty list uchar int vertex_index\nproperty uchar tag\nend_header\n"
    )
    corners = [tuple(map(float, line.split()[1:])) for line in CUBE.splitlines()]
    rows = [[int(k) - 1 for k in side.split()] for side in SIDES]
    text = head.format("ascii 1.0") + "".join(f"{x} {y} {z} 7\n" for x, y, z in corners)
    text += "".join("4 " + " ".join(map(str, row)) + " 1\n" for row in rows)
    big = io.BytesIO()
    big.write(head.format("binary_big_endian 1.0").encode())
    for c in corners:
        big.write(np.array(c, ">f4").tobytes() + b"\7")
    for row in rows:
        big.write(b"\4" + np.array(row, ">i4").tobytes() + b"\1")
    for data in (text.encode(), big.getvalue()):
        (body,) = lithon.parse_model(data, "cube.ply").model.bodies
        assert volume(body) == pytest.approx(1.0)


def package(model: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("3D/3dmodel.model", model)
    return out.getvalue()


def mf(body: str, build: str, unit: str = "millimeter", head: str = "") -> bytes:
    core = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
    return package(f'<?xml version="1.0"?>{head}<model unit="{unit}" xmlns="{core}"><resources>{body}</resources>'
                   f"<build>{build}</build></model>")  # fmt: skip


def mf_cube() -> str:
    points = "".join('<vertex x="{}" y="{}" z="{}"/>'.format(*line.split()[1:]) for line in CUBE.splitlines())
    rows = [[int(k) - 1 for k in side.split()] for side in SIDES]
    tri = "".join(
        f'<triangle v1="{a}" v2="{b}" v3="{c}"/><triangle v1="{a}" v2="{c}" v3="{d}"/>' for a, b, c, d in rows
    )
    return f'<object id="1" name="cube"><mesh><vertices>{points}</vertices><triangles>{tri}</triangles></mesh></object>'


def test_3mf_units_components_and_transforms():
    pair = (
        '<object id="2"><components><component objectid="1"/>'
        '<component objectid="1" transform="-1 0 0 0 1 0 0 0 1 9 0 0"/></components></object>'
    )
    build = '<item objectid="2" transform="0 1 0 -1 0 0 0 0 1 0 0 5"/>'
    build += '<item objectid="1" transform="2 0 0 0 2 0 0 0 2 40 0 0"/>'
    bodies = lithon.parse_model(mf(mf_cube() + pair, build, "inch"), "p.3mf").model.bodies
    assert [volume(b) / 25.4**3 for b in bodies] == pytest.approx([1.0, 1.0, 8.0])  # the mirrored one is not inside out
    low = [mass_properties(b).centroid / 25.4 for b in bodies]
    assert low[0] == pytest.approx((-0.5, 0.5, 5.5)) and low[1] == pytest.approx((-0.5, 8.5, 5.5))


# ---- broken files

NAN = stl_binary(soup(BLOCK))
NAN = NAN[:96] + np.float32(np.nan).tobytes() + NAN[100:]
BOMB = (
    '<!DOCTYPE b [<!ENTITY a "aaaaaaaaaa">'
    + "".join(
        f'<!ENTITY {c} "{"&" + p + ";" * 1}{("&" + p + ";") * 9}">' for p, c in zip("abcdef", "bcdefg", strict=True)
    )
    + "]>"
)
BROKEN = {
    "empty.stl": b"",
    "short.stl": stl_binary(soup(BLOCK))[:100],
    "no-triangle.stl": b"solid x\nendsolid x\n",
    "words.stl": b"solid x\nfacet normal 0 0 1\nouter loop\nvertex a b c\nvertex 1 0 0\nvertex 0 1 0\nendloop\n",
    "nothing.obj": b"# empty\nv 0 0 0\n",
    "lost.obj": b"v 0 0 0\nf 1 2 3\n",
    "header.ply": b"ply\nformat ascii 1.0\nelement vertex 3\n",
    "lying.ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 999999999\nproperty float x\nproperty float y\n"
                 b"property float z\nelement face 1\nproperty list uchar int vertex_index\nend_header\n",
    "format.ply": b"ply\nformat clay 1.0\nend_header\n",
    "not-zip.3mf": b"PK\x03\x04 and nothing more",
    "no-model.3mf": package("")[:0] + b"PK\x03\x04",
    "bomb.3mf": mf(mf_cube(), '<item objectid="1"/>', head=BOMB),
    "loop.3mf": mf('<object id="1"><components><component objectid="1"/></components></object>', ""),
    "words.3mf": mf(mf_cube().replace('x="0"', 'x="zero"'), '<item objectid="1"/>'),
    "unit.3mf": mf(mf_cube(), '<item objectid="1"/>', "furlong"),
    "unknown.xyz": b"\x00\x01\x02 nothing of the kind",
}  # fmt: skip


@pytest.mark.parametrize("name", BROKEN)
def test_broken_files_give_one_clear_error(name):
    with pytest.raises(BadFile) as caught:
        lithon.parse_model(BROKEN[name], name)
    assert "\n" not in str(caught.value) and len(str(caught.value)) < 250


def test_an_archive_that_unpacks_without_end_is_refused():
    with pytest.raises(BadFile, match="unpacks"):
        lithon.parse_model(package(" " * 200_000_000), "bomb.3mf")


def test_lying_counts_and_wild_coordinates_are_said_and_the_rest_arrives():
    data = stl_binary(soup(BLOCK))
    lying = data[:80] + np.uint32(4_000_000_000).tobytes() + data[84:]
    arrival = lithon.parse_model(lying, "block.stl")
    assert volume(arrival.model.bodies[0]) == pytest.approx(24.0) and "says it holds 4000000000" in arrival.notes[0]
    arrival = lithon.parse_model(NAN, "block.stl")
    assert "1 triangles with coordinates that make no sense" in arrival.notes[0]
    assert sum(len(f.surface.triangles) for f in arrival.model.faces()) == 11


def test_no_mutation_gets_past_the_readers():
    """Mutated files of every kind: bodies or a BadFile, never anything else."""
    from lithon.exchange.obj import obj_text
    from lithon.exchange.ply import ply_bytes
    from lithon.exchange.stl import stl_text

    rng = random.Random(4)
    parts = soup(BLOCK, ROD)
    files = {"a.stl": stl_binary(parts), "b.stl": stl_text(parts), "a.obj": obj_text(parts), "a.ply": ply_bytes(parts),
             "a.3mf": mf(mf_cube(), '<item objectid="1"/>')}  # fmt: skip
    outcome = {"read": 0, "refused": 0}
    for name, whole in files.items():
        for _ in range(examples(120)):
            data = bytearray(whole)
            for _ in range(rng.randint(1, 5)):
                at = rng.randrange(len(data))
                data[at : at + rng.randint(0, 4)] = bytes(rng.randrange(256) for _ in range(rng.randint(0, 4)))
            if rng.random() < 0.2:
                del data[rng.randrange(len(data)) :]
            try:
                arrival = lithon.parse_model(bytes(data), name)
                for body in arrival.model.bodies:
                    flaws(body, arrival.model.tolerance)
                outcome["read"] += 1
            except BadFile:
                outcome["refused"] += 1
    assert min(outcome.values()) > 0.2 * sum(outcome.values())


# ---- the tree of boxes, against brute force


@given(st.integers(0, 10_000))
def test_tree_answers_as_brute_force_does(seed):
    rng = np.random.default_rng(seed)
    points, corners = rng.random((60, 3)), rng.integers(0, 60, (90, 3))
    _, corners = welded(points, corners)
    tree, tri = BoxTree.of(points, corners), points[corners]
    ask = rng.random((20, 3)) * 2 - 0.5
    _, at = tree.nearest(ask)
    # Closest points by dense sampling can only be further away, and not by much.
    s = rng.dirichlet((1, 1, 1), 400)
    dense = np.einsum("qk,mkc->mqc", s, tri).reshape(-1, 3)
    far = np.sqrt(((ask[:, None] - dense[None]) ** 2).sum(axis=2).min(axis=1))
    near = np.linalg.norm(ask - at, axis=1)
    assert (near <= far + 1e-12).all() and (near >= far - 0.25).all()
    way = rng.normal(size=(20, 3))
    row, t = tree.first_hits(ask, way, 1e-9)
    for k in range(20):  # Cramer's rule for ask + t way = a + u (b - a) + v (c - a)
        e, f, o = tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0], ask[k] - tri[:, 0]
        det = np.einsum("mc,mc->m", np.cross(way[k], f), e)
        safe = np.where(det == 0.0, 1.0, det)
        u = np.einsum("mc,mc->m", np.cross(way[k], f), o) / safe
        v = np.cross(o, e) @ way[k] / safe
        far = np.einsum("mc,mc->m", np.cross(o, e), f) / safe
        hit = (det != 0.0) & (u >= 0) & (v >= 0) & (u + v <= 1) & (far > 1e-9)
        best = far[hit].min() if hit.any() else np.inf
        assert (row[k] < 0) == np.isinf(best) and (np.isinf(best) or t[k] == pytest.approx(best, rel=1e-9))
        limited, within = tree.first_hits(ask[k : k + 1], way[k : k + 1], 1e-9, 0.7)
        assert (limited[0] >= 0) == (best < 0.7) and (
            within[0] == pytest.approx(best) if best < 0.7 else np.isinf(within[0])
        )


@given(st.integers(0, 10_000), st.floats(0.0, 0.2))
def test_pairs_of_boxes_are_all_found_and_each_once(seed, slack):
    rng = np.random.default_rng(seed)

    def cloud(n):
        points = (rng.random((n, 1, 3)) + 0.15 * rng.random((n, 3, 3))).reshape(-1, 3)
        return points[np.arange(3 * n)].reshape(n, 3, 3), BoxTree.of(points, np.arange(3 * n).reshape(n, 3))

    def meet(p, q, slack):
        low, high = (x[:, None].min(axis=2) for x in (p, -p)), (x[None].min(axis=2) for x in (q, -q))
        (a0, a1), (b0, b1) = low, high
        return ((a0 <= -b1 + slack) & (b0 <= -a1 + slack)).all(axis=2)

    (p, one), (q, two) = cloud(70), cloud(50)
    found = one.near_pairs(two, slack)
    assert sorted(map(tuple, found.tolist())) == sorted(map(tuple, np.argwhere(meet(p, q, slack)).tolist()))
    tags = rng.integers(0, 6, 70)
    expected = [(i, j) for i, j in np.argwhere(meet(p, p, 0.0)).tolist() if i < j and tags[i] != tags[j]]
    assert sorted(map(tuple, one.own_pairs(tags).tolist())) == sorted(expected)
