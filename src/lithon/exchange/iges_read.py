"""IGES files to a model: solids as they are, trimmed surfaces sewn to solids on the way in.

What the files say about the sense of loops and faces is not relied on, since writers differ: a loop's sense
follows from where it lies on its surface, a face's from its neighbours, a solid's from its volume.
"""

from __future__ import annotations

import itertools
from collections import Counter
from dataclasses import dataclass, field, replace

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.same import folded
from lithon.brep.copies import moved
from lithon.brep.proto import ProtoEdge, ProtoFaces
from lithon.brep.sewing import righted, sew, turned_alike
from lithon.brep.shells import closes, connected, solids
from lithon.brep.topology import Body, Face, FaceUse, Model
from lithon.errors import BadFile, Refusal
from lithon.exchange.iges_geometry import IgesGeometry, outline_of
from lithon.exchange.iges_instances import Instances, instances, name_of
from lithon.exchange.iges_records import Record, Records, read_records
from lithon.exchange.settling import settled
from lithon.exchange.step_read import Arrival, told
from lithon.exchange.stretch import Stretch, Unread
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Surface
from lithon.log import fault

#: Standard colours by their number.
_COLOURS = {
    1: (0.0, 0.0, 0.0), 2: (1.0, 0.0, 0.0), 3: (0.0, 1.0, 0.0), 4: (0.0, 0.0, 1.0), 5: (1.0, 1.0, 0.0),
    6: (1.0, 0.0, 1.0), 7: (0.0, 1.0, 1.0), 8: (1.0, 1.0, 1.0),
}  # fmt: skip
#: Edges this far apart (mm, and as a share of the part's size) are still sewn.
_SEAM, _SEAM_SHARE = 2e-2, 2e-4
_ERRORS = (BadFile, Unread, Refusal, IndexError, KeyError, TypeError, ValueError, np.linalg.LinAlgError)


def parse_iges(text: str, name: str = "part") -> Arrival:
    """Raises BadFile where nothing in it can be used."""
    records = read_records(text)
    reader = _Reader(records, IgesGeometry(records), name)
    try:
        return reader.run()
    except (IndexError, KeyError, TypeError, ValueError, RecursionError) as error:
        raise BadFile(f"the IGES file is not well formed ({error})") from error
    except AttributeError as error:  # no file is to blame for that
        raise fault(error, "reading an IGES file") from error


