"""Splitting bodies at a surface: a plane, a cylinder, or what a face lies on, extended.

The surface becomes a sheet larger than the body; both are laid over each other (`arrange`). The parts
of the sheet inside the body close both sides. The halves of a body that stands alone are whole in
themselves, and sharing the cut is Bond's work; a body that is bonded already keeps its bonds, and its
halves share the cut. Triangles are laid over a plane exactly, and what of it lies within closes both sides.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

import numpy as np

from lithon.arrange.boolean import sides
from lithon.arrange.facets import Laid, bonded_with, laid
from lithon.arrange.overlay import Overlay, inner_point, overlay
from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.boxes import box
from lithon.brep.cleaning import winding_number
from lithon.brep.faceted import Triangles, bodies_of, faceted, soup_of
from lithon.brep.rewrite import all_apart, rewrite
from lithon.brep.shells import solids
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.sampling import spread_inside
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Model, Vertex, vertex_at
from lithon.brep.validate import check
from lithon.errors import Refusal, spot
from lithon.geometry.curves import TURN, Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import SILENT, Progress

#: How far apart a body of triangles is looked at for a surface that passes through it, in diagonals.
_LOOKED = 0.02


def split(model: Model, bodies: Sequence[Body], surface: Surface, progress: Progress = SILENT) -> Model:
    """The model with these bodies cut at a surface, pieces named after the body and a letter, those on
    the side of its normal first.

    Raises Refusal where the surface misses all of them.
    """
    cut_any = False
    out = model
    # Neighbours change when a bonded body is cut; they are found again by their places, since names may be double.
    known = {body.uid: k for k, body in enumerate(model.bodies)}
    by_name = {body.name: k for k, body in enumerate(model.bodies)}
    places = sorted({known.get(body.uid, by_name.get(body.name, -1)) for body in bodies} - {-1})
    for k, place in reversed(list(enumerate(places))):  # from the last, so that those to come keep their places
        here = out.bodies[place]
        if faceted(here):
            continue
        progress.tell(1.0 - (k + 1) / len(places), f"cutting {here.name}")
        out_or_none = split_in(out, here, surface)
        if out_or_none is not None:
            out, cut_any = out_or_none, True
    soups = [b for b in bodies if b in out.bodies and faceted(b) and _passes(b, surface, model.tolerance)]
    while soups:  # those that share faces all at once: what two pieces have in common is cut once
        progress.pulse(f"cutting {soups[0].name}")
        bonded = bonded_with(out, soups[:1])
        out, cut_any = _of_triangles(out, [b for b in soups if b in bonded], surface), True
        soups = [b for b in soups if b not in bonded]
    if not cut_any:
        for body in bodies:
            spots = _spots(body)
            off = surface.signed_distance(spots)
            if _on_both_sides(off, model.tolerance):
                raise Refusal(
                    f"the {surface.kind} cannot be followed through {body.name}: it touches one of its faces there",
                    where=spot(spots[np.abs(off).argmin()]),
                    remedy=f"cut with a plane, or move the {surface.kind} a little",
                    entities=(body,),
                )
        raise Refusal(
            f"the {surface.kind} does not pass through any of these bodies",
            where=spot(surface.frame.origin),
            remedy=f"move the {surface.kind}, or choose other bodies",
        )
    return out


def split_in(model: Model, body: Body, surface: Surface) -> Model | None:
    """The model with one of its bodies cut, its pieces in its place; none where the surface passes it by."""
    bonded = any(len(model.owners(f)) > 1 for f in body.faces)
    if faceted(body):
        return _of_triangles(model, [body], surface) if _passes(body, surface, model.tolerance) else None
    made = laid_over(body, surface, model.tolerance)
    if made is None:
        return None
    cut, caps = made
    pieces = _lettered(_closed(body, cut, caps, surface, model.tolerance, together=bonded), body, model)
    pieces = [check(piece, model.tolerance) for piece in pieces]
    out = model.replaced(body, pieces)
    if not bonded:
        return out
    changed = []
    for other in out.bodies:
        recut = other if other in pieces else cut.applied(other)
        changed.append(recut if recut is other else check(recut, model.tolerance))
    return Model(tuple(changed), model.tolerance)


def _passes(body: Body, surface: Surface, tolerance: float) -> bool:
    """Whether a surface passes through a body, as far as spots spread over its faces tell."""
    return _on_both_sides(surface.signed_distance(_spots(body)), tolerance)


def _on_both_sides(off: Floats, tolerance: float) -> bool:
    return bool(off.min() < -20.0 * tolerance and off.max() > 20.0 * tolerance)


def _spots(body: Body) -> Floats:
    """Points (n,3) on the faces of a body, densely: a round surface can pass through the midst of a triangle."""
    around = box(body)
    apart = _LOOKED * float(np.linalg.norm(around[1] - around[0]))
    if faceted(body):
        soup = soup_of(body)
        return np.concatenate([soup.points, spread_inside(soup.points[soup.corners], apart)[0]])
    drawn = [(face.surface, face_mesh(face)) for face in body.faces]
    laid = [s.project(spread_inside(mesh.points[mesh.triangles], apart)[0]) for s, mesh in drawn]
    return np.concatenate([*(mesh.points for _, mesh in drawn), *laid])


def _of_triangles(model: Model, chosen: Sequence[Body], surface: Surface) -> Model:
    """The model with bodies of triangles that a plane passes through and that share faces, or one that shares none,
    cut by it: the pieces of each ahead of it first."""
    if not isinstance(surface, Plane):
        raise Refusal(f"{chosen[0].name} is made of triangles", entities=(chosen[0],),
                      remedy="cut with a plane, or make it a solid of exact faces first")  # fmt: skip
    bodies = bonded_with(model, chosen)
    if not all(faceted(one) for one in bodies):
        raise Refusal(f"{chosen[0].name} is made of triangles and shares faces with what is not", entities=(chosen[0],),
                      remedy="cut it before it is bonded")  # fmt: skip
    around = np.array([box(body) for body in bodies])
    low, high = around[:, 0].min(axis=0), around[:, 1].max(axis=0)
    reach = 4.0 * (float(np.linalg.norm(high - low)) + 1.0)
    frame = Frame.of(surface.project(0.5 * (low + high)[None])[0], surface.frame.z, surface.frame.x)
    sheet = frame.world(reach * np.array([[1.0, 0.0, 0.0], [-0.5, 0.75, 0.0], [-0.5, -0.75, 0.0]]))
    out = laid(bodies, sheet=sheet)
    made, of_sheet = out.made, ~out.owned.any(axis=1)
    patch = made.patches()
    middles, side, owned = made.middles(made.largest(patch)), np.zeros(len(patch), dtype=np.int64), []
    for k, body in enumerate(chosen):
        soup, own = soup_of(body), out.owned[:, k]
        # What of the sheet lies within closes both pieces, in the same triangles.
        cap = of_sheet & (winding_number(soup.points, soup.corners, middles) > 0.5)[patch]
        here = np.where(own != 0, _sides_of(out, k, surface, 1e-9 * reach), 0)
        side = np.where(side == 0, here, side)
        owned += [np.where(here > 0, own, -cap.astype(np.int64)), np.where(here < 0, own, cap.astype(np.int64))]
    cut: dict[Body, list[Body]]
    if len(bodies) == 1:  # its pieces are whole in themselves
        skins = [np.concatenate([made.corners[own > 0], made.corners[own < 0][:, ::-1]]) for own in owned]
        found = bodies_of([Triangles(made.points, skin, bodies[0].name, bodies[0].colour) for skin in skins])[0]
        cut = {bodies[0]: found}
    else:
        most = int(out.last.max()) + 1
        label = ((side + 1) * most + out.first) * most + out.last
        uses, _ = out.sides_of(label, np.column_stack([*owned, out.owned[:, len(chosen) :]]))
        others = zip(bodies[len(chosen) :], uses[2 * len(chosen) :], strict=True)
        cut = {body: [body.with_uses(own)] for body, own in others}
        for k, body in enumerate(chosen):
            shells = [shell for half in uses[2 * k : 2 * k + 2] for shell in solids(half)]
            cut[body] = [_piece(body, shell, body.name) for shell in shells]
    named = {body: _lettered(pieces, body, model) if body in chosen else pieces for body, pieces in cut.items()}
    for body, pieces in named.items():
        model = model.replaced(body, [check(piece, model.tolerance) for piece in pieces])
    return model


def _sides_of(out: Laid, k: int, plane: Plane, least: float) -> Ints:
    """On which side of a plane (1 or -1) the skin of one of the bodies lies that each triangle (m,) belongs to; of a
    patch in the plane itself, no further off than `least`, the body."""
    patch, off = out.made.patches(), plane.signed_distance(out.made.middles(np.arange(len(out.made.corners))))
    furthest = np.lexsort((-np.abs(off), patch))
    off = off[furthest[np.flatnonzero(np.r_[True, np.diff(patch[furthest]) != 0])]]
    best = out.made.largest(patch)
    a, b, c = (out.made.points[out.made.corners[best, at]] for at in range(3))
    looks = out.owned[best, k] * (cross_product(b - a, c - a) @ plane.frame.z)
    return np.asarray(np.where(np.abs(off) > least, np.sign(off), -np.sign(looks))[patch], dtype=np.int64)


def laid_over(body: Body, surface: Surface, tolerance: float) -> tuple[Overlay, list[Face]] | None:
    """The overlay of a body and the cutting sheet, and the sheet's pieces inside the body."""
    sheet = Body((FaceUse(sheet_on(surface, box(body))),), "cut")
    made = overlay(body, sheet, tolerance)
    inside = sides(sheet, body, made, set(made.twins), tolerance)
    caps = [piece for piece, is_in in inside.items() if is_in]
    return (made, caps) if caps else None


