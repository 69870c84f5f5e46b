"""Bodies that cannot be meshed: which of their faces fail and why, the skin of all others, and an approximation where
those are left out and what they covered is closed by triangles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.analysis.openings import openings, torn_faces
from lithon.brep.cleaning import cleaned
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mesh.mesh import Mesh
from lithon.mesh.recover import Failure
from lithon.mesh.sheets import triangle_mesh
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.progress import SILENT, Progress
from lithon.words import many

#: How often a skin is tried with one face less.
_TRIES = 12


def failing(bodies: Sequence[Body], why: Refusal | None, tolerance: float) -> list[Failure]:
    """The faces of some bodies that stand in the way of a mesh, each once, and why, and openings of their skins;
    `why`: what a mesher has said."""
    out: dict[Face, Failure] = {}
    holes: list[Failure] = []
    for body in bodies:
        holes += _holes(body)
        for face, what, remedy, at in _troubles(body, tolerance):
            out.setdefault(face, failure_at(f"{body.name}: {what}", face, remedy, at))
    if why is not None and not out and not holes:
        for face in (e for e in why.entities if isinstance(e, Face) and e.loops):
            owner = next((b.name for b in bodies if b.use_of(face) is not None), bodies[0].name)
            out.setdefault(face, failure_at(f"{owner}: {why.what}", face, why.remedy or "mend it first"))
    return [*out.values(), *holes]


def _holes(body: Body) -> list[Failure]:
    """Where a skin is open and no face hangs there."""
    if body.sheet:
        return []
    torn, adj = torn_faces(body), adjacency(body)
    out = []
    for found in openings(body):
        if not any(use.face in torn for e in found.edges for use, _ in adj.uses[e]):
            at = (float(found.middle[0]), float(found.middle[1]), float(found.middle[2]))
            what = f"{body.name}: its skin is open along {many(len(found.edges), 'edge')}"
            out.append(Failure(what, None, at, "close it, or sew the edges"))
    return out


def _troubles(body: Body, tolerance: float) -> Iterator[tuple[Face, str, str, Floats | None]]:
    """Faces that are no part of a sound skin, why, what to try, and where."""
    adj = adjacency(body)
    for flaw in flaws(body, tolerance):
        if flaw.kind == "open edge":
            continue
        if isinstance(flaw.entity, Face):
            yield flaw.entity, flaw.text, "mend it, or put a patch over it", np.array(flaw.place)
        elif isinstance(flaw.entity, Edge):
            for use, _ in adj.uses.get(flaw.entity, []):
                yield use.face, flaw.text, "sew it, or put a patch over it", np.array(flaw.place)
    for face, own in torn_faces(body).items() if not body.sheet else ():
        loose = len(own) == len(dict.fromkeys(face.edges()))
        torn = "stands by itself" if loose else f"is torn off along {many(len(own), 'edge')}"
        remedy = "drop it, or put a patch over it" if loose else "put a patch over it"
        yield face, f"a {face.surface.kind} {torn}", remedy, None
    pairs = self_intersections(body, tolerance)
    while pairs:
        # The one that passes through itself or most others is to blame; of two, the smaller.
        count = Counter(f for one, two, _ in pairs for f in ((one, one, one) if one is two else (one, two)))
        worst = max(count, key=lambda f: (count[f], -face_area(f)))
        cuts = [p for p in pairs if worst in p[:2]]
        pairs = [p for p in pairs if worst not in p[:2]]
        spots = np.concatenate([p[2] for p in cuts])
        others = [(two if one is worst else one).surface.kind for one, two, _ in cuts if one is not two]
        through = "itself" if len(others) < len(cuts) else f"a {others[0]}" if len(others) == 1 else "others"
        what = f"a {worst.surface.kind} passes through {through} in {many(len(spots), 'place')}"
        yield worst, what, "replace it by a simple surface, or put a patch over it", spots[len(spots) // 2]


def failure_at(what: str, face: Face, remedy: str, at: Floats | None = None) -> Failure:
    """A failure of a face, in the middle of one of its edges where no place is known."""
    if at is None:
        at = next(face.edges()).at(0.5) if face.loops else face.surface.frame.origin
    return Failure(what, face, (float(at[0]), float(at[1]), float(at[2])), remedy)


def skin_of(model: Model, rules: SizeRules, failures: Sequence[Failure], progress: Progress = SILENT) -> Mesh | None:
    """Triangles on all faces but those that fail, and on none that fails on the way, with all that failed; nothing
    where none is left."""
    told = {f.face: f for f in failures if f.face is not None}
    holes = [f for f in failures if f.face is None]
    for _ in range(_TRIES):
        left = _without(model, set(told))
        if left is None:
            return None
        try:
            return replace(triangle_mesh(left, rules, progress), failures=(*told.values(), *holes))
        except Refusal as refusal:
            more = [e for e in refusal.entities if isinstance(e, Face) and e not in told]
            if not more:
                return None
            for face in more:
                told[face] = failure_at(refusal.what, face, refusal.remedy or "mend it first")
    return None


def _without(model: Model, gone: set[Face]) -> Model | None:
    bodies = [b.with_uses(u for u in b.uses if u.face not in gone) if gone & set(b.faces) else b for b in model.bodies]
    kept = tuple(b for b in bodies if b.uses)
    return Model(kept, model.tolerance) if kept else None


def approximated(model: Model, rules: SizeRules, why: Refusal, progress: Progress = SILENT) -> Mesh:
    """Tetrahedra of bodies whose failing faces are left out and closed over by triangles; a body that this was done to
    has faces of triangles in the mesh, after the model's own. What failed is told. Raises `why` where what is left
    cannot be closed either."""
    made, told = [], list[Failure]()
    for body in model.bodies:
        own = failing([body], why if len(model.bodies) == 1 else None, model.tolerance)
        skin = skin_of(Model((body,), model.tolerance), rules, own, progress) if own else None
        if own and skin is None:
            raise why
        made.append(body if skin is None else _closed_over(body, skin, why))
        told += skin.failures if skin is not None else ()
    mesh = tetrahedral_mesh(Model(tuple(made), model.tolerance), rules, progress)
    return _as_the_model(mesh, model, tuple(told))


def _closed_over(body: Body, skin: Mesh, why: Refusal) -> Body:
    """A body of triangles: those on its faces, and others that close what is left open."""
    back = np.array([not next(u for u in body.uses if u.face is f).forward for f in skin.faces])[skin.face]
    corners = np.where(back[:, None], skin.triangles[:, ::-1], skin.triangles)
    clean = cleaned(skin.points, corners)
    if clean.left:
        raise why
    fresh = bodies_of([Triangles(clean.points, clean.corners, body.name, body.colour)])[0]
    if len(fresh) != 1 or volume(fresh[0]) <= 0.0:
        raise why
    return fresh[0]


def _as_the_model(mesh: Mesh, model: Model, failures: tuple[Failure, ...]) -> Mesh:
    """With triangles by the model's own faces: what closes a body over, whole, keeps the faces of triangles that it has
    got."""
    faces = model.faces()
    extra = [f for f in mesh.faces if f not in set(faces)]
    place = {f: k for k, f in enumerate((*faces, *extra))}
    face = np.array([place[f] for f in mesh.faces], dtype=np.int64)[mesh.face]
    return replace(mesh, faces=(*faces, *extra), face=face, failures=failures)
