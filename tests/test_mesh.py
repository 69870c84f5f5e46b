"""The mesh: Delaunay against SciPy, boundary recovered, conformal, quality as VTK measures it."""

from dataclasses import replace

import numpy as np
import pytest
from dice import LONG
from proof import sound
from scipy.spatial import Delaunay
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkFiltersVerdict import vtkMeshQuality
from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridReader

import lithon
from lithon.bond.share import bond
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Body, Face, FaceUse, Model, new_uid
from lithon.carve.split import split
from lithon.errors import Cancelled, Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere
from lithon.geometry.surfaces import Plane
from lithon.mesh.delaunay import Tetrahedra
from lithon.mesh.quality import tet_volumes
from lithon.mesh.sizing import SizeField, SizeRules
from lithon.progress import Progress
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink
from lithon.survey.forecast import forecast


@pytest.mark.parametrize("n", [60, 2000])
def test_delaunay_agrees_with_scipy(n):
    points = np.random.default_rng(n).random((n, 3))
    space = Tetrahedra.box(points.min(axis=0), points.max(axis=0))
    assert space.add(points).all()
    tets = space.tet[space.live]
    own = {tuple(t) for t in np.sort(tets[(tets >= 8).all(axis=1)] - 8, axis=1).tolist()}
    reference = {tuple(t) for t in np.sort(Delaunay(points).simplices, axis=1).tolist()}
    # Near the hull ours has elements to the box's corners instead; inside they must be the same.
    assert own <= reference and len(own) > 0.8 * len(reference)


def test_delaunay_of_a_lattice_full_of_ties():
    grid = np.stack(np.meshgrid(*[np.arange(7.0)] * 3), -1).reshape(-1, 3)
    space = Tetrahedra.box(grid.min(axis=0), grid.max(axis=0))
    assert space.add(grid).all()
    v = space.world()[space.tet[space.live]]
    volumes = np.einsum("ij,ij->i", v[:, 1] - v[:, 0], np.cross(v[:, 2] - v[:, 0], v[:, 3] - v[:, 0])) / 6
    assert volumes.min() > 0.0
    assert volumes.sum() == pytest.approx((space.unit * 2**28) ** 3, rel=1e-12)


@pytest.mark.parametrize("many", [1, 7, 3000])
def test_sizes_are_what_the_most_demanding_source_leaves(many):
    """Against every source at every point; wherever the points lie and whatever was asked before."""
    rng = np.random.default_rng(many)
    rules = SizeRules(5.0, growth=0.3)
    sources, sizes = rng.uniform(-40.0, 40.0, (many, 3)), rng.lognormal(0.0, 0.8, many)
    points = np.concatenate([rng.uniform(-60.0, 60.0, (400, 3)), np.linspace(sources[0] - 9.0, sources[0] + 9.0, 101)])
    apart = np.linalg.norm(points[:, None] - sources, axis=2)
    true = np.minimum((np.maximum(sizes, 0.1) + 0.3 * apart).min(axis=1), 5.0)
    found = SizeField(rules, sources, sizes).at(points)
    assert (found >= true * (1.0 - 1e-12)).all() and (found <= true * 1.0102).all()


_SIZES = [(state, size) for state in ("as read", "prepared") for size in (2.5, 4.0, 8.0)]


@pytest.mark.parametrize(("state", "size"), _SIZES if LONG else _SIZES[::2])
def test_the_collar_anchor_at_three_sizes(anchor, prepared, size, state):
    model = anchor if state == "as read" else prepared.model
    mesh = lithon.tetrahedral_mesh(model, lithon.SizeRules(size))
    sound(mesh)
    assert set(np.unique(mesh.body)) == set(range(len(model.bodies)))
    for face in model.shared():
        a, b = (k for k, body in enumerate(model.bodies) if face in body.faces)
        nodes = mesh.face_nodes(face)
        on_a, on_b = (np.intersect1d(nodes, mesh.corners[mesh.body == k]) for k in (a, b))
        assert len(nodes) > 3 and np.array_equal(on_a, nodes) and np.array_equal(on_b, nodes)
    foreseen = forecast(model, size).elements
    assert foreseen == pytest.approx(len(mesh.elements), rel=0.15)


