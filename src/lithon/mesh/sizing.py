"""How large elements should be, everywhere: the wanted size, made smaller where the solid curves,
where edges are short and where walls are thin, and graded in between.

size(x) = min(wanted, min over sources i of (size_i + growth * |x - x_i|))
"""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, run_along, triangle_areas
from lithon.brep.analysis.thickness import thin_walls
from lithon.brep.copies import Copied, Copy, copy_of, root_of
from lithon.brep.measures import face_area, face_width, prepare, volume
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.sampling import spread
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.tessellation.trees import inside_lattice
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.batch import CurveBatch
from lithon.geometry.batch import spread as stretched
from lithon.geometry.curves import Ellipse, Line
from lithon.geometry.facets import Facets
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.splines import BSplineSurface, curvature
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mesh.size_tree import SizeTree
from lithon.remembered import Remembered
from lithon.threads import BLOCK


@dataclass(frozen=True, slots=True)
class SizeRules:
    """What the engineer sets. Lengths in mm."""

    size: float
    #: How much longer an element may be than its neighbour, less one.
    growth: float = 0.35
    #: Elements around a full circle, at least; more where chords of so many would change a body's volume by much.
    around: int = 12
    #: Elements through a wall, at least (a fraction is allowed: 0.8 means size = wall / 0.8).
    through: float = 0.8
    #: Nothing is made smaller than this share of the size.
    smallest: float = 0.02
    #: Sizes (mm) of their own on faces, along edges, in bodies; one that is larger than the size says nothing.
    local: tuple[tuple[Face | Edge | Body, float], ...] = ()
    #: How many elements there are along edges.
    divisions: tuple[tuple[Edge, int], ...] = ()
    #: What is smaller (mm) is not followed; below the smallest element.
    ignore: float | None = None
    #: Faces that are draped by hand, with a word that those have in common that are meshed as one.
    drapes: tuple[tuple[Face, str], ...] = ()
    #: Edges that are not followed, by hand.
    passed: tuple[Edge, ...] = ()
    #: Faces whose outlines stay whatever is draped.
    kept: tuple[Face, ...] = ()
    #: What is smaller than the ignore size and has to be followed all the same.
    followed: tuple[Face | Edge, ...] = ()
    #: Points (x, y, z) with a size, from which elements grow steeply.
    steep: tuple[tuple[float, float, float, float], ...] = ()

    def named(self) -> tuple[Face | Edge, ...]:
        """The faces and edges that it is said of whether they are followed."""
        divided, draped = (tuple(x for x, _ in said) for said in (self.divisions, self.drapes))
        return (*divided, *draped, *self.passed, *self.kept, *self.followed)


#: How much longer an element may be than its neighbour, less one, around what is followed against the rule: a growth
#: of 0.35 would spend thousands of elements on each corner.
_STEEP = 1.2

#: Two sides make a wall when their outward normals are this opposed; a blunter corner is none.
_OPPOSED = -0.8


#: What asks for a size: an edge, a curved face, or the two faces of a wall.
Maker = Sequence[Edge | Face]


