"""Tetrahedra of bodies group by group, as they share faces; where not all can be meshed, what failed is named with its
face and place, and the rest is kept."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np
import scipy

from lithon.brep.copies import Copied, copy_of, handle
from lithon.brep.faceted import faceted
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Face, Model
from lithon.errors import Refusal
from lithon.mesh.failing import approximated, failing, skin_of
from lithon.mesh.mesh import Mesh
from lithon.mesh.quality import Quality
from lithon.mesh.recover import Failure
from lithon.mesh.sizing import SizeRules
from lithon.mesh.stuffing import stuffed
from lithon.mesh.surface import IGNORED
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.mesh.verdict import verdict
from lithon.progress import SILENT, Progress

#: Where the volume of triangles is off by more than this share, elements of such shares of the size are tried, but not
#: where there are so many that what is off is no chord.
_VOLUME, _FINER, _PLENTY = 0.02, (0.7, 0.5), 50_000


def what_can(
    model: Model, rules: SizeRules, progress: Progress = SILENT, approximate: bool = False, lattice: float = 0.0
) -> Mesh:
    """Tetrahedra of every group of bodies that share faces by itself: what lies apart, touches or overlaps unbonded
    has no nodes in common. A body whose skin cannot be held is meshed from a lattice: of triangles whatever that cuts
    off, of exact faces where these are sound and it is no more than an element. Where none can be meshed, triangles on
    the faces that do not fail; `approximate`: what fails is left out and closed over, in its own group alone;
    `lattice`: bodies whose elements would be poor in fewer places from one are meshed so, where that cuts off no more
    than this of their creases (mm), or than is ignored. Raises Refusal where it is no single face's fault."""
    groups = _together(model)
    made: list[Mesh] = []
    failures: list[Failure] = []
    named, why = True, None
    known = dict[tuple[Body, bool], Mesh]()
    waiting = deque((group, progress.part(k / len(groups), (k + 1) / len(groups))) for k, group in enumerate(groups))
    while waiting:
        group, ahead = waiting.popleft()
        shape = _shape(group, rules)
        if shape in known:
            made.append(_carried(known[shape], group[0]))
            continue
        part = model if len(group) == len(model.bodies) else Model(tuple(group), model.tolerance)
        try:
            made.append(_mesh(part, rules, ahead, lattice))
            if shape is not None:
                known[shape] = made[-1]
        except Refusal as refusal:
            if len(less := _together(part, by_faces=True)) > 1:  # faces may lie on each other unshared
                waiting.extendleft((one, ahead) for one in reversed(less))
                continue
            if (instead := _instead(part, rules, progress, lattice)) is not None:
                made.append(instead)
                continue
            if approximate:
                with suppress(Refusal):  # what cannot even be closed over is named, as all else is
                    made.append(approximated(part, rules, refusal, progress))
                    failures += made[-1].failures
                    continue
            why = why or refusal
            blamed = failing(group, refusal, model.tolerance)
            named = named and bool(blamed)
            failures += blamed or [_told(group, refusal)]
    if not made:
        assert why is not None
        skin = skin_of(model, rules, failures, progress) if named else None
        if skin is None:
            raise why
        return skin
    return replace(made[0] if len(made) == 1 else _joined(made), failures=tuple(failures))


def _shape(group: list[Body], rules: SizeRules) -> tuple[Body, bool] | None:
    """What a body that stands alone is a copy of, and whether mirrored, where nothing is asked of it by itself: its
    elements are those of every other copy."""
    if len(group) > 1 or rules.steep:
        return None
    body, copy = group[0], copy_of(group[0])
    asked = (*rules.named(), *(x for x, _ in rules.local))
    if body in asked:
        return None
    told = [handle(x) for x in asked if not isinstance(x, Body)]
    if copy is not None:
        return None if any(uid == copy.uid for uid, _ in told) else (copy.body, copy.mirror)
    own = {*body.faces, *body.edges()} if told else set()
    return None if any(uid == 0 and x in own for uid, x in told) else (body, False)


def _carried(mesh: Mesh, body: Body) -> Mesh:
    """The mesh of a body where another copy of the same stands."""
    here, there = copy_of(mesh.bodies[0]), copy_of(body)
    points = mesh.points if here is None else here.back(mesh.points)
    faces = [source for f in mesh.faces if isinstance(source := handle(f)[1], Face)]
    return replace(
        mesh, points=points if there is None else there.points(points), bodies=(body,),
        faces=tuple(faces if there is None else Copied(there, faces)),
    )  # fmt: skip


