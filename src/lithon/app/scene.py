"""From models and meshes to VTK's arrays. Only drawing; no engine's work is done here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import shapely
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkMapper, vtkPolyDataMapper

from lithon.app import theme
from lithon.app.rows import Rows
from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import Copy, Handle, copy_of
from lithon.brep.shells import closed
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.facemesh import FaceMesh
from lithon.brep.tessellation.patches import flat_shape
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Edge, Face, FaceUse, Model
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.facets import Facets
from lithon.operations.choices import Entity
from lithon.remembered import Remembered
from lithon.survey.deviation import Deviation

_BESIDE = ThreadPoolExecutor(1, "lithon-picking")
# Lines come before faces by their own lift alone: more, and hidden edges show through when the eye is near.
vtkMapper.SetResolveCoincidentTopologyLineOffsetParameters(0.0, 0.0)


@dataclass(slots=True)
class Picture:
    """What is drawn of a model: triangles (m,3) over points (n,3), normals (n,3), and for each
    triangle its face; edges as runs of points for picking."""

    points: Floats
    normals: Floats
    triangles: Ints
    owner: Ints
    faces: Rows[Face]
    stone: list[int]
    edges: Rows[Edge]
    edge_points: Floats
    edge_of: Ints
    #: To snap to (k,3).
    vertices: Floats
    #: Whether all that is shown are closed solids, so that nobody sees a face from behind.
    closed: bool
    diagonal: float = field(init=False)
    #: The colours of the faces (n,4) as they lie there, untouched.
    colours: Ints = field(init=False)
    _tree: Future[BoxTree] | None = None

    def __post_init__(self) -> None:
        self.diagonal = float(np.linalg.norm(np.ptp(self.points, axis=0))) if len(self.points) else 1.0
        stones = np.array([(*theme.rgb(colour), 1.0) for _, colour in theme.STONES])
        self.colours = 255.0 * stones[np.array(self.stone, dtype=np.int64)]

    def outlines(self) -> vtkPolyData:
        """All edges as lines."""
        if not len(self.edges):
            return vtkPolyData()
        return lines_of(self.edge_points, np.flatnonzero(np.diff(self.edge_of, prepend=-1)))

    def make_ready(self) -> None:
        """Begin, in another thread, with what picking needs: once the solid is on screen, so that it does not wait."""
        if self._tree is None and len(self.triangles):
            self._tree = _BESIDE.submit(BoxTree.of, self.points, self.triangles)

    @property
    def tree(self) -> BoxTree:
        """For picking."""
        self.make_ready()
        assert self._tree is not None
        return self._tree.result()

    def marked(self, edges: Sequence[Edge | Handle], fine: float) -> vtkPolyData:
        """Edges as lines to be marked with; where there are hundreds, in steps of about `fine`, as nobody sees finer
        ones. What is not in the picture is left out: nobody sees it."""
        known = self.edges.numbers(edges)
        if not known:
            return vtkPolyData()
        wanted = np.zeros(len(self.edges), dtype=bool)
        wanted[known] = True
        rows = np.flatnonzero(wanted[self.edge_of])
        points, of = self.edge_points[rows], self.edge_of[rows]
        first = np.flatnonzero(np.diff(of, prepend=-1))
        length = np.diff(np.append(first, len(of)))
        step = np.linalg.norm(points[first + 1] - points[first], axis=1)  # even along a curve; a line has but one
        coarse = fine if len(edges) >= _HUNDREDS else 0.0
        skip = np.repeat(np.maximum(1, (coarse / np.maximum(step, 1e-300)).astype(np.int64)), length)
        place = np.arange(len(of)) - np.repeat(first, length)
        last = np.zeros(len(of), dtype=bool)
        last[first + length - 1] = True
        keep = (place % skip == 0) | last
        return lines_of(points[keep], np.flatnonzero(np.diff(of[keep], prepend=-1)))


@dataclass(frozen=True, slots=True, eq=False)
class _Drawn:
    """A body as it is drawn: its faces with the points (n,3), normals (n,3) and triangles (m,3) of all, how many points
    and triangles (k,2) are each one's; its edges as closed runs of points (n,3), so many (k,) each; its vertices."""

    faces: list[Face]
    points: Floats
    normals: Floats
    triangles: Ints
    counts: Ints
    edges: list[Edge]
    runs: Floats
    lengths: Ints
    vertices: Floats

    def at(self, copy: Copy) -> _Drawn:
        """As it is where a copy of the body stands."""
        return replace(
            self,
            points=copy.points(self.points),
            normals=copy.ways(self.normals),
            triangles=self.triangles[:, ::-1] if copy.mirror else self.triangles,
            runs=copy.points(self.runs),
            vertices=copy.points(self.vertices),
        )

    def only(self, faces: Bools, edges: Bools) -> _Drawn:
        """Some of the faces and edges alone."""
        if faces.all() and edges.all():
            return self
        points, sides = np.repeat(faces, self.counts[:, 0]), np.repeat(faces, self.counts[:, 1])
        return replace(
            self,
            points=self.points[points],
            normals=self.normals[points],
            triangles=(np.cumsum(points) - 1)[self.triangles[sides]],
            counts=self.counts[faces],
            runs=self.runs[np.repeat(edges, self.lengths)],
            lengths=self.lengths[edges],
        )