class SizeField:
    """Sizes at points, from sources with a size each; good to a hundredth, upwards. makers: what asks, and `made_by`
    which of them each source is of."""

    def __init__(
        self, rules: SizeRules, points: Floats, sizes: Floats, makers: Sequence[Maker] = (), made_by: Ints | None = None
    ):
        self.rules = rules
        self.makers = makers
        keep = sizes < rules.size
        sizes = np.maximum(sizes[keep], rules.smallest * rules.size)
        self._made_by = made_by[keep] if made_by is not None else np.zeros(len(sizes), dtype=np.int64)
        self._tree = SizeTree.of(points[keep], sizes) if len(sizes) else None
        self._steep: SizeTree | None = None
        if rules.steep:
            self._steep = self.steeper(rules)._steep

    def steeper(self, rules: SizeRules) -> SizeField:
        """The field with what other rules say of points from which elements grow steeply; what asks for sizes else is
        the same."""
        out = copy.copy(self)
        out.rules = rules
        steep = np.array(rules.steep).reshape(-1, 4)
        out._steep = SizeTree.of(steep[:, :3], steep[:, 3]) if len(steep) else None
        return out

    @property
    def steepest(self) -> float:
        """By how much sizes differ at the most, per distance between two points."""
        growth = self.rules.growth
        return growth if self._steep is None else max(growth, _STEEP)

    def at(self, points: Floats, block: int = BLOCK) -> Floats:
        """Sizes (n,) at points (n,3); each block by itself."""
        rules = self.rules
        out = np.full(len(points), float(rules.size))
        if self._tree is not None:
            out = self._tree.at(points, rules.growth, rules.size, block)
        if self._steep is not None:
            out = np.minimum(out, self._steep.at(points, self.steepest, rules.size, block))
        return out

    def least_about(self, points: Floats, radius: float) -> Floats:
        """A bound from below (n,) on the sizes within balls of a radius about points (n,3)."""
        rules = self.rules
        out = np.full(len(points), float(rules.size))
        for tree, growth in ((self._tree, rules.growth), (self._steep, self.steepest)):
            if tree is not None:
                less = growth * radius  # asked for beyond the size: what rules nowhere near must not seem to
                out = np.minimum(out, tree.at(points, growth, rules.size + less) - less)
        return out

    def with_and_without(self, points: Floats, groups: Ints) -> tuple[Ints, Floats, Floats]:
        """At points (n,3) the group (n,) of makers that rules, -1 where none does; the size there (n,), and what it
        would be without that group (n,). groups: of each maker."""
        if self._tree is None:
            return np.full(len(points), -1), self.at(points), self.at(points)
        of_source = groups[self._made_by]
        sizes, row = self._tree.ruled(points, self.rules.growth, self.rules.size)
        ruling = np.where(row >= 0, of_source[np.maximum(row, 0)], -1)
        without = sizes.copy()
        some = np.flatnonzero(ruling >= 0)
        some = some[np.argsort(ruling[some], kind="stable")]
        without[some] = self._tree.ruled(points[some], self.rules.growth, self.rules.size, of_source, ruling[some])[0]
        return ruling, sizes, without


#: The last field that was made, and for which bodies and rules: what is foreseen, priced and meshed in turn shares it.
_last: list[tuple[tuple[Body, ...], SizeRules, SizeField]] = []


def size_field(bodies: tuple[Body, ...], rules: SizeRules) -> SizeField:
    """The field for bodies meshed together; the latest is kept."""
    if not _last or _last[0][:2] != (bodies, rules):
        _last[:] = [(bodies, rules, _size_field(bodies, rules))]
    return _last[0][2]


@dataclass(slots=True)
class _Asked:
    """What asks for sizes in one body: points (n,3), the sizes (n,) there, and which maker (n,) each is of."""

    points: list[Floats] = field(default_factory=list)
    sizes: list[Floats] = field(default_factory=list)
    made_by: list[Ints] = field(default_factory=list)
    makers: list[Maker] = field(default_factory=list)

    def put(self, maker: Maker, points: Floats, sizes: Floats | float) -> None:
        self.points.append(points)
        self.sizes.append(np.broadcast_to(np.asarray(sizes, dtype=float), (len(points),)))
        self.made_by.append(np.full(len(points), len(self.makers)))
        self.makers.append(maker)

    def extend(self, other: _Asked, copy: Copy | None) -> None:
        """Take in what asks in another body, or in a copy of it."""
        self.made_by += [k + len(self.makers) for k in other.made_by]
        self.sizes += other.sizes
        self.points += other.points if copy is None else [copy.points(p) for p in other.points]
        self.makers += other.makers if copy is None else [Copied(copy, m) for m in other.makers]


def _size_field(bodies: tuple[Body, ...], rules: SizeRules) -> SizeField:
    every = _Asked()
    known: dict[Body, _Asked] = {}
    for body in bodies:
        root = root_of(body)
        if root not in known:
            known[root] = _asked(root, rules)
        every.extend(known[root], copy_of(body))
    for entity, size in rules.local:
        spots = _spots(entity, size)
        every.put((entity,) if not isinstance(entity, Body) else entity.faces, spots, size)
    # Nothing to begin with: a plain block asks for nothing.
    points = np.concatenate([np.zeros((0, 3)), *every.points])
    sizes, made_by = np.concatenate([np.zeros(0), *every.sizes]), np.concatenate([np.zeros(0, int), *every.made_by])
    return SizeField(rules, points, sizes, every.makers, made_by)


