"""Every size in a model, by lens, for the Sieve."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lithon.brep.copies import Copied, copy_of, root_of
from lithon.brep.measures import face_width, prepare, volume
from lithon.brep.topology import Body, Edge, Face, Model, rough_box
from lithon.survey.between import gaps
from lithon.survey.features import features
from lithon.survey.walls import slots, walls


@dataclass(frozen=True, slots=True, eq=False)
class Mark:
    """One size (mm, or mm3 for bodies) and what has it."""

    value: float
    faces: Sequence[Face] = ()
    edges: Sequence[Edge] = ()
    body: Body | None = None


@dataclass(frozen=True, slots=True)
class Lens:
    """A kind of size: its key, title, unit, and the question word for a selection of it."""

    key: str
    title: str
    unit: str
    noun: str
    measure: str

    @property
    def short(self) -> str:
        """The title in one word, for a narrow place."""
        return {"edges": "Edges", "volumes": "Volumes"}.get(self.key, self.key.capitalize())


LENSES = (
    Lens("edges", "Edge lengths", "mm", "edges", "length"),
    Lens("widths", "Face widths", "mm", "faces", "width"),
    Lens("fillets", "Fillet radii", "mm", "fillets", "radius"),
    Lens("holes", "Hole diameters", "mm", "holes", "diameter"),
    Lens("walls", "Walls", "mm", "walls", "thickness"),
    Lens("gaps", "Gaps", "mm", "gaps", "width"),
    Lens("volumes", "Body volumes", "mm³", "bodies", "volume"),
)


def _edge_marks(body: Body) -> list[Mark]:
    return [Mark(edge.length, edges=(edge,), body=body) for edge in body.edges()]


def _feature_marks(kind: str) -> Callable[[Body], list[Mark]]:
    return lambda body: [Mark(f.size, faces=f.faces, body=body) for f in features(body) if f.kind == kind]


def _width_marks(body: Body) -> list[Mark]:
    prepare(body.faces)
    return [Mark(face_width(face), faces=(face,), body=body) for face in body.faces if face.loops]


def _volume_mark(body: Body) -> list[Mark]:
    return [Mark(volume(body), faces=body.faces, body=body)]


def _wall_marks(body: Body) -> list[Mark]:
    return [Mark(wall, faces=faces, body=body) for wall, faces, _ in walls(body, np.inf)]


def _gap_marks(model: Model) -> list[Mark]:
    reach = 0.1 * float(np.linalg.norm(np.ptp(rough_box(model.bodies), axis=0)))
    within = _on_all(model, lambda body: [Mark(gap, faces=faces, body=body) for gap, faces, _ in slots(body, reach)])
    return [*within, *(Mark(gap, faces=faces, body=body) for gap, faces, body in gaps(model, reach))]


def _on_all(model: Model, of: Callable[[Body], list[Mark]]) -> list[Mark]:
    """The marks of all bodies, those of copies taken from what they are copies of."""
    known = {root: of(root) for root in dict.fromkeys(root_of(body) for body in model.bodies)}
    out: list[Mark] = []
    for body in model.bodies:
        copy, own = copy_of(body), known[root_of(body)]
        out += own if copy is None else [
            replace(m, faces=Copied(copy, m.faces), edges=Copied(copy, m.edges), body=body) for m in own
        ]  # fmt: skip
    return out


_MAKERS: dict[str, Callable[[Body], list[Mark]]] = {
    "edges": _edge_marks,
    "widths": _width_marks,
    "fillets": _feature_marks("fillet"),
    "holes": _feature_marks("hole"),
    "walls": _wall_marks,
    "volumes": _volume_mark,
}


def marks(model: Model, lens: str) -> list[Mark]:
    """All sizes of one lens, smallest first."""
    if lens == "gaps":
        return sorted(_gap_marks(model), key=lambda m: m.value)
    return sorted(_on_all(model, _MAKERS[lens]), key=lambda m: m.value)