def sheet_on(surface: Surface, around: Floats) -> Face:
    """A face on a surface that reaches well beyond a box (2,3)."""
    middle, reach = around.mean(axis=0), 0.75 * float(np.linalg.norm(around[1] - around[0])) + 1.0
    frame = surface.frame
    if isinstance(surface, Plane):
        # Turned a little, so that its border does not run along the body's own edges.
        c = frame.local(surface.project(middle[None]))[0, :2]
        ways = [0.3 + k * np.pi / 2.0 for k in range(4)]
        corners = [vertex_at(frame.world(np.array([*(c + 2.0 * reach * np.array([np.cos(w), np.sin(w)])), 0.0])))
                   for w in ways]  # fmt: skip
        edges = []
        for k in range(4):
            a, b = corners[k], corners[(k + 1) % 4]
            edges.append(Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b))
        return Face(surface, (tuple(Coedge(e, True) for e in edges),), label="cut")
    if isinstance(surface, Sphere) or (isinstance(surface, Torus) and surface.major > surface.minor):
        return Face(surface, (), label="cut")
    height = float(frame.local(middle)[2])
    if isinstance(surface, Cylinder):
        rings = [_ring(frame, height + s * reach, surface.radius) for s in (-1.0, 1.0)]
        return Face(surface, ((Coedge(rings[0], True),), (Coedge(rings[1], False),)), label="cut")
    if isinstance(surface, Cone):
        top = max(height + reach, 1e-3 * reach)
        radius = surface.radius + top * float(np.tan(surface.angle))
        return Face(surface, ((Coedge(_ring(frame, top, radius), False),),), label="cut")
    raise Refusal(
        f"a {surface.kind} cannot be extended far enough to cut with", remedy="cut with a plane or a round face"
    )