_drawn = Remembered[Body, _Drawn]("app/scene:drawn")


def _drawing(body: Body) -> _Drawn:
    copy = copy_of(body)
    if copy is not None:
        return _drawing(copy.body).at(copy)
    return _drawn.of(body, _made_drawing)


def _made_drawing(body: Body) -> _Drawn:
    faces: list[Face] = []
    points, normals, triangles, counts = [np.zeros((0, 3))], [np.zeros((0, 3))], [np.zeros((0, 3), int)], []
    total = 0
    uses: dict[Face, FaceUse] = {}
    for use in body.uses:
        uses.setdefault(use.face, use)
    for face, use in uses.items():
        try:
            mesh = face_mesh(face)
        except Refusal:
            continue  # its outline is tangled: the Docket says so, its edges are drawn
        faces.append(face)
        points.append(mesh.points)
        normals.append(_normals(use, mesh))
        triangles.append((mesh.triangles if use.forward else mesh.triangles[:, ::-1]) + total)
        counts.append((len(mesh.points), len(mesh.triangles)))
        total += len(mesh.points)
    edges = list(body.edges())
    runs = [_closed(e) for e in edges]
    return _Drawn(
        faces,
        np.concatenate(points),
        np.concatenate(normals),
        np.concatenate(triangles),
        np.array(counts, dtype=np.int64).reshape(-1, 2),
        edges,
        np.concatenate([np.zeros((0, 3)), *runs]),
        np.array([len(r) for r in runs], dtype=np.int64),
        np.array([v.point for v in body.vertices()]).reshape(-1, 3),
    )


def picture(model: Model, hidden: set[Body]) -> Picture:
    """The visible bodies of a model; a shared face is drawn once, with its first body's stone."""
    faces: Rows[Face] = Rows()
    edges: Rows[Edge] = Rows()
    parts: list[_Drawn] = []
    stone: list[int] = []
    shown = [(k, b) for k, b in enumerate(model.bodies) if b not in hidden]
    for k, body in shown:
        copy, drawn = copy_of(body), _drawing(body)
        new = faces.add(copy, drawn.faces)
        parts.append(drawn.only(new, edges.add(copy, drawn.edges)))
        stone += [k % len(theme.STONES)] * int(new.sum())
    base = np.cumsum([0, *(len(p.points) for p in parts)])
    counts = np.concatenate([np.zeros(0, int), *(p.counts[:, 1] for p in parts)])
    lengths = np.concatenate([np.zeros(0, int), *(p.lengths for p in parts)])
    empty = np.zeros((0, 3))
    return Picture(
        np.concatenate([empty, *(p.points for p in parts)]),
        np.concatenate([empty, *(p.normals for p in parts)]),
        np.concatenate([np.zeros((0, 3), int), *(p.triangles + at for p, at in zip(parts, base, strict=False))]),
        np.repeat(np.arange(len(counts)), counts),
        faces,
        stone,
        edges,
        np.concatenate([empty, *(p.runs for p in parts)]),
        np.repeat(np.arange(len(lengths)), lengths),
        np.concatenate([empty, *(p.vertices for p in parts)]),
        all(closed(b) for _, b in shown),
    )


#: What does not change: normals for shading as each body uses a face, and edges as closed runs.
_shades = Remembered[FaceUse, Floats]("app/scene:shades")
_runs = Remembered[Edge, Floats]("app/scene:runs")


def _normals(use: FaceUse, mesh: FaceMesh) -> Floats:
    return _shades.of(use, lambda use: _shaded(use, mesh))