def test_quality_agrees_with_vtk_on_the_written_file(prepared, tmp_path):
    """VTK's reader and VTK's measures as an independent second opinion."""
    mesh = lithon.tetrahedral_mesh(prepared.model, lithon.SizeRules(8.0))
    lithon.write_vtu(mesh, tmp_path / "mesh.vtu")
    reader = vtkXMLUnstructuredGridReader()
    reader.SetFileName(str(tmp_path / "mesh.vtu"))
    reader.Update()
    grid = reader.GetOutput()
    m = len(mesh.elements)
    assert grid.GetNumberOfCells() == m + len(mesh.triangles) and grid.GetNumberOfPoints() == len(mesh.points)
    assert np.array_equal(vtk_to_numpy(grid.GetCellData().GetArray("body"))[:m], mesh.body)
    quality = vtkMeshQuality()
    quality.SetInputData(grid)
    for measure, own in (
        ("SetTetQualityMeasureToScaledJacobian", mesh.quality.scaled_jacobian),
        ("SetTetQualityMeasureToEdgeRatio", mesh.quality.edge_ratio),
        ("SetTetQualityMeasureToVolume", tet_volumes(mesh.points, mesh.elements)),
    ):
        getattr(quality, measure)()
        quality.Update()
        theirs = vtk_to_numpy(quality.GetOutput().GetCellData().GetArray("Quality"))[:m]
        assert np.allclose(theirs, own, atol=1e-6)
    # Dihedral angles a second way: between the outward normals of every two faces.
    v = mesh.points[mesh.corners]
    normals = np.stack(
        [np.cross(v[:, b] - v[:, a], v[:, c] - v[:, a]) for a, b, c in ((1, 2, 3), (0, 3, 2), (0, 1, 3), (0, 2, 1))],
        axis=1,
    )
    normals /= np.linalg.norm(normals, axis=2)[:, :, None]
    angles = [
        180 - np.degrees(np.arccos((normals[:, i] * normals[:, j]).sum(axis=1)))
        for i in range(4)
        for j in range(i + 1, 4)
    ]
    assert np.allclose(np.min(angles, axis=0), mesh.quality.smallest_angle, atol=1e-4)
    assert np.allclose(np.max(angles, axis=0), mesh.quality.largest_angle, atol=1e-4)


@pytest.mark.parametrize("radius", [0.4, 1.0, 3.0])
@pytest.mark.parametrize("make", ["rod", "ball", "tube"])
def test_round_bodies_keep_their_volume_at_any_size(make, radius):
    """A part is meshed within two hundredths of its volume with the defaults, be it nothing but a thin rod; what is
    round in a block asks for no more than it did."""
    size = 2.0
    if make == "rod":
        body = prism(Round((0, 0), radius), 12.0)
    elif make == "ball":
        body = Body((FaceUse(Face(Sphere(Frame.of((0, 0, 0), (0, 0, 1)), radius), ())),), "ball")
    else:
        rod, top = prism(Round((0, 0), radius), 12.0), Frame.of((0, 0, 12), (0, 0, 1), (1, 0, 0))
        ends = face_toward(rod, (0, 0, 1)), face_toward(rod, (0, 0, -1))
        body = sink(rod, ends[0], top, Round((0, 0), 0.6 * radius), 12.0, ends[1])
    mesh = lithon.tetrahedral_mesh(Model.of([body]), lithon.SizeRules(size))
    assert sum(tet_volumes(mesh.points, mesh.elements)) == pytest.approx(volume(body), rel=0.02)