def _ring(frame: Frame, height: float, radius: float) -> Edge:
    return Edge(Circle.about(frame.shifted(height * frame.z), radius), 0.0, TURN)


def _closed(
    body: Body, cut: Overlay, caps: list[Face], surface: Surface, tolerance: float, together: bool
) -> list[Body]:
    """Both sides of a body, each closed by the caps."""
    uses: dict[int, list[FaceUse]] = {1: [], -1: []}
    away = _away(body, surface)
    for use, clear in zip(body.uses, away, strict=True):
        pieces_of = cut.fragments[use.face]
        if pieces_of == [use.face] and abs(clear) > 20.0 * tolerance:
            uses[1 if clear > 0.0 else -1].append(use)
            continue
        for piece in pieces_of:
            at = inner_point(piece)[None]
            d = float(surface.signed_distance(at)[0])
            if abs(d) <= 20.0 * tolerance:  # it lies on the cut: the body is behind it
                d = -float(use.outward(at)[0] @ surface.normal(at)[0])
            ahead = d > 0.0
            uses[1 if ahead else -1].append(FaceUse(piece, use.forward))
    # The caps' normal points ahead: out of the side behind. Ahead gets its own copies, turned round.
    uses[-1] += [FaceUse(cap, True) for cap in caps]
    uses[1] += [FaceUse(cap, False) if together else FaceUse(_turned(cap)) for cap in caps]
    pieces: list[Body] = []
    for side in (1, -1):
        for shell in solids(uses[side]):
            part = Body(tuple(shell), body.name)
            pieces.append(part if together or side > 0 else _own_cut(part, surface, tolerance))
    for part in pieces:
        _thick_everywhere(part, surface)
    return pieces if together else all_apart(pieces)


