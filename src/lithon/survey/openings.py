"""Cards for where the skin of a body does not close: holes in it, gaps between edges that should meet, sheets."""

from __future__ import annotations

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import Opening, open_edges, openings, samples, surfaces_over, tears
from lithon.brep.faceted import faceted
from lithon.brep.measures import face_area
from lithon.brep.shells import closes, connected
from lithon.brep.tessellation.trees import inside
from lithon.brep.topology import Body, Edge, Face, FaceUse
from lithon.survey.card import CLOSE, DROP, PATCH, SEW, Finding, xyz
from lithon.words import many


def opening_cards(body: Body, tolerance: float) -> list[Finding]:
    """One card for each opening of the skin, and for each part of it that is torn off all around."""
    out = [_torn(body, faces, edges) for faces, edges in tears(body)]
    known = {f for card in out for f in card.faces}
    probed = not faceted(body)  # triangles are cleaned first; what spans one hole of hundreds is looked for when asked
    for found in openings(body):
        adj = adjacency(body)
        if known & {use.face for edge in found.edges for use, _ in adj.uses[edge]}:
            continue
        faces = tuple(dict.fromkeys(use.face for edge in found.edges for use, _ in adj.uses[edge]))
        if found.gap is not None:
            out.append(
                Finding(
                    "gap between edges",
                    "stops",
                    found.gap,
                    xyz(found.edges[0].at(0.5)),
                    f"{len(found.edges)} edges that should meet stand {found.gap:.3g} mm apart",
                    "The volume cannot be filled with elements: it leaks there.",
                    SEW,
                    body,
                    faces,
                    found.edges,
                    station="mend",
                )
            )
        else:
            edges = f"{len(found.edges)} edges" if len(found.edges) > 1 else "an edge"
            out.append(
                Finding(
                    "open boundary",
                    "stops",
                    found.length,
                    xyz(found.middle),
                    f"{edges} with a face on one side only, {found.length:.4g} mm around",
                    "The volume cannot be filled with elements: a face is missing or lies apart.",
                    CLOSE
                    if not probed or _spanned(body, found, tolerance)
                    else "put a patch over its edges, or sew them",
                    body,
                    faces,
                    found.edges,
                    station="mend",
                )
            )
    return out


def _torn(body: Body, faces: tuple[Face, ...], edges: tuple[Edge, ...]) -> Finding:
    free = [e for e in dict.fromkeys(e for f in faces for e in f.edges()) if len(adjacency(body).uses[e]) == 1]
    return Finding(
        "torn surface",
        "stops",
        sum(e.length for e in free),
        xyz(np.concatenate([samples(e) for e in edges]).mean(axis=0)),
        f"{many(len(faces), 'face')} torn off along {many(len(free), 'edge')}",
        "The volume cannot be filled with elements: one clean surface may take its place.",
        PATCH,
        body,
        faces,
        edges,
        station="mend",
    )


def _spanned(body: Body, opening: Opening, tolerance: float) -> bool:
    """Whether a plane, a cylinder, a cone or a surface of the body passes through an opening's edges."""
    return next(surfaces_over(body, opening, open_edges(body), tolerance), None) is not None


def loose_sheets(body: Body) -> list[tuple[list[FaceUse], bool]]:
    """Open sets of faces that hang apart from the rest and run beside nothing, and whether they lie within."""
    sets = connected(body.uses)
    if len(sets) < 2:
        return []
    area = [sum(face_area(use.face) for use in s) for s in sets]
    skin = sets[int(np.argmax(area))]
    beside = {edge for found in openings(body) if found.gap is not None for edge in found.edges}
    rest = body.with_uses(skin)
    out = []
    for s in sets:
        edges = list(dict.fromkeys(e for use in s for e in use.face.edges()))
        if s is skin or closes(s) or not edges or beside.intersection(edges):
            continue
        points = np.concatenate([samples(e) for e in edges])
        out.append((s, bool(inside(rest, points).mean() > 0.5)))
    return out


def sheet_faces(body: Body) -> set[Face]:
    """All faces of loose sheets."""
    return {use.face for uses, _ in loose_sheets(body) for use in uses}


def sheet_cards(body: Body) -> list[Finding]:
    out = []
    for uses, within in loose_sheets(body):
        faces = tuple(use.face for use in uses)
        edges = tuple(dict.fromkeys(e for f in faces for e in f.edges()))
        area = sum(face_area(f) for f in faces)
        where = "inside the solid" if within else "outside the solid"
        out.append(
            Finding(
                "hidden sheet" if within else "loose sheet",
                "stops",
                float(np.sqrt(area)),
                xyz(np.concatenate([samples(e) for e in edges]).mean(axis=0)),
                f"a sheet of {len(faces)} face{'s' if len(faces) > 1 else ''}, {area:.4g} mm², hangs {where}",
                "It bounds no volume, and would cut the mesh apart.",
                DROP,
                body,
                faces,
                station="mend",
            )
        )
    return out
