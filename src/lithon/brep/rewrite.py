"""A body with some vertices, edges or faces exchanged; all that is untouched stays the same object."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, new_uid


def rewrite(
    body: Body,
    vertices: Mapping[Vertex, Vertex] | None = None,
    edges: Mapping[Edge, tuple[Edge, bool]] | None = None,
    faces: Mapping[Face, tuple[Face, bool]] | None = None,
) -> Body:
    """Exchange vertices; edges by (other edge, runs the same way); faces by (other face, same normal).

    Edges that lose a vertex and faces that lose an edge are made anew on the same geometry.
    """
    vertices, edges, faces = vertices or {}, edges or {}, faces or {}
    made: dict[Edge, tuple[Edge, bool]] = dict(edges)

    def edge_for(edge: Edge) -> tuple[Edge, bool]:
        if edge not in made:
            start = vertices.get(edge.start, edge.start) if edge.start is not None else None
            end = vertices.get(edge.end, edge.end) if edge.end is not None else None
            same = start is edge.start and end is edge.end
            made[edge] = (edge if same else replace(edge, start=start, end=end, uid=new_uid(), origin=None), True)
        return made[edge]

    def loop_for(loop: Loop) -> Loop:
        out = []
        for coedge in loop:
            edge, same = edge_for(coedge.edge)
            out.append(coedge if edge is coedge.edge else Coedge(edge, coedge.forward == same))
        return tuple(out)

    uses = []
    for use in body.uses:
        if use.face in faces:
            face, same = faces[use.face]
            uses.append(FaceUse(face, use.forward == same))
            continue
        loops = tuple(loop_for(loop) for loop in use.face.loops)
        changed = any(
            a.edge is not b.edge for x, y in zip(loops, use.face.loops, strict=True) for a, b in zip(x, y, strict=True)
        )
        uses.append(FaceUse(use.face.with_loops(loops), use.forward) if changed else use)
    return body.with_uses(uses)


def apart(body: Body, other: Body) -> Body:
    """A body that has nothing in common with another: vertices, edges and faces of that are made anew in their
    place."""

    def anew(vertex: Vertex | None) -> Vertex | None:
        return vertices.get(vertex, vertex) if vertex is not None else None

    both = set(body.vertices()) & set(other.vertices())
    vertices = {v: replace(v, uid=new_uid(), origin=None) for v in both}
    common = set(body.edges()) & set(other.edges())
    edges = {e: (replace(e, start=anew(e.start), end=anew(e.end), uid=new_uid(), origin=None), True) for e in common}
    bare = {f for f in body.faces if not f.loops} & set(other.faces)  # the others get new edges
    faces = {f: (f.with_loops(()), True) for f in bare}
    return rewrite(body, vertices, edges, faces) if both or common or bare else body


def all_apart(bodies: Iterable[Body]) -> list[Body]:
    """Bodies of which none has anything in common with another, as `apart`."""
    out: list[Body] = []
    uses: list[FaceUse] = []
    seen: set[Vertex | Edge] = set()
    for body in bodies:
        own: set[Vertex | Edge] = {*body.vertices(), *body.edges()}
        out.append(body if seen.isdisjoint(own) else apart(body, Body(tuple(uses))))
        uses += out[-1].uses
        seen |= own
    return out
