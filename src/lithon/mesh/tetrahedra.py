"""The tetrahedral mesh of some bodies: surface, recovery, inner nodes, improvement, proof."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.charts import parts_of
from lithon.brep.faceted import faceted
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Edge, Face, Model
from lithon.errors import Refusal
from lithon.geometry.curves import Line
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mesh.delaunay import FACE, Tetrahedra
from lithon.mesh.fill import fill, inner_lattice
from lithon.mesh.improve import Cells, improve
from lithon.mesh.mesh import Mesh
from lithon.mesh.quality import Quality
from lithon.mesh.recover import Failure, recover, wall_off
from lithon.mesh.remake import graded
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.slide import FIXED, FREE, ON_CONE, ON_CYLINDER, ON_LINE, ON_PLANE, ON_SPHERE, ON_TORUS
from lithon.mesh.surface import SurfaceMesh, surface_mesh
from lithon.progress import SILENT, Progress
from lithon.threads import Ahead

#: How often what cannot be draped is followed instead.
_TRIES = 4
#: And for bodies of triangles alone, which come from a lattice otherwise.
_FACETED_TRIES = 2
#: Where so large a share of triangles is not recovered, it is not for what is draped.
_MANY = 0.1
#: Or where there are so many of them, or more than with fewer draped.
_MANY_LOST = 1000
#: How far a triangle in a plane may be off it, as a share of its side.
_FLAT = 1e-6
_APART = "bond the bodies that touch first; bodies that overlap cannot be meshed together"


def tetrahedral_mesh(model: Model, rules: SizeRules, progress: Progress = SILENT) -> Mesh:
    """Mesh all bodies of a model together; bonded faces match node for node.

    Raises Refusal where the boundary cannot be recovered, naming the face and the place.
    """
    if not np.isfinite(rules.size) or rules.size <= 0.0:
        raise Refusal("the element size must be a positive length")
    for body in model.bodies:
        if not body.sheet and closed(body) and volume(body) <= 0.0:
            raise Refusal(f"{body.name} is inside out: its skin encloses no positive volume",
                          remedy="turn it outwards", entities=(body,))  # fmt: skip
    surface, space, lattice, failures = _walled(model, rules, progress)
    if failures:
        raise Refusal(
            f"the volume could not be meshed: {failures[0].what}",
            where=str(failures[0].place),
            remedy=_APART if len(model.bodies) > 1 and not model.shared() else failures[0].remedy,
            entities=tuple(f.face for f in failures if f.face is not None),
        )
    fill(space, lattice, surface.sizes, progress)
    cells = improve(_cells(surface, space, surface.triangles()[1]), progress)
    progress.tell(0.98, "measuring")
    return replace(_mesh(model, surface, cells), ignored=surface.ignored)


def _walled(
    model: Model, rules: SizeRules, progress: Progress
) -> tuple[SurfaceMesh, Tetrahedra, Iterable[tuple[Floats, Floats]], list[Failure]]:
    """The surface, the tetrahedra that hold it, and the lattice to fill them with. What is draped and cannot be
    recovered is followed instead; in the end all is, small as it may be."""
    plain = _plain(model, rules, progress)
    held: tuple[SurfaceMesh, Tetrahedra] | None = None
    if not all(closed(body) for body in model.bodies):
        # What is open at a place stays so whatever is draped: only where nothing gets out is there more to try.
        space, failures = recover(plain, progress)
        failures = failures or wall_off(plain, space)
        if failures:
            return plain, space, (), failures
        held = plain, space
    avoid: set[Face] = set()
    before = _MANY_LOST
    tries = _FACETED_TRIES if all(faceted(body) for body in model.bodies) else _TRIES
    for turn in range(tries):
        draped = rules.ignore or rules.drapes or rules.passed
        plain, surface = graded(plain, avoid)
        progress.tell(0.1, "recovering the boundary")
        lattice, nodes = _lattice(surface), len(surface.nodes)
        if held is not None and surface is held[0]:
            return *held, lattice, []
        space, failures = recover(surface, progress)
        failures = failures or wall_off(surface, space)
        if not failures or not draped:
            break
        fresh = {f.face for f in failures if f.face is not None} - avoid
        avoid |= fresh
        lost = sum(f.count for f in failures)
        hopeless = lost > min(_MANY * len(surface.triangles()[0]), before)
        before = lost
        if not fresh or surface is plain or turn == tries - 2 or hopeless:
            rules = replace(plain.sizes.rules, ignore=None, drapes=(), passed=())
            plain = _plain(model, rules, progress)
    if len(surface.nodes) > nodes:
        lattice = _lattice(surface)
    return surface, space, lattice, failures


def _lattice(surface: SurfaceMesh) -> Ahead[tuple[Floats, Floats]]:
    return Ahead(inner_lattice(surface.points(), surface.triangles()[0], surface.sizes))


def _plain(model: Model, rules: SizeRules, progress: Progress) -> SurfaceMesh:
    progress.tell(0.0, "dividing edges and faces")
    return surface_mesh(model.bodies, size_field(model.bodies, rules))


def _cells(surface: SurfaceMesh, space: Tetrahedra, of: Ints) -> Cells:
    """The labelled elements with compact numbering; walls carry face numbers from here on."""
    live = space.live
    live = live[space.lab[live] >= 0]
    row = np.full(len(space.tet) + 1, -1, dtype=np.int64)
    row[live] = np.arange(len(live))
    wall = np.where(space.wall[live] >= 0, of[space.wall[live]], -1)
    points = space.world()[8:]
    points[: len(surface.nodes)] = surface.points()  # the true boundary nodes, not the grid's
    on_edges = surface.on_edges()
    sides = np.array(list(on_edges), dtype=np.int64).reshape(-1, 2)
    planes = np.full((len(surface.faces), 8), np.nan)
    kind = np.full(len(points), FREE, dtype=np.int64)
    kind[: len(surface.nodes)] = FIXED
    places = np.zeros((len(points), 8))
    for number, face in enumerate(surface.faces):
        own = surface.inner[face][0][surface.singular[face] :]
        inner = np.concatenate([own, surface.cut_nodes.get(face, np.zeros(0, dtype=np.int64))])
        how, place = _place(face.surface)
        kind[inner], places[inner] = how, place
        if how == ON_PLANE:
            planes[number] = place
    asked = {edge for edge, _ in surface.sizes.rules.divisions}  # these stay divided as they are
    free = {side: edge for side, edge in on_edges.items() if edge not in asked}
    straight = _straight(points, free, sides, surface.triangles(), planes)
    kind[list(straight)] = ON_LINE
    for node, place in straight.items():
        places[node] = place
    kind[surface.twice] = FIXED
    tets, links, lab = space.tet[live] - 8, row[space.nbr[live]], space.lab[live].copy()
    return Cells(points, tets, links, wall, lab, kind, places, np.unique(sides[:, 0] * 2**32 + sides[:, 1]), planes)


def _straight(
    points: Floats, on_edges: dict[tuple[int, int], Edge], sides: Ints, skin: tuple[Ints, Ints], planes: Floats
) -> dict[int, Floats]:
    """Places of the nodes that may slide along a straight edge, between triangles in the planes of two faces."""
    low, high, stays = around_nodes(points, *skin, planes)
    several = np.bincount(sides.ravel(), minlength=len(points)) != 2
    owner: dict[int, Edge] = {}
    out: dict[int, Floats] = {}
    for side, edge in on_edges.items():
        for node in side:
            if stays[node] or several[node] or low[node] == high[node] or not isinstance(edge.curve, Line):
                continue
            if owner.setdefault(node, edge) is edge:
                out[node] = np.array([*edge.curve.origin, *edge.curve.direction, 0.0, 0.0])
            else:
                out.pop(node, None)
    return out


def around_nodes(points: Floats, triangles: Ints, of: Ints, planes: Floats) -> tuple[Ints, Ints, Bools]:
    """Of each node (n,) the first and the last of the faces (m,) whose triangles (m,3) have it as a corner (their
    count and -1 for none), and whether one of those triangles is not in the plane (f,8) of its face."""
    place = planes[of]
    off = np.abs(((points[triangles] - place[:, None, :3]) * place[:, None, 3:6]).sum(axis=2)).max(axis=1)
    reach = np.linalg.norm(points[triangles[:, 1]] - points[triangles[:, 0]], axis=1)
    bent = np.zeros(len(points), dtype=np.bool_)
    bent[triangles[~(off < _FLAT * reach)]] = True
    low, high = np.full(len(points), len(planes)), np.full(len(points), -1)
    np.minimum.at(low, triangles, of[:, None])
    np.maximum.at(high, triangles, of[:, None])
    return low, high, bent


def _place(s: Surface) -> tuple[int, Floats]:
    """How nodes slide on a surface, as `improve` knows it; those of free-form surfaces stay."""
    frame = s.frame
    if isinstance(s, Plane):
        return ON_PLANE, np.array([*frame.origin, *frame.z, 0.0, 0.0])
    if isinstance(s, Cylinder):
        return ON_CYLINDER, np.array([*frame.origin, *frame.z, s.radius, 0.0])
    if isinstance(s, Sphere):
        return ON_SPHERE, np.array([*frame.origin, *frame.z, s.radius, 0.0])
    if isinstance(s, Cone):
        return ON_CONE, np.array([*s.apex, *frame.z, np.sin(s.angle), np.cos(s.angle)])
    if isinstance(s, Torus):
        return ON_TORUS, np.array([*frame.origin, *frame.z, s.major, s.minor])
    return FIXED, np.zeros(8)


def _mesh(model: Model, surface: SurfaceMesh, cells: Cells) -> Mesh:
    t, i = cells.skin()
    corners = cells.tet[t[:, None], FACE[i]]
    face = cells.wall[t, i]
    # FACE has the element on its positive side; a face's triangles look along its normal, away from
    # the body that uses it forward.
    behind = np.full(len(surface.faces), -1, dtype=np.int64)
    number = {f: k for k, f in enumerate(surface.faces)}
    for b, body in enumerate(surface.bodies):
        for use in body.uses:
            for part in parts_of(use.face) if use.forward else ():
                behind[number[part]] = b
    turn = cells.lab[t] == behind[face]
    corners = np.where(turn[:, None], corners[:, ::-1], corners)
    there = np.zeros(len(cells.points), dtype=np.bool_)
    there[cells.tet] = True
    used = np.flatnonzero(there)
    number_of = np.full(len(cells.points), -1, dtype=np.int64)
    number_of[used] = np.arange(len(used))
    points, elements = cells.points[used], number_of[cells.tet]
    faces = model.faces()
    whole = {part: k for k, f in enumerate(faces) for part in parts_of(f)}
    of_part = np.array([whole[part] for part in surface.faces], dtype=np.int64)
    return Mesh(
        points,
        elements,
        cells.lab,
        number_of[corners],
        of_part[face],
        model.bodies,
        faces,
        Quality.of(points, elements),
    )
