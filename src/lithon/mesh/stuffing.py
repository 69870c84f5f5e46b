"""Tetrahedra of bodies from a lattice: what comes of it where their own skins cannot be held.

Of the lattice of cubes and their middles whatever has a corner inside is kept. Corners near to where the skin crosses a
side move there, the other sides that it crosses are cut (Labelle & Shewchuk, *Isosurface stuffing*, 2007): no element
is flat, whatever the skin is like. All nodes of the skin lie on the true one, of exact bodies at first on the chords
that these are drawn in. Creases are brought into it where elements allow (`creases`), and cut off elsewhere by what is
between two nodes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numba import njit

from lithon.arrays import Bools, Floats, Ints, triangle_areas
from lithon.brep.measures import area, volume
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import inside_lattice, inside_triangles, tree_of, triangle_normals
from lithon.brep.topology import Body, Face
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.mesh.between import Skins, off, skins_of, told_apart
from lithon.mesh.creases import along, creased
from lithon.mesh.delaunay import FACE
from lithon.mesh.improve import Cells, improve
from lithon.mesh.mesh import Mesh
from lithon.mesh.quality import Quality, tet_volumes
from lithon.mesh.recover import tet_faces, triple_keys
from lithon.mesh.slide import FIXED, FREE, ON_LINE, ON_PLANE
from lithon.mesh.tetrahedra import around_nodes
from lithon.mesh.verdict import STRICT, below, verdict
from lithon.progress import SILENT, Progress, pulse

#: A corner moves to where the skin crosses a side nearer than this share of it, along the axes and askew: with these
#: the flattest element has ten degrees.
_ALONG, _ASKEW = 0.24999, 0.41189
#: No dihedral angle (degrees) gets flatter than the first of these for a crease; where that leaves poor elements, than
#: the next. Of the last none is.
_LEAST = (3.0, 10.0, 20.0, 90.0)
#: How far a face of triangles that is a plane may be off it, as a share of its diagonal.
_FLAT = 1e-7
#: As many cubes lie over a wall, and there are so many at the most.
_THROUGH, _MOST = 1.0, 200_000
#: How often a lattice finer by so much is tried where the volume is off by more than this share.
_FINER, _LESS, _VOLUME = 4, 0.6, 0.02
#: How often a finer one is tried for creases alone, of no more elements than five times this.
_KEEPING, _DENSE = 2, 60_000
#: What the volume is off by, as a share, that no creases make up for.
_TOO_MUCH = 0.08
#: On these nodes lie already; so often those of elements that get poor go back where they were.
_FLAT_KINDS, _TAKEN_BACK = ("plane", "facets"), 6
#: What is further (in cubes) within the mesh was filled.
_CLEAR = 1e-3
#: Where the lattice lies beside the body's box, in cubes: not on round numbers.
_BESIDE = np.array([0.6180339, 0.4142135, 0.7320508])


@dataclass(frozen=True, slots=True, eq=False)
class Stuffed:
    """A mesh of bodies from a lattice, how far (mm) creases and shared faces stand off its skins at the most, and
    whether slots were filled."""

    mesh: Mesh
    off: float
    filled: bool = False


def stuffed(
    bodies: Sequence[Body], size: float, progress: Progress = SILENT, within: float | None = None, gap: float = 0.0
) -> Stuffed:
    """Tetrahedra of a closed body, or of several that share faces, no larger than a size (mm) and finer
    where walls are thin, or where that keeps creases within a length (mm); slots no wider than a `gap` (mm) may be
    filled. Raises Refusal where no lattice that is not
    too fine gives their volumes."""
    skins = skins_of(tuple(bodies))
    wall = 2.0 * volume(skins.outer) / max(area(skins.outer), 1e-300)
    points, _, _ = body_mesh(skins.outer)
    step = min(size, wall / _THROUGH)
    best: Stuffed | None = None
    tries = 0
    skin = area(skins.outer)
    for _ in range(_FINER + 1 if step > 0.0 else 0):
        if skin > 0.5 * _MOST * step**2:
            break  # so many cubes are beside the skin alone
        mesh = _meshed(skins, step, progress)
        if mesh is not None and _holds(mesh):
            mesh = _onto_faces(mesh, skins)
            shared = np.isin(mesh.face, skins.between_of)
            outside = BoxTree.of(mesh.points, mesh.triangles[~shared])
            spots = np.concatenate([points, along(skins.outer, step, skins.seams)])
            far = np.linalg.norm(outside.nearest(spots)[1] - spots, axis=1)
            filled = np.zeros(0, dtype=np.int64)
            if gap:  # what is deep inside of the mesh and was at a slot is filled
                deep = np.flatnonzero(far > _CLEAR * step)
                deep = deep[_in_slots(skins.outer, spots[deep], gap)]
                ahead = triangle_normals(mesh.points, mesh.triangles[~shared])
                filled = deep[inside_triangles(outside, ahead, spots[deep])]
                far[filled] = 0.0
            found = Stuffed(
                mesh, max(float(far.max()), off(skins, mesh.points, mesh.triangles[shared])), len(filled) > 0
            )
            if within is None or found.off <= within:
                return found
            best, tries = best or found, tries + 1
        if tries > _KEEPING or (best is not None and mesh is not None and len(mesh.elements) > _DENSE):
            break
        step *= _LESS
    if best is not None:
        return best
    raise Refusal(f"its walls are thinner than {step / _LESS:.2g} mm in most places", entities=tuple(bodies),
                  remedy="smaller elements, or a mesh of its faces")  # fmt: skip


def _in_slots(body: Body, spots: Floats, gap: float) -> Bools:
    """Which of some spots (n,3) on a body's creases are in slots no wider than a gap (mm): before a triangle of the
    skin there another one is as near."""
    points, triangles, _ = body_mesh(body)
    normals = triangle_normals(points, triangles)
    middle = points[triangles].mean(axis=1)
    start = 1e-9 * float(np.ptp(points, axis=0).max())
    wide = tree_of(body).first_hits(middle, normals, start)[1]
    least = np.full(len(points), np.inf)
    np.minimum.at(least, triangles, wide[:, None])
    return np.asarray(least[scipy.spatial.cKDTree(points).query(spots)[1]] <= gap)


def _holds(mesh: Mesh) -> bool:
    """Whether a mesh has the volume of its bodies, and each of them about its own."""
    if abs(mesh.volume_ratio - 1.0) > _VOLUME:
        return False
    own = np.bincount(mesh.body, weights=mesh.volumes, minlength=len(mesh.bodies))
    true = np.array([volume(body) for body in mesh.bodies])
    return bool((np.abs(own - true) <= _TOO_MUCH * np.abs(true)).all())


def _meshed(skins: Skins, step: float, progress: Progress) -> Mesh | None:
    """The mesh from cubes of a side (mm); none where nothing is inside, or the volume is far off."""
    body = skins.outer
    points, half, tets = lattice(body, step)
    if not len(tets):
        return None
    sign = np.concatenate([
        np.where(inside_lattice(body, own, step), 1, -1) for own in (points[:half], points[half:])
    ])  # fmt: skip
    tets = tets[(sign[tets] > 0).any(axis=1)]
    if not len(tets):
        return None
    progress.tell(0.3, "stuffing a lattice")
    points, tets = cut(points, half, tets, sign, tree_of(body))
    used, tets = np.unique(tets, return_inverse=True)
    points, tets = points[used], tets.reshape(-1, 4)
    volumes = tet_volumes(points, tets)
    if abs(np.abs(volumes).sum() / volume(body) - 1.0) > _TOO_MUCH:
        return None
    turned = volumes < 0.0
    tets[turned] = tets[turned][:, [1, 0, 2, 3]]
    best, fewest = None, 0
    for least in _LEAST:
        worst = float(np.sin(np.radians(least)))
        x, own, lines = creased(points, tets, body, step, worst, skins.seams)
        x, own, of = told_apart(x, own, skins, step, worst)
        made = _mesh_of(skins, _cells(x, own, of, lines, skins), progress)
        poor = verdict(made).strict
        if best is None or poor < fewest:
            best, fewest = made, poor
        if not poor or abs(made.volume_ratio - 1.0) > _VOLUME:
            break
    return best


def _mesh_of(skins: Skins, start: Cells, progress: Progress) -> Mesh:
    """The mesh of bodies that comes of elements when they are improved."""
    cells = improve(start, progress)
    t, i = cells.skin()
    sides = cells.tet[:, FACE][t, i]
    sides = sides if _outwards(cells, t, sides) else sides[:, ::-1]
    used, both = np.unique(np.concatenate([cells.tet.ravel(), sides.ravel()]), return_inverse=True)
    points, elements = cells.points[used], both[: cells.tet.size].reshape(-1, 4)
    triangles = both[cells.tet.size :].reshape(-1, 3)
    owner = cells.wall[t, i]
    forward = np.zeros((len(skins.bodies), len(skins.faces)), dtype=np.bool_)
    for k, body in enumerate(skins.bodies):
        forward[k] = [use is not None and use.forward for use in map(body.use_of, skins.faces)]
    back = ~forward[cells.lab[t], owner]
    triangles = np.where(back[:, None], triangles[:, ::-1], triangles)
    return Mesh(points, elements, cells.lab, triangles, owner, skins.bodies, skins.faces,
                Quality.of(points, elements))  # fmt: skip


def _onto_faces(mesh: Mesh, skins: Skins) -> Mesh:
    """Nodes of the outer skin that are on no crease, on a chord of their face, brought onto the face itself, but where
    an element would be poor for it that is not."""
    count = len(mesh.points)
    low, high = np.full(count, len(mesh.faces)), np.full(count, -1)
    np.minimum.at(low, mesh.triangles, mesh.face[:, None])
    np.maximum.at(high, mesh.triangles, mesh.face[:, None])
    alone = np.flatnonzero(low == high)
    row, _ = tree_of(skins.outer).nearest(mesh.points[alone])
    # Where a crease is cut off a node may lie on another face than the triangles around it stand for.
    lies_on = skins.face_of[body_mesh(skins.outer)[2][row]]
    lies_on[np.isin(low[alone], skins.between_of)] = -1
    goal = mesh.points.copy()
    for k, face in enumerate(mesh.faces):
        own = alone[lies_on == k] if face.surface.kind not in _FLAT_KINDS else ()
        if len(own):
            goal[own] = face.surface.project(mesh.points[own])
    quality, points = mesh.quality, goal
    for _ in range(_TAKEN_BACK):
        moved = (points != mesh.points).any(axis=1)
        if not moved.any():
            return mesh
        quality = Quality.of(points, mesh.elements)
        bad = below(quality, STRICT) & (quality.smallest_angle < mesh.quality.smallest_angle)
        back = np.zeros(count, dtype=np.bool_)
        back[mesh.elements[bad]] = True
        if not (back & moved).any():
            return replace(mesh, points=points, quality=quality)
        points = np.where(back[:, None], mesh.points, points)
    return mesh


def _outwards(cells: Cells, of: Ints, sides: Ints) -> bool:
    """Whether sides of elements look away from these."""
    a, b, c = (cells.points[sides[:1, k]] for k in range(3))
    middle = cells.points[cells.tet[of[:1]]].mean(axis=1)
    return bool((np.cross(b - a, c - a) * (a - middle)).sum() > 0.0)


def lattice(body: Body, step: float) -> tuple[Floats, int, Ints]:
    """Corners, then middles (n,3), how many corners there are, and tetrahedra (m,4) between them: of cubes of a side
    (mm) over a body, about each side of two cubes the four that go from one middle to the other. None where there would
    be too many."""
    skin, _, _ = body_mesh(body)
    low = skin.min(axis=0) - (1.0 + _BESIDE) * step
    cubes = _cubes(body, low, np.ptp(skin, axis=0), step)
    corner = np.unique((cubes[:, None] + _CUBE).reshape(-1, 3), axis=0)
    key, first = _keys(corner), len(corner)
    places = low + step * np.concatenate([corner, cubes + 0.5])
    mine = _keys(cubes)
    out = []
    for axis in range(3):
        # Of cubes beside each other along the axis: their middles, and the corners of the side between them.
        ways = np.roll(np.eye(3, dtype=np.int64), -axis, axis=0)
        ahead = cubes + ways[0]
        at = np.minimum(np.searchsorted(mine, _keys(ahead)), len(mine) - 1)
        here = np.flatnonzero(mine[at] == _keys(ahead))
        ring = [
            np.searchsorted(key, _keys(ahead[here] + x)) for x in (0 * ways[0], ways[1], ways[1] + ways[2], ways[2])
        ]
        pair = [first + here, first + at[here]]
        out += [np.stack([*pair, ring[q], ring[(q + 1) % 4]], axis=1) for q in range(4)]
    return places, first, np.concatenate(out)


#: The corners of a cube, and the bits of a place along one axis.
_CUBE = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], dtype=np.int64)
_BITS = 20


def _keys(places: Ints) -> Ints:
    """A number (n,) for each place (n,3) of a lattice, in their order."""
    return np.asarray((((places[:, 0] << _BITS) + places[:, 1]) << _BITS) + places[:, 2])


def _cubes(body: Body, low: Floats, extent: Floats, step: float) -> Ints:
    """The places (n,3) of the cubes of a side (mm) that are inside a body, or no further from it than their neighbours
    reach, in order: from few large ones, each halved where it is near to the skin."""
    tree = tree_of(body)
    levels = max(0, int(np.ceil(np.log2(float((extent + 4.0 * step).max()) / (8.0 * step)))))
    count = np.ceil((extent + (3.0 + _BESIDE) * step) / (step * 2**levels)).astype(np.int64)
    cubes = np.stack(np.meshgrid(*(np.arange(c) for c in count), indexing="ij"), axis=-1).reshape(-1, 3)
    for level in range(levels, -1, -1):
        side = step * 2**level
        middle = low + side * (cubes + 0.5)
        away = np.linalg.norm(tree.nearest(middle)[1] - middle, axis=1)
        near = away <= np.sqrt(0.75) * side + 2.0 * step
        within = np.zeros(len(cubes), dtype=np.bool_)
        within[~near] = inside_lattice(body, middle[~near], side)
        cubes = cubes[near | within]
        if len(cubes) > _MOST:
            return cubes[:0]
        if level:
            cubes = (2 * cubes[:, None] + _CUBE).reshape(-1, 3)
    return cubes[np.argsort(_keys(cubes))]


def cut(points: Floats, half: int, tets: Ints, sign: Ints, skin: BoxTree) -> tuple[Floats, Ints]:
    """Tetrahedra (m,4) of lattice points (n,3), the first `half` of them corners of cubes, cut along a skin of which 1
    are inside and -1 outside (`sign`)."""
    pulse("stuffing a lattice")
    ends = np.sort(tets[:, [[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]]].reshape(-1, 2), axis=1)
    ends = np.unique(ends[sign[ends[:, 0]] != sign[ends[:, 1]]], axis=0)
    inner = np.where(sign[ends[:, 0]] > 0, ends[:, 0], ends[:, 1])
    outer = ends.sum(axis=1) - inner
    way = points[outer] - points[inner]
    # The ray's last hit would do as well; one that misses by rounding is halved.
    far = skin.first_hits(points[inner], way, 0.0, 1.0)[1]
    share = np.where(np.isfinite(far), np.clip(far, 1e-9, 1.0 - 1e-9), 0.5)
    crossing = points[inner] + share[:, None] * way
    most = np.where((inner < half) == (outer < half), _ALONG, _ASKEW)
    kept = np.ones(len(ends), dtype=np.bool_)
    order = np.argsort(np.minimum(share, 1.0 - share) / most, kind="stable")
    sign = sign.copy()
    moved = _warped(order, inner, outer, share, most, sign, kept)
    points = np.concatenate([points, crossing[kept]])
    at = np.flatnonzero(moved >= 0)
    points[at] = crossing[moved[at]]
    keys = ends[kept][:, 0] * len(points) + ends[kept][:, 1]
    first = len(sign)
    return points, _pieces(points, tets, sign, keys, first)


@njit(cache=True)
def _warped(order: Ints, inner: Ints, outer: Ints, share: Floats, most: Floats, sign: Ints, kept: Bools) -> Ints:
    """Move corners to the crossings that are nearest, none of them of a side that has lost an end to another: the
    crossing (n,) that each moves to, -1 for none. Their signs become 0; what is no crossing any more is not kept."""
    moved = np.full(len(sign), -1, np.int64)
    for e in order:
        if sign[inner[e]] == 0 or sign[outer[e]] == 0:
            continue
        near = share[e] <= 0.5
        v = inner[e] if near else outer[e]
        if (share[e] if near else 1.0 - share[e]) < most[e]:
            moved[v] = e
            sign[v] = 0
    for e in range(len(inner)):
        kept[e] = sign[inner[e]] != 0 and sign[outer[e]] != 0
    return moved


def _pieces(points: Floats, tets: Ints, sign: Ints, keys: Ints, first: int) -> Ints:
    """What lies inside of tetrahedra (m,4) whose corners are inside, on the skin or outside by their sign; keys (k,) of
    the sides that are cut, in order, and the number of the first crossing."""
    s = sign[tets]
    tets, s = tets[(s > 0).any(axis=1)], s[(s > 0).any(axis=1)]
    order = np.lexsort((tets, -s), axis=1)  # inside first, then on the skin, the smaller number before
    tets, s = np.take_along_axis(tets, order, axis=1), np.take_along_axis(s, order, axis=1)
    plus, on = (s > 0).sum(axis=1), (s == 0).sum(axis=1)
    n = len(points)

    def x(rows: Ints, i: int, j: int) -> Ints:
        a, b = np.sort(np.stack([rows[:, i], rows[:, j]]), axis=0)
        return np.asarray(first + np.searchsorted(keys, a * n + b))

    def of(p: int, z: int) -> Ints:
        return tets[(plus == p) & (on == z)]

    out = [tets[plus + on == 4]]
    t = of(1, 0)
    out.append(np.stack([t[:, 0], x(t, 0, 1), x(t, 0, 2), x(t, 0, 3)], axis=1))
    t = of(1, 1)
    out.append(np.stack([t[:, 0], t[:, 1], x(t, 0, 2), x(t, 0, 3)], axis=1))
    t = of(1, 2)
    out.append(np.stack([t[:, 0], t[:, 1], t[:, 2], x(t, 0, 3)], axis=1))
    # Sides that two elements share are parted from the inner corner with the smaller number: both do it alike.
    t = of(2, 1)
    ac, bc = x(t, 0, 3), x(t, 1, 3)
    out += [np.stack([t[:, 2], t[:, 0], t[:, 1], bc], axis=1), np.stack([t[:, 2], t[:, 0], bc, ac], axis=1)]
    t = of(2, 0)
    a, b, ac, ad, bc, bd = t[:, 0], t[:, 1], x(t, 0, 2), x(t, 0, 3), x(t, 1, 2), x(t, 1, 3)
    shorter = (np.linalg.norm(points[ac] - points[bd], axis=1) <= np.linalg.norm(points[ad] - points[bc], axis=1))[
        :, None
    ]
    out.append(np.stack([a, b, bc, bd], axis=1))
    out.append(np.where(shorter, np.stack([a, ac, bc, bd], axis=1), np.stack([a, ac, ad, bc], axis=1)))
    out.append(np.where(shorter, np.stack([a, ac, ad, bd], axis=1), np.stack([a, ad, bc, bd], axis=1)))
    t = of(3, 0)
    ad, bd, cd = x(t, 0, 3), x(t, 1, 3), x(t, 2, 3)
    out.append(np.stack([t[:, 0], ad, bd, cd], axis=1))
    out.append(np.stack([t[:, 0], t[:, 1], bd, cd], axis=1))
    out.append(np.stack([t[:, 0], t[:, 1], t[:, 2], cd], axis=1))
    return np.concatenate(out)


def _cells(points: Floats, tets: Ints, of: Ints, lines: Floats, skins: Skins) -> Cells:
    """Elements as they are improved: the bodies (m,) that they are of, their neighbours, and walls where they have none
    or one of another body, told by the face that they lie on. Nodes of these stay; those that have a plane face all
    around slide on it, those between two of these on the line (n,6) of their crease."""
    m = len(tets)
    sides, n = tet_faces(tets), len(points)
    key = triple_keys(sides, n)
    order = np.argsort(key, kind="stable")
    same = key[order[1:]] == key[order[:-1]]
    nbr = np.full(4 * m, -1, dtype=np.int64)
    one, two = order[:-1][same], order[1:][same]
    nbr[one], nbr[two] = two // 4, one // 4
    outer = np.flatnonzero(nbr < 0)
    wall = np.full(4 * m, -1, dtype=np.int64)
    row, _ = tree_of(skins.outer).nearest(points[sides[outer]].mean(axis=1))
    wall[outer] = skins.face_of[body_mesh(skins.outer)[2][row]]
    if skins.between is not None:
        apart = np.flatnonzero((nbr >= 0) & (of[np.maximum(nbr, 0)] != np.repeat(of, 4)))
        wall[apart] = skins.between_of[skins.between.nearest(points[sides[apart]].mean(axis=1))[0]]
    walls = np.flatnonzero(wall >= 0)
    skin, owner = sides[walls], wall[walls]
    planes = np.array([_plane_of(face) for face in skins.faces]).reshape(-1, 8)
    kind, places = np.full(n, FREE, dtype=np.int64), np.zeros((n, 8))
    kind[skin.ravel()] = FIXED
    low, high, bent = around_nodes(points, skin, owner, planes)
    slides = np.flatnonzero((low == high) & ~bent)
    kind[slides], places[slides] = ON_PLANE, planes[low[slides]]
    lines = np.concatenate([lines, np.full((n - len(lines), 6), np.nan)])
    between = np.isfinite(lines).all(axis=1) & (low < high) & ~bent
    between[skin[(owner[:, None] != low[skin]) & (owner[:, None] != high[skin])]] = False
    slides = np.flatnonzero(between)
    kind[slides], places[slides, :6] = ON_LINE, lines[slides]
    return Cells(points, tets, nbr.reshape(m, 4), wall.reshape(m, 4), of, kind, places, np.zeros(0, dtype=np.int64),
                 planes)  # fmt: skip


def _plane_of(face: Face) -> Floats:
    """A point (3,) of a face's plane and its normal (3,), as nodes slide there; not a number where it has none."""
    out = np.full(8, np.nan)
    mesh = face_mesh(face)
    normals = triangle_normals(mesh.points, mesh.triangles)
    a = mesh.points[mesh.triangles[:, 0]]
    normal = normals[np.argmax(triangle_areas(mesh.points, mesh.triangles))]
    off = float(np.abs((mesh.points - a[0]) @ normal).max())
    if off <= _FLAT * float(np.linalg.norm(np.ptp(mesh.points, axis=0))):
        out[:3], out[3:6], out[6:] = a[0], normal, 0.0
    return out
