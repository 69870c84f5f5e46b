"""Hexahedra by sweep: a profile carried in layers along a line or around an axis.

A body is swept when it has a source and a target that one motion takes onto each other, and when
every other face is a wall which that motion slides along itself.
"""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.area import off_edge
from lithon.brep.topology import Body, Face, FaceUse
from lithon.errors import Refusal, spot
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Extrusion
from lithon.mesh.motion import Motion, Sweep
from lithon.mesh.quads import face_middle, four_sided
from lithon.mesh.walls import is_wall
from lithon.remembered import Remembered


def sweep_of(body: Body, way: Floats | None = None) -> Sweep:
    """How to sweep a body, along a wished direction if that can be. Raises Refusal naming the face that stands in the
    way."""

    def worse(s: Sweep) -> tuple[bool, bool, bool]:
        # A mapped source makes better elements than a paved one; walls with one edge at either end need no cuts.
        aside = way is not None and (s.motion.turning or abs(float(s.motion.way @ way)) < 1.0 - 1e-9)
        return aside, not all(four_sided(u.face) for u in s.source), _uneven(s)

    return min(sweeps_of(body), key=worse)


def sweeps_of(body: Body) -> list[Sweep]:
    """All ways to sweep a body, one at least. Raises Refusal naming the face that stands in the way."""
    return _sweeps.of(body, _found)


_sweeps = Remembered[Body, list[Sweep]]("mesh/sweep:sweeps")


def _found(body: Body) -> list[Sweep]:
    blocked: list[tuple[int, Face]] = []
    torn: list[Sweep] = []
    found: list[Sweep] = []
    planes = [u for u in body.uses if isinstance(u.face.surface, Plane)]
    for motion, source, target in (*_along_lines(planes), *_around_axes(body, planes)):
        ends = {u.face for u in (*source, *target)}
        walls = [f for f in body.faces if f not in ends]
        one = Sweep(body, tuple(source), tuple(target), tuple(walls), motion)
        bad = [f for f in walls if not _slides(f, motion) or not is_wall(f, one)]
        if bad:
            blocked.append((len(bad), bad[0]))
            continue
        other = Sweep(body, one.target, one.source, one.walls, _back(motion))
        fitting = [s for s in sorted((one, other), key=lambda s: -len(s.source)) if _parted_alike(s)]
        if not fitting:
            torn.append(one)
            continue
        found.append(fitting[0])
    if found:
        return found
    if torn:
        raise Refusal(
            f"the two ends of {body.name} are parted differently by what is bonded to them",
            where=spot(face_middle(torn[0].source[0].face)),
            remedy="carve it between them, or leave one of the contacts apart",
            entities=tuple(u.face for u in (*torn[0].source, *torn[0].target)),
        )
    if not blocked:
        raise Refusal(
            f"{body.name} has no two opposite plane ends to sweep between",
            where=spot(face_middle(body.faces[0])) if body.edges() else "",
            remedy="carve it into pieces that are one profile each, or mesh it with tetrahedra",
        )
    face = min(blocked, key=lambda b: b[0])[1]
    raise Refusal(
        f"{body.name} is not one profile along a line or around an axis: a {face.surface.kind} face breaks it",
        where=spot(face_middle(face)),
        remedy="carve it where its profile changes, or clear that face",
        entities=(face,),
    )


def _parted_alike(s: Sweep) -> bool:
    """Whether every edge between faces of the target lies over one of the source: its mesh is the source's."""
    if len(s.target) < 2:
        return True
    low, high = s.end_edges()
    rim = {edge for wall in s.walls for edge in wall.edges()}
    for edge in high - rim:
        at = s.motion.at(np.array([edge.at(x) for x in (0.1, 0.5, 0.9)]), -1.0)
        if min(float(off_edge(e, at).max()) for e in low) > 1e-4:
            return False
    return True


def _uneven(s: Sweep) -> bool:
    """Whether any wall is more than one edge carried from end to end."""
    return any(len(list(wall.edges())) != (4 if len(wall.loops) == 1 else 2) for wall in s.walls)


def _back(m: Motion) -> Motion:
    """The motion that leads back, for a source that stands at its end."""
    return Motion(m.turning, m.origin, -m.way, m.amount)


def _along_lines(planes: list[FaceUse]) -> list[tuple[Motion, list[FaceUse], list[FaceUse]]]:
    """Parallel plane ends at two heights; the longest sides last, as fewer layers are better."""
    out = []
    seen: list[Floats] = []
    for use in planes:
        n = -use.outward(use.face.surface.frame.origin[None])[0]
        if any(abs(float(n @ s)) > 1.0 - 1e-9 for s in seen):
            continue
        seen.append(n)
        near = [u for u in planes if float(u.outward(u.face.surface.frame.origin[None])[0] @ n) < -1.0 + 1e-9]
        far = [u for u in planes if float(u.outward(u.face.surface.frame.origin[None])[0] @ n) > 1.0 - 1e-9]
        h0, h1 = ([float(u.face.surface.frame.origin @ n) for u in us] for us in (near, far))
        if far and max(h1) > min(h0):
            # Ends at other heights between are steps in the profile; they will be found to be no walls.
            source = [u for u, h in zip(near, h0, strict=True) if h < min(h0) + 1e-6]
            target = [u for u, h in zip(far, h1, strict=True) if h > max(h1) - 1e-6]
            out.append((Motion(False, np.zeros(3), n, max(h1) - min(h0)), source, target))
    return sorted(out, key=lambda o: o[0].amount)


def _around_axes(body: Body, planes: list[FaceUse]) -> list[tuple[Motion, list[FaceUse], list[FaceUse]]]:
    """Two plane ends through the axis of a round face: a sector."""
    out = []
    frames = [f.surface.frame for f in body.faces if isinstance(f.surface, Cylinder | Cone | Torus)]
    for frame in frames:
        ends = [u for u in planes if abs(float(u.face.surface.frame.z @ frame.z)) < 1e-9
                and abs(float(u.face.surface.signed_distance(frame.origin))) < 1e-6]  # fmt: skip
        if len(ends) != 2:
            continue
        middle = [face_middle(u.face) for u in ends]
        radial = [p - frame.origin - float((p - frame.origin) @ frame.z) * frame.z for p in middle]
        for k in (0, 1):
            # The source is the end whose inward normal leads on around the axis.
            inward = -ends[k].outward(middle[k][None])[0]
            if float(cross_product(frame.z, radial[k]) @ inward) > 0.0:
                a, b = radial[k], radial[1 - k]
                angle = float(np.arctan2(cross_product(a, b) @ frame.z, a @ b)) % (2.0 * np.pi)
                out.append((Motion(True, frame.origin, frame.z, angle), [ends[k]], [ends[1 - k]]))
    return out


def _slides(face: Face, m: Motion) -> bool:
    """Whether a motion carries a surface along itself."""
    s = face.surface
    if not m.turning:
        if isinstance(s, Plane):
            return abs(float(s.frame.z @ m.way)) < 1e-9
        return isinstance(s, Cylinder | Extrusion) and abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9
    if isinstance(s, Plane):
        return abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9
    away = s.frame.origin - m.origin
    on_axis = float(np.linalg.norm(away - float(away @ m.way) * m.way)) < 1e-6
    if isinstance(s, Sphere):
        return on_axis
    return isinstance(s, Cylinder | Cone | Torus) and on_axis and abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9
