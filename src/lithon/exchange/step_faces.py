"""Shells, faces, loops and edges of STEP files (ISO 10303-42). Seams are dropped on the way in."""

from __future__ import annotations

from typing import Any

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.proto import ProtoEdge, ProtoFaces, ProtoLoop
from lithon.errors import BadFile
from lithon.exchange.part21 import Exchange, Instance, Ref
from lithon.exchange.step_geometry import GeometryReader
from lithon.geometry.curves import Line
from lithon.geometry.surfaces import Plane, Surface


class _Skipped(Exception):
    """A face holds something that is not read; the message says what."""


def _words(instance: Instance) -> str:
    return instance.kind.lower().replace("_", " ")


class FaceReader(GeometryReader, ProtoFaces):
    """Reads the faces of one solid after the other; what cannot be read is noted and left out."""

    def __init__(self, exchange: Exchange):
        GeometryReader.__init__(self, exchange)
        self._forget()

    def set_units(self, scale: float, radians: float) -> None:
        """Millimetres in the length unit, radians in the angle unit of what is read from now on."""
        self.scale, self.radians = scale, radians
        self._forget()

    def _forget(self) -> None:
        """Start afresh: what was read in one unit is not taken over into another."""
        self.turned.clear()
        ProtoFaces.__init__(self)
        self._corners: dict[tuple[float, float, float], int] = {}
        self._sides: dict[tuple[int, int], int] = {}

    # ---- shells and faces

    def shells(self, instance: Instance) -> list[tuple[Instance, bool]]:
        """The shells of a solid or a surface model, and whether each is used as it stands."""
        if instance.kind in ("SHELL_BASED_SURFACE_MODEL", "FACE_BASED_SURFACE_MODEL"):
            return [(self.x.get(s), True) for s in instance.values[1]]
        shells = [(self.x.get(instance.values[1]), True)]
        for ref in instance.values[2] if instance.kind == "BREP_WITH_VOIDS" else ():
            shells.append((self.x.get(ref), True))
        out = []
        for shell, forward in shells:
            if shell.kind == "ORIENTED_CLOSED_SHELL":
                forward = shell.values[3] == "T"
                shell = self.x.get(shell.values[2])
            if shell.kind not in ("CLOSED_SHELL", "OPEN_SHELL", "CONNECTED_FACE_SET"):
                raise BadFile(f"#{shell.number} is a {shell.kind.lower()} where a shell was expected")
            out.append((shell, forward))
        return out

    def face(self, number: int) -> bool:
        """Read a face into loops; False, with a note, where it holds what cannot be read."""
        if number in self.loops:
            return True
        try:
            self._read_face(number)
        except _Skipped as skipped:
            self.notes.append(f"face #{number} left out: {skipped}")
            return False
        except BadFile as error:
            self.notes.append(f"face #{number} left out: {error.what}")
            return False
        except (IndexError, KeyError, TypeError, ValueError, AttributeError):
            self.notes.append(f"face #{number} left out: it is not well formed")
            return False
        return True

    def _read_face(self, number: int) -> None:
        face = self.x.get(Ref(number), "ADVANCED_FACE", "FACE_SURFACE", "FACE", "ORIENTED_FACE")
        forward = True
        if face.kind == "ORIENTED_FACE":
            forward = face.values[3] == "T"
            face = self.x.get(face.values[2], "ADVANCED_FACE", "FACE_SURFACE", "FACE")
        loops: list[ProtoLoop] = []
        bare = len(face.values) < 4
        surface: Surface | None = None
        along = bare or face.values[3] == "T"
        if not bare:
            surface = self._surface(face.values[2])
            if surface is None:
                raise _Skipped(f"a {_words(self.x.get(face.values[2]))} is not read yet")
            along = along != (int(face.values[2]) in self.turned)
        for ref in face.values[1]:
            bound = self.x.get(ref, "FACE_BOUND", "FACE_OUTER_BOUND")
            ring = self.x.get(bound.values[1])
            way = bound.values[2] == "T"
            if ring.kind == "VERTEX_LOOP":
                continue  # a pole or apex: the surface knows of it
            loop = self._poly_loop(ring, way) if ring.kind == "POLY_LOOP" else self._loop(ring, way)
            loops += self.without_seams(loop) if surface is not None and surface.kind != "plane" else [loop]
        if surface is None:
            surface = self._plane_of(loops)
        loops = self.without_common([loop for loop in loops if loop])
        if not forward:
            loops, along = [[(n, not f) for n, f in reversed(loop)] for loop in loops], not along
        self.surfaces[number] = surface
        self.loops[number] = loops
        self.along[number] = (along, str(face.values[0] or ""))

    def _loop(self, loop: Instance, forward: bool) -> ProtoLoop:
        if loop.kind != "EDGE_LOOP":
            raise _Skipped(f"a {_words(loop)} is not read yet")
        out: ProtoLoop = []
        for ref in loop.values[1]:
            oriented = self.x.get(ref, "ORIENTED_EDGE")
            number = int(oriented.values[3])
            turned = self._edge(number)
            if self.edges[number].t1 <= self.edges[number].t0:
                continue  # a pole written as an edge of no length
            out.append((number, (oriented.values[4] == "T") != turned))
        return out if forward else [(n, not f) for n, f in reversed(out)]

    def _edge(self, number: int) -> bool:
        """Read an edge curve; whether it was turned to run with its curve."""
        edge = self.x.get(Ref(number), "EDGE_CURVE")
        turned = edge.values[4] != "T"
        if number in self.edges:
            return turned
        start, end = (self._vertex(ref) for ref in edge.values[1:3])
        curve = self._curve(edge.values[3])
        if curve is None:
            raise _Skipped(f"one of its edges is on a {_words(self.x.get(edge.values[3]))}")
        if turned:
            start, end = end, start
        self.edges[number] = self.stretch(curve, start, end, number)
        return turned

    def _vertex(self, ref: Any) -> int:
        vertex = self.x.get(ref, "VERTEX_POINT")
        number = vertex.number
        if number not in self.points:
            self.points[number] = self._point(vertex.values[1])
        return number

    def _poly_loop(self, loop: Instance, forward: bool) -> ProtoLoop:
        """A loop of corner points: its sides are found again by their corners."""
        corners = []
        for ref in loop.values[1]:
            point = self._point(ref)
            key = (float(point[0]), float(point[1]), float(point[2]))
            corner = self._corners.setdefault(key, -1 - len(self._corners))
            self.points[corner] = point
            corners.append(corner)
        out: ProtoLoop = []
        for a, b in zip(corners, corners[1:] + corners[:1], strict=True):
            if a == b:
                continue
            low, high = min(a, b), max(a, b)
            number = self._sides.setdefault((low, high), -1 - len(self._sides))
            if number not in self.edges:
                line = Line.through(self.points[low], self.points[high])
                length = float(np.linalg.norm(self.points[high] - self.points[low]))
                t = float(line.parameter(self.points[low][None])[0])
                self.edges[number] = ProtoEdge(line, t, t + length, low, high)
            out.append((number, a == low))
        return out if forward else [(n, not f) for n, f in reversed(out)]

    def _plane_of(self, loops: list[ProtoLoop]) -> Plane:
        """The plane of a face that names none, from its outer loop (Newell)."""
        if not loops:
            raise _Skipped("it has neither surface nor boundary")
        p = np.array([self.points[self.edges[n].start if f else self.edges[n].end] for n, f in loops[0]])  # type: ignore[index]
        normal = cross_product(p, np.roll(p, -1, axis=0)).sum(axis=0)
        if float(np.linalg.norm(normal)) < 1e-15 * float(np.abs(p).max()) ** 2 + 1e-300:
            raise _Skipped("its boundary encloses nothing")
        return Plane.of(p.mean(axis=0), normal, p[1] - p[0])
