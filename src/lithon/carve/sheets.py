"""Sheets: faces by themselves. Sections of solids as named regions that share their edges, sheets cut at a surface, and
the sheets midway between the two sides of walls."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrange.overlay import Overlay, inner_point, overlay
from lithon.arrays import Bools, Floats, cross_product
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.area import area_of
from lithon.brep.boxes import box
from lithon.brep.measures import face_area
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse, Model, backwards, new_uid
from lithon.carve.split import laid_over, sheet_on, split_in
from lithon.errors import Refusal, spot
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import SILENT, Progress


def sheet_of(faces: Iterable[Face], like: Body, name: str = "", thickness: float | None = None) -> Body:
    """A sheet of some faces, named and coloured as a body is."""
    uses = tuple(FaceUse(f) for f in faces)
    return Body(uses, name or like.name, like.path, like.colour, sheet=True, thickness=thickness)


# ---- sections


def section(body: Body, surface: Surface, tolerance: float) -> list[Face]:
    """The parts of a surface that lie inside a solid."""
    made = laid_over(body, surface, tolerance)
    return [replace(face, label="", uid=new_uid()) for face in made[1]] if made is not None else []


def regions(
    model: Model, plane: Plane, about: tuple[Floats, Floats] | None = None, progress: Progress = SILENT
) -> list[Body]:
    """The section of solids by a plane: a sheet for each, named as it is, with shared edges where they share faces.

    about: a point (3,) and direction (3,) of an axis in the plane: only what lies on the side of normal x axis stays.
    Raises Refusal where the plane misses them all or does not hold the axis.
    """
    side = None
    if about is not None:
        origin, way = about
        away = float(abs(plane.signed_distance(origin[None])[0])) / (1.0 + float(np.abs(origin).max()))
        off = max(abs(float(way @ plane.frame.z)), away)
        if off > 1e-9:
            raise Refusal("the axis does not lie in the plane", remedy="a plane that holds the axis")
        side = Plane.of(origin, cross_product(plane.frame.z, way), way)
    bodies = model.bodies
    pieces: list[tuple[int, Body]] = list(enumerate(bodies))
    cut_any = False
    for k in range(len(bodies)):
        progress.tell(0.3 + 0.5 * k / len(bodies), f"cutting {bodies[k].name}")
        at = next(n for n, (of, _) in enumerate(pieces) if of == k)
        before = Model(tuple(b for _, b in pieces), model.tolerance)
        after = split_in(before, before.bodies[at], plane)
        if after is None:
            continue
        cut_any = True
        more = len(after.bodies) - len(before.bodies)
        owners = [of for of, _ in pieces]
        owners[at : at + 1] = [k] * (more + 1)
        pieces = list(zip(owners, after.bodies, strict=True))
    if not cut_any:
        raise Refusal("the plane does not pass through any of these bodies", where=spot(plane.frame.origin),
                      remedy="move the plane, or choose other bodies")  # fmt: skip
    found: dict[int, list[Face]] = {}
    for of, piece in pieces:
        for face in piece.faces:
            ahead = piece.outward(face, inner_point(face)[None])[0] @ plane.frame.z < 0.0 if face.label == "cut" else 0
            if ahead and face.surface.same_as(plane, 20.0 * model.tolerance, area_of(face).reach):
                found.setdefault(of, []).append(face)
    out = [sheet_of([_turned_to(f, plane.frame.z) for f in faces], bodies[of]) for of, faces in sorted(found.items())]
    if side is not None:
        kept = [(b, [u.face for u in b.uses if _ahead(u.face, side)]) for b in cut_sheets(out, side, model.tolerance)]
        out = [sheet_of(faces, b) for b, faces in kept if faces]
        if not out:
            raise Refusal("nothing lies on that side of the axis", remedy="turn the plane about it by half a turn")
    return out


def _turned_to(face: Face, way: Floats) -> Face:
    """A plane section face without the cut's label, its normal along a direction."""
    plain = replace(face, label="", uid=new_uid(), before=None, origin=None)
    if float(face.normal(inner_point(face)[None])[0] @ way) > 0.0:
        return plain
    return replace(plain, along=not face.along, loops=tuple(map(backwards, face.loops)))


def _ahead(face: Face, surface: Surface) -> bool:
    return float(surface.signed_distance(inner_point(face)[None])[0]) > 0.0