def _away(body: Body, surface: Surface) -> Floats:
    """How far each face of a body stays on one side of a surface, by its triangles; 0 where it is on both."""
    meshes = [face_mesh(face).points for face in body.faces]
    d = surface.signed_distance(np.concatenate(meshes))
    starts = np.cumsum([0, *(len(p) for p in meshes[:-1])])
    low, high = np.minimum.reduceat(d, starts), np.maximum.reduceat(d, starts)
    return np.where(low > 0.0, low, np.where(high < 0.0, high, 0.0))


def _thick_everywhere(part: Body, surface: Surface) -> None:
    """Raises Refusal where the cut only touches a wall: the part would come to an end of no thickness there."""
    for edge, uses in adjacency(part).uses.items():
        if len(uses) == 2 and uses[0][0] is not uses[1][0]:
            continue
        points = edge_points(edge)[1]
        if len(uses) < 2 or float(np.abs(surface.signed_distance(points)).max()) > 1e-3 * edge.length:
            continue
        wall = next((u.face for u, _ in uses if u.face.surface.kind != surface.kind), uses[0][0].face)
        raise Refusal(
            f"the {surface.kind} touches a {wall.surface.kind} wall along a line: "
            "the parts would have no thickness there",
            where=spot(edge.at(0.5)),
            remedy=f"move the {surface.kind} a little, into the wall or away from it",
            entities=(wall,),
        )


def _lettered(pieces: Sequence[Body], body: Body, model: Model) -> list[Body]:
    """The pieces of a body of a model with the letters that are free: of 'strap' 'strap A' and 'strap B', of 'strap A'
    'strap A' and 'strap C'."""
    base, _, last = body.name.rpartition(" ")
    base = base if base and len(last) == 1 and last.isupper() else body.name
    taken = {other.name for other in model.bodies if other is not body}
    free = (name for letter in _letters() if (name := f"{base} {letter}") not in taken)
    return [_piece(body, piece.uses, next(free)) for piece in pieces]


def _piece(body: Body, uses: Sequence[FaceUse], name: str) -> Body:
    """What is part of a body, in its colour and where it hangs in its assembly."""
    return Body(tuple(uses), name, body.path, body.colour)


def _letters() -> Iterator[str]:
    """A to Z, then AA, AB and so on."""
    for n in itertools.count(1):
        yield from ("".join(word) for word in itertools.product("ABCDEFGHIJKLMNOPQRSTUVWXYZ", repeat=n))


def _turned(face: Face) -> Face:
    loops: list[Loop] = [tuple(c.reversed() for c in reversed(loop)) for loop in face.loops]
    return Face(face.surface, tuple(loops), not face.along, face.label)


def _own_cut(body: Body, surface: Surface, tolerance: float) -> Body:
    """Its own copies of all vertices and edges on the cut, so that the halves stand apart."""

    def on(points: Floats) -> bool:
        return float(np.abs(surface.signed_distance(points)).max()) <= 20.0 * tolerance

    vertices = {v: Vertex(v.point) for v in body.vertices() if on(v.point[None])}
    rings = [e for e in body.edges() if e.ring and on(edge_points(e)[1])]
    return rewrite(body, vertices, {e: (Edge(e.curve, e.t0, e.t1), True) for e in rings})