def test_second_order_nodes_lie_on_the_true_geometry(tmp_path):
    rod = Model.of([prism(Round((0, 0), 5.0), 8.0)])
    mesh = lithon.tetrahedral_mesh(rod, lithon.SizeRules(2.0))
    curved, _ = lithon.quadratic(mesh)
    assert curved.order == 2 and curved.elements.shape[1] == 10
    wall = next(k for k, f in enumerate(mesh.faces) if f.surface.kind == "cylinder")
    sides = np.sort(mesh.triangles[mesh.face == wall][:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    middle = {
        tuple(sorted(p)): m
        for e in curved.elements
        for p, m in zip(e[[[0, 1], [1, 2], [0, 2], [0, 3], [1, 3], [2, 3]]].tolist(), e[4:].tolist(), strict=True)
    }
    nodes = curved.points[[middle[tuple(s)] for s in sides.tolist()]]
    off = np.abs(mesh.faces[wall].surface.signed_distance(nodes))
    assert (off < 1e-6).mean() > 0.99
    lithon.write_vtu(curved, tmp_path / "curved.vtu")
    grid, data = read_vtu(tmp_path / "curved.vtu")
    # The sides of second order lie on the wall too, and are as many as the linear ones.
    at = np.flatnonzero(data["face"] == wall)
    assert len(at) == (mesh.face == wall).sum()
    p = np.array([grid.GetPoint(grid.GetCell(int(k)).GetPointId(j)) for k in at for j in range(6)])
    assert (np.abs(mesh.faces[wall].surface.signed_distance(p)) < 1e-6).mean() > 0.99


def read_vtu(path):
    """What VTK's own reader finds: the grid, and its cell data by name."""
    reader = vtkXMLUnstructuredGridReader()
    reader.SetFileName(str(path))
    reader.Update()
    grid = reader.GetOutput()
    cells = grid.GetCellData()
    return grid, {cells.GetArrayName(k): vtk_to_numpy(cells.GetArray(k)) for k in range(cells.GetNumberOfArrays())}


@pytest.mark.parametrize("kind,second", [("tet", False), ("tet", True), ("hex", False), ("hex", True)])
def test_faces_and_their_labels_are_in_the_written_mesh(tmp_path, kind, second):
    block = prism(rectangle(0, 0, 12, 8), 5.0)
    top = face_toward(block, (0.0, 0.0, 1.0))
    named = replace(top, label="clamp plate", uid=new_uid())
    body = block.with_uses(FaceUse(named, u.forward) if u.face is top else u for u in block.uses)
    mesh = lithon.mesh_of(Model.of([body]), lithon.SizeRules(2.0), kind)
    mesh = lithon.quadratic(mesh)[0] if second else mesh
    lithon.write_vtu(mesh, tmp_path / "named.vtu")
    grid, data = read_vtu(tmp_path / "named.vtu")
    m = len(mesh.elements)
    assert (data["face"][:m] == -1).all() and (data["body"][m:] == -1).all() and not data["clamp plate"][:m].any()
    area = np.zeros(len(mesh.faces))
    for k in range(m, grid.GetNumberOfCells()):
        cell = grid.GetCell(k)
        assert cell.GetNumberOfPoints() == ((6 if kind == "tet" else 8) if second else (3 if kind == "tet" else 4))
        p = np.array([grid.GetPoint(cell.GetPointId(j)) for j in range(cell.GetNumberOfPoints())])
        n = 3 if kind == "tet" else 4
        fan = [np.cross(p[j] - p[0], p[j + 1] - p[0]) / 2.0 for j in range(1, n - 1)]
        area[data["face"][k]] += np.linalg.norm(np.sum(fan, axis=0))
        if second:  # each middle between its own two corners
            assert np.allclose(p[n:], 0.5 * (p[:n] + np.roll(p[:n], -1, axis=0)), atol=1e-9)
        outward = mesh.faces[data["face"][k]].normal(p.mean(axis=0)[None])[0]
        assert float(np.sum(fan, axis=0) @ outward) > 0.0
    assert area == pytest.approx([face_area(f) for f in mesh.faces], rel=1e-9)
    assert set(data["face"][data["clamp plate"] == 1]) == {mesh.faces.index(named)}
    # Another reader, of a general package, finds the same cells.
    import meshio

    assert sum(len(block.data) for block in meshio.read(tmp_path / "named.vtu").cells) == grid.GetNumberOfCells()


def test_a_sharp_wedge_and_a_thin_plate():
    wedge = prism([Piece((0, 0)), Piece((20, 0)), Piece((20, 8))], 6.0)  # a 22 degree edge
    plate = prism(rectangle(0, 0, 30, 20, 3.0), 0.8)
    for body, size in ((wedge, 2.0), (wedge, 6.0), (plate, 2.0), (plate, 6.0)):
        sound(lithon.tetrahedral_mesh(Model.of([body]), lithon.SizeRules(size)))


def test_stopping_and_bad_sizes(anchor):
    told = []

    def stop_late() -> bool:
        return len(told) > 3

    with pytest.raises(Cancelled):
        lithon.tetrahedral_mesh(anchor, lithon.SizeRules(4.0), Progress(lambda *a: told.append(a), stop_late))
    assert told == sorted(told, key=lambda a: a[0])
    for size in (0.0, -1.0, float("nan")):
        with pytest.raises(Refusal):
            lithon.tetrahedral_mesh(anchor, lithon.SizeRules(size))


@pytest.mark.parametrize("normal", [(1, 0, 2), (3, 1, 1)])
def test_a_pipe_cut_at_a_slant(normal):
    """Walls that go around, with elliptic ends on either side of the cut; nodes of the cut that opens
    them stay put while the boundary is recovered."""
    rod = prism(Round((0, 0), 6.0), 24.0)
    top = Frame.of((0, 0, 24), (0, 0, 1), (1, 0, 0))
    pipe = sink(rod, face_toward(rod, (0, 0, 1)), top, Round((0, 0), 4.0), 24.0, face_toward(rod, (0, 0, -1)))
    model = Model.of([pipe])
    bonded, _ = bond(split(model, model.bodies, Plane.of((0, 0, 12), normal)))
    for size in (1.5, 4.0):
        mesh = lithon.tetrahedral_mesh(bonded, lithon.SizeRules(size))
        sound(mesh)
        assert len(mesh.bodies) == 2
