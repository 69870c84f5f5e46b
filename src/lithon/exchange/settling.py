"""What an exporter's own tolerance left in a file, settled before anybody works on it."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.collapse import collapsed
from lithon.brep.copies import copy_of, moved, root_of
from lithon.brep.measures import face_width
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws, widest_gap
from lithon.errors import Refusal

#: Gaps (mm) up to this are what the exporter's tolerance left: they loosen the model's own a little.
_SMALL_GAP = 2.5e-3
#: And up to so many times the accuracy that the file states.
_OF_STATED = 10.0
#: And up to this whatever the shortest edge is.
_TINY_GAP = 1e-4
#: An edge is a point where it is no longer than so many tolerances: two vertices so near are one for all that unites.
_SPECK = 2.0


def settled(model: Model, notes: list[str], sewn: float = 0.0, stated: float = 0.0) -> Model:
    """With the tolerance that the gaps of the file ask for, where they are small, as the accuracy that it states (mm)
    explains, or no wider (mm) than what was sewn (others stay findings); then without edges that are hardly longer."""
    return _without_specks(_loosened(model, notes, sewn, stated), notes)


def _loosened(model: Model, notes: list[str], sewn: float, stated: float) -> Model:
    bodies = dict.fromkeys(root_of(body) for body in model.bodies)
    gap = max(widest_gap(body) for body in bodies)
    if gap <= 10.0 * model.tolerance:
        return model
    shortest = min((e.length for body in bodies for e in body.edges()), default=np.inf)
    if gap > max(sewn, _TINY_GAP, min(max(_SMALL_GAP, _OF_STATED * stated), 0.05 * shortest)):
        return model
    notes.append(f"edges stand up to {1e3 * gap:.2g} microns off their faces: the tolerance is loosened to that")
    return replace(model, tolerance=gap / 8.0)


def _without_specks(model: Model, notes: list[str]) -> Model:
    """The ends of every edge hardly longer than the tolerance made one vertex: two that lie within what is called the
    same place would be welded by whatever unites or splits the body later, and the edge between them be lost. A body
    stays as it is where it is not sound after that, or shares faces with another."""
    shared = Counter(face for body in model.bodies if copy_of(body) is None for face in set(body.faces))
    to: dict[Body, Body] = {}
    reach, count = _SPECK * model.tolerance, 0
    for root in dict.fromkeys(root_of(body) for body in model.bodies):
        short = [edge for edge in root.edges() if edge.length <= reach]
        specks = [edge for edge in short if edge.start is not None and edge.start is not edge.end]
        if not specks or any(shared[face] > 1 for face in root.faces):
            continue
        try:
            strips = {u.face for e in specks for u, _ in adjacency(root).uses[e] if face_width(u.face) <= reach}
            made = collapsed(root, strips, reach, specks)
        except Refusal:
            continue
        if len(flaws(made, model.tolerance)) <= len(flaws(root, model.tolerance)):
            to[root] = made
            count += len(specks)
    if not to:
        return model
    notes.append(f"edges shorter than the tolerance are points now: {count}")
    bodies = [_there(body, to[root_of(body)]) if root_of(body) in to else body for body in model.bodies]
    return replace(model, bodies=tuple(bodies))


def _there(body: Body, made: Body) -> Body:
    """What takes a body's place: what was made of it, or a copy of what was made of its root."""
    copy = copy_of(body)
    if copy is None:
        return made
    again = moved(made, copy.motion)
    return replace(again, name=body.name, path=body.path, colour=body.colour)
