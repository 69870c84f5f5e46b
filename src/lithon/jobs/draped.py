"""Jobs about what a mesh does not follow."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

import lithon.do as do
from lithon.arrays import Ints
from lithon.brep.area import clamped, off_edge
from lithon.brep.measures import volume
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal
from lithon.jobs.job import Bench, Job
from lithon.mesh.mesh import Mesh
from lithon.samples.spoiled_anchor import ROUNDER, SPOILED, spoiled_anchor


def _faces(b: Bench, kind: str, normal: tuple[float, float, float], at: float) -> list[Face]:
    """The plane faces on a plane, from one end to the other."""
    n = np.array(normal)
    out = [f for f in b.model.faces() if f.surface.kind == kind and abs(float(f.surface.frame.z @ n)) > 0.999
           and abs(float(f.surface.frame.origin @ n) - at) < 1e-6]  # fmt: skip
    return sorted(out, key=lambda f: float(np.mean([e.at(0.5) @ np.array([1.0, 0.0, 1.0]) for e in f.edges()])))


def followed(mesh: Mesh, edge: Edge) -> bool:
    """Whether a mesh follows an edge: from node to node on it there is a side of a triangle, from end to end. A nick at
    the end of a straight one is drawn together, and its chain ends at either end of that."""
    spare = 1.5 * SPOILED.nick if edge.curve.kind == "line" else 0.0
    whole = replace(edge, t0=edge.t0 - spare, t1=edge.t1 + spare)
    on = np.flatnonzero(off_edge(whole, mesh.points) < 1e-7)
    if len(on) < 2:
        return False
    t = clamped(whole, mesh.points[on])
    order = on[np.argsort(t)]
    reach = edge.ring or float(np.ptp(t)) >= edge.t1 - edge.t0 - spare - 1e-9
    have = _sides(mesh)
    return reach and all((min(p), max(p)) in have for p in itertools.pairwise(order.tolist()))


def _sides(mesh: Mesh) -> set[tuple[int, int]]:
    t: Ints = np.sort(mesh.triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    return set(map(tuple, np.unique(t, axis=0).tolist()))


def _outline(faces: list[Face]) -> list[Edge]:
    """The edges that just one of some faces has, but the nicks."""
    count: dict[Edge, int] = {}
    for face in faces:
        for edge in face.edges():
            count[edge] = count.get(edge, 0) + 1
    return [e for e, n in count.items() if n == 1 and e.length > 2.0 * SPOILED.nick]


def _will_not_mesh(b: Bench) -> None:
    s = SPOILED
    b.take(do.element_size(8.0))
    b.take(do.ignore_below(0.0))  # as another mesher would: every edge followed
    b.take(do.growth(1.0))  # coarser beside what is small: it is dear enough
    before = b.ledger.try_step(do.mesh("tet")).mesh
    b.ledger.undo()
    assert before is not None
    for wrong in (8.0, 9.0):
        try:
            b.ledger.try_step(do.ignore_below(wrong))
            b.check("it is refused", 0.0, 1.0)
        except Refusal as refusal:
            b.check("it is refused", float("smaller" in refusal.what), 1.0)
    b.take(do.ignore_below(0.5))
    bolts = [x for x in b.model.bodies if x.name.startswith("bolt")]
    b.check("bolts", sum(map(volume, bolts)), 3.0 * s.bolt_volume)
    b.take(do.size_in_bodies(bolts, 2.5))
    bed = _faces(b, "plane", (0, 0, 1), 0.0)
    front = _faces(b, "plane", (0, 1, 0), 0.5 * ROUNDER.lug_width)
    b.check("bands of the bed", len(bed), 4)
    b.check("bands of the front", len(front), 3)
    b.take(do.drape(bed))
    b.take(do.drape(front))
    b.take(do.drape(strength=np.radians(1.0)))
    unnamed = b.ledger.try_step(do.mesh("tet")).mesh
    assert unnamed is not None
    b.check("followed, it takes more elements", float(len(before.elements) > 1.3 * len(unnamed.elements)), 1.0)
    worst = [m.quality.smallest_angle.min() for m in (before, unnamed)]
    b.check("and has worse ones", float(worst[0] < worst[1]), 1.0)
    between = [e for e in bed[0].edges() if e in set(bed[1].edges()) and e.length > 1.0]
    b.check("draped over where it has no name", float(any(followed(unnamed, e) for e in between)), 0.0)
    b.take(do.name(bed[1], "load bed"))
    b.take(do.name(_faces(b, "plane", (0, 1, 0), 0.5 * ROUNDER.lug_width)[-1], "load lug"))
    (loaded,) = [f for f in b.model.faces() if f.label == "load bed"]
    (lug,) = [f for f in b.model.faces() if f.label == "load lug"]
    b.take(do.size_on_faces(loaded, 2.0))
    b.take(do.mesh("tet"))
    mesh = b.mesh
    assert mesh is not None
    b.check("joined up", float(mesh.conformal()), 1.0)
    b.check("volume of the mesh", mesh.volume_ratio, 1.0, 5e-3)
    b.check("every element is sound", float(mesh.quality.scaled_jacobian.min() > 0.05), 1.0)
    b.check("and none is flat", float(mesh.quality.smallest_angle.min() > 10.0), 1.0)
    for face in (loaded, lug):
        for edge in _outline([face]):
            b.check(f"outline of {face.label}", float(followed(mesh, edge)), 1.0)
    splinter = [f for f in _faces(b, "plane", (0, 0, 1), 0.0) if f.label == ""]
    inner = [e for e in splinter[-2].edges() if e in set(splinter[-1].edges())]
    for edge in inner:
        b.check("the splinter's far side is draped over", float(followed(mesh, edge)), 0.0)
    own = mesh.triangles[mesh.face == mesh.faces.index(loaded)]
    length = np.linalg.norm(mesh.points[own] - mesh.points[np.roll(own, 1, axis=1)], axis=2)
    b.check("a quarter's size on the bed", float(np.median(length)), 2.0, 0.25)


JOBS: tuple[Job, ...] = (Job("J01", "it will not mesh", spoiled_anchor, (("", _will_not_mesh),)),)
