"""Triangles and quads on the faces of bodies: sheets, and the skins of solids."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.charts import chart_of, parts_of
from lithon.brep.topology import Face, Model
from lithon.errors import Refusal, spot
from lithon.mesh.hexer import Hexer
from lithon.mesh.mesh import Mesh
from lithon.mesh.quads import facing, opposite
from lithon.mesh.quality import Quality
from lithon.mesh.remake import graded
from lithon.mesh.shapes import QUAD, TRI, Shape
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.mesh.turns import Sides
from lithon.progress import SILENT, Progress


def triangle_mesh(model: Model, rules: SizeRules, progress: Progress = SILENT) -> Mesh:
    """Every face in triangles; faces that share an edge share its nodes. Raises Refusal naming the face that cannot be
    meshed."""
    progress.tell(0.1, "dividing edges and faces")
    _, surface = graded(surface_mesh(model.bodies, size_field(model.bodies, rules)))
    triangles, of = surface.triangles()
    faces = model.faces()
    number = {part: k for k, face in enumerate(faces) for part in parts_of(face)}
    whole = np.array([number[part] for part in surface.faces], dtype=np.int64)
    return replace(_flat(model, surface.points(), triangles, whole[of], TRI), ignored=surface.ignored)


def quad_mesh(model: Model, rules: SizeRules, progress: Progress = SILENT) -> Mesh:
    """Every face in quads: four-sided ones mapped, others paved. Raises Refusal naming the face that cannot be."""
    hexer = Hexer(model, rules, [], Sides())
    faces = model.faces()
    for face in faces:
        if len(parts_of(face)) > 1 or not face.loops:
            raise Refusal(f"a {face.surface.kind} without an outline cannot be covered with quads",
                          remedy="score it first, or take triangles", entities=(face,))  # fmt: skip
        if opposite(face) is None and len(face.loops) > 1 and _around(face):
            raise Refusal("a face that goes around cannot be covered with quads",
                          remedy="score it along its axis first, or take triangles", entities=(face,))  # fmt: skip
        hexer.agree_on(face)
    hexer.assign()
    for k, face in enumerate(faces):
        progress.tell(0.1 + 0.8 * k / len(faces), f"covering face {k + 1} of {len(faces)}")
        hexer.face(face)
    points = np.array(hexer.points)
    quads = [facing(f, hexer.on_face[f][1], points) for f in faces]
    owner = np.repeat(np.arange(len(faces)), [len(q) for q in quads])
    mesh = _flat(model, points, np.concatenate(quads), owner, QUAD)
    worst = int(mesh.quality.scaled_jacobian.argmin())
    if mesh.quality.scaled_jacobian[worst] <= 0.0:
        middle, face = mesh.points[mesh.elements[worst]].mean(axis=0), faces[int(mesh.face[worst])]
        raise Refusal("a quad would be folded", where=spot(middle), remedy="a smaller element size, or triangles",
                      entities=(face,))  # fmt: skip
    return mesh


def _around(face: Face) -> bool:
    return chart_of(face).flat_period is not None and any(c.edge.ring for loop in face.loops for c in loop)


def _flat(model: Model, points: Floats, cells: Ints, face: Ints, shape: Shape) -> Mesh:
    """The mesh of cells (m,k) on faces (m,), unused nodes dropped, in the order of bodies."""
    faces = model.faces()
    owner = np.array([next(b for b, body in enumerate(model.bodies) if body.use_of(f) is not None) for f in faces])
    order = np.argsort(owner[face], kind="stable")
    used, cells = np.unique(cells[order], return_inverse=True)
    cells, points = cells.reshape(-1, shape.corners), points[used]
    return Mesh(points, cells, owner[face[order]], cells, face[order], model.bodies, faces,
                Quality.of_flat(points, cells), shape=shape)  # fmt: skip