def _shaded(use: FaceUse, mesh: FaceMesh) -> Floats:
    """Normals (n,3) for shading: those of the surface, or the mean of the triangles around."""
    if not isinstance(use.face.surface, Facets):
        return use.outward(mesh.points)
    out = np.zeros_like(mesh.points)
    a, b, c = (mesh.points[mesh.triangles[:, k]] for k in range(3))
    for k in range(3):
        np.add.at(out, mesh.triangles[:, k], cross_product(b - a, c - a))
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-300)
    return out if use.forward else -out


def _closed(edge: Edge) -> Floats:
    return _runs.of(edge, _run)


def _run(edge: Edge) -> Floats:
    points = edge_points(edge)[1]
    return np.vstack([points, points[:1]]) if edge.ring else points


def cells(corners: Ints) -> vtkCellArray:
    """Polygons (m,k) with as many corners each as there are columns."""
    out = vtkCellArray()
    starts = np.arange(0, corners.size + 1, corners.shape[1], dtype=np.int64)
    run = np.ascontiguousarray(corners, dtype=np.int64).ravel()
    out.SetData(numpy_to_vtkIdTypeArray(starts, deep=True), numpy_to_vtkIdTypeArray(run, deep=True))
    return out


def surface_data(points: Floats, triangles: Ints, normals: Floats | None = None) -> vtkPolyData:
    """Polygons, all with as many corners as `triangles` has columns: triangles or quadrilaterals."""
    data = vtkPolyData()
    p = vtkPoints()
    p.SetData(numpy_to_vtk(np.ascontiguousarray(points, dtype=float), deep=True))
    data.SetPoints(p)
    data.SetPolys(cells(triangles))
    if normals is not None:
        array = numpy_to_vtk(np.ascontiguousarray(normals, dtype=np.float32), deep=True)
        data.GetPointData().SetNormals(array)
    return data


def line_data(runs: list[Floats]) -> vtkPolyData:
    """Polylines, one per run of points (n,3)."""
    if not runs:
        return vtkPolyData()
    return lines_of(np.concatenate(runs), np.cumsum([0, *(len(run) for run in runs[:-1])]))


def lines_of(points: Floats, first: Ints) -> vtkPolyData:
    """Polylines through points (n,3), each from its first one (m,) to before that of the next."""
    data = vtkPolyData()
    p = vtkPoints()
    p.SetData(numpy_to_vtk(np.ascontiguousarray(points, dtype=float), deep=True))
    data.SetPoints(p)
    starts = np.append(first, len(points)).astype(np.int64)
    lines = vtkCellArray()
    every = np.arange(len(points), dtype=np.int64)
    lines.SetData(numpy_to_vtkIdTypeArray(starts, deep=True), numpy_to_vtkIdTypeArray(every, deep=True))
    data.SetLines(lines)
    return data


#: Marks of so many edges are drawn less finely.
_HUNDREDS = 300


def edge_runs(edges: list[Edge]) -> list[Floats]:
    return [_closed(e) for e in edges]


def dashed(runs: list[Floats], dash: float) -> list[Floats]:
    """Runs cut into dashes of this length with gaps as long."""
    out = []
    for run in runs:
        step = np.linalg.norm(np.diff(run, axis=0), axis=1)
        along = np.concatenate([[0.0], np.cumsum(step)])
        for start in np.arange(0.0, along[-1], 2.0 * dash):
            s = np.array([start, min(start + dash, along[-1])])
            inner = along[(along > s[0]) & (along < s[1])]
            s = np.concatenate([s[:1], inner, s[1:]])
            out.append(np.stack([np.interp(s, along, run[:, k]) for k in range(3)], axis=1))
    return out


def hatch(face: Face, spacing: float) -> list[Floats]:
    """Fine parallel lines over a face: the sign of a bonded contact."""
    shape, mirror = flat_shape(face)
    low_x, low_y, high_x, high_y = shape.bounds
    reach = (high_x - low_x) + (high_y - low_y)
    offsets = np.arange(low_x - low_y - (high_y - low_y), high_x - low_y + 1e-9, spacing * np.sqrt(2.0))
    lines = shapely.MultiLineString([[(c, low_y), (c + reach, low_y + reach)] for c in offsets])
    out = []
    for part in shapely.get_parts(shapely.intersection(shape, lines)):
        if part.geom_type == "LineString":
            flat = shapely.segmentize(part, spacing * 4.0)
            out.append(face.surface.point(np.asarray(flat.coords) * np.array([mirror, 1.0])))
    return out