def _spots(entity: Face | Edge | Body, size: float) -> Floats:
    """Points (n,3) so close over a thing that a size asked for at each holds everywhere on it, or in it."""
    if isinstance(entity, Edge):
        return entity.curve.point(np.linspace(entity.t0, entity.t1, 2 + int(min(400.0, 2.0 * entity.length / size))))
    if isinstance(entity, Face):
        mesh = face_mesh(entity)
        return entity.surface.project(_thinned(spread(mesh.points[mesh.triangles], size, most=200)[0], 0.5 * size))
    skin = np.concatenate([_spots(face, size) for face in entity.faces])
    low, high = skin.min(axis=0), skin.max(axis=0)
    step = max(2.0 * size, float((high - low).max()) / 30.0)
    axes = [np.arange(a + 0.5 * step, b, step) for a, b in zip(low, high, strict=True)]
    lattice = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    return np.concatenate([skin, lattice[inside_lattice(entity, lattice, step)]])


def _asked(body: Body, rules: SizeRules) -> _Asked:
    """What asks for sizes in a body. An edge of two bodies asks twice for the same."""
    from lithon.mesh.drapes import asks_nothing  # it builds on the rules

    out = _Asked()
    flat, ignored = asks_nothing(rules, body)
    turn = _turn(body, rules)
    for edge in body.edges():
        if edge in ignored:
            continue
        p = edge_points(edge)[1]
        if isinstance(edge.curve, Ellipse):
            out.put((edge,), p, turn * edge.curve.minor**2 / edge.curve.major)
        elif not isinstance(edge.curve, Line) and edge.curve.kind != "polyline":
            t = np.linspace(edge.t0, edge.t1, 41)[1:-1]
            out.put((edge,), edge.curve.point(t), turn / np.maximum(curvature(edge.curve.derivative, t), 1e-300))
        length = edge.length
        if not edge.ring and length < rules.size:
            out.put((edge,), edge.at(0.5)[None], max(length, rules.smallest * rules.size))
    prepare(body.faces)
    for face in body.faces:
        if not isinstance(face.surface, Plane) and face not in flat:
            out.put((face,), *_curved(face, turn, rules))
        if face not in flat and face_width(face) < rules.size / _FLATTEST:
            at, width = _widths(face)
            asked = _FLATTEST * width
            near = (asked < rules.size) & (asked > rules.smallest * rules.size)
            out.put((face,), at[near], asked[near])
    if body.sheet:
        return out  # it has no walls
    where, wall, own, far, facing = thin_walls(body, rules.size * rules.through)
    asked, narrow = wall / rules.through, (wall < rules.size * rules.through) & (facing < _OPPOSED)
    slim = narrow & (wall <= (rules.ignore or 0.0))
    # Where so many elements are not to be had, flat ones are as good as many that are a little less flat.
    asked[slim] = _FLATTEST * wall[slim]
    slim &= asked < _affordable(body, own, slim)
    thin = np.flatnonzero(narrow & ~slim & (asked < rules.size))
    thin = thin[np.argsort(own[thin] * len(body.uses) + far[thin], kind="stable")]
    breaks = np.flatnonzero(np.diff(own[thin] * len(body.uses) + far[thin])) + 1
    for rows in np.split(thin, breaks) if len(thin) else ():
        pair = body.uses[int(own[rows[0]])].face, body.uses[int(far[rows[0]])].face
        out.put(pair, where[rows], asked[rows])
    return out


#: On a strip, and in a wall thinner than what is ignored, which is there all the same, elements are at the most so many
#: times as long as it is wide or thick, for flatter ones have angles under 16 degrees; and about so many triangles are
#: spent on all such walls of a body.
_FLATTEST, _SPENT = 3.2, 20000
#: How many points of a face's edges are looked at.
_ON_EDGES = 400