# ---- sheets cut


def cut_sheets(sheets: Sequence[Body], surface: Surface, tolerance: float) -> list[Body]:
    """Sheets with their faces cut along a surface; what they share they share still."""
    uses = tuple(FaceUse(f) for f in dict.fromkeys(f for b in sheets for f in b.faces))
    together = Body(uses, "sheets", sheet=True)
    whole = Body((FaceUse(sheet_on(surface, box(together))),), "cut")
    made = overlay(together, whole, tolerance)
    return [made.applied(b) for b in sheets]


def split_sheets(model: Model, sheets: Sequence[Body], surface: Surface) -> Model:
    """The model with sheets parted at a surface, what lies ahead first. Raises Refusal where it misses them all."""
    cut = dict(zip(sheets, cut_sheets(sheets, surface, model.tolerance), strict=True))
    out: list[Body] = []
    any_cut = False
    for body in model.bodies:
        if body not in cut:
            out.append(body)
            continue
        ahead = [u.face for u in cut[body].uses if _ahead(u.face, surface)]
        behind = [u.face for u in cut[body].uses if not _ahead(u.face, surface)]
        if not ahead or not behind:
            out.append(body)
            continue
        any_cut = True
        halves = (ahead, "A"), (behind, "B")
        out += [sheet_of(faces, body, f"{body.name} {letter}", body.thickness) for faces, letter in halves]
    if not any_cut:
        raise Refusal(f"the {surface.kind} does not pass through any of these sheets",
                      remedy=f"move the {surface.kind}, or choose others")  # fmt: skip
    return Model(tuple(out), model.tolerance)


# ---- mid-surfaces


@dataclass(frozen=True, slots=True)
class Wall:
    """Two sides of a wall: faces on one surface each, how far apart (mm), and the surface midway."""

    one: tuple[Face, ...]
    other: tuple[Face, ...]
    thickness: float
    middle: Surface

    def holds(self, points: Floats, tolerance: float) -> Bools:
        """Which points (n,3) of the middle lie between its two sides; of walls with one middle, between any two."""
        out = np.ones(len(points), dtype=bool)
        for side in (self.one, self.other):
            over = np.zeros(len(points), dtype=bool)
            for face in side:
                left = np.flatnonzero(out & ~over)
                if len(left):
                    over[left] = area_of(face).side(face.surface.project(points[left]), tolerance) >= 0
            out &= over
        return out

    def within(self, points: Floats) -> bool:
        """Whether points (n,3) lie no further from the middle than the wall is thick."""
        return bool((np.abs(self.middle.signed_distance(points)) < 0.5 * self.thickness * (1.0 + 1e-6)).all())


def walls_between(body: Body, tolerance: float, most: float | None = None) -> list[Wall]:
    """The pairs of faces that bound walls: parallel planes and coaxial cylinders, material between them.

    most: the thickest (mm) that is a wall; left out, half of the root of the smaller side's area.
    """
    groups = _on_one_surface(body, tolerance)
    found: list[Wall] = []
    taken: set[int] = set()
    candidates: list[tuple[float, int, int, Surface]] = []
    for i, j in itertools.combinations(range(len(groups)), 2):
        made = _midway(body, groups[i][0], groups[j][0])
        if made is None:
            continue
        thickness, middle = made
        small = min(sum(map(face_area, groups[k])) for k in (i, j))
        if thickness > (most if most is not None else 0.5 * float(np.sqrt(small))):
            continue
        if _overlap(groups[i], groups[j], tolerance):
            candidates.append((thickness, i, j, middle))
    for thickness, i, j, middle in sorted(candidates, key=lambda c: c[0]):
        # One side may bound several walls (an outer face over two inner ones), on the same middle.
        if i in taken or j in taken:
            same = next((w for w in found if w.middle.same_as(middle, 20.0 * tolerance, 1e3 * thickness)), None)
            if same is None:
                continue
            found.remove(same)
            one, other = (same.one, same.other)
            mine = {True: groups[i], False: groups[j]}
            flip = any(f in other for f in groups[i]) or any(f in one for f in groups[j])
            one = tuple(dict.fromkeys((*one, *mine[not flip])))
            other = tuple(dict.fromkeys((*other, *mine[flip])))
            found.append(Wall(one, other, thickness, middle))
        else:
            found.append(Wall(tuple(groups[i]), tuple(groups[j]), thickness, middle))
        taken |= {i, j}
    return found


