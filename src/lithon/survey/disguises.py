"""Surfaces in disguise: free-form ones that are simple, and faces split for no reason."""

from __future__ import annotations

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.fits import simple_fit
from lithon.brep.shells import grouped
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.surfaces import Surface
from lithon.survey.card import MERGE, REPLACE, Finding, xyz
from lithon.words import many

_FREE = ("b-spline", "extrusion", "revolution")


def disguises(body: Body, tolerance: float) -> list[tuple[Face, Surface, float]]:
    """Free-form faces that are simple surfaces within the tolerance, with the surface and the deviation."""
    out = []
    for face in dict.fromkeys(body.faces):
        if face.surface.kind in _FREE:
            surface, off = simple_fit(face)
            if surface is not None and off <= 50.0 * tolerance:
                out.append((face, surface, off))
    return out


def split_needlessly(body: Body, tolerance: float) -> list[tuple[list[Face], list[Edge]]]:
    """Sets of faces that go on over an edge on one surface, with the edges between them."""
    between: list[tuple[Edge, Face, Face]] = []
    for edge, uses in adjacency(body).uses.items():
        if len(uses) != 2:
            continue
        (u, _), (v, _) = uses
        a, b = u.face, v.face
        if a is b or a.surface.kind in ("facets", *_FREE) or a.surface.kind != b.surface.kind or a.label != b.label:
            continue
        if a.surface is not b.surface and not a.surface.same_as(b.surface, 20.0 * tolerance, 10.0):
            continue
        at = edge.at(0.5)[None]
        if float(u.outward(at)[0] @ v.outward(at)[0]) > 0.5:
            between.append((edge, a, b))
    groups = grouped(between, lambda row: row[1:])
    return [(list(dict.fromkeys(f for row in g for f in row[1:])), [row[0] for row in g]) for g in groups]


def _off(length: float) -> str:
    return "" if length < 1e-6 else f", {1e3 * length:.2g} microns off at the most"


def disguise_cards(body: Body, tolerance: float) -> list[Finding]:
    out = []
    for face, surface, off in disguises(body, tolerance):
        mesh = face_mesh(face)
        out.append(
            Finding(
                "disguised surface",
                "note",
                off,
                xyz(mesh.points[mesh.triangles[0]].mean(axis=0)),
                f"a {surface.kind} written as a {face.surface.kind}{_off(off)}",
                "Nothing finds it as what it is: no hole, no fillet, no sweep.",
                REPLACE,
                body,
                (face,),
                station="mend",
            )
        )
    for faces, edges in split_needlessly(body, tolerance):
        middle = min(edges, key=lambda e: e.length)
        out.append(
            Finding(
                "needless split",
                "note",
                middle.length,
                xyz(middle.at(0.5)),
                f"one {faces[0].surface.kind} in {len(faces)} faces",
                f"Every node line of the mesh must keep to {many(len(edges), 'edge')} between them.",
                MERGE,
                body,
                tuple(faces),
                tuple(edges),
                station="mend",
            )
        )
    return out
