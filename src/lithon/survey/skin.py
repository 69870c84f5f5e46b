"""What is wrong with the skin of a body besides openings, told once for each place: turned and doubled
faces, edges where three faces and more meet."""

from __future__ import annotations

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import samples
from lithon.brep.measures import face_area
from lithon.brep.shells import grouped
from lithon.brep.topology import Body, Edge
from lithon.brep.validate import Flaw
from lithon.survey.card import TURN, Finding, Offer, xyz

_EDGES = ("crowded edge", "flipped face")


def skin_cards(body: Body, flaws: list[Flaw]) -> list[Finding]:
    """One card for each set of flawed edges that hang together; the other flaws one each."""
    edges = [flaw.entity for flaw in flaws if flaw.kind in _EDGES and isinstance(flaw.entity, Edge)]
    out = [_of_edges(body, group) for group in grouped(edges, _ends)]
    for flaw in flaws:
        if flaw.kind not in _EDGES:
            turned = flaw.kind == "inside-out"
            out.append(
                Finding(
                    flaw.kind,
                    "stops",
                    0.0,
                    flaw.place,
                    flaw.text,
                    "The volume cannot be filled with elements.",
                    TURN if turned else "mend",
                    body,
                    body.faces if turned else (),
                    station="mend",
                )
            )
    return out


def _ends(edge: Edge) -> list[object]:
    return [edge, *(v for v in (edge.start, edge.end) if v is not None)]


def _of_edges(body: Body, edges: list[Edge]) -> Finding:
    adj = adjacency(body)
    faces = list(dict.fromkeys(use.face for edge in edges for use, _ in adj.uses[edge]))
    own = set(edges)
    small = [f for f in faces if own.issuperset(f.edges())]  # wholly bounded by what is wrong
    twins = [f for f in small if any(g is not f and set(g.edges()) == set(f.edges()) for g in small)]
    remedy: Offer | str
    if twins:
        kind, guilty = "doubled face", twins
        text = "a face lies on another that is the same"
        remedy = "one of the two must go: clear or drop it"
    elif any(len(adj.uses[edge]) > 2 for edge in edges):
        kind, guilty = "crowded edge", faces
        text = f"{max(len(adj.uses[e]) for e in edges)} faces meet at an edge"
        remedy = "part the body there, or drop the sheet that hangs on the edge"
    else:
        kind, guilty = "flipped face", small or faces
        text = "a face is turned round against its neighbours"
        remedy = TURN
    middle = np.concatenate([samples(e) for e in edges]).mean(axis=0)
    return Finding(
        kind,
        "stops",
        float(np.sqrt(sum(face_area(f) for f in guilty[:1]))),
        xyz(middle),
        text,
        "Inside and outside are not told apart there: the volume cannot be filled.",
        remedy,
        body,
        tuple(guilty),
        tuple(edges),
        station="mend",
    )