def _on_one_surface(body: Body, tolerance: float) -> list[list[Face]]:
    """The plane and cylindrical faces of a body by the surface and the side of it that they lie on."""
    out: list[list[Face]] = []
    for face in dict.fromkeys(body.faces):
        if not isinstance(face.surface, Plane | Cylinder):
            continue
        n = body.outward(face, inner_point(face)[None])[0]
        for group in out:
            first = group[0]
            if first.surface.kind != face.surface.kind or not first.surface.same_as(
                face.surface, 20.0 * tolerance, area_of(face).reach
            ):
                continue
            at = first.surface.project(inner_point(face)[None])
            if float(body.outward(first, at)[0] @ n) > 0.5:
                group.append(face)
                break
        else:
            out.append([face])
    return out


def _midway(body: Body, a: Face, b: Face) -> tuple[float, Surface] | None:
    """How far apart two faces look away from each other with material between them, and the surface midway."""
    one, two = a.surface, b.surface
    if isinstance(one, Plane) and isinstance(two, Plane):
        n = body.outward(a, one.frame.origin[None])[0]
        if float(n @ body.outward(b, two.frame.origin[None])[0]) > -1.0 + 1e-9:
            return None
        depth = float((one.frame.origin - two.frame.origin) @ n)
        return (depth, Plane.of(one.frame.origin - 0.5 * depth * n, n, one.frame.x)) if depth > 0.0 else None
    if isinstance(one, Cylinder) and isinstance(two, Cylinder):
        axis = one.frame.z
        apart = two.frame.origin - one.frame.origin
        off = float(np.linalg.norm(cross_product(apart, axis)))
        if abs(float(axis @ two.frame.z)) < 1.0 - 1e-9 or off > 1e-6 * one.radius:
            return None
        large, small = (a, b) if one.radius > two.radius else (b, a)
        outer, inner = large.surface, small.surface
        assert isinstance(outer, Cylinder) and isinstance(inner, Cylinder)
        for face, sign in ((large, 1.0), (small, -1.0)):
            at = inner_point(face)[None]
            if sign * float(body.outward(face, at)[0] @ face.surface.normal(at)[0]) < 0.0:
                return None
        return outer.radius - inner.radius, Cylinder(outer.frame, 0.5 * (outer.radius + inner.radius))
    return None


def _overlap(one: Sequence[Face], other: Sequence[Face], tolerance: float) -> bool:
    """Whether the faces lie over each other somewhere: points of triangles of the smaller ones are tried."""
    for some, rest in ((one, other), (other, one)):
        for face in some:
            mesh = face_mesh(face)
            spots = mesh.points[mesh.triangles].mean(axis=1)[:64]
            for against in rest:
                if (area_of(against).side(against.surface.project(spots), tolerance) > 0).any():
                    return True
    return False


def mid_surfaces(body: Body, walls: Sequence[Wall], tolerance: float, progress: Progress = SILENT) -> list[Body]:
    """A sheet for each wall, on the surface midway, that run into each other and share their edges there.

    Where a wall runs into another, its sheet ends at that one's middle. Raises Refusal where none is left.
    """
    walls = _by_middle(walls, tolerance)
    sheets: list[Body] = []
    for k, wall in enumerate(walls):
        progress.tell(0.5 * k / len(walls), "cutting midway")
        name = f"{body.name} {k + 1}" if len(walls) > 1 else body.name
        sheet = sheet_of(section(body, wall.middle, tolerance), body, name, wall.thickness)
        spots = _spots(sheet)
        held = wall.holds(spots, tolerance)
        for end in _ends(body, wall, tolerance):
            if _runs_out(spots, held, end, tolerance):
                sheet = cut_sheets([sheet], end, tolerance)[0]
        sheets.append(sheet)
    boxes = [box(sheet) for sheet in sheets]
    for i, j in itertools.combinations(range(len(walls)), 2):
        progress.tell(0.5 + 0.4 * i / len(walls), "joining the sheets")
        if (boxes[i][0] > boxes[j][1] + tolerance).any() or (boxes[j][0] > boxes[i][1] + tolerance).any():
            continue
        sheets = _imprinted(sheets, i, j, walls, tolerance)
    out = []
    for k, wall in enumerate(walls):
        kept = [
            u.face for u in sheets[k].uses if _belongs(u.face, wall, [w for w in walls if w is not wall], tolerance)
        ]
        if kept:
            out.append(sheet_of(kept, body, sheets[k].name, wall.thickness))
    if not out:
        raise Refusal("no wall has a middle inside the body", remedy="choose the faces of a wall")
    return out