_known_widths = Remembered[Face, tuple[Floats, Floats]]("mesh/sizing:widths")


def _widths(face: Face) -> tuple[Floats, Floats]:
    """Points (n,3) on the edges of a face, and how far (mm) it is from each (n,) to those edges that have no vertex in
    common with its own."""
    return _known_widths.of(face, _find_widths)


def _find_widths(face: Face) -> tuple[Floats, Floats]:
    edges = list(dict.fromkeys(face.edges()))
    if not 2 <= len(edges) <= _ON_EDGES:
        return np.zeros((0, 3)), np.zeros(0)
    each = max(2, _ON_EDGES // len(edges))
    share = (np.arange(each) + 0.5) / each
    points = np.concatenate([e.curve.point(e.t0 + share * (e.t1 - e.t0)) for e in edges])
    ends = [{id(v) for v in (e.start, e.end) if v is not None} | {id(e)} for e in edges]
    near = np.array([[bool(a & b) for b in ends] for a in ends])
    own = np.repeat(np.arange(len(edges)), len(share))
    away = scipy.spatial.distance.cdist(points, points)
    away[near[own][:, own]] = np.inf
    width = away.min(axis=1)
    return points[np.isfinite(width)], width[np.isfinite(width)]


def _affordable(body: Body, own: Ints, slim: Bools) -> float:
    """The size (mm) with which such samples' share of the faces that they are on (numbers (n,)) takes what may be spent
    on it."""
    every, thin = np.bincount(own), np.bincount(own[slim])
    skin = sum(face_area(body.uses[k].face) * thin[k] / every[k] for k in np.flatnonzero(thin).tolist())
    return float(np.sqrt(2.3 * skin / _SPENT))


#: The share of a body's volume that chords may cut off, or add in bores: at most; and where no more elements than
#: this many times those asked for around a circle bring it about, or than so many times where round faces have no more
#: triangles than `_SPENT` then, and these are not smaller than this share of the size.
_CUT_OFF, _CUT_LITTLE, _AROUND_MORE, _AROUND_MOST, _SMALL = 0.015, 0.004, 2.0, 3.0, 0.25


def _turn(body: Body, rules: SizeRules) -> float:
    """The angle (radians) that an element may take on round faces: as asked, and less where what its chords cut off is
    much of the body, as it is of a thin rod. Between a surface of curvature k and chords of length h lies k h^2 / 12 on
    each mm2."""
    turn = 2.0 * np.pi / rules.around
    if body.sheet:
        return turn
    bends, rounds, areas = [np.zeros(0)], [np.zeros(0)], [np.zeros(0)]
    for use in body.uses:
        surface = use.face.surface
        outward = 1.0 if use.forward == use.face.along else -1.0
        if isinstance(surface, BSplineSurface):
            bend, roundness = _bends.of(use.face, _bends_of)
        elif isinstance(surface, Cylinder | Cone | Sphere | Torus):
            bend = np.median(surface.bend(face_mesh(use.face).points), keepdims=True)
            roundness = (2.0 if isinstance(surface, Sphere) else 1.0) * face_area(use.face) * bend
        else:
            continue
        bends.append(np.maximum(bend, 1e-300))
        rounds.append(outward * roundness)
        areas.append(np.full(len(bend), face_area(use.face) / max(len(bend), 1)))
    bent, cut, skin = np.concatenate(bends), np.concatenate(rounds), np.concatenate(areas)
    whole = max(abs(volume(body)), 1e-300)

    def step(finer: float) -> Floats:
        return np.minimum(finer * turn / bent, rules.size)

    def finest(allowed: float, least: float) -> float:
        """The largest share of the turn, of the least and above, with which chords cut off no more than allowed."""
        shares = np.geomspace(1.0, least, 24).tolist() if least < 1.0 else [1.0]
        fit = (f for f in shares if abs(float(cut @ step(f) ** 2)) <= 12.0 * allowed * whole)
        return float(next(fit, least))

    finer = finest(_CUT_LITTLE, 1.0 / _AROUND_MOST)
    while finer < 1.0 / _AROUND_MORE:
        steps = step(finer)
        small = float(np.abs(cut) @ steps) < _SMALL * rules.size * float(np.abs(cut).sum())
        if not small and 2.3 * float((skin / steps**2).sum()) <= _SPENT:
            break
        finer = min(1.05 * finer, 1.0 / _AROUND_MORE)
    return turn * min(finer, finest(_CUT_OFF, rules.smallest))


#: At so many points of a free-form face it is looked how round it is.
_FEW_SPOTS = 300
_bends = Remembered[Face, tuple[Floats, Floats]]("mesh/sizing:bends")


def _bends_of(face: Face) -> tuple[Floats, Floats]:
    """Of a free-form face at points all over it the greatest curvature (k,), 1/mm, and the sum of both times the area
    (k,), mm, that each stands for."""
    surface, mesh = face.surface, face_mesh(face)
    assert isinstance(surface, BSplineSurface)
    corners = mesh.points[mesh.triangles]
    step = 1 + len(corners) // _FEW_SPOTS
    uv, areas = surface.parameters(corners[::step].mean(axis=1)), triangle_areas(mesh.points, mesh.triangles[::step])
    share = face_area(face) * areas / max(float(areas.sum()), 1e-300)
    return surface.bend_at(*uv.T), surface.roundness_at(*uv.T) * share


#: At how many points of a curved face its curvature is asked for.
_MOST_SPOTS = 20000


#: The latest answer of each face, and to which turn, size and smallest share: rules that say otherwise what is followed
#: ask for the same.
_known_curved = Remembered[Face, tuple[tuple[float, float, float], tuple[Floats, Floats]]]("mesh/sizing:curved")


def _curved(face: Face, turn: float, rules: SizeRules) -> tuple[Floats, Floats]:
    """Points on a curved face and the sizes that its curvature asks for there, where below the size."""
    asked = turn, rules.size, rules.smallest
    known = _known_curved.get(face)
    if known is None or known[0] != asked:
        known = _known_curved[face] = asked, _find_curved(face, turn, rules)
    return known[1]


def _find_curved(face: Face, turn: float, rules: SizeRules) -> tuple[Floats, Floats]:
    surface, mesh = face.surface, face_mesh(face)
    if isinstance(surface, Facets):
        return _curved_facets(surface, turn, rules)
    # Towards an apex the curvature grows without end, but there is nothing to resolve.
    least = 0.3 * rules.size if isinstance(surface, Cone) else rules.smallest * rules.size
    corners = mesh.points[mesh.triangles]
    wanted = np.maximum(turn / np.maximum(surface.bend(mesh.points), 1e-300), least)
    finest = float(wanted.min())
    if finest >= rules.size:
        return np.zeros((0, 3)), np.zeros(0)
    spots, _ = spread(corners, finest, most=200)
    spacing = 0.7 * finest
    spots = _thinned(spots, spacing)
    while len(spots) > _MOST_SPOTS:  # a fold is as narrow as one likes, and there is nothing to resolve
        spacing *= 1.5
        spots = _thinned(spots, spacing)
    spots = surface.project(spots)
    sizes = np.maximum(turn / np.maximum(surface.bend(spots), 1e-300), least)
    return spots, np.asarray(sizes)


def _curved_facets(surface: Facets, turn: float, rules: SizeRules) -> tuple[Floats, Floats]:
    """As `_curved`, for triangles: normals are averaged over cells of half an element, so that the noise of
    a scan is no curvature, and compared with those of the cells around."""
    corners = surface.points[surface.triangles]
    spots, row = spread(corners, 0.25 * rules.size, most=40)
    cell = np.round(spots / (0.5 * rules.size)).astype(np.int64)
    _, own = np.unique(cell, axis=0, return_inverse=True)
    own = own.reshape(-1)
    count = np.bincount(own).astype(float)
    place = np.stack([np.bincount(own, weights=spots[:, k]) for k in range(3)], axis=1) / count[:, None]
    normal = np.stack([np.bincount(own, weights=surface.normals[row, k]) for k in range(3)], axis=1)
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    if len(place) < 2:
        return np.zeros((0, 3)), np.zeros(0)
    away, near = scipy.spatial.cKDTree(place).query(place, k=min(7, len(place)))
    turned = np.linalg.norm(normal[near] - normal[:, None], axis=2)
    rate = np.where(away > 0.2 * rules.size, turned / np.maximum(away, 1e-300), 0.0).max(axis=1)
    wanted = np.maximum(turn / np.maximum(rate, 1e-300), rules.smallest * rules.size)
    fine = wanted < rules.size
    return place[fine], wanted[fine]


def _thinned(points: Floats, spacing: float) -> Floats:
    """One point of each cube of this side that holds any."""
    cell = np.round((points - points.min(axis=0)) / spacing).astype(np.int64)
    span = cell.max(axis=0) + 1
    if float(np.prod(span.astype(float))) > 2.0**62:
        return points
    _, first = np.unique((cell[:, 0] * span[1] + cell[:, 1]) * span[2] + cell[:, 2], return_index=True)
    return points[first]


#: An edge is looked at in so many places.
_LOOKS = 129


def divide_edge(edge: Edge, field: SizeField) -> Floats:
    """Parameters (n+1,) from t0 to t1 at which an edge is cut: as often as was asked, else spaced by the size field."""
    return divide_edges([edge], field)[0]


def divide_edges(edges: Sequence[Edge], field: SizeField) -> list[Floats]:
    """As `divide_edge`, of many; what comes of one hangs on no other."""
    if not edges:
        return []
    asked = dict(reversed(field.rules.divisions))
    row, t = stretched(np.array([e.t0 for e in edges]), np.array([e.t1 for e in edges]), _LOOKS)
    batch = CurveBatch.of([e.curve for e in edges])
    points = batch.points(row, t)
    density = (np.linalg.norm(batch.speeds(row, t), axis=1) / field.at(points, _LOOKS)).reshape(-1, _LOOKS)
    t, points = t.reshape(-1, _LOOKS), points.reshape(-1, _LOOKS, 3)
    total = np.zeros(t.shape)
    np.cumsum(0.5 * (density[:, 1:] + density[:, :-1]) * np.diff(t, axis=1), axis=1, out=total[:, 1:])
    return [
        _evenly(edge, asked[edge]) if edge in asked else _spaced(edge, field, t[k], points[k], total[k])
        for k, edge in enumerate(edges)
    ]


def _spaced(edge: Edge, field: SizeField, t: Floats, points: Floats, total: Floats) -> Floats:
    """The parameters at which an edge is cut, where up to parameters t (k,), at points (k,3), so many elements (k,) are
    wanted in all."""
    least = 1
    if edge.curve.kind == "polyline":
        least = max(1, int(np.ceil(_bow(points) * field.rules.around / (2.0 * np.pi) - 0.5)))
    elif not isinstance(edge.curve, Line):
        least = edge.curve.pieces(edge.t0, edge.t1, 1e9, 2.0 * np.pi / field.rules.around * (1.0 + 1e-9))
    if edge.ring:
        least = max(least, 6)
    n = max(least, int(np.ceil(total[-1] - 0.25)), 1)
    if not edge.ring and edge.start is edge.end:
        n = max(n, 3)
    return np.asarray(np.interp(np.linspace(0.0, total[-1], n + 1), total, t))


def _evenly(edge: Edge, n: int) -> Floats:
    """Parameters (n+1,) that cut an edge in so many pieces of one length."""
    t = np.linspace(edge.t0, edge.t1, 64 * n + 1)
    run = run_along(edge.curve.point(t))
    out = np.interp(np.linspace(0.0, run[-1], n + 1), run, t)
    if edge.curve.kind in ("line", "circle"):  # evenly by themselves
        out = np.linspace(edge.t0, edge.t1, n + 1)
    return np.asarray(out)


def _bow(points: Floats) -> float:
    """How much a polyline of (n,3) points turns in all, the zigzag of its triangles left aside."""
    step = np.diff(points[::8], axis=0)
    step = step[np.linalg.norm(step, axis=1) > 1e-300]
    step = step / np.linalg.norm(step, axis=1, keepdims=True)
    cosine = (step[1:] * step[:-1]).sum(axis=1)
    return float(np.arccos(np.clip(cosine, -1.0, 1.0)).sum())