def _mesh(model: Model, rules: SizeRules, progress: Progress, lattice: float) -> Mesh:
    """The mesh of bodies that belong together; of triangles alone a finer one where chords cut off too much, for what
    is round there is told by nothing else. Where elements are poor it is told whether a lattice gives better ones;
    where that cuts off no more than is ignored, or than `lattice` (mm), those are taken."""
    mesh = tetrahedral_mesh(model, rules, progress)
    of_triangles = _of_triangles(model.bodies)
    if not of_triangles and not lattice:
        return mesh
    most, other = max(rules.ignore or 0.0, lattice), None
    if lattice and (poor := verdict(mesh).strict):  # a finer one is as poor
        other = _from_lattice(model.bodies, rules, progress, lattice)
        if other is not None and verdict(other).strict < poor and other.rounded[0] <= most:
            return other
    for finer in _FINER if of_triangles else ():
        if abs(mesh.volume_ratio - 1.0) <= _VOLUME or len(mesh.elements) > _PLENTY:
            break
        less = replace(rules, size=finer * rules.size, around=max(rules.around, int(rules.around / finer)))
        try:
            mesh = tetrahedral_mesh(model, less, progress)
        except Refusal:
            break  # the coarser one holds
    poor = verdict(mesh).strict
    if poor and other is None and of_triangles:
        other = _from_lattice(model.bodies, rules, progress, lattice)
    if not poor or other is None or verdict(other).strict >= poor:
        return mesh
    return other if other.rounded[0] <= most else replace(mesh, better=other.rounded)


def _of_triangles(bodies: Sequence[Body]) -> bool:
    """Whether bodies that share faces, or one alone, are of triangles and closed."""
    return all(faceted(body) and closed(body) for body in bodies)


def _instead(model: Model, rules: SizeRules, progress: Progress, most: float) -> Mesh | None:
    """The mesh from a lattice of bodies that have none from their own skins; none where that is no mesh of them."""
    if _of_triangles(model.bodies):
        return _from_lattice(model.bodies, rules, progress, most)
    if not all(closed(body) for body in model.bodies) or failing(model.bodies, None, model.tolerance):
        return None  # it has faces to blame, which are told
    most = max(rules.size, rules.ignore or 0.0, most)
    made = _from_lattice(model.bodies, rules, progress, most)
    return made if made is not None and made.rounded[0] <= most else None


def _from_lattice(group: Sequence[Body], rules: SizeRules, progress: Progress, most: float) -> Mesh | None:
    """The mesh of bodies from a lattice, a finer one where more than `most` (mm) would be cut off, if that is anything;
    none where there is no such."""
    if not all(closed(body) for body in group):
        return None
    try:
        within = max(rules.ignore or 0.0, most) if most else None
        gap = 0.0 if _of_triangles(group) else rules.ignore or 0.0
        found = stuffed(group, rules.size, progress, within, gap)
    except Refusal:
        return None
    every = range(len(group))
    return replace(
        found.mesh, rounded=dict.fromkeys(every, found.off), filled=dict.fromkeys(every if found.filled else (), gap)
    )


def _together(model: Model, by_faces: bool = False) -> list[list[Body]]:
    """Bodies by the faces, edges and vertices that they share, or by faces alone."""
    if len(model.bodies) == 1:
        return [list(model.bodies)]
    sets: scipy.cluster.hierarchy.DisjointSet = scipy.cluster.hierarchy.DisjointSet(model.bodies)
    first: dict[object, Body] = {}
    for body in model.bodies:
        edges = () if by_faces else tuple(body.edges())
        ends = (v for e in edges for v in (e.start, e.end) if v is not None)
        for shared in (*body.faces, *edges, *ends):
            sets.merge(first.setdefault(shared, body), body)
    out: dict[Body, list[Body]] = {}
    for body in model.bodies:
        out.setdefault(sets[body], []).append(body)
    return list(out.values())


def _told(group: list[Body], refusal: Refusal) -> Failure:
    """Of bodies that are sound as far as is known, with no face to blame."""
    spot = np.mean([v.point for v in group[0].vertices()] or [group[0].faces[0].surface.frame.origin], axis=0)
    names = ", ".join(body.name for body in group)
    return Failure(f"{names}: {refusal.what}", None, (float(spot[0]), float(spot[1]), float(spot[2])),
                   refusal.remedy or "mend it first")  # fmt: skip


def _joined(meshes: list[Mesh]) -> Mesh:
    """Meshes of bodies that share nothing, as one."""
    points = np.cumsum([0, *(len(m.points) for m in meshes)])
    bodies = np.cumsum([0, *(len(m.bodies) for m in meshes)])
    faces = np.cumsum([0, *(len(m.faces) for m in meshes)])
    parts = list(zip(meshes, points, bodies, faces, strict=False))
    names = ("scaled_jacobian", "smallest_angle", "largest_angle", "edge_ratio")
    quality = Quality(*(np.concatenate([getattr(m.quality, name) for m in meshes]) for name in names))
    return Mesh(
        np.concatenate([m.points for m in meshes]), np.concatenate([m.elements + p for m, p, _, _ in parts]),
        np.concatenate([m.body + b for m, _, b, _ in parts]), np.concatenate([m.triangles + p for m, p, _, _ in parts]),
        np.concatenate([m.face + f for m, _, _, f in parts]), tuple(x for m in meshes for x in m.bodies),
        tuple(x for m in meshes for x in m.faces), quality, shape=meshes[0].shape,
        rounded={k + int(b): off for m, _, b, _ in parts for k, off in m.rounded.items()},
        filled={k + int(b): gap for m, _, b, _ in parts for k, gap in m.filled.items()},
        better={k + int(b): off for m, _, b, _ in parts for k, off in m.better.items()},
        ignored={kind: sum(m.ignored.get(kind, 0) for m in meshes) for kind in IGNORED},
    )  # fmt: skip