@dataclass(slots=True)
class _Reader:
    x: Records
    geometry: IgesGeometry
    name: str
    proto: ProtoFaces = field(default_factory=ProtoFaces)
    notes: list[str] = field(default_factory=list)
    #: How far apart (mm) edges were that were sewn.
    reach: float = 0.0
    _vertices: dict[tuple[int, int], int] = field(default_factory=dict)
    _edges: dict[tuple[int, int], list[tuple[int, bool]]] = field(default_factory=dict)

    def run(self) -> Arrival:
        self.notes += self.x.notes
        owners: dict[int, list[list[int]]] = {}
        for record in list(self.x.entities.values()):
            if record.kind == 186 and not record.blank:
                shells = self._solid(record)
                if any(shells):
                    owners[record.number] = shells
        loose = [number for r in self._loose() if (number := self._trimmed(r)) is not None]
        if not self.proto.loops:
            why = f" ({'; '.join(self.notes[:3])})" if self.notes else ""
            raise BadFile(f"the IGES file holds no solid or surface that Lithon can read{why}")
        faces = self._sewn()
        placed = instances(self.x, self.geometry, self.notes)
        bodies: list[Body] = []
        for number, shells in owners.items():
            uses = [use for shell in shells for use in turned_alike([faces[k] for k in shell if k in faces])]
            if uses:
                record = self.x.get(number)
                name = name_of(self.x, record, 3 + 2 * record.integer(2))
                body = Body(_voids_inward(uses), name, colour=self._colour(record))
                bodies += self._standing(body, placed, number)
        homes: dict[int, list[int]] = {}
        for k in loose:
            homes.setdefault(placed.home.get(k, 0), []).append(k)
        for some in homes.values():
            for body in self._from_surfaces(some, faces):
                bodies += self._standing(body, placed, some[0])
        unnamed = sum(not body.name for body in bodies)
        count = itertools.count(1)
        bodies = [
            body if body.name else replace(body, name=self.name if unnamed == 1 else f"{self.name} {next(count)}")
            for body in bodies
        ]
        return Arrival(folded(settled(Model.of(bodies), self.notes, self.reach)), told(self.notes))

    def _from_surfaces(self, numbers: list[int], faces: dict[int, Face]) -> list[Body]:
        """Solids and open skins of surfaces that no solid owns."""
        left = turned_alike([faces[k] for k in numbers if k in faces])
        closed = [use for shell in connected(left) if closes(shell) for use in shell]
        opened = [shell for shell in connected(left) if not closes(shell)]
        colour = Counter(c for k in numbers if (c := self._colour(self.x.get(k))) is not None).most_common(1)
        shade = colour[0][0] if colour else None
        if opened:
            self.notes.append(f"{len(opened)} sets of surfaces do not close to a solid")
        groups = [*(solids(closed) if closed else []), *opened]
        return [Body(tuple(group), "", colour=shade) for group in groups]

    def _standing(self, body: Body, placed: Instances, number: int) -> list[Body]:
        """A body wherever its definition stands; as it is, where it belongs to none or stands nowhere."""
        places = placed.places.get(placed.home.get(number, 0), [])
        if not places:
            return [body]
        out = []
        for k, place in enumerate(places):
            own = body.name or place.path[-1] or self.name
            name = own if len(places) == 1 else f"{own} {k + 1}"
            out.append(replace(moved(body, place.motion), name=name, path=(*place.path[:-1], name)))
        return out

    def _colour(self, record: Record) -> tuple[float, float, float] | None:
        if record.colour >= 0:
            return _COLOURS.get(record.colour)
        try:
            r, g, b = self.x.get(-record.colour, 314).reals(0, 3)
        except BadFile:
            return None
        return (r / 100.0, g / 100.0, b / 100.0)

    # ---- sewing

    def _sewn(self) -> dict[int, Face]:
        """The faces by number, with common edges where they meet and without seams."""
        points = [edge.at(np.linspace(0.0, 1.0, 5)) for edge in self.proto.edges.values()]
        size = float(np.linalg.norm(np.ptp(np.concatenate(points), axis=0))) if points else 1.0
        shortest = min((e.length() for e in self.proto.edges.values()), default=size)
        self.reach = min(_SEAM, _SEAM_SHARE * size, 0.2 * shortest)
        gap = sew(self.proto, self.reach)
        if gap > 1e-6 * size:
            self.notes.append(f"edges up to {1e3 * gap:.2g} microns apart were sewn")
        for number, loops in self.proto.loops.items():
            if self.proto.surfaces[number].kind != "plane":
                loops = [part for loop in loops for part in self.proto.without_seams(loop)]
            self.proto.loops[number] = self.proto.without_common([loop for loop in loops if loop])
        out = {}
        for number, face in self.proto.frozen_faces().items():
            try:
                out[number] = righted(face)
            except Refusal as refusal:
                self.notes.append(f"face {number} left out: {refusal.what}")
        return out

    def _vertex(self, point: Floats) -> int:
        number = len(self.proto.points)
        self.proto.points[number] = point
        return number

    def _add(self, part: Stretch, start: int, end: int) -> tuple[int, bool]:
        """A stretch as an edge between two vertices, as walked."""
        number = len(self.proto.edges)
        a, b = (start, end) if part.forward else (end, start)
        self.proto.edges[number] = ProtoEdge(part.curve, part.t0, part.t1, a, b)
        return number, part.forward

    # ---- solids (types 186, 514, 510, 508, 504, 502)

    def _solid(self, record: Record) -> list[list[int]]:
        shells = [record.integer(0)]
        shells += [record.integer(3 + 2 * k) for k in range(record.integer(2))]
        out = []
        for shell in shells:
            own = []
            try:
                r = self.x.get(shell, 514)
                for k in range(r.integer(0)):
                    face = self.x.get(r.integer(1 + 2 * k), 510)
                    if face.number in self.proto.loops or self._bounded(face):
                        own.append(face.number)
            except BadFile as error:
                self.notes.append(f"the shell {shell} is left out: {error.what}")
            out.append(own)
        return out

    def _bounded(self, face: Record) -> bool:
        try:
            surface = self.geometry.surface(face.integer(0))
            loops = [self._loop(self.x.get(face.integer(3 + k), 508)) for k in range(face.integer(1))]
        except _ERRORS as error:
            return self._left_out(face, error)
        self._keep(face.number, surface, loops)
        return True

    def _left_out(self, face: Record, error: Exception) -> bool:
        why = error.what if isinstance(error, BadFile | Refusal) else str(error)
        self.notes.append(f"face {face.number} left out: {why}")
        return False

    def _keep(self, number: int, surface: Surface, loops: list[list[tuple[int, bool]]]) -> None:
        self.proto.surfaces[number] = surface
        self.proto.loops[number] = [loop for loop in loops if loop]
        self.proto.along[number] = (True, "")

    def _loop(self, record: Record) -> list[tuple[int, bool]]:
        at, out = 1, []
        for _ in range(record.integer(0)):
            kind, where, index, sense, many = (record.integer(at + k) for k in range(5))
            at += 5 + 2 * many
            if kind == 1:
                continue  # a vertex: a pole
            run = self._listed(where, index)
            out += run if sense == 1 else [(n, not f) for n, f in reversed(run)]
        return out

    def _listed(self, where: int, index: int) -> list[tuple[int, bool]]:
        """The edges of one entry of an edge list, from its start vertex to its end."""
        key = (where, index)
        if key not in self._edges:
            r = self.x.get(where, 504)
            curve, va, na, vb, nb = (r.integer(1 + 5 * (index - 1) + k) for k in range(5))
            parts = self.geometry.curve(curve)
            ends = [self._corner(va, na), *(self._vertex(p.ends()[1]) for p in parts[:-1]), self._corner(vb, nb)]
            self._edges[key] = [self._add(p, a, b) for p, a, b in zip(parts, ends[:-1], ends[1:], strict=True)]
        return self._edges[key]

    def _corner(self, where: int, index: int) -> int:
        key = (where, index)
        if key not in self._vertices:
            r = self.x.get(where, 502)
            p = self.geometry.scale * np.array(r.reals(1 + 3 * (index - 1), 3))
            motion = self.geometry.motion(r.matrix)
            self._vertices[key] = self._vertex(motion[:3, :3] @ p + motion[:3, 3])
        return self._vertices[key]

    # ---- surfaces with their boundaries (types 144, 143 and bare 128)

    def _loose(self) -> list[Record]:
        out = [r for r in self.x.entities.values() if r.kind in (143, 144) and not r.blank]
        return out or [r for r in self.x.entities.values() if r.kind == 128 and not r.blank and not r.dependent]

    def _trimmed(self, record: Record) -> int | None:
        try:
            surface = self.geometry.surface(record.number if record.kind == 128 else record.integer(
                0 if record.kind == 144 else 1))  # fmt: skip
            if record.kind == 144:
                outer = [record.integer(3)] if record.integer(1) else []
                inner = [record.integer(4 + k) for k in range(record.integer(2))]
                loops = [self._on_surface(n, surface) for n in (*outer, *inner)]
                bare = not outer
            elif record.kind == 143:
                loops = [self._boundary(record.integer(3 + k), surface) for k in range(record.integer(2))]
                bare = False
            else:
                loops, bare = [], True
            if bare:
                if not isinstance(surface, BSplineSurface):
                    raise Unread(f"a {surface.kind} without a boundary")
                loops.insert(0, outline_of(surface))
            walks = [self._walk(loop) for loop in loops]
        except _ERRORS as error:
            self._left_out(record, error)
            return None
        motion = self.geometry.motion(record.matrix)
        if record.matrix:
            surface = surface.moved(motion)
            for number in {n for walk in walks for n, _ in walk}:
                self.proto.edges[number].curve = self.proto.edges[number].curve.moved(motion)
            for v in {v for walk in walks for n, _ in walk for v in self.proto.edges[n].ends()}:
                self.proto.points[v] = motion[:3, :3] @ self.proto.points[v] + motion[:3, 3]
        self._keep(record.number, surface, walks)
        return record.number

    def _on_surface(self, number: int, surface: Surface) -> list[Stretch]:
        record = self.x.get(number, 142)
        flat, space = record.integer(2), record.integer(3)
        if space:
            return self.geometry.curve(space)
        return self.geometry.on_surface(flat, surface)

    def _boundary(self, number: int, surface: Surface) -> list[Stretch]:
        record = self.x.get(number, 141)
        at, out = 4, []
        for _ in range(record.integer(3)):
            curve, sense, flat = (record.integer(at + k) for k in range(3))
            at += 3 + flat
            parts = self.geometry.curve(curve)
            out += parts if sense == 1 else [p.back() for p in reversed(parts)]
        return out

    def _walk(self, parts: list[Stretch]) -> list[tuple[int, bool]]:
        """Stretches that follow each other as a loop of edges; each end is a vertex of its own half way between."""
        if not parts:
            return []
        ends = np.array([p.ends() for p in parts])
        joints = 0.5 * (ends[:, 1] + np.roll(ends[:, 0], -1, axis=0))
        vertices = [self._vertex(p) for p in joints]
        return [self._add(p, vertices[k - 1], vertices[k]) for k, p in enumerate(parts)]


def _voids_inward(uses: list[FaceUse]) -> tuple[FaceUse, ...]:
    """Shells face outwards each by itself; hollows within another are turned inwards."""
    shells = connected(uses)
    if len(shells) < 2:
        return tuple(uses)
    boxes = []
    for shell in shells:
        p = np.concatenate([e.curve.point(np.linspace(e.t0, e.t1, 9)) for u in shell for e in u.face.edges()])
        boxes.append((p.min(axis=0), p.max(axis=0)))
    out: list[FaceUse] = []
    for k, shell in enumerate(shells):
        depth = sum(
            bool((boxes[k][0] > low).all() and (boxes[k][1] < high).all())
            for j, (low, high) in enumerate(boxes)
            if j != k
        )
        out += shell if depth % 2 == 0 else [FaceUse(u.face, not u.forward) for u in shell]
    return tuple(out)