def actor(
    data: vtkPolyData, colour: str, *, width: float = 1.0, opacity: float = 1.0, lit: bool = True, lift: float = 0.0
) -> vtkActor:
    """An actor in one colour; `lift` draws it before what lies at the same depth."""
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.ScalarVisibilityOff()
    if lift:
        mapper.SetResolveCoincidentTopologyToPolygonOffset()
        mapper.SetRelativeCoincidentTopologyLineOffsetParameters(0.0, -lift)
        mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(0.0, -lift)
    out = vtkActor()
    out.SetMapper(mapper)
    prop = out.GetProperty()
    prop.SetColor(*theme.rgb(colour))
    prop.SetLineWidth(width)
    prop.SetOpacity(opacity)
    if not lit:
        prop.LightingOff()
    else:
        prop.SetAmbient(0.34)
        prop.SetDiffuse(0.80)
        prop.SetSpecular(0.04)
    return out


def painted(data: vtkPolyData, see_through: bool) -> vtkActor:
    """An actor whose triangles have colours of their own."""
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(1.0, 1.0)
    out = vtkActor()
    out.SetMapper(mapper)
    out.SetForceTranslucent(see_through)
    prop = out.GetProperty()
    prop.SetAmbient(0.34)
    prop.SetDiffuse(0.83)
    prop.SetSpecular(0.0)  # no highlight: what is drawn is in proportion to the colour, which kept pixels rely on
    return out


def section_fill(data: vtkPolyData, colour: str) -> vtkActor:
    """The insides of a solid's skin in one flat colour: where the solid is cut away it looks filled."""
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.ScalarVisibilityOff()
    out = vtkActor()
    out.SetMapper(mapper)
    out.GetProperty().SetColor(*theme.rgb(colour))
    out.GetProperty().LightingOff()
    out.GetProperty().FrontfaceCullingOn()
    return out


def size_tetrahedron(at: Floats, normal: Floats, size: float) -> Floats:
    """Corners (4,3) of a regular tetrahedron of this edge, one face on the surface at a point."""
    helper = np.eye(3)[int(np.argmin(np.abs(normal)))]
    u = cross_product(normal, helper)
    u /= np.linalg.norm(u)
    v = cross_product(normal, u)
    r = size / np.sqrt(3.0)
    base = [at + r * (np.cos(a) * u + np.sin(a) * v) for a in (0.0, 2.0943951, 4.1887902)]
    return np.array([*base, at + normal * size * np.sqrt(2.0 / 3.0)])


def stones_of(model: Model, words: Mapping[Entity, Any]) -> dict[str, list[Face]]:
    """The faces that bear words, by the stone that they are shown in: one for a word, another beside it where that can
    be."""
    stones = [colour for _, colour in theme.STONES]
    out: dict[str, list[Face]] = {}
    for body in model.bodies if words else ():
        beside: dict[str, set[str]] = {}
        for across in adjacency(body).uses.values():
            near = {words[use.face] for use, _ in across if use.face in words}
            for word in near:
                beside.setdefault(word, set()).update(near - {word})
        taken: dict[str, int] = {}
        for word in sorted(beside, key=lambda w: -len(beside[w])):
            used = [taken[w] for w in beside[word] if w in taken]
            taken[word] = min(range(len(stones)), key=lambda k: (used.count(k), (k + len(taken)) % len(stones)))
        for face in body.faces:
            if words.get(face) in taken:
                out.setdefault(stones[taken[words[face]]], []).append(face)
    return out


def body_of_face(model: Model, face: Face) -> Body | None:
    owners = model.owners(face)
    return owners[0] if owners else None


#: From inside over none to outside.
DEVIATION = (theme.VERDIGRIS, theme.RAISED, theme.MADDER)


def deviation_actor(found: Deviation) -> vtkActor:
    """What was read, in colours that say how far it stands off what has become of it."""
    share = 0.5 + 0.5 * found.off / max(found.reach, 1e-300)
    stops = 255.0 * np.array([theme.rgb(colour) for colour in DEVIATION])
    shades = np.stack([np.interp(share, (0.0, 0.5, 1.0), stops[:, k]) for k in range(3)], axis=1).astype(np.uint8)
    data = surface_data(found.points, found.triangles)
    data.GetPointData().SetScalars(numpy_to_vtk(shades, deep=True))
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    out = vtkActor()
    out.SetMapper(mapper)
    prop = out.GetProperty()
    prop.SetInterpolationToFlat()
    prop.SetAmbient(0.5)
    prop.SetDiffuse(0.6)
    return out