def _by_middle(walls: Sequence[Wall], tolerance: float) -> list[Wall]:
    """Walls with one middle as one wall, as thick as the largest of them is."""
    out: list[Wall] = []
    for wall in sorted(walls, key=lambda w: -sum(map(face_area, (*w.one, *w.other)))):
        same = next((k for k, w in enumerate(out) if w.middle.same_as(wall.middle, 20.0 * tolerance, 1e3)), None)
        if same is None:
            out.append(wall)
        else:
            w = out[same]
            out[same] = replace(w, one=(*w.one, *wall.one), other=(*w.other, *wall.other))
    return out


def _ends(body: Body, wall: Wall, tolerance: float) -> list[Surface]:
    """The surfaces on which a wall ends: of the faces that its sides meet over convex edges."""
    adj = adjacency(body)
    sides = {*wall.one, *wall.other}
    out: list[Surface] = []
    for side in sides:
        for edge in side.edges():
            if len(adj.uses[edge]) == 2 and adj.turn(edge) == "convex":
                surface = adj.across(side, edge).surface
                if not any(surface.same_as(known, tolerance, 1e3) for known in out):
                    out.append(surface)
    return [s for s in out if isinstance(s, Plane | Cylinder)]


def _runs_out(spots: Floats, held: Bools, end: Surface, tolerance: float) -> bool:
    """Whether a wall's middle, of which some points (n,3) lie between its sides, goes on beyond where the wall ends."""
    d = end.signed_distance(spots)
    own = d[held]
    if not len(own) or (own.min() < 0.0 < own.max()):
        return False
    return bool((d[~held] * np.sign(own[0]) < -20.0 * tolerance).any())


def _spots(sheet: Body) -> Floats:
    """The middles (n,3) of a sheet's triangles."""
    meshes = [face_mesh(face) for face in sheet.faces]
    return np.concatenate([m.points[m.triangles].mean(axis=1) for m in meshes])


def _imprinted(sheets: list[Body], i: int, j: int, walls: Sequence[Wall], tolerance: float) -> list[Body]:
    """Two of the sheets cut where they meet; a line that ends within a face is carried on across it, since a face has
    no edge that leads nowhere."""
    made = overlay(sheets[i], sheets[j], tolerance)
    for k, other in ((i, j), (j, i)):
        own = {e for u in made.applied(sheets[k]).uses for e in u.face.edges()}
        theirs = {e for u in made.applied(sheets[other]).uses for e in u.face.edges()}
        if made.common & theirs and not made.common & theirs <= own:
            # The others are there too: what they share with the one that is cut they share still.
            across = Body((FaceUse(sheet_on(walls[other].middle, box(sheets[k]))),), "cut")
            sheets = _applied(overlay(sheets[k], across, tolerance), sheets)
            made = overlay(sheets[i], sheets[j], tolerance)
            break
    return _applied(made, sheets)


def _applied(made: Overlay, sheets: Sequence[Body]) -> list[Body]:
    return [made.applied(b) for b in sheets]


def _belongs(face: Face, wall: Wall, others: Sequence[Wall], tolerance: float) -> bool:
    """Whether a piece of a middle is the wall's own: between its sides, and no stub beyond another's middle."""
    mesh = face_mesh(face)
    for other in others:
        d = other.middle.signed_distance(mesh.points)
        beyond = other.within(mesh.points) and (np.abs(d) > 20.0 * tolerance).any()
        if beyond and not wall.holds(inner_point(face)[None], tolerance)[0]:
            return False
    spots = np.concatenate([inner_point(face)[None], mesh.points[mesh.triangles].mean(axis=1)[:32]])
    return bool(wall.holds(spots, tolerance).any()) or _between(face, others)


def _between(face: Face, others: Sequence[Wall]) -> bool:
    """Whether a piece joins the middles of two others."""
    points = face_mesh(face).points
    touched = [w for w in others if (np.abs(w.middle.signed_distance(points)) < 1e-6 * (1.0 + w.thickness)).any()]
    return len(touched) > 1
